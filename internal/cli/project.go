package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/ask"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/history/store"
	"jadekettle/internal/host/kinds"
)

// folder finds the project's folder: the one given, or the nearest from here
// upwards that holds a jadekettle.toml.
func (a *App) folder() (string, error) {
	if a.project != "" {
		if _, err := os.Stat(filepath.Join(a.project, settings.File)); err != nil {
			return "", problem.Errorf("%s is no project: it has no %s", a.project, settings.File).
				Remedy("make one with `jadekettle init %s`", a.project)
		}
		return filepath.Abs(a.project)
	}
	here, err := os.Getwd()
	if err != nil {
		return "", err
	}
	for dir := here; ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, settings.File)); err == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "", problem.Errorf("neither %s nor a folder above it holds a %s", here, settings.File).
				Remedy("make a project with `jadekettle init DIR`, or name one with --project")
		}
	}
}

// files opens a project's files; links that lead out of the folder lead nowhere.
func files(dir string) (fs.FS, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return plainFiles{root.FS()}, nil
}

// plainFiles opens files and folders alone: to open a named pipe waits for who writes into it, and
// a device may have no end.
type plainFiles struct{ fs.FS }

// Open opens a file or a folder.
func (p plainFiles) Open(name string) (fs.File, error) {
	info, err := fs.Stat(p.FS, name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() && !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("it is neither a file nor a folder")}
	}
	return p.FS.Open(name)
}

// Stat tells of a file without opening it.
func (p plainFiles) Stat(name string) (fs.FileInfo, error) { return fs.Stat(p.FS, name) }

// ReadDir lists a folder.
func (p plainFiles) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(p.FS, name) }

// projectFiles finds the project of the call and opens its files. The project must not require a
// newer program.
func (a *App) projectFiles() (dir string, root fs.FS, err error) {
	if dir, root, err = a.anyProject(); err != nil {
		return "", nil, err
	}
	return dir, root, required(root)
}

// anyProject is projectFiles for a project that may require a newer program.
func (a *App) anyProject() (dir string, root fs.FS, err error) {
	if dir, err = a.folder(); err != nil {
		return "", nil, err
	}
	root, err = files(dir)
	return dir, root, err
}

// project is the project of a call, with the hosts that it is about.
type project struct {
	*compile.Project
	dir     string
	hosts   []*inventory.Host
	runs    store.Project // its runs, as they are kept
	known   store.Known   // what is known of hosts between calls
	files   *store.Files  // what was read of it
	targets []string
	except  []string
	dialer  *reach.Dialer // which may have begun to connect
	fleet   *expr.Fleet   // what is known of all hosts, where something asks
	answers job.Answers   // what questions of jobs are asked over, where one is shown or started

	passwords sync.Map // for sudo, out of sealed data: of *reach.Password, by value.Secret
}

// options are what the flags say of a project.
func (a *App) options(dir string) (compile.Options, error) {
	o := compile.Options{Env: a.env, Params: map[string]string{}}
	for _, p := range a.params {
		name, v, ok := strings.Cut(p, "=")
		if !ok || !strings.Contains(name, ".") {
			return o, problem.Errorf("--param is %q", p).Remedy("write --param MANIFEST.NAME=VALUE")
		}
		o.Params[name] = v
	}
	keys := a.keyring(dir)
	o.Open = keys.Open
	if a.started != nil {
		o.Input = a.started.input
	}
	return o, nil
}

// open reads the project of the call.
func (a *App) open() (*project, error) { return a.openWhile(nil) }

// openWhile reads the project of the call, and meanwhile does something with
// the inventory.
func (a *App) openWhile(reading func(dir string, s settings.Settings, inv *inventory.Inventory)) (*project, error) {
	dir, root, err := a.projectFiles()
	if err != nil {
		return nil, err
	}
	o, err := a.options(dir)
	if err != nil {
		return nil, err
	}
	read := store.Watch(root)
	var refused error
	o.Reading = func(s settings.Settings, inv *inventory.Inventory) {
		if refused = a.permit(dir, s, inv); refused == nil && reading != nil {
			reading(dir, s, inv)
		}
	}
	p, err := compile.Load(read, kinds.Schemas(), o)
	if err != nil || refused != nil {
		return nil, cmp.Or(refused, err)
	}
	if err := a.permit(dir, p.Settings, p.Inventory); err != nil { // what is amiss may have kept it from being asked
		return nil, err
	}
	out := &project{Project: p, dir: dir, runs: a.history(dir, p.Settings), files: read}
	out.known = out.runs.Known(p.Settings.Env)
	if p.Reads("fleet") {
		out.snapshot(time.Now())
	}
	return out, nil
}

