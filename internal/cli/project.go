package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/host/kinds"
)

// folder finds the project's folder: the one given, or the nearest from here
// upwards that holds a jadekettle.toml.
func (a *App) folder() (string, error) {
	if a.project != "" {
		if _, err := os.Stat(filepath.Join(a.project, resolve.SettingsFile)); err != nil {
			return "", fmt.Errorf("%s is no project: it has no %s; make one with `jadekettle init %s`", a.project, resolve.SettingsFile, a.project)
		}
		return filepath.Abs(a.project)
	}
	here, err := os.Getwd()
	if err != nil {
		return "", err
	}
	for dir := here; ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, resolve.SettingsFile)); err == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "", fmt.Errorf("neither %s nor a folder above it holds a %s; make a project with `jadekettle init DIR`, or name one with --project", here, resolve.SettingsFile)
		}
	}
}

// files opens a project's files; links that lead out of the folder lead nowhere.
func files(dir string) (fs.FS, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return root.FS(), nil
}

// load reads the project and checks everything that can be checked without
// contacting a host, for the hosts that are asked for.
func (a *App) load(targets, except []string) (*resolve.Project, []*inventory.Host, string, error) {
	dir, err := a.folder()
	if err != nil {
		return nil, nil, "", err
	}
	project, err := files(dir)
	if err != nil {
		return nil, nil, "", err
	}
	p, err := resolve.Load(project, kinds.Catalog(), resolve.Options{})
	if err != nil {
		return nil, nil, dir, err
	}
	if err := required(p.Settings.Requires); err != nil {
		return nil, nil, dir, err
	}
	hosts, err := p.Inventory.Select(targets, except)
	if err != nil {
		return nil, nil, dir, err
	}
	return p, hosts, dir, nil
}

// required checks `requires = ">= 0.1"` against this program.
func required(want string) error {
	if want == "" {
		return nil
	}
	rest, ok := strings.CutPrefix(want, ">=")
	if !ok {
		return fmt.Errorf("requires is %q; write requires = \">= %s\"", want, Version)
	}
	if older(Version, strings.TrimSpace(rest)) {
		return fmt.Errorf("this project requires jadekettle %s, and this is %s; use a newer one", want, Version)
	}
	return nil
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
func (a *App) dialer(p *resolve.Project, dir string) *reach.Dialer {
	home := a.Getenv("HOME")
	return &reach.Dialer{
		KnownHosts: expand(p.Settings.KnownHosts, home, dir),
		Timeout:    p.Settings.ConnectTimeout,
		Home:       home,
		AgentAddr:  a.Getenv("SSH_AUTH_SOCK"),
		User:       me(),
	}
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

func (a *App) target(h *inventory.Host, dir string) reach.Target {
	address := h.Connect.Address
	if address == "" {
		address = h.Address()
	}
	return reach.Target{
		Name: h.Name, Address: address, Port: h.Connect.Port, User: h.Connect.User,
		Key: expand(h.Connect.Key, a.Getenv("HOME"), dir), Elevate: h.Connect.Elevate, Local: h.Connect.Local,
	}
}

func (a *App) fleet(p *resolve.Project, dir string, parallel int) *run.Fleet {
	d := a.dialer(p, dir)
	if parallel == 0 {
		parallel = p.Settings.Parallel
	}
	return &run.Fleet{Project: p, Parallel: parallel, Open: func(ctx context.Context, h *inventory.Host) (*reach.Session, error) {
		return d.Open(ctx, a.target(h, dir))
	}}
}

func me() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// newRun names a run.
func newRun(p *resolve.Project, preview bool) (plan.Run, time.Time, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return plan.Run{}, time.Time{}, err
	}
	machine, err := os.Hostname()
	if err != nil {
		return plan.Run{}, time.Time{}, errors.Join(errors.New("this machine does not tell its name"), err)
	}
	return plan.Run{
		ID: id.String(), Project: p.Settings.Project, Preview: preview, Who: me() + "@" + machine,
		ListAge: p.Settings.PackageListAge,
	}, time.Now(), nil
}
