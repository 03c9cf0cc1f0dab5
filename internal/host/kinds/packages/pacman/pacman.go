// Package pacman is the package manager of Arch and its kin, by pacman(8).
package pacman

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/machine"
)

// Manager is pacman.
type Manager struct{}

// Program is what a host that has pacman can run.
func (Manager) Program() string { return "pacman" }

// nameForm is that of pkgname in PKGBUILD(5).
var nameForm = lazy.Regexp(`^[a-z0-9@_+][a-z0-9@._+-]*$`)

// CheckName holds a name to what pacman allows.
func (Manager) CheckName(name string) error {
	if nameForm().MatchString(name) {
		return nil
	}
	return problem.Errorf("invalid pacman package name %q", name).Remedy("use lower-case letters, digits and @._+-")
}

// local is the database of what is installed, a folder for each package.
const local = "/var/lib/pacman/local"

// folders lists the packages that the database holds, by name.
func folders(env *kind.Env) (map[string]string, error) {
	names, err := env.Machine.ReadDir(local)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	out := map[string]string{}
	for _, f := range names {
		release := strings.LastIndexByte(f, '-')
		if release < 0 {
			continue // ALPM_DB_VERSION
		}
		if version := strings.LastIndexByte(f[:release], '-'); version > 0 {
			out[f[:version]] = f
		}
	}
	return out, nil
}

// Installed reads the names of the database's folders, which end in version and
// release, and what pacman.conf(5) leaves in its version.
func (Manager) Installed(_ context.Context, env *kind.Env, names []string) (map[string]backend.State, error) {
	all, err := folders(env)
	if err != nil {
		return nil, err
	}
	conf, err := env.ReadOptional("/etc/pacman.conf")
	if err != nil {
		return nil, err
	}
	ignored := ignored(conf.Text)
	db := map[string]backend.State{}
	if len(names) == 0 {
		names = value.Keys(all)
	}
	for _, name := range names {
		if f := all[name]; f != "" {
			db[name] = backend.State{Version: f[len(name)+1:], Held: slices.Contains(ignored, name)}
		}
	}
	return db, nil
}

func ignored(conf string) []string {
	var out []string
	for line := range strings.Lines(conf) {
		if k, v, ok := strings.Cut(line, "="); ok && strings.TrimSpace(k) == "IgnorePkg" {
			out = append(out, strings.Fields(v)...)
		}
	}
	return out
}

