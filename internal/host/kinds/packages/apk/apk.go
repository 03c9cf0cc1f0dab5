// Package apk is the package manager of Alpine, by apk(8) and its database.
package apk

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/machine"
)

// Manager is apk.
type Manager struct{}

// Program is what a host that has apk can run.
func (Manager) Program() string { return "apk" }

var nameForm = lazy.Regexp(`^[a-z0-9][a-z0-9._+-]*$`)

// CheckName holds a name to what apk allows.
func (Manager) CheckName(name string) error {
	if nameForm().MatchString(name) {
		return nil
	}
	return problem.Errorf("invalid apk package name %q", name).Remedy("use lower-case letters, digits and ._+-")
}

// What apk keeps: the packages that are installed, one field a line with a
// letter in front (apk-package(5)), and what was asked for.
const (
	database = "/lib/apk/db/installed"
	world    = "/etc/apk/world"
)

// Installed reads the database. A package is held by its version in the world.
func (Manager) Installed(_ context.Context, env *kind.Env, names []string) (map[string]backend.State, error) {
	text, err := optional(env, database)
	if err != nil {
		return nil, err
	}
	asked, err := wants(env)
	if err != nil {
		return nil, err
	}
	db := map[string]backend.State{}
	name := ""
	for line := range strings.Lines(text) {
		k, v, _ := strings.Cut(strings.TrimSuffix(line, "\n"), ":")
		switch {
		case k == "P":
			name = v
		case k == "V" && (len(names) == 0 || slices.Contains(names, name)):
			db[name] = backend.State{Version: v, Held: strings.HasPrefix(asked[name], "=")}
		}
	}
	return db, nil
}

// wants reads the world: names, each with what is asked of its version.
func wants(env *kind.Env) (map[string]string, error) {
	text, err := optional(env, world)
	out := map[string]string{}
	for _, word := range strings.Fields(text) {
		name, rest := word, ""
		if i := strings.IndexAny(word, "=<>~@"); i > 0 {
			name, rest = word[:i], word[i:]
		}
		out[name] = rest
	}
	return out, err
}

func optional(env *kind.Env, p string) (string, error) {
	data, err := machine.ReadFile(env.Machine, p)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return string(data), err
}

// Asked lists the world.
func (Manager) Asked(_ context.Context, env *kind.Env) ([]string, error) {
	asked, err := wants(env)
	var out []string
	for name := range asked {
		if !strings.HasPrefix(name, "!") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out, err
}

// Offers asks for all in one call.
func (Manager) Offers(ctx context.Context, env *kind.Env, names []string) (map[string]backend.Offer, error) {
	c := machine.Command{Args: append([]string{"apk", "--no-network", "policy", "--"}, names...)}
	out, err := machine.Do(ctx, env.Machine, c, errorLine)
	if err != nil {
		return nil, err
	}
	return offers(out.Stdout), nil
}

// offers reads what `apk policy` prints: a heading for each package, its
// versions two columns in, the newest first, and where each is four columns in.
func offers(text string) map[string]backend.Offer {
	out := map[string]backend.Offer{}
	name, version := "", ""
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "    "):
			at := strings.TrimSpace(line)
			o := out[name]
			if at == "lib/apk/db/installed" || slices.Contains(o.Versions, version) {
				continue
			}
			if o.Newest == "" {
				o.Newest = version
			}
			o.Versions = append(o.Versions, version)
			out[name] = o
		case strings.HasPrefix(line, "  "):
			version = strings.TrimSuffix(strings.TrimSpace(line), ":")
		default:
			name = strings.TrimSuffix(line, " policy:")
		}
	}
	return out
}

// ListAge looks at what apk fetched.
func (Manager) ListAge(env *kind.Env) time.Duration {
	lists := append(backend.Under(env, "/var/cache/apk"), backend.Under(env, "/etc/apk/cache")...)
	return backend.ListAge(env, lists, []string{"/etc/apk/repositories"})
}

// Refresh fetches the lists.
func (Manager) Refresh(ctx context.Context, env *kind.Env) error {
	if err := run(ctx, env, "update"); err != nil {
		return err
	}
	return env.Store.Touch(backend.Stamp)
}

