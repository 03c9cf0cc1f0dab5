// Package runit is the service manager runit, by sv(8) and the folders that
// runsvdir(8) watches.
package runit

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service/backend"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// Manager is runit.
type Manager struct{}

// Name is what people call it.
func (Manager) Name() string { return "runit" }

// watched are the folders that runsvdir watches, on one system or another.
var watched = []string{"/etc/service", "/var/service", "/service"}

// defined is where services lie that can be linked into it.
const defined = "/etc/sv/"

func folder(m machine.Machine) (string, bool) {
	for _, p := range watched {
		if _, err := m.ReadDir(p); err == nil {
			return p, true
		}
	}
	return "", false
}

// Runs looks for runsvdir at work: a host may have runit's programs and folders
// without being run by it.
func (Manager) Runs(m machine.Machine) bool {
	if _, there := folder(m); !there || !m.Look("sv") {
		return false
	}
	ids, _ := m.ReadDir("/proc")
	for _, id := range ids {
		if comm, err := machine.ReadFile(m, "/proc/"+id+"/comm"); err == nil && string(comm) == "runsvdir\n" {
			return true
		}
	}
	return false
}

// Short leaves a name as it is.
func (Manager) Short(name string) string { return name }

// Full leaves a name as it is.
func (Manager) Full(name string) string { return name }

// Definitions is the script that runs the service.
func (Manager) Definitions(name string) []string { return []string{defined + name + "/run"} }

const showLimit = time.Minute

// Show asks sv of each. A service starts at boot when it is linked and holds no
// file named down (runsv(8)).
func (Manager) Show(ctx context.Context, m machine.Machine, names []string) (map[string]backend.State, error) {
	out := map[string]backend.State{}
	at, _ := folder(m)
	for _, name := range names {
		link := path.Join(at, name)
		linked := backend.Exists(m, link)
		s := backend.State{There: linked || backend.Exists(m, defined+name+"/run"), Phase: "not supervised"}
		if linked {
			s.Boot = !backend.Exists(m, home(m, name)+"/down")
			res, err := m.Run(ctx, machine.Command{Args: []string{"sv", "status", link}, Limit: showLimit})
			if err != nil {
				return nil, err
			}
			s.Phase, _, _ = strings.Cut(strings.TrimSpace(res.Stdout), ":")
			s.Running = strings.HasPrefix(res.Stdout, "run:")
			s.Since = backend.Started(m, home(m, name)+"/supervise/pid")
		}
		out[name] = s
	}
	return out, nil
}

// home is where a service lies: mostly what its link leads to.
func home(m machine.Machine, name string) string {
	if backend.Exists(m, defined+name) {
		return defined + name
	}
	at, _ := folder(m)
	return path.Join(at, name)
}

// Defines says that nothing is kept of what defines a service: it is read again each time.
func (Manager) Defines(string) bool { return false }

// Load has nothing to do: the run script is read at each start.
func (Manager) Load(context.Context, *kind.Env) error { return nil }

// usualWait is how long sv waits for what it asked for.
const usualWait = 30 * time.Second

// Act does one thing to one service.
func (r Manager) Act(ctx context.Context, env *kind.Env, a backend.Action, name string, limit time.Duration) error {
	m := env.Machine
	at, _ := folder(m)
	if limit == 0 {
		limit = usualWait
	}
	switch a {
	case backend.Mask, backend.Unmask:
		return backend.NoMask("runit")
	case backend.Disable:
		return down(m, home(m, name), true)
	case backend.Enable:
		if err := down(m, home(m, name), false); err != nil {
			return err
		}
		return link(ctx, m, at, name, false)
	case backend.Start:
		if err := link(ctx, m, at, name, true); err != nil {
			return err
		}
	}
	verb := map[backend.Action]string{backend.Start: "start", backend.Stop: "stop", backend.Restart: "restart",
		backend.Reload: "reload"}[a]
	args := []string{"sv", "-w", fmt.Sprint(int(limit.Seconds())), verb, path.Join(at, name)}
	_, err := machine.Do(ctx, m, machine.Command{Args: args, Limit: limit + usualWait}, nil)
	return err
}

// down makes or removes the file that keeps a service from starting by itself.
func down(m machine.Machine, at string, on bool) error {
	d, err := m.Dir(at)
	if err != nil {
		return err
	}
	defer d.Close()
	if !on {
		if err := d.Remove("down"); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	f, err := d.Create("down", 0o644, -1, -1)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return f.Close()
}

// link puts a service where runsvdir sees it, and waits until it does. One that
// was not linked before starts at boot only once that is said.
func link(ctx context.Context, m machine.Machine, at, name string, keepDown bool) error {
	if !backend.Exists(m, path.Join(at, name)) {
		if keepDown {
			if err := down(m, defined+name, true); err != nil {
				return err
			}
		}
		d, err := m.Dir(at)
		if err != nil {
			return err
		}
		err = d.Symlink(defined+name, name)
		d.Close()
		if err != nil {
			return err
		}
	}
	for range 40 { // runsvdir looks every five seconds
		if backend.Exists(m, home(m, name)+"/supervise/ok") {
			return nil
		}
		m.Wait(ctx, 250*time.Millisecond)
	}
	return problem.Errorf("%s is not supervised: runsvdir did not pick up the service", at).
		Remedy("check on the host that runsvdir is running")
}

// Restarted compares the clock of this boot when the restart became pending with the one at the start.
func (Manager) Restarted(s backend.State, d ledger.Pending, boot string) bool {
	return d.Boot != boot || s.Since > d.Uptime
}

// Survey lists the services that there are.
func (r Manager) Survey(ctx context.Context, m machine.Machine, most int) map[string]facts.Service {
	out := map[string]facts.Service{}
	at, _ := folder(m)
	seen := map[string]bool{}
	var names []string
	for _, p := range []string{defined, at} {
		list, _ := m.ReadDir(p)
		for _, name := range list {
			if !seen[name] && len(names) < most {
				seen[name] = true
				names = append(names, name)
			}
		}
	}
	states, err := r.Show(ctx, m, names)
	if err != nil {
		return out
	}
	for name, s := range states {
		out[name] = facts.Service{Running: s.Running, Boot: s.Boot}
	}
	return out
}

// Unbar is of no use here.
func (Manager) Unbar(name string) string { return backend.Unbarred("runit", name) }

// Status is the command that shows a service.
func (Manager) Status(name string) string { return "sv status " + name }

// Report reads the end of the log that a service's own logger keeps, where svlogd(8) usually has it.
func (Manager) Report(_ context.Context, m machine.Machine, name string, since time.Time) backend.Report {
	return backend.Report{Lines: backend.Tail(m, since, "/var/log/"+name+"/current", "/var/log/runit/"+name+"/current",
		"/etc/sv/"+name+"/log/main/current")}
}

// Log is where services write to.
func (Manager) Log(name string) string { return "less /var/log/" + name + "/current" }
