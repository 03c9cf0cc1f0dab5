// Package backend is the seam between the kind service and the service manager
// of a host. What one manager says, names or allows lives in its own folder
// beside this one.
package backend

import (
	"context"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// State is what is there of one service.
type State struct {
	There   bool   // the manager has a definition of it
	Barred  bool   // somebody forbade that it is ever started
	Broken  bool   // its definition cannot be loaded
	Stale   bool   // its definition has changed since it was loaded
	Running bool   //
	Failed  bool   // it ended by itself, with an error
	Once    bool   // a start of it runs to its end, after which it does not run
	Phase   string // how the manager puts it, for messages

	Boot      bool
	BootFixed string // the manager's word for why it cannot be started at boot by itself; may be empty
	Unmasked  string // why the manager cannot bar it from being started; empty where it can
	BootWord  string // the manager's word for whether it starts at boot, when that is not its own to say

	Since  time.Duration // the host's uptime when it was last started
	Starts int           // how often the manager has started it again by itself
}

// Action is what can be done to a service.
type Action int

// The actions.
const (
	Start Action = iota
	Stop
	Restart
	Reload
	Enable  // to be started at boot
	Disable // not to be
	Mask    // never to be started
	Unmask
)

// Minder is a Manager that can say which services start at boot, or do not, since
// somebody said so, and not the package that brought them.
type Minder interface {
	Minded(ctx context.Context, m machine.Machine) ([]string, error)
}

// Manager is one service manager.
type Manager interface {
	// Name is what people call it.
	Name() string
	// Runs says whether it manages the services of this host.
	Runs(m machine.Machine) bool
	// Short gives a name without what the manager lets people omit.
	Short(name string) string
	// Full gives a name as the manager's own messages have it.
	Full(name string) string
	// Definitions are the paths at which files that define a service may lie. One that ends
	// in a slash is a folder of such files.
	Definitions(name string) []string
	// Defines says whether something at a path is read by Load.
	Defines(path string) bool
	// Show describes services by name, in one call.
	Show(ctx context.Context, m machine.Machine, names []string) (map[string]State, error)
	// Load makes the manager read definitions that have changed.
	Load(ctx context.Context, env *kind.Env) error
	// Act does one thing to one service, within a limit where that is not 0.
	Act(ctx context.Context, env *kind.Env, a Action, name string, limit time.Duration) error
	// Restarted says whether a start after a pending restart has settled it.
	Restarted(s State, d ledger.Pending, boot string) bool
	// Survey lists all services, at most so many.
	Survey(ctx context.Context, m machine.Machine, most int) map[string]facts.Service
	// Report says why a service does not run that was started since a time.
	Report(ctx context.Context, m machine.Machine, name string, since time.Time) Report
	// Unbar, Status and Log are what a person types on the host to allow a
	// service again, and to learn more of it.
	Unbar(name string) string
	Status(name string) string
	Log(name string) string
}
