// Package scripted is a host for tests of what real programs are asked and answer: its
// files are those of a simulated host, and commands answer as they were set up to.
package scripted

import (
	"context"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
)

// Machine is such a host.
type Machine struct {
	*folder.Machine
	Programs []string
	Answers  map[string]machine.Output // by command line; others succeed and say nothing
	Calls    []string                  // the command lines, and what each got on its input
	t        *testing.T
}

// New makes one on which these files are, empty, none of systemd's among them. A
// path with a slash at its end is a folder.
func New(t *testing.T, files ...string) *Machine {
	t.Helper()
	h, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-01"})
	if err != nil {
		t.Fatal(err)
	}
	m := &Machine{Machine: h, Answers: map[string]machine.Output{}, t: t}
	for _, f := range files {
		m.WriteFile(f, "")
	}
	return m
}

// Run notes the command.
func (m *Machine) Run(_ context.Context, c machine.Command) (machine.Output, error) {
	line := strings.Join(c.Args, " ")
	out := m.Answers[line]
	out.Combined = machine.KeptText(out.Stdout)
	if c.Stdin != "" {
		line += " <" + c.Stdin
	}
	m.Calls = append(m.Calls, line)
	return out, nil
}

// Look says whether a program was set up.
func (m *Machine) Look(program string) bool { return slices.Contains(m.Programs, program) }

// Wait is over at once.
func (m *Machine) Wait(context.Context, time.Duration) {}

// WriteFile writes a file and makes the folders that it is in.
func (m *Machine) WriteFile(p, text string) {
	m.t.Helper()
	at := "/"
	for step := range strings.SplitSeq(strings.Trim(path.Dir(p+"x"), "/"), "/") {
		if d := m.open(at); step != "" {
			if _, err := d.Lstat(step); err != nil {
				m.must(d.Mkdir(step, 0o755, 0, 0))
			}
			d.Close()
		}
		at = path.Join(at, step)
	}
	if strings.HasSuffix(p, "/") {
		return
	}
	d := m.open(at)
	defer d.Close()
	if _, err := d.Lstat(path.Base(p)); err == nil {
		m.must(d.Remove(path.Base(p)))
	}
	f, err := d.Create(path.Base(p), 0o644, 0, 0)
	m.must(err)
	_, err = f.Write([]byte(text))
	m.must(err)
	m.must(f.Close())
}

func (m *Machine) open(p string) machine.Dir {
	m.t.Helper()
	d, err := m.Dir(p)
	m.must(err)
	return d
}

func (m *Machine) must(err error) {
	m.t.Helper()
	if err != nil {
		m.t.Fatal(err)
	}
}

// Did does something with the host and gives the commands that were run, or the
// error.
func (m *Machine) Did(do func(*kind.Env) error) string {
	m.t.Helper()
	m.Calls = nil
	store, err := ledger.Open(m, plan.Run{ID: "0198-reported", Project: "saltmarsh"})
	m.must(err)
	defer store.Close()
	if err := do(&kind.Env{Machine: m, Store: store}); err != nil {
		return "error: " + err.Error()
	}
	return strings.Join(m.Calls, "; ")
}
