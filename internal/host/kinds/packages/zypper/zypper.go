// Package zypper is the package manager of SUSE and its kin, by zypper(8), and
// rpm's database.
package zypper

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/kinds/packages/rpm"
	"jadekettle/internal/host/machine"
)

// Manager is zypper.
type Manager struct{}

// Program is what a host that has zypper can run.
func (Manager) Program() string { return "zypper" }

// CheckName holds a name to rpm's form.
func (Manager) CheckName(name string) error { return rpm.CheckName(name) }

// Installed asks rpm, and looks at what is held in /etc/zypp/locks.
func (Manager) Installed(ctx context.Context, env *kind.Env, names []string) (map[string]backend.State, error) {
	db, err := rpm.Installed(ctx, env, names)
	if err != nil {
		return nil, err
	}
	locks, err := env.ReadOptional("/etc/zypp/locks")
	for line := range strings.Lines(locks.Text) {
		k, name, _ := strings.Cut(line, ":")
		name = strings.TrimSpace(name)
		if st, there := db[name]; k == "solvable_name" && there {
			st.Held = true
			db[name] = st
		}
	}
	return db, err
}

// Asked leaves out what zypper notes as having come along.
func (Manager) Asked(ctx context.Context, env *kind.Env) ([]string, error) {
	all, err := rpm.All(ctx, env)
	if err != nil {
		return nil, err
	}
	along, err := machine.ReadFile(env.Machine, "/var/lib/zypp/AutoInstalled")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	names := strings.Split(string(along), "\n")
	return slices.DeleteFunc(all, func(n string) bool { return slices.Contains(names, n) }), nil
}

// nothingFound is the exit code of a search without a result (zypper(8), EXIT
// CODES).
const nothingFound = 104

// Offers asks for all in one call, of the lists as they lie on the host.
func (Manager) Offers(ctx context.Context, env *kind.Env, names []string) (map[string]backend.Offer, error) {
	out, err := run(ctx, env, append([]string{"--xmlout", "--no-refresh", "search", "--details", "--match-exact",
		"--type", "package", "--"}, names...)...)
	if out.Code == nothingFound {
		return map[string]backend.Offer{}, nil
	}
	if err != nil {
		return nil, err
	}
	return offers(out.Stdout)
}

// installedOnly is how zypper calls the repository of what only the host has.
const installedOnly = "(System Packages)"

// offers reads the answer to a search in XML.
func offers(text string) (map[string]backend.Offer, error) {
	var answer struct {
		List []struct {
			Name       string `xml:"name,attr"`
			Edition    string `xml:"edition,attr"`
			Arch       string `xml:"arch,attr"`
			Repository string `xml:"repository,attr"`
		} `xml:"search-result>solvable-list>solvable"`
	}
	if err := xml.Unmarshal([]byte(text), &answer); err != nil {
		return nil, fmt.Errorf("read the output of zypper: %w", err)
	}
	out := map[string]backend.Offer{}
	for _, s := range answer.List {
		if s.Repository == installedOnly || s.Edition == "" {
			continue
		}
		for _, name := range []string{s.Name, s.Name + "." + s.Arch} {
			o := out[name]
			o.Versions = rpm.Newest(append(o.Versions, rpm.Version(s.Edition)))
			o.Newest = o.Versions[0]
			out[name] = o
		}
	}
	return out, nil
}

// sources is where the files are that define repositories.
const sources = "/etc/zypp/repos.d/"

// ListAge looks at what zypper fetched.
func (Manager) ListAge(env *kind.Env) time.Duration {
	return backend.ListAge(env, backend.Under(env, "/var/cache/zypp/raw"),
		append(backend.Under(env, sources), "/etc/zypp/repos.d"))
}

// Refresh fetches the lists again.
func (Manager) Refresh(ctx context.Context, env *kind.Env) error {
	if _, err := run(ctx, env, "refresh"); err != nil {
		return err
	}
	return env.Store.Touch(backend.Stamp)
}

// Foresee has zypper describe a transaction without doing it.
func (Manager) Foresee(ctx context.Context, env *kind.Env, install []backend.Want, remove []string,
	_ bool) ([]backend.Effect, error) {
	args := []string{"--xmlout", "--no-refresh", "install", "--dry-run", "--oldpackage", "--"}
	if len(remove) > 0 {
		args = append([]string{"--xmlout", "--no-refresh", "remove", "--dry-run", "--"}, remove...)
	}
	for _, w := range install {
		if w.Version != "" {
			w.Name += "=" + w.Version
		}
		args = append(args, w.Name)
	}
	res, err := run(ctx, env, args...)
	return foreseen(res.Stdout), err
}

