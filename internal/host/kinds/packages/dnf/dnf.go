// Package dnf is the package manager of Fedora and its kin, by dnf(8), and
// rpm's database.
package dnf

import (
	"context"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/kinds/packages/rpm"
	"jadekettle/internal/host/machine"
)

// Manager is dnf.
type Manager struct{}

// Program is what a host that has dnf can run.
func (Manager) Program() string { return "dnf" }

// CheckName holds a name to rpm's form.
func (Manager) CheckName(name string) error { return rpm.CheckName(name) }

// locks are the files in which the plug-in versionlock keeps what is held, of
// dnf 4 and of dnf 5.
var locks = []string{"/etc/dnf/plugins/versionlock.list", "/etc/dnf/versionlock.toml"}

// Installed asks rpm, and looks at what is held.
func (Manager) Installed(ctx context.Context, env *kind.Env, names []string) (map[string]backend.State, error) {
	db, err := rpm.Installed(ctx, env, names)
	if err != nil {
		return nil, err
	}
	for _, p := range locks {
		text, err := env.ReadOptional(p)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			if st, there := db[name]; there && held(text.Text, name) {
				st.Held = true
				db[name] = st
			}
		}
	}
	return db, nil
}

// held looks for a name in the lines NAME-EPOCH:VERSION-RELEASE.* of dnf 4, or
// name = "NAME" of dnf 5.
func held(text, name string) bool {
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if rest, ok := strings.CutPrefix(line, name+"-"); ok && rest != "" && rest[0] >= '0' && rest[0] <= '9' {
			return true
		}
		if k, v, ok := strings.Cut(line, "="); ok && strings.TrimSpace(k) == "name" &&
			strings.Trim(strings.TrimSpace(v), `"'`) == name {
			return true
		}
	}
	return false
}

// Asked lists what dnf notes as asked for by its user.
func (Manager) Asked(ctx context.Context, env *kind.Env) ([]string, error) {
	out, err := run(ctx, env, "-q", "-C", "repoquery", "--userinstalled", "--qf", "%{name}\n")
	if err != nil {
		return nil, err
	}
	list := strings.Fields(out.Stdout)
	slices.Sort(list)
	return slices.Compact(list), nil
}

// Offers asks for all in one call, of the lists as they lie on the host.
func (Manager) Offers(ctx context.Context, env *kind.Env, names []string) (map[string]backend.Offer, error) {
	offers := map[string]backend.Offer{}
	if !fetched(env) {
		return offers, nil
	}
	args := append([]string{"-q", "-C", "repoquery", "--available", "--showduplicates", "--qf",
		"%{name}\t%{arch}\t%{epoch}:%{version}-%{release}\n", "--"}, names...)
	out, err := run(ctx, env, args...)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(out.Stdout) {
		f := strings.Split(strings.TrimSpace(line), "\t")
		if len(f) != 3 {
			continue
		}
		for _, name := range []string{f[0], f[0] + "." + f[1]} {
			o := offers[name]
			o.Versions = rpm.Newest(append(o.Versions, rpm.Version(f[2])))
			o.Newest = o.Versions[0]
			offers[name] = o
		}
	}
	return offers, nil
}

// caches are where dnf 4 and dnf 5 keep lists.
var caches = []string{"/var/cache/dnf", "/var/cache/libdnf5"}

func fetched(env *kind.Env) bool {
	return slices.ContainsFunc(lists(env), func(p string) bool {
		return strings.HasSuffix(p, ".solv") ||
			strings.HasPrefix(p, caches[1])
	})
}

func lists(env *kind.Env) []string {
	return append(backend.Under(env, caches[0]), backend.Under(env, caches[1])...)
}

// ListAge looks at what dnf made of the lists.
func (Manager) ListAge(env *kind.Env) time.Duration {
	return backend.ListAge(env, lists(env), append(backend.Under(env, "/etc/yum.repos.d"), "/etc/yum.repos.d"))
}