// Foresee has apk simulate it.
func (Manager) Foresee(ctx context.Context, env *kind.Env, install []backend.Want, remove []string,
	_ bool) ([]backend.Effect, error) {
	args := []string{"apk", "add", "--simulate", "--"}
	if len(remove) > 0 {
		args = append([]string{"apk", "del", "--simulate", "--"}, remove...)
	}
	for _, w := range install {
		if w.Version != "" {
			w.Name += "=" + w.Version
		}
		args = append(args, w.Name)
	}
	res, err := machine.Do(ctx, env.Machine, machine.Command{Args: args, Limit: backend.Limit}, nil)
	return foreseen(res.Stdout), err
}

// step is a line of a transaction, such as "(1/2) Purging tide-logger (1.4.2-r0)", or
// "(2/2) Upgrading salt-lamp (1.0-r0 -> 2.0-r0)".
var step = lazy.Regexp(`(?m)^\(\d+/\d+\) ([A-Z][a-z]+) (\S+) \((\S+)(?: -> (\S+))?\)$`)

func foreseen(text string) []backend.Effect {
	var out []backend.Effect
	for _, f := range step().FindAllStringSubmatch(text, -1) {
		e := backend.Effect{Name: f[2], Was: f[3], Becomes: f[4]}
		if f[1] == "Installing" {
			e.Was, e.Becomes = "", f[3]
		}
		out = append(out, e)
	}
	return out
}

// Install notes a version in the world only where one is declared, which keeps
// the package in it.
func (Manager) Install(ctx context.Context, env *kind.Env, list []backend.Want) error {
	args := []string{"add", "--"}
	for _, w := range list {
		if w.Version != "" {
			w.Name += "=" + w.Version
		}
		args = append(args, w.Name)
	}
	return run(ctx, env, args...)
}

// Suffix ends the names of Alpine's packages.
func (Manager) Suffix() string { return ".apk" }

// Inside reads what the package says of itself (apk's own .PKGINFO).
func (Manager) Inside(ctx context.Context, env *kind.Env, p string) (name, version string, err error) {
	c := machine.Command{Args: []string{"tar", "-xzOf", p, ".PKGINFO"}}
	res, err := machine.Do(ctx, env.Machine, c, nil)
	for line := range strings.Lines(res.Stdout) {
		switch k, v, _ := strings.Cut(strings.TrimSpace(line), " = "); k {
		case "pkgname":
			name = v
		case "pkgver":
			version = v
		}
	}
	return name, version, err
}

// InstallFile brings along what the package needs.
func (Manager) InstallFile(ctx context.Context, env *kind.Env, p string) error {
	return run(ctx, env, "add", "--allow-untrusted", "--", p)
}

// Remove takes packages out of the world; with purge their changed files too.
func (Manager) Remove(ctx context.Context, env *kind.Env, names []string, purge bool) error {
	args := []string{"del"}
	if purge {
		args = append(args, "--purge")
	}
	return run(ctx, env, append(append(args, "--"), names...)...)
}

// Hold notes the version in the world, or takes it out.
func (m Manager) Hold(ctx context.Context, env *kind.Env, name string, hold bool) error {
	if !hold {
		return run(ctx, env, "add", "--", name)
	}
	db, err := m.Installed(ctx, env, []string{name})
	if err != nil {
		return err
	}
	return run(ctx, env, "add", "--", name+"="+db[name].Version)
}

// locked is what apk says when another holds its lock; it does not know who.
var locked = lazy.Regexp(`Unable to lock database`)

func run(ctx context.Context, env *kind.Env, args ...string) error {
	c := machine.Command{Args: append([]string{"apk", "--no-progress"}, args...), Limit: backend.Limit}
	_, err := backend.Patiently(ctx, env, c, locked(), errorLine)
	return err
}

// errorLine picks what apk says is wrong.
var errorLine = machine.ErrorLine("ERROR: ")

// Brought reads the files of each package from the database: F names a folder, R a
// file in it, and Z that file's SHA-1 in base64 after Q1.
func (Manager) Brought(_ context.Context, env *kind.Env) (map[string]string, error) {
	text, err := optional(env, database)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	folder, file := "", ""
	for line := range strings.Lines(text) {
		k, v, _ := strings.Cut(strings.TrimSuffix(line, "\n"), ":")
		switch k {
		case "F":
			folder = "/" + v
			out[folder] = ""
		case "R":
			file = path.Join(folder, v)
			out[file] = ""
		case "Z":
			packed, one := strings.CutPrefix(v, "Q1")
			if sum, err := base64.StdEncoding.DecodeString(packed); one && err == nil {
				out[file] = "sha1:" + hex.EncodeToString(sum)
			}
		}
	}
	return out, nil
}