// What zypper's XML says of a transaction: parts such as <to-remove>, with a <solvable> for each
// package.
var (
	part     = lazy.Regexp(`(?s)<to-([a-z]+)[^>]*>(.*?)</to-[a-z]+>`)
	solvable = lazy.Regexp(`<solvable [^>]*>`)
	detail   = lazy.Regexp(`([a-z-]+)="([^"]*)"`)
)

func foreseen(text string) []backend.Effect {
	var out []backend.Effect
	for _, p := range part().FindAllStringSubmatch(text, -1) {
		for _, tag := range solvable().FindAllString(p[2], -1) {
			a := map[string]string{}
			for _, d := range detail().FindAllStringSubmatch(tag, -1) {
				a[d[1]] = d[2]
			}
			switch {
			case a["type"] != "package":
			case p[1] == "remove":
				out = append(out, backend.Effect{Name: a["name"], Arch: a["arch"], Was: a["edition"]})
			default:
				out = append(out, backend.Effect{Name: a["name"], Arch: a["arch"],
					Was: a["edition-old"], Becomes: a["edition"]})
			}
		}
	}
	return out
}

// Install takes downgrades too: what is declared is meant.
func (m Manager) Install(ctx context.Context, env *kind.Env, list []backend.Want) error {
	args := []string{"--no-refresh", "install", "--oldpackage", "--"}
	var names []string
	for _, w := range list {
		names = append(names, w.Name)
		if w.Version != "" {
			w.Name += "=" + w.Version
		}
		args = append(args, w.Name)
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
	_, err := run(ctx, env, "--no-refresh", "install", "--oldpackage", "--allow-unsigned-rpm", "--", p)
	return err
}

// Remove has no notion of purge: rpm keeps changed configuration files beside
// their place.
func (m Manager) Remove(ctx context.Context, env *kind.Env, names []string, _ bool) error {
	return backend.Freed(ctx, env, m, names, false, func() error {
		_, err := run(ctx, env, append([]string{"--no-refresh", "remove", "--"}, names...)...)
		return err
	})
}

// Hold locks a package, or takes the lock away.
func (Manager) Hold(ctx context.Context, env *kind.Env, name string, hold bool) error {
	verb := "removelock"
	if hold {
		verb = "addlock"
	}
	_, err := run(ctx, env, verb, "--", name)
	return err
}

// locked is what zypper says when another holds its lock.
var locked = lazy.Regexp(`System management is locked by the application with pid (\d+)`)

// scriptFailed is the first exit code of zypper that is an error again: those
// from 100 on are news, such as that a reboot is needed (zypper(8), EXIT CODES).
const scriptFailed = 107

func run(ctx context.Context, env *kind.Env, args ...string) (machine.Output, error) {
	c := machine.Command{Args: append([]string{"zypper", "--non-interactive"}, args...), Limit: backend.Limit}
	out, err := backend.Patiently(ctx, env, c, locked(), errorLine)
	if out.Code >= 100 && out.Code < scriptFailed && out.Code != nothingFound {
		return out, nil
	}
	return out, err
}

// errorLine picks what zypper says is wrong.
var errorLine = machine.FirstLine("Problem: ", "No provider of ", "Error: ")

// CheckSource refuses what only apt has.
func (Manager) CheckSource(s backend.Source) error { return rpm.CheckSource(s) }

// Sources is where zypper reads sources from.
func (Manager) Sources() (folder, suffix string) { return sources, ".repo" }

// ParseSource reads a .repo file.
func (Manager) ParseSource(name, text string) (backend.Source, string, bool) {
	return rpm.ParseSource(name, text, "autorefresh=1", "type=rpm-md")
}

// SourceFiles writes the .repo file and the key.
func (Manager) SourceFiles(s backend.Source) (source, key backend.File) {
	return rpm.SourceFiles(sources, s, "autorefresh=1")
}

// TrySource fetches the lists of one source, and takes the key that it declares.
func (Manager) TrySource(ctx context.Context, env *kind.Env, name string) error {
	_, err := run(ctx, env, "--gpg-auto-import-keys", "refresh", "--force", "--", name)
	return err
}

// Brought gives the files that packages brought.
func (Manager) Brought(ctx context.Context, env *kind.Env) (map[string]string, error) {
	return rpm.Brought(ctx, env)
}
