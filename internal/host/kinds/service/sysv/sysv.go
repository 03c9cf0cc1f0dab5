// Package sysv is services by the scripts in /etc/init.d, where nothing newer
// manages them.
package sysv

import (
	"context"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service/backend"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// Manager is the scripts of SysV.
type Manager struct{}

// Name is what people call it.
func (Manager) Name() string { return "SysV scripts" }

// Runs looks for scripts.
func (Manager) Runs(m machine.Machine) bool {
	_, err := m.ReadDir(backend.Scripts)
	return err == nil
}

// Short leaves a name as it is.
func (Manager) Short(name string) string { return name }

// Full leaves a name as it is.
func (Manager) Full(name string) string { return name }

// Definitions are the script and its settings.
func (Manager) Definitions(name string) []string {
	return []string{backend.Scripts + name, "/etc/default/" + name}
}

const showLimit = time.Minute

// Exit codes of a script's status (Linux Standard Base, init script actions).
const (
	deadWithFile = 1
	stopped      = 3
	unknown      = 4
)

// Show asks each script.
func (Manager) Show(ctx context.Context, m machine.Machine, names []string) (map[string]backend.State, error) {
	out := map[string]backend.State{}
	boot := linked(m)
	for _, name := range names {
		s := backend.State{There: backend.Exists(m, backend.Scripts+name), Boot: boot[name]}
		if s.There {
			res, err := m.Run(ctx, machine.Command{Args: []string{backend.Scripts + name, "status"}, Limit: showLimit})
			if err != nil {
				return nil, err
			}
			s.Running, s.Failed, s.Phase = res.Code == 0, res.Code == deadWithFile, phase(res.Code)
			s.Since = backend.Started(m, "/run/"+name+".pid", "/run/"+name+"/"+name+".pid", "/var/run/"+name+".pid")
		}
		out[name] = s
	}
	return out, nil
}

func phase(code int) string {
	switch code {
	case 0:
		return "running"
	case deadWithFile, 2:
		return "dead, with a stale pid file"
	case stopped:
		return "stopped"
	case unknown:
		return "in an unknown state"
	}
	return "in an unknown state"
}

// rcFolders hold the links by which services start; most systems have the first.
var rcFolders = []string{"/etc/rc", "/etc/rc.d/rc"}

// linked gives what has a link to start it in a runlevel for many users.
func linked(m machine.Machine) map[string]bool {
	out := map[string]bool{}
	for _, folder := range rcFolders {
		for _, level := range "2345S" {
			names, _ := m.ReadDir(folder + string(level) + ".d")
			for _, name := range names {
				if len(name) > 3 && name[0] == 'S' {
					out[name[3:]] = true
				}
			}
		}
	}
	return out
}

// Defines says that nothing is kept of what defines a service: it is read again each time.
func (Manager) Defines(string) bool { return false }

// Load has nothing to do: scripts are read each time.
func (Manager) Load(context.Context, *kind.Env) error { return nil }

var verbs = map[backend.Action]string{backend.Start: "start", backend.Stop: "stop", backend.Restart: "restart",
	backend.Reload: "reload"}

// Act does one thing to one service.
func (Manager) Act(ctx context.Context, env *kind.Env, a backend.Action, name string, limit time.Duration) error {
	run := func(args ...string) error {
		_, err := machine.Do(ctx, env.Machine, machine.Command{Args: args, Limit: limit}, nil)
		return err
	}
	switch a {
	case backend.Mask, backend.Unmask:
		return backend.NoMask("this host")
	case backend.Enable, backend.Disable:
		return link(env.Machine, a == backend.Enable, name, run)
	}
	return run(backend.Scripts+name, verbs[a])
}

// link calls what the system has to link a script into the runlevels.
func link(m machine.Machine, on bool, name string, run func(...string) error) error {
	switch {
	case m.Look("update-rc.d") && on:
		if err := run("update-rc.d", name, "defaults"); err != nil {
			return err
		}
		return run("update-rc.d", name, "enable")
	case m.Look("update-rc.d"):
		return run("update-rc.d", name, "disable")
	case m.Look("chkconfig"):
		return run("chkconfig", name, kind.Yes(on, "on", "off"))
	}
	return problem.Errorf("enabling a service at boot requires update-rc.d or chkconfig, which this host does not " +
		"have").
		Remedy("remove at_boot for this host")
}

// Restarted compares the clock of this boot when the restart became pending with the one at the start,
// where the service shows that by its pid file.
func (Manager) Restarted(s backend.State, d ledger.Pending, boot string) bool {
	return d.Boot != boot || s.Since > d.Uptime
}

// Survey lists the scripts, by their links alone: to ask each may take minutes.
func (Manager) Survey(_ context.Context, m machine.Machine, most int) map[string]facts.Service {
	out := map[string]facts.Service{}
	boot := linked(m)
	names, _ := m.ReadDir(backend.Scripts)
	for _, name := range names {
		if len(out) < most && !strings.HasSuffix(name, ".sh") && name != "README" {
			out[name] = facts.Service{Boot: boot[name],
				Running: backend.Exists(m, "/run/"+name+".pid") || backend.Exists(m, "/run/"+name+"/"+name+".pid")}
		}
	}
	return out
}

// Unbar is of no use here.
func (Manager) Unbar(name string) string { return backend.Unbarred("SysV", name) }

// Status is the command that shows a service.
func (Manager) Status(name string) string { return backend.Scripts + name + " status" }

// Report knows nothing: scripts keep no log of their own, and print what goes wrong.
func (Manager) Report(context.Context, machine.Machine, string, time.Time) backend.Report {
	return backend.Report{}
}

// Log is where services write to.
func (Manager) Log(string) string { return "less /var/log/syslog" }