// Refresh fetches the lists again.
func (Manager) Refresh(ctx context.Context, env *kind.Env) error {
	if _, err := run(ctx, env, "-q", "--refresh", "makecache"); err != nil {
		return err
	}
	return env.Store.Touch(backend.Stamp)
}

// Foresee has dnf show the table of a transaction, and refuse it.
func (m Manager) Foresee(ctx context.Context, env *kind.Env, install []backend.Want, remove []string,
	_ bool) ([]backend.Effect, error) {
	args := []string{"--assumeno", "--setopt=clean_requirements_on_remove=False"}
	if len(remove) > 0 {
		args = append(append(args, "remove", "--"), remove...)
	} else {
		args = append(args, "-C", "install", "--")
		for _, w := range install {
			args = append(args, spec(w))
		}
	}
	res, err := run(ctx, env, args...)
	list := foreseen(res.Stdout)
	if len(list) == 0 {
		return nil, err
	}
	var moved []string // it ends with 1 since it was refused
	for _, e := range list {
		if e.Was == another {
			moved = append(moved, e.Name)
		}
	}
	if len(moved) == 0 {
		return list, nil
	}
	current, err := m.Installed(ctx, env, moved)
	for i, e := range list {
		if e.Was == another && err == nil {
			list[i].Was = current[e.Name].Version
		}
	}
	return list, err
}

// another replaces the version that a package has, which is not in the table.
const another = "another version"

type heading struct {
	begins      string
	comes, goes bool
}

// headings are those of the parts of dnf's table, and what happens to what is below them.
var headings = []heading{
	{"Installing", true, false}, {"Upgrading", true, true}, {"Downgrading", true, true}, {"Reinstalling", true, true},
	{"Removing", false, true}, {"Obsoleting", false, true},
}

// foreseen reads dnf's table: below a heading that ends in a colon a line for each package, with
// name, architecture and version; a long name is alone on a line before the rest. What such a
// package replaces follows it.
func foreseen(text string) []backend.Effect {
	var out []backend.Effect
	part, name := -1, ""
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if !strings.HasPrefix(line, " ") {
			part = slices.IndexFunc(headings, func(h heading) bool {
				return strings.HasPrefix(line, h.begins) && strings.HasSuffix(line, ":")
			})
			continue
		}
		f := strings.Fields(line)
		switch {
		case part < 0 || len(f) == 0:
			continue
		case len(f) == 1:
			name = f[0]
			continue
		case name != "":
			f, name = append([]string{name}, f...), ""
		}
		if f[0] == "replacing" {
			out = replacing(out, f[1:])
			continue
		}
		if len(f) < 4 {
			continue
		}
		e := backend.Effect{Name: f[0], Arch: f[1]}
		switch h := headings[part]; {
		case h.comes && h.goes:
			e.Was, e.Becomes = another, f[2]
		case h.comes:
			e.Becomes = f[2]
		default:
			e.Was = f[2]
		}
		out = append(out, e)
	}
	return out
}

// replacing notes what the package before it takes the place of: an older one of its own name, or
// another that goes. It is NAME.ARCH VERSION in dnf 4, NAME ARCH VERSION and more in dnf 5.
func replacing(out []backend.Effect, f []string) []backend.Effect {
	if len(f) == 2 {
		if i := strings.LastIndexByte(f[0], '.'); i > 0 {
			f = []string{f[0][:i], f[0][i+1:], f[1]}
		}
	}
	switch last := len(out) - 1; {
	case len(f) < 3:
	case last >= 0 && out[last].Name == f[0]:
		out[last].Was = f[2]
	default:
		out = append(out, backend.Effect{Name: f[0], Arch: f[1], Was: f[2]})
	}
	return out
}

// Install takes downgrades too: what is declared is meant.
func (m Manager) Install(ctx context.Context, env *kind.Env, list []backend.Want) error {
	args := []string{"-y", "-q", "install", "--"}
	var names []string
	for _, w := range list {
		names = append(names, w.Name)
		args = append(args, spec(w))
	}
	return backend.Freed(ctx, env, m, names, true, func() error {
		_, err := run(ctx, env, args...)
		return err
	})
}

