// Package systemd is the service manager systemd, by systemctl(1).
package systemd

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service/backend"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// Manager is systemd.
type Manager struct{}

// Name is what people call it.
func (Manager) Name() string { return "systemd" }

// Runs looks for the folder that sd_booted(3) names.
func (Manager) Runs(m machine.Machine) bool {
	_, err := m.ReadDir("/run/systemd/system")
	return err == nil
}

// suffixes are the kinds of units that can be named in full.
var suffixes = []string{".service", ".socket", ".timer", ".path", ".target", ".mount"}

// Short leaves out .service.
func (Manager) Short(name string) string { return strings.TrimSuffix(name, ".service") }

// Full gives the name of the unit.
func (Manager) Full(name string) string {
	for _, s := range suffixes {
		if strings.HasSuffix(name, s) {
			return name
		}
	}
	return name + ".service"
}

// homes are where people and packages put unit files (systemd.unit(5)).
var homes = []string{"/etc/systemd/system/", "/lib/systemd/system/", "/usr/lib/systemd/system/"}

// Definitions are the unit files of a service, and of its template, and the folders of their
// drop-ins.
func (m Manager) Definitions(name string) []string {
	var out []string
	full := m.Full(name)
	for _, unit := range []string{full, template(full)} {
		for _, d := range homes {
			if unit != "" {
				out = append(out, d+unit, d+unit+".d/")
			}
		}
	}
	return out
}

// properties are what show asks systemd for; see org.freedesktop.systemd1(5).
const properties = "--property=Id,Names,LoadState,ActiveState,SubState,UnitFileState,NeedDaemonReload," +
	"ActiveEnterTimestampMonotonic,NRestarts,Type,RemainAfterExit,FragmentPath,DropInPaths"

// showLimit is how long systemd may take to report units.
const showLimit = time.Minute

// Show asks for all units in one call. The answers come in the order of the
// names.
func (sd Manager) Show(ctx context.Context, m machine.Machine, names []string) (map[string]backend.State, error) {
	args := []string{"systemctl", "show", "--no-pager", properties, "--"}
	for _, n := range names {
		args = append(args, sd.Full(n))
	}
	res, err := machine.Do(ctx, m, machine.Command{Args: args, Limit: showLimit}, errorLine)
	if err != nil {
		return nil, err
	}
	blocks := strings.Split(strings.TrimRight(res.Stdout, "\n"), "\n\n")
	if len(blocks) != len(names) {
		return nil, fmt.Errorf("systemctl listed %d units, not the requested %d", len(blocks), len(names))
	}
	out := make(map[string]backend.State, len(names))
	l := loader{m: m}
	for i, b := range blocks {
		v := values(b)
		st := state(v)
		st.Stale = st.Stale || l.stale(v)
		out[names[i]] = st
	}
	return out, nil
}

func values(block string) map[string]string {
	v := map[string]string{}
	for line := range strings.Lines(block) {
		k, val, _ := strings.Cut(strings.TrimSpace(line), "=")
		v[k] = val
	}
	return v
}

func state(v map[string]string) backend.State {
	file := v["UnitFileState"]
	us, _ := strconv.ParseInt(v["ActiveEnterTimestampMonotonic"], 10, 64)
	starts, _ := strconv.Atoi(v["NRestarts"])
	s := backend.State{
		There:   v["LoadState"] != "not-found",
		Barred:  v["LoadState"] == "masked",
		Broken:  v["LoadState"] == "error" || v["LoadState"] == "bad-setting",
		Stale:   v["NeedDaemonReload"] == "yes",
		Running: v["ActiveState"] == "active" || v["ActiveState"] == "reloading",
		Failed:  v["ActiveState"] == "failed",
		Phase:   v["ActiveState"] + " (" + v["SubState"] + ")",
		Boot:    slices.Contains([]string{"enabled", "enabled-runtime", "alias", "generated"}, file),
		Since:   time.Duration(us) * time.Microsecond,
		Starts:  starts,
		Once:    v["Type"] == "oneshot" && v["RemainAfterExit"] == "no",
	}
	if p := v["FragmentPath"]; strings.HasPrefix(p, byHand+"/") && !s.Barred { // where the mask would be
		s.Unmasked = "its own file is " + p
	}
	if file == "static" {
		s.BootFixed = "has no [Install] section"
	}
	if slices.Contains([]string{"static", "indirect", "generated", "transient"}, file) {
		s.BootWord = file
	}
	return s
}

