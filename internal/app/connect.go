package app

import (
	"context"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/ask"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
)

// Dialer makes a dialer for the hosts of the project, with the passwords of the call. Who asks for one closes it.
func (p *Project) Dialer(with Passwords) (*reach.Dialer, error) {
	return p.dialer(with, p.Settings, p.Inventory)
}

func (s *Site) dialer(with Passwords, of settings.Settings, inv *inventory.Inventory) (*reach.Dialer, error) {
	login, elevation, err := s.settle(with)
	if err != nil {
		return nil, err
	}
	d := s.plainDialer(of, inv)
	d.Login, d.Elevation = login, elevation
	d.Kept = &reach.Kept{For: of.KeepConnections, Dir: s.keptDir(),
		Note: func(text string) { s.Note(visible.Line(text)) }}
	return d, nil
}

// keptDir is where the connections are that are kept.
func (c *Caller) keptDir() string {
	if dir := c.Getenv("XDG_RUNTIME_DIR"); dir != "" {
		return filepath.Join(dir, "jadekettle")
	}
	return c.stateFile("connections")
}

// Disconnect ends the connections that are kept, and says how many there were.
func (c *Caller) Disconnect() (int, error) { return reach.Disconnect(c.keptDir()) }

// PlainDialer makes a dialer that gives no passwords.
func (p *Project) PlainDialer() *reach.Dialer { return p.plainDialer(p.Settings, p.Inventory) }

func (s *Site) plainDialer(of settings.Settings, inv *inventory.Inventory) *reach.Dialer {
	return &reach.Dialer{
		KnownHosts: s.Expand(of.KnownHosts, s.Root),
		Timeout:    of.ConnectTimeout,
		Home:       s.Getenv("HOME"),
		AgentAddr:  s.Getenv("SSH_AUTH_SOCK"),
		User:       Me(),
		Passphrase: s.passphrase,
		Gate:       s.gates(inv),
	}
}

// gates finds a jump host in the inventory, by its name or its address.
func (s *Site) gates(inv *inventory.Inventory) func(string) (reach.Target, bool) {
	byAddress := sync.OnceValue(func() map[string]*inventory.Host {
		out := make(map[string]*inventory.Host, len(inv.Hosts))
		for _, h := range inv.Hosts {
			out[s.Target(h).Address] = h
		}
		return out
	})
	return func(name string) (reach.Target, bool) {
		h, ok := inv.Host(name)
		if !ok {
			h, ok = byAddress()[name]
		}
		if !ok {
			return reach.Target{}, false
		}
		return s.Target(h), true
	}
}

// passphrase asks for that of a key, which is done once for each.
func (s *Site) passphrase(key string) (value.Secret, error) {
	nobody := problem.Errorf("the key %s has a passphrase, and entering it needs a terminal", key).
		Remedy("add it to an agent with `ssh-add %s`", key)
	text, err := s.password("Passphrase for "+key+": ", nobody)
	return value.NewSecret(string(text)), err
}

// Target is how the call reaches a host.
func (s *Site) Target(h *inventory.Host) reach.Target {
	if s.Here {
		t := reach.Target{Name: h.Name, Local: true}
		if os.Geteuid() != 0 {
			t.Elevate = h.Connect.Elevate
		}
		return t
	}
	return s.afar(h)
}

// afar is how a host is reached from another machine.
func (s *Site) afar(h *inventory.Host) reach.Target {
	address := h.Connect.Address
	if address == "" {
		address = h.Address()
	}
	return reach.Target{
		Name: h.Name, Address: address, Port: h.Connect.Port, User: h.Connect.User,
		Key: s.Expand(h.Connect.Key, s.Root), Elevate: h.Connect.Elevate, Local: h.Connect.Local,
		Jump: h.Connect.Jump, Command: h.Connect.Command,
	}
}

// Connect connects to a host, as the call reaches it, and starts its worker. first is what that receives first.
func (p *Project) Connect(ctx context.Context, d *reach.Dialer, h *inventory.Host,
	first []byte) (*reach.Session, error) {
	return p.connect(ctx, d, h, p.Target(h), first)
}

func (p *Project) connect(ctx context.Context, d *reach.Dialer, h *inventory.Host, t reach.Target,
	first []byte) (*reach.Session, error) {
	secret, ok, err := resolve.ElevatePassword(p.Project, h)
	if err != nil {
		return nil, err
	}
	if ok { // one that several hosts have is tried on one of them first
		one, _ := p.elevation.LoadOrStore(secret,
			&reach.Password{Ask: func() (value.Secret, error) { return secret, nil }})
		t.Password = one.(*reach.Password)
	}
	return d.Open(ctx, t, first)
}

// Fleet makes a fleet that reaches the hosts of the project. parallel is how many at once; 0
// takes the setting.
func (p *Project) Fleet(d *reach.Dialer, parallel int) *run.Fleet {
	if parallel == 0 {
		parallel = p.Settings.Parallel
	}
	return &run.Fleet{Ask: ask.Probe, Here: p.Here, Plans: &resolve.Plans{Project: p.Project, Fleet: p.fleet},
		Parallel: parallel, Work: run.Work{Guard: p.Settings.Guard,
			Past: wire.Past{Age: p.Settings.UndoAge, Size: p.Settings.UndoSize}},
		Open: func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			return p.Connect(ctx, d, h, first)
		},
		Fresh: func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			t := p.Target(h)
			t.Fresh = true
			return p.connect(ctx, d, h, t, first)
		},
		Around: func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			return p.connect(ctx, d, h, p.afar(h), first)
		}}
}

// BySSH gives the hosts that are reached by SSH.
func BySSH(hosts []*inventory.Host) []*inventory.Host {
	return slices.DeleteFunc(slices.Clone(hosts), func(h *inventory.Host) bool {
		return h.Connect.Local || h.Connect.Command != ""
	})
}

// Me is the account that calls.
func Me() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// What commands hand on between the packages of the application, and need not look into.
type (
	Host   = *inventory.Host
	Target = reach.Target
	Dialer = *reach.Dialer
)

// Folded writes names of hosts shortly, as a target would.
func Folded(names []string) []string { return inventory.Fold(names) }

// Shown writes a command line as it would be typed.
func Shown(words []string) string { return shell.Join(words...) }

// Myself gives the target of a call that is about this machine: the host that is named, or the one of this machine's
// name.
func Myself(targets []string) ([]string, error) {
	if len(targets) > 1 || len(targets) == 1 && strings.ContainsAny(targets[0], "*?[@") {
		return nil, problem.Errorf("--here is for one host, but %s may match more", strings.Join(targets, " ")).
			Remedy("use the name of the host that this machine is")
	}
	if len(targets) == 1 {
		return targets, nil
	}
	name, err := os.Hostname()
	return []string{name}, err
}