// Asked leaves out what the database notes as having come along (%REASON% 1).
func (Manager) Asked(_ context.Context, env *kind.Env) ([]string, error) {
	all, err := folders(env)
	if err != nil {
		return nil, err
	}
	var out []string
	for name, f := range all {
		desc, err := machine.ReadFile(env.Machine, local+"/"+f+"/desc")
		if err != nil {
			return nil, err
		}
		if !strings.Contains(string(desc), "%REASON%\n1\n") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// Offers asks for all in one call. A repository of pacman's has one version of
// each package.
func (Manager) Offers(ctx context.Context, env *kind.Env, names []string) (map[string]backend.Offer, error) {
	if len(backend.Under(env, lists)) == 0 {
		return map[string]backend.Offer{}, nil // what was never fetched knows nothing
	}
	out, err := env.Machine.Run(ctx, machine.Command{Args: append([]string{"pacman", "-Si", "--"}, names...)})
	if err != nil {
		return nil, err
	}
	offers := map[string]backend.Offer{}
	name := ""
	for line := range strings.Lines(out.Stdout) { // it ends with 1 when it does not know one of them
		k, v, _ := strings.Cut(line, ":")
		switch v = strings.TrimSpace(v); strings.TrimSpace(k) {
		case "Name":
			name = v
		case "Version":
			o := offers[name] // the repository that is named first comes first
			if o.Newest == "" {
				o.Newest = v
			}
			o.Versions = append(o.Versions, v)
			offers[name] = o
		}
	}
	return offers, nil
}

// lists is where pacman keeps the lists of its repositories.
const lists = "/var/lib/pacman/sync"

// ListAge looks at what pacman fetched.
func (Manager) ListAge(env *kind.Env) time.Duration {
	return backend.ListAge(env, backend.Under(env, lists), []string{"/etc/pacman.conf"})
}

// Refresh fetches the lists.
func (Manager) Refresh(ctx context.Context, env *kind.Env) error {
	if err := run(ctx, env, "-Sy"); err != nil {
		return err
	}
	return env.Store.Touch(backend.Stamp)
}

// Foresee has pacman print what it would do. What others need it refuses to remove, so nothing
// goes along with what is named.
func (m Manager) Foresee(ctx context.Context, env *kind.Env, install []backend.Want, remove []string,
	_ bool) ([]backend.Effect, error) {
	args := []string{"-S", "--print", "--print-format", "%n %v", "--"}
	if len(remove) > 0 {
		args = append([]string{"-R", "--print", "--print-format", "%n %v", "--"}, remove...)
	}
	for _, w := range install {
		args = append(args, w.Name)
	}
	c := machine.Command{Args: append([]string{"pacman", "--noconfirm"}, args...), Limit: backend.Limit}
	res, err := machine.Do(ctx, env.Machine, c, errorLine)
	if err != nil {
		return nil, err
	}
	current, err := m.Installed(ctx, env, nil)
	if err != nil {
		return nil, err
	}
	var out []backend.Effect
	for line := range strings.Lines(res.Stdout) {
		name, v, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok || strings.HasPrefix(line, " ") || strings.HasPrefix(line, ":") {
			continue
		}
		e := backend.Effect{Name: name, Was: current[name].Version, Becomes: v}
		if len(remove) > 0 {
			e.Becomes = ""
		}
		out = append(out, e)
	}
	return out, nil
}

// Install takes the one version that there is. Versions that are not the
// newest were refused before.
func (Manager) Install(ctx context.Context, env *kind.Env, list []backend.Want) error {
	args := []string{"-S", "--"}
	for _, w := range list {
		args = append(args, w.Name)
	}
	return run(ctx, env, args...)
}

// Suffix ends the names of pacman's packages.
func (Manager) Suffix() string { return ".pkg.tar.zst" }

// Inside has pacman look into the file.
func (Manager) Inside(ctx context.Context, env *kind.Env, p string) (name, version string, err error) {
	res, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{"pacman", "-Qp", "--", p}}, errorLine)
	name, version, _ = strings.Cut(strings.TrimSpace(res.Stdout), " ")
	return name, version, err
}

// InstallFile brings along what the package needs.
func (Manager) InstallFile(ctx context.Context, env *kind.Env, p string) error {
	return run(ctx, env, "-U", "--", p)
}

// Remove keeps changed configuration files beside their place, unless purge.
func (Manager) Remove(ctx context.Context, env *kind.Env, names []string, purge bool) error {
	verb := "-R"
	if purge {
		verb = "-Rn"
	}
	return run(ctx, env, append([]string{verb, "--"}, names...)...)
}

// Hold is left to the file in which pacman keeps such.
func (Manager) Hold(_ context.Context, _ *kind.Env, name string, _ bool) error {
	return problem.Errorf("pacman holds packages through /etc/pacman.conf").
		Remedy("declare [lines.\"/etc/pacman.conf\"] with IgnorePkg = %s there", name)
}

// locked is what pacman says when another holds its lock; it does not know who.
var locked = lazy.Regexp(`unable to lock database`)

func run(ctx context.Context, env *kind.Env, args ...string) error {
	c := machine.Command{Args: append([]string{"pacman", "--noconfirm", "--noprogressbar"}, args...),
		Limit: backend.Limit}
	_, err := backend.Patiently(ctx, env, c, locked(), errorLine)
	return err
}

// errorLine picks what pacman says is wrong.
var errorLine = machine.ErrorLine("error: ")