// snapshot is what is known of all hosts, read once before a run.
func (p *project) snapshot(now time.Time) {
	read := func(all bool) *expr.Fleet {
		return resolve.Snapshot(p.Project, func(host string) (*facts.Facts, int64, bool) {
			s, ok := p.known.Load(host)
			h, _ := p.Inventory.Host(host)
			trusted := all || h != nil && slices.ContainsFunc(h.Groups,
				func(g *inventory.Group) bool { return g.TrustFacts })
			return s.Facts, int64(now.Sub(s.Read).Seconds()), ok && (s.Ours || trusted)
		})
	}
	p.fleet = read(false)
	for _, u := range p.Units {
		if u.TrustFacts && p.fleet.All == nil {
			p.fleet.All = read(true)
		}
	}
}

// knownOf is what is known when a host with these facts is resolved.
func (p *project) knownOf(f *facts.Facts) resolve.Known {
	return resolve.Known{Facts: f, Fleet: p.fleet}
}

// load reads the project and selects the hosts that are asked for.
func (a *App) load(targets, except []string) (*project, error) {
	targets, err := a.myself(targets)
	if err != nil {
		return nil, err
	}
	p, err := a.open()
	if err != nil {
		return nil, err
	}
	p.targets, p.except = targets, except
	p.hosts, err = p.Inventory.Select(targets, except)
	return p, err
}

// reach reads the project and selects hosts as load does, and begins to connect
// to them as soon as the inventory is known.
func (a *App) reach(ctx context.Context, targets, except []string, parallel int) (*project, error) {
	targets, err := a.myself(targets)
	if err != nil {
		return nil, err
	}
	var d *reach.Dialer
	p, err := a.openWhile(func(dir string, s settings.Settings, inv *inventory.Inventory) {
		var err error
		if d, err = a.dialerOf(s, dir, inv); err != nil {
			return // which is told below
		}
		hosts, err := inv.Select(targets, except)
		if err != nil {
			return // which is told below
		}
		if parallel == 0 {
			parallel = s.Parallel
		}
		for _, h := range hosts[:min(len(hosts), parallel)] {
			if h.Off == "" {
				d.Begin(ctx, a.target(h, dir))
			}
		}
	})
	if err != nil {
		if d != nil {
			d.Close()
		}
		return nil, err
	}
	p.targets, p.except, p.dialer = targets, except, d
	p.hosts, err = p.Inventory.Select(targets, except)
	return p, err
}

// chosen says whether a host is meant once its groups are known.
func (p *project) chosen(h *inventory.Host, groups []*inventory.Group) bool {
	return p.Inventory.Chosen(p.targets, p.except, h, groups)
}

// facts gives a host's facts as they were last read; nil when they never were.
func (p *project) facts(h *inventory.Host) (*facts.Facts, time.Time) {
	s, _ := p.known.Load(h.Name)
	return s.Facts, s.Read
}

// required checks what a project's settings say of `requires` against this program. It comes before
// the rest is read, which an older program may not understand.
func required(root fs.FS) error {
	s := settings.Glance(root)
	if s.Requires == "" || !older(Version, strings.TrimLeft(s.Requires, ">= ")) {
		return nil
	}
	var ps problem.Problems
	ps.At(s.RequiresPlace, fmt.Sprintf("this project requires jadekettle %s, and this is %s", s.Requires, Version), "use a newer one")
	return ps.Err()
}

func older(a, b string) bool {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range bs {
		x, y := 0, 0
		if i < len(as) {
			x, _ = strconv.Atoi(as[i])
		}
		y, _ = strconv.Atoi(bs[i])
		if x != y {
			return x < y
		}
	}
	return false
}

// dialer makes the dialer of a project.
func (a *App) dialer(p *project) (*reach.Dialer, error) {
	if p.dialer == nil {
		var err error
		if p.dialer, err = a.dialerOf(p.Settings, p.dir, p.Inventory); err != nil {
			return nil, err
		}
	}
	return p.dialer, nil
}

func (a *App) dialerOf(s settings.Settings, dir string, inv *inventory.Inventory) (*reach.Dialer, error) {
	login, elevation, err := a.passwords.give(a)
	if err != nil {
		return nil, err
	}
	d := a.plainDialer(s, dir, inv)
	d.Login, d.Elevation = login, elevation
	return d, nil
}

