package guard

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// stopTimer takes the transient timer of a token away. Where it is a process it ends by
// itself, since its token does not count any more.
func stopTimer(ctx context.Context, m machine.Machine, token string) {
	if token != "" && m.Self() != "" && m.Look("systemctl") {
		m.Run(ctx, machine.Command{Args: []string{"systemctl", "--no-ask-password", "stop", unit(token) + ".timer"},
			Limit: time.Minute})
	}
}

func unit(token string) string { return "jadekettle-guard-" + strings.ToLower(token) }

// timer has the host start a program of its own that puts things back: by a transient
// unit, where the service manager has these, else by a process that has nothing to do with
// the session. Where the worker is not a program of the host, as on a simulated one, there is
// none.
func (k *Keeper) timer(ctx context.Context, after time.Duration) error {
	m := k.Env.Machine
	self := m.Self()
	if self == "" {
		return nil
	}
	wait := int(after.Seconds())
	if err := bootEntry(k.Env, self); err != nil {
		return fmt.Errorf("set up the rollback after a reboot: %w", err)
	}
	if _, err := m.ReadDir("/run/systemd/system"); err == nil && m.UID() == 0 && m.Look("systemd-run") {
		_, err := machine.Do(ctx, m, machine.Command{Args: []string{"systemd-run", "--quiet", "--collect",
			"--unit=" + unit(k.guard.Token), "--on-active=" + strconv.Itoa(wait), "--timer-property=AccuracySec=1s",
			self, Argument, k.guard.Token + ":0"}, Limit: time.Minute}, nil)
		return err
	}
	_, err := machine.Do(ctx, m, machine.Command{Args: []string{"sh", "-c",
		`setsid "$0" "$@" </dev/null >/dev/null 2>&1 &`, self,
		Argument, k.guard.Token + ":" + strconv.Itoa(wait)}, Limit: time.Minute}, nil)
	return err
}

// The entries that have things put back when the host is rebooted in between.
const (
	bootUnit = "/etc/systemd/system/jadekettle-guard.service"
	bootLink = "/etc/systemd/system/multi-user.target.wants/jadekettle-guard.service"
	bootCron = "/etc/cron.d/jadekettle-guard"
)

func bootEntry(env *kind.Env, self string) error {
	m := env.Machine
	if m.UID() != 0 {
		return nil
	}
	if _, err := m.ReadDir("/run/systemd/system"); err == nil {
		if err := writeFile(env, bootUnit,
			"[Unit]\nDescription=Roll back the Jade Kettle change that cut off access\nBefore=ssh.service "+
				"sshd.service network-pre.target\nWants=network-pre.target\n[Service]\nType=oneshot\nExecStart="+
				self+" "+Argument+" "+atBoot+":0\n"+
				"[Install]\nWantedBy=multi-user.target\n"); err != nil {
			return err
		}
		d, name, err := env.Split(bootLink)
		if err != nil {
			return err
		}
		defer d.Close()
		if err := d.Symlink(bootUnit, name); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		return d.Sync()
	}
	if _, err := m.ReadDir(path.Dir(bootCron)); err != nil {
		return nil
	}
	return writeFile(env, bootCron, "@reboot root "+self+" "+Argument+" "+atBoot+":0\n")
}

// removeBootEntry takes away what has things put back after a reboot, out of the service manager's memory as well.
func removeBootEntry(ctx context.Context, env *kind.Env) {
	for _, p := range []string{bootLink, bootUnit, bootCron} {
		if d, name, err := env.Split(p); err == nil {
			d.Remove(name)
			d.Close()
		}
	}
	m := env.Machine
	if _, err := m.ReadDir("/run/systemd/system"); err != nil || m.UID() != 0 {
		return
	}
	systemctl := func(words ...string) string {
		out, err := m.Run(ctx, machine.Command{Args: append([]string{"systemctl", "--no-ask-password"}, words...),
			Limit: time.Minute})
		if err != nil {
			return ""
		}
		return strings.TrimSpace(out.Stdout)
	}
	if systemctl("show", "--property=LoadState", "--value", path.Base(bootUnit)) == "loaded" {
		systemctl("daemon-reload")
	}
}

// writeFile writes a small file of ours again.
func writeFile(env *kind.Env, p, text string) error {
	d, name, err := env.Split(p)
	if err != nil {
		return err
	}
	defer d.Close()
	return replace(d, name, saved{Mode: 0o644, UID: -1, GID: -1, Data: []byte(text)})
}

func replace(d machine.Dir, name string, s saved) error {
	candidate := ledger.CandidateMark + "guard-" + strings.ToLower(rand.Text()[:8])
	f, err := d.Create(candidate, s.Mode, s.UID, s.GID)
	if err != nil {
		return err
	}
	_, err = f.Write(s.Data)
	if err == nil {
		err = kind.GiveExtras(f, s.Extras)
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = d.Rename(candidate, name)
	}
	if err != nil {
		d.Remove(candidate)
		return err
	}
	return d.Sync()
}