// Load makes systemd read changed unit files.
func (Manager) Load(ctx context.Context, env *kind.Env) error {
	return systemctl(ctx, env, 0, "daemon-reload")
}

var verbs = map[backend.Action]string{
	backend.Start: "start", backend.Stop: "stop", backend.Restart: "restart", backend.Reload: "reload",
	backend.Enable: "enable", backend.Disable: "disable", backend.Mask: "mask", backend.Unmask: "unmask",
}

// Act does one thing to one unit.
func (sd Manager) Act(ctx context.Context, env *kind.Env, a backend.Action, name string,
	limit time.Duration) error {
	return systemctl(ctx, env, limit, verbs[a], "--", sd.Full(name))
}

func systemctl(ctx context.Context, env *kind.Env, limit time.Duration, args ...string) error {
	c := machine.Command{Args: append([]string{"systemctl", "--no-ask-password"}, args...), Limit: limit}
	_, err := machine.Do(ctx, env.Machine, c, errorLine)
	return err
}

// errorLine picks the first failure that systemctl names. The lines behind it say how to learn more.
var errorLine = machine.FirstLine("Failed to ", "Job for ")

// Restarted compares the clock of this boot when the restart became pending with the one at the start.
func (Manager) Restarted(s backend.State, d ledger.Pending, boot string) bool {
	return d.Boot != boot || s.Since > d.Uptime
}

// Survey lists the units that are loaded services.
func (Manager) Survey(ctx context.Context, m machine.Machine, most int) map[string]facts.Service {
	out := map[string]facts.Service{}
	c := machine.Command{Args: []string{"systemctl", "show", "--no-pager",
		"--property=Id,LoadState,ActiveState,UnitFileState", "--", "*.service"}, Limit: showLimit}
	res, err := m.Run(ctx, c)
	if err != nil || res.Code != 0 {
		return out
	}
	for _, block := range strings.Split(res.Stdout, "\n\n") {
		v := values(block)
		if name, ok := strings.CutSuffix(v["Id"], ".service"); ok && v["LoadState"] == "loaded" && len(out) < most {
			out[name] = facts.Service{Running: v["ActiveState"] == "active",
				Boot: strings.HasPrefix(v["UnitFileState"], "enabled")}
		}
	}
	return out
}

// Debian notes there what its packages had started at boot (deb-systemd-helper(1p)).
const (
	helped   = "/var/lib/systemd/deb-systemd-helper-enabled"
	helpMark = ".dsh-also"
	byHand   = "/etc/systemd/system"
)

// Minded compares what starts at boot with what Debian's packages had started, or
// elsewhere with the presets that packages follow (systemd.preset(5)).
func (sd Manager) Minded(ctx context.Context, m machine.Machine) ([]string, error) {
	c := machine.Command{Args: []string{"systemctl", "list-unit-files", "--no-legend", "--no-pager", "--full",
		"--type=service,timer,socket"}, Limit: showLimit}
	res, err := machine.Do(ctx, m, c, errorLine)
	if err != nil {
		return nil, err
	}
	notes, err := m.ReadDir(helped)
	debian := err == nil
	d, err := m.Dir(byHand)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var out []string
	for line := range strings.Lines(res.Stdout) {
		f := strings.Fields(line)
		if len(f) < 2 || strings.Contains(f[0], "@.") {
			continue
		}
		usual := len(f) > 2 && f[2] == "enabled"
		if debian {
			usual = slices.Contains(notes, f[0]+helpMark)
		}
		minded := false
		switch f[1] {
		case "enabled":
			minded = !usual
		case "disabled":
			minded = usual
		case "masked": // which packages do too, elsewhere
			_, err := d.Lstat(f[0])
			minded = err == nil
		}
		if minded {
			out = append(out, sd.Short(f[0]))
		}
	}
	return out, nil
}

// Unbar is the command that allows a masked unit again.
func (sd Manager) Unbar(name string) string { return "systemctl unmask " + sd.Full(name) }

// Status is the command that shows a unit.
func (sd Manager) Status(name string) string { return "systemctl status " + sd.Full(name) }

// Log is the command that shows what a unit wrote.
func (sd Manager) Log(name string) string { return "journalctl -u " + sd.Full(name) }
