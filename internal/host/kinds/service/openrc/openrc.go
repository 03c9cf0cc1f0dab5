// Package openrc is the service manager OpenRC, by rc-service(8) and
// rc-update(8).
package openrc

import (
	"context"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service/backend"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// Manager is OpenRC.
type Manager struct{}

// Name is what people call it.
func (Manager) Name() string { return "OpenRC" }

// state is where OpenRC keeps what runs.
const state = "/run/openrc"

// Runs looks for OpenRC's folder, which it makes when it starts a host.
func (Manager) Runs(m machine.Machine) bool {
	_, err := m.ReadDir(state)
	return err == nil && m.Look("rc-service")
}

// Short leaves a name as it is.
func (Manager) Short(name string) string { return name }

// Full leaves a name as it is.
func (Manager) Full(name string) string { return name }

// Definitions are the script and its settings.
func (Manager) Definitions(name string) []string {
	return []string{backend.Scripts + name, "/etc/conf.d/" + name}
}

// showLimit is how long a script may take to describe its service.
const showLimit = time.Minute

// The exit codes of `rc-service NAME status` (openrc-run(8) leaves them to
// scripts, whose usual one these are).
const (
	stopped = 3
	crashed = 32
)

// Show asks each script.
func (rc Manager) Show(ctx context.Context, m machine.Machine, names []string) (map[string]backend.State, error) {
	out := map[string]backend.State{}
	boot := levels(m)
	for _, name := range names {
		s := backend.State{There: backend.Exists(m, backend.Scripts+name), Boot: len(boot[name]) > 0}
		if s.There {
			res, err := m.Run(ctx, machine.Command{Args: []string{"rc-service", "--", name, "status"},
				Limit: showLimit})
			if err != nil {
				return nil, err
			}
			s.Running, s.Failed = res.Code == 0, res.Code == crashed
			s.Phase = phase(res.Code)
			s.Since = backend.Started(m, state+"/started/"+name)
		}
		out[name] = s
	}
	return out, nil
}

func phase(code int) string {
	switch code {
	case 0:
		return "started"
	case stopped:
		return "stopped"
	case crashed:
		return "crashed"
	}
	return "in an unknown state"
}

// levels gives the runlevels that services are in, by service.
func levels(m machine.Machine) map[string][]string {
	out := map[string][]string{}
	list, _ := m.ReadDir("/etc/runlevels")
	for _, level := range list {
		names, _ := m.ReadDir("/etc/runlevels/" + level)
		for _, name := range names {
			out[name] = append(out[name], level)
		}
	}
	return out
}

// Defines says that nothing is kept of what defines a service: it is read again each time.
func (Manager) Defines(string) bool { return false }

// Load has nothing to do: scripts are read each time.
func (Manager) Load(context.Context, *kind.Env) error { return nil }

// Act does one thing to one service.
func (Manager) Act(ctx context.Context, env *kind.Env, a backend.Action, name string, limit time.Duration) error {
	var args []string
	switch a {
	case backend.Start:
		args = []string{"rc-service", "--", name, "start"}
	case backend.Stop:
		args = []string{"rc-service", "--", name, "stop"}
	case backend.Restart:
		args = []string{"rc-service", "--", name, "restart"}
	case backend.Reload:
		args = []string{"rc-service", "--", name, "reload"}
	case backend.Enable:
		args = []string{"rc-update", "add", "--", name, "default"}
	case backend.Disable:
		args = append([]string{"rc-update", "del", "--", name}, levels(env.Machine)[name]...)
	default:
		return backend.NoMask("OpenRC")
	}
	_, err := machine.Do(ctx, env.Machine, machine.Command{Args: args, Limit: limit}, errorLine)
	return err
}

// errorLine picks the first error, which OpenRC marks with a star.
var errorLine = machine.ErrorLine("* ERROR: ")

// Restarted compares the clock of this boot when the restart became pending with the one at the start.
func (Manager) Restarted(s backend.State, d ledger.Pending, boot string) bool {
	return d.Boot != boot || s.Since > d.Uptime
}

// Survey lists the scripts.
func (Manager) Survey(_ context.Context, m machine.Machine, most int) map[string]facts.Service {
	out := map[string]facts.Service{}
	boot := levels(m)
	names, _ := m.ReadDir(backend.Scripts)
	for _, name := range names {
		if len(out) < most && !strings.HasSuffix(name, ".sh") {
			out[name] = facts.Service{Running: backend.Exists(m, state+"/started/"+name), Boot: len(boot[name]) > 0}
		}
	}
	return out
}

// Unbar is of no use here.
func (Manager) Unbar(name string) string { return backend.Unbarred("OpenRC", name) }

// Status is the command that shows a service.
func (Manager) Status(name string) string { return "rc-service " + name + " status" }

// output is where a script or its settings say that what the service prints is kept; see
// openrc-run(8).
var output = lazy.Regexp(`(?m)^\s*(?:output|error)_log=["']?([^"'\s]+)`)

// Report reads the end of the files that the script names for what the service prints.
func (Manager) Report(_ context.Context, m machine.Machine, name string, since time.Time) backend.Report {
	var paths []string
	for _, p := range []string{"/etc/conf.d/" + name, backend.Scripts + name} {
		text, _ := machine.ReadFile(m, p)
		for _, found := range output().FindAllStringSubmatch(string(text), -1) {
			paths = append(paths, strings.NewReplacer("${RC_SVCNAME}", name, "$RC_SVCNAME", name).Replace(found[1]))
		}
	}
	return backend.Report{Lines: backend.Tail(m, since, paths...)}
}

// Log is where services write to.
func (Manager) Log(string) string { return "less /var/log/messages" }