// plainDialer gives no passwords.
func (a *App) plainDialer(s settings.Settings, dir string, inv *inventory.Inventory) *reach.Dialer {
	home := a.Getenv("HOME")
	return &reach.Dialer{
		KnownHosts: expand(s.KnownHosts, home, dir),
		Timeout:    s.ConnectTimeout,
		Home:       home,
		AgentAddr:  a.Getenv("SSH_AUTH_SOCK"),
		User:       me(),
		Passphrase: a.passphrase,
		Gate:       a.gates(dir, inv),
	}
}

// gates finds a jump host in the inventory, by its name or its address.
func (a *App) gates(dir string, inv *inventory.Inventory) func(string) (reach.Target, bool) {
	byAddress := sync.OnceValue(func() map[string]*inventory.Host {
		out := make(map[string]*inventory.Host, len(inv.Hosts))
		for _, h := range inv.Hosts {
			out[a.target(h, dir).Address] = h
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
		return a.target(h, dir), true
	}
}

// passphrase asks for that of a key, which is done once for each.
func (a *App) passphrase(key string) (value.Secret, error) {
	if !a.Terminal {
		return value.Secret{}, problem.Errorf("the key %s has a passphrase, and there is no terminal to ask for it on", key).
			Remedy("add it to an agent with `ssh-add %s`", key)
	}
	text, err := a.password("Passphrase of " + key + ": ")
	return value.NewSecret(string(text)), err
}

// expand makes a path of the settings whole: ~/ is the home folder, and
// anything else relative lies in the project.
func expand(path, home, dir string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		return filepath.Join(home, rest)
	}
	if path == "" || filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}

// connect connects to a host, as the call reaches it, and starts its worker.
func (a *App) connect(ctx context.Context, p *project, d *reach.Dialer, h *inventory.Host,
	first []byte) (*reach.Session, error) {
	return a.connectTo(ctx, p, d, h, a.target(h, p.dir), first)
}

func (a *App) connectTo(ctx context.Context, p *project, d *reach.Dialer, h *inventory.Host, t reach.Target,
	first []byte) (*reach.Session, error) {
	secret, ok, err := resolve.ElevatePassword(p.Project, h)
	if err != nil {
		return nil, err
	}
	if ok { // one that several hosts have is tried on one of them first
		one, _ := p.passwords.LoadOrStore(secret, &reach.Password{Ask: func() (value.Secret, error) { return secret, nil }})
		t.Password = one.(*reach.Password)
	}
	return d.Open(ctx, t, first)
}

func (a *App) target(h *inventory.Host, dir string) reach.Target {
	if a.here {
		t := reach.Target{Name: h.Name, Local: true}
		if os.Geteuid() != 0 {
			t.Elevate = h.Connect.Elevate
		}
		return t
	}
	return a.afar(h, dir)
}

// afar is how a host is reached from another machine.
func (a *App) afar(h *inventory.Host, dir string) reach.Target {
	address := h.Connect.Address
	if address == "" {
		address = h.Address()
	}
	return reach.Target{
		Name: h.Name, Address: address, Port: h.Connect.Port, User: h.Connect.User,
		Key: expand(h.Connect.Key, a.Getenv("HOME"), dir), Elevate: h.Connect.Elevate, Local: h.Connect.Local,
		Jump: h.Connect.Jump, Command: h.Connect.Command,
	}
}

func (a *App) fleet(p *project, parallel int) (*run.Fleet, error) {
	d, err := a.dialer(p)
	if err != nil {
		return nil, err
	}
	if parallel == 0 {
		parallel = p.Settings.Parallel
	}
	return &run.Fleet{Ask: ask.Probe, Here: a.here, Plans: &resolve.Plans{Project: p.Project, Fleet: p.fleet}, Parallel: parallel,
		Guard: p.Settings.Guard, Chosen: p.chosen, Past: wire.Past{Age: p.Settings.UndoAge, Size: p.Settings.UndoSize},
		Open: func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			return a.connect(ctx, p, d, h, first)
		},
		Around: func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			return a.connectTo(ctx, p, d, h, a.afar(h, p.dir), first)
		}}, nil
}

func me() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// newRun names a run.
func (a *App) newRun(ctx context.Context, p *project, preview bool) (plan.Run, time.Time, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return plan.Run{}, time.Time{}, err
	}
	machine, err := os.Hostname()
	if err != nil {
		return plan.Run{}, time.Time{}, errors.Join(errors.New("this machine does not tell its name"), err)
	}
	revision, edited := a.revised(ctx, p.dir)
	return plan.Run{
		Revision: revision, Edited: edited, ID: id.String(), Project: p.Settings.Project, Env: p.Settings.Env, Preview: preview, Who: me() + "@" + machine,
		ListAge: p.Settings.PackageListAge,
	}, time.Now(), nil
}
