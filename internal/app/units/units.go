// Package units writes units of systemd and has its manager take them up, for the whole machine
// or for one user.
package units

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Manager is systemd on this machine: that of the machine, or of a user.
type Manager struct {
	Dir  string // where its units are written
	User bool
}

// File is one unit.
type File struct {
	Name string // with its ending
	Text string
}

// Of gives the manager of the account: root's is the machine's. config is the user's folder
// for settings, see the XDG Base Directory Specification.
func Of(uid int, config string) Manager {
	if uid == 0 {
		return Manager{Dir: "/etc/systemd/system"}
	}
	return Manager{Dir: filepath.Join(config, "systemd", "user"), User: true}
}

// Text writes a text that is not a command line, such as a description.
func Text(s string) (string, error) {
	return strings.NewReplacer("%", "%%", `\`, `\\`).Replace(s), oneLine(s)
}

// Word writes one word of a command line, as ExecStart takes it: see systemd.service(5).
func Word(s string) (string, error) {
	w := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$").Replace(s)
	if w == "" || strings.ContainsAny(w, " '\";") {
		w = `"` + w + `"`
	}
	return w, oneLine(s)
}

// Line writes a command line.
func Line(words ...string) (string, error) {
	out := make([]string, len(words))
	for i, w := range words {
		var err error
		if out[i], err = Word(w); err != nil {
			return "", err
		}
	}
	return strings.Join(out, " "), nil
}

// oneLine refuses a text that would become further lines of a unit, which root may run.
func oneLine(s string) error {
	if value.HasControl(s) {
		return problem.Errorf("%q has control characters, which a systemd unit does not allow", s).
			Remedy("use a single line of text")
	}
	return nil
}

// Install writes units and lets one of them begin, now and at each boot. What was written is
// taken away again when the manager does not take it.
func (m Manager) Install(ctx context.Context, files []File, start string) error {
	if err := os.MkdirAll(m.Dir, 0o755); err != nil {
		return err
	}
	for _, f := range files {
		if err := atomicfile.Write(filepath.Join(m.Dir, f.Name), []byte(f.Text), 0o644); err != nil {
			return err
		}
	}
	err := m.call(ctx, "daemon-reload")
	if err == nil {
		err = m.call(ctx, "enable", "--now", start)
	}
	if err == nil {
		return nil
	}
	for _, f := range files {
		os.Remove(filepath.Join(m.Dir, f.Name))
	}
	return errors.Join(err, m.call(ctx, "daemon-reload"))
}

// Remove ends units and takes them away. It says whether there were any.
func (m Manager) Remove(ctx context.Context, names ...string) (found bool, err error) {
	for _, name := range names {
		if _, err := os.Lstat(filepath.Join(m.Dir, name)); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		found = true
		if err := m.call(ctx, "disable", "--now", name); err != nil {
			return true, err
		}
		if err := os.Remove(filepath.Join(m.Dir, name)); err != nil {
			return true, err
		}
	}
	if !found {
		return false, nil
	}
	return true, m.call(ctx, "daemon-reload")
}

// call asks systemctl for something.
func (m Manager) call(ctx context.Context, args ...string) error {
	if m.User {
		args = append([]string{"--user"}, args...)
	}
	c := exec.CommandContext(ctx, "systemctl", args...)
	var said bytes.Buffer
	c.Stdout, c.Stderr = &said, &said
	err := c.Run()
	if errors.Is(err, exec.ErrNotFound) {
		return problem.Errorf("this machine does not run systemd").
			Remedy("use `jadekettle tend` or cron to start jobs instead")
	}
	if err != nil {
		return fmt.Errorf("systemctl %s: %s", strings.Join(args, " "), strings.TrimSpace(said.String()))
	}
	return nil
}