// Suffix ends the names of rpm packages.
func (Manager) Suffix() string { return ".rpm" }

// Inside asks rpm.
func (Manager) Inside(ctx context.Context, env *kind.Env, p string) (name, version string, err error) {
	return rpm.Inside(ctx, env, p)
}

// InstallFile brings along what the package needs.
func (Manager) InstallFile(ctx context.Context, env *kind.Env, p string) error {
	_, err := run(ctx, env, "-y", "-q", "--nogpgcheck", "install", "--", p)
	return err
}

// spec writes a package as NAME-VERSION, an architecture last.
func spec(w backend.Want) string {
	if w.Version == "" {
		return w.Name
	}
	name, arch := w.Name, ""
	if i := strings.LastIndexByte(name, '.'); i > 0 && slices.Contains(arches, name[i+1:]) {
		name, arch = name[:i], name[i:]
	}
	return name + "-" + w.Version + arch
}

// arches are the architectures that a name may end in.
var arches = []string{"noarch", "x86_64", "i686", "aarch64", "armv7hl", "ppc64le", "s390x", "riscv64"}

// Remove takes what nothing else needs along only when it was named. rpm keeps
// changed configuration files beside their place, whether purge is said or not.
func (m Manager) Remove(ctx context.Context, env *kind.Env, names []string, _ bool) error {
	return backend.Freed(ctx, env, m, names, false, func() error {
		_, err := run(ctx, env, append([]string{"-y", "-q", "--setopt=clean_requirements_on_remove=False",
			"remove", "--"},
			names...)...)
		return err
	})
}

// Hold needs the plug-in versionlock.
func (Manager) Hold(ctx context.Context, env *kind.Env, name string, hold bool) error {
	verb := "delete"
	if hold {
		verb = "add"
	}
	out, err := run(ctx, env, "-q", "versionlock", verb, name)
	if err != nil && strings.Contains(out.Combined.String(), "No such command") {
		return problem.Errorf("dnf on this host cannot hold packages").
			Remedy("declare the package python3-dnf-plugin-versionlock before it")
	}
	return err
}

// locked is what dnf says when it may not wait for a lock.
var locked = lazy.Regexp(`(?:Failed to obtain .* lock|Waiting for process with pid (\d+))`)

func run(ctx context.Context, env *kind.Env, args ...string) (machine.Output, error) {
	c := machine.Command{Args: append([]string{"dnf", "--setopt=exit_on_lock=True"}, args...), Limit: backend.Limit}
	return backend.Patiently(ctx, env, c, locked(), errorLine)
}

// errorLine picks what dnf says is wrong.
var errorLine = machine.ErrorLine("Error:")

// CheckSource refuses what only apt has.
func (Manager) CheckSource(s backend.Source) error { return rpm.CheckSource(s) }

// Sources is where dnf reads sources from.
func (Manager) Sources() (folder, suffix string) { return sources, ".repo" }

// ParseSource reads a .repo file.
func (Manager) ParseSource(name, text string) (backend.Source, string, bool) {
	return rpm.ParseSource(name, text)
}

const sources = "/etc/yum.repos.d/"

// SourceFiles writes the .repo file and the key.
func (Manager) SourceFiles(s backend.Source) (source, key backend.File) {
	return rpm.SourceFiles(sources, s)
}

// TrySource fetches the lists of one source.
func (Manager) TrySource(ctx context.Context, env *kind.Env, name string) error {
	_, err := run(ctx, env, "-y", "-q", "--refresh", "--disablerepo=*", "--enablerepo="+name,
		"--setopt="+name+".skip_if_unavailable=False", "makecache")
	return err
}

// Brought gives the files that packages brought.
func (Manager) Brought(ctx context.Context, env *kind.Env) (map[string]string, error) {
	return rpm.Brought(ctx, env)
}
