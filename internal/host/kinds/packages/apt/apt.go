// Package apt is the package manager of Debian and its kin: dpkg's database,
// and apt-get and apt-cache.
package apt

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"math"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/machine"
)

// Manager is apt.
type Manager struct{}

// Program is what a host that has apt can run.
func (Manager) Program() string { return "apt-get" }

// nameForm is Debian's form of package names (Debian Policy, 5.6.1), with an
// architecture allowed behind a colon.
var nameForm = lazy.Regexp(`^[a-z0-9][a-z0-9+.-]+(:[a-z0-9-]+)?$`)

// CheckName holds a name to Debian's policy.
func (Manager) CheckName(name string) error {
	if nameForm().MatchString(name) {
		return nil
	}
	return problem.Errorf("invalid Debian package name %q", name).
		Remedy("use at least two lower-case letters, digits, +, - and dots")
}

const statusFile = "/var/lib/dpkg/status"

// Installed reads /var/lib/dpkg/status (deb822, as dpkg-query(1) describes
// Status).
func (Manager) Installed(_ context.Context, env *kind.Env, names []string) (map[string]backend.State, error) {
	data, err := machine.ReadFile(env.Machine, statusFile)
	if err != nil {
		return nil, err
	}
	wanted := make(map[string]bool, len(names))
	for _, n := range names {
		bare, _, _ := strings.Cut(n, ":")
		wanted[bare] = true
	}
	return parse(data, wanted), nil
}

func parse(data []byte, wanted map[string]bool) map[string]backend.State {
	db := map[string]backend.State{}
	for stanza := range stanzas(data) {
		line, _, _ := bytes.Cut(stanza, []byte("\n"))
		name, ok := bytes.CutPrefix(line, []byte("Package: "))
		if !ok || len(wanted) > 0 && !wanted[string(name)] {
			continue
		}
		st := backend.State{}
		words := strings.Fields(field(stanza, "Status"))
		st.Held = len(words) == 3 && words[0] == "hold"
		switch {
		case len(words) == 3 && words[2] == "config-files":
			st.Remains = true
		case len(words) != 3 || words[2] == "not-installed":
		case words[2] == "installed":
			st.Version = field(stanza, "Version")
		default:
			st.Half = words[2]
		}
		if len(wanted) > 0 {
			db[string(name)+":"+field(stanza, "Architecture")] = st
		}
		if old, there := db[string(name)]; !there || old.Version == "" {
			db[string(name)] = st
		}
	}
	return db
}

// stanzas parts a file of deb822 at its empty lines.
func stanzas(data []byte) func(yield func([]byte) bool) {
	return func(yield func([]byte) bool) {
		for len(data) > 0 {
			stanza := data
			if end := bytes.Index(data, []byte("\n\n")); end >= 0 {
				stanza, data = data[:end+1], data[end+2:]
			} else {
				data = nil
			}
			if !yield(stanza) {
				return
			}
		}
	}
}

// field gives a field of a stanza but for the first one of it.
func field(stanza []byte, name string) string {
	_, rest, ok := bytes.Cut(stanza, []byte("\n"+name+": "))
	if !ok {
		return ""
	}
	line, _, _ := bytes.Cut(rest, []byte("\n"))
	return string(line)
}

// Asked leaves out what came along (apt's extended_states notes it) and what
// every Debian has.
func (Manager) Asked(_ context.Context, env *kind.Env) ([]string, error) {
	data, err := machine.ReadFile(env.Machine, statusFile)
	if err != nil {
		return nil, err
	}
	along := map[string]bool{}
	states, err := machine.ReadFile(env.Machine, "/var/lib/apt/extended_states")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for stanza := range stanzas(states) {
		stanza = append([]byte("\n"), stanza...)
		along[field(stanza, "Package")] = field(stanza, "Auto-Installed") == "1"
	}
	var out []string
	for stanza := range stanzas(data) {
		stanza = append([]byte("\n"), stanza...)
		name := field(stanza, "Package")
		usual := field(stanza, "Essential") == "yes" || slices.Contains([]string{"required", "important"},
			field(stanza, "Priority"))
		if name != "" && !along[name] && !usual && strings.HasSuffix(field(stanza, "Status"), " installed") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// Offers asks apt-cache, in one call.
func (Manager) Offers(ctx context.Context, env *kind.Env, names []string) (map[string]backend.Offer, error) {
	c := machine.Command{Args: append([]string{"apt-cache", "policy", "--"}, names...)}
	res, err := machine.Do(ctx, env.Machine, c, errorLine)
	if err != nil {
		return nil, err
	}
	return offers(res.Stdout), nil
}

// offers reads what `apt-cache policy` prints: a heading for each package, and
// below it the candidate and the table of versions, five columns in.
func offers(text string) map[string]backend.Offer {
	out := map[string]backend.Offer{}
	name := ""
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if n, ok := strings.CutSuffix(line, ":"); ok && !strings.HasPrefix(line, " ") {
			name = n
			continue
		}
		o := out[name]
		if v, ok := strings.CutPrefix(line, "  Candidate: "); ok && v != "(none)" {
			o.Newest = v
		}
		rest, current := strings.CutPrefix(line, " *** ")
		if !current {
			rest = strings.TrimPrefix(line, "     ")
		}
		if version, _, _ := strings.Cut(rest, " "); rest != line && version != "" {
			o.Versions = append(o.Versions, version)
		}
		out[name] = o
	}
	return out
}

// lists is where apt keeps its lists of packages.
const lists = "/var/lib/apt/lists"

// ListAge looks at what a refresh touches. Lists that were never fetched, or
// that are older than the sources they come from, are older than anything.
func (Manager) ListAge(env *kind.Env) time.Duration {
	last := backend.LastRefresh(env, lists, "/var/lib/apt/periodic/update-success-stamp")
	sources := backend.LastChange(env, "/etc/apt/sources.list", "/etc/apt/sources.list.d")
	names, err := env.Machine.ReadDir(lists)
	fetched := slices.ContainsFunc(names, func(n string) bool { return strings.Contains(n, "_Packages") })
	if err != nil || !fetched || sources.After(last) {
		return math.MaxInt64
	}
	return env.Machine.Now().Sub(last)
}

// Refresh runs apt-get update.
func (Manager) Refresh(ctx context.Context, env *kind.Env) error {
	if _, err := machine.Do(ctx, env.Machine, command("update"), errorLine); err != nil {
		return err
	}
	return env.Store.Touch(backend.Stamp)
}

// Foresee runs apt-get with -s, which needs no lock then.
func (Manager) Foresee(ctx context.Context, env *kind.Env, install []backend.Want, remove []string,
	purge bool) ([]backend.Effect, error) {
	args := installing(install)
	if len(remove) > 0 {
		args = removing(remove, purge)
	}
	c := command(append([]string{"-o", "Debug::NoLocking=true"}, args...)...)
	if len(remove) > 0 {
		c.Args = slices.Insert(c.Args, 1, "--allow-remove-essential") // or it lists nothing
	}
	c.Args = slices.Insert(c.Args, 1, "-s")
	res, err := machine.Do(ctx, env.Machine, c, errorLine)
	list := foreseen(res.Stdout)
	if len(remove) == 0 && !slices.ContainsFunc(list, func(e backend.Effect) bool { return e.Becomes == "" }) {
		return list, err
	}
	data, readErr := machine.ReadFile(env.Machine, statusFile)
	if readErr != nil {
		return nil, readErr
	}
	needed := essential(data)
	for i := range list {
		list[i].Essential = needed[list[i].Name]
	}
	for _, name := range remove { // of some that others need apt finds no way to remove them
		if name, _, _ := strings.Cut(name, ":"); err != nil && needed[name] {
			list = append(list, backend.Effect{Name: name, Essential: true})
		}
	}
	return list, err
}

// foreseen reads what `apt-get -s` prints: "Inst NAME [OLD] (NEW ORIGIN [ARCH])", and "Remv" or
// "Purg NAME [OLD]".
func foreseen(text string) []backend.Effect {
	var out []backend.Effect
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 3 || f[0] != "Inst" && f[0] != "Remv" && f[0] != "Purg" {
			continue
		}
		e := backend.Effect{Name: f[1]}
		if old, ok := strings.CutPrefix(f[2], "["); ok {
			e.Was = strings.TrimSuffix(old, "]")
			f = f[1:]
		}
		if f[0] != "Remv" && f[0] != "Purg" && len(f) > 2 && strings.HasPrefix(f[2], "(") {
			e.Becomes = strings.TrimPrefix(f[2], "(")
		}
		out = append(out, e)
	}
	return out
}

// essential gives the packages that a Debian must have (Debian Policy, 3.8; dpkg's Protected), and
// that which would have to bring all others back.
func essential(status []byte) map[string]bool {
	out := map[string]bool{"apt": true, "dpkg": true}
	for stanza := range stanzas(status) {
		stanza = append([]byte("\n"), stanza...)
		if field(stanza, "Essential") == "yes" || field(stanza, "Protected") == "yes" {
			out[field(stanza, "Package")] = true
		}
	}
	return out
}

// installing and removing are what apt-get is asked.
func installing(list []backend.Want) []string {
	args := []string{"install", "--allow-downgrades", "--allow-change-held-packages", "--"}
	for _, w := range list {
		if w.Version != "" {
			w.Name += "=" + w.Version
		}
		args = append(args, w.Name)
	}
	return args
}

func removing(names []string, purge bool) []string {
	verb := "remove"
	if purge {
		verb = "purge"
	}
	return append([]string{verb, "--allow-change-held-packages", "--"}, names...)
}

// Fetch puts packages, installed ones among them, into apt's cache.
func (Manager) Fetch(ctx context.Context, env *kind.Env, list []backend.Want) error {
	args := installing(list)
	args = append([]string{args[0], "--reinstall", "--download-only"}, args[1:]...)
	out, err := machine.Do(ctx, env.Machine, command(args...), errorLine)
	if err != nil {
		return err
	}
	for line := range strings.Lines(out.Stdout) { // which apt calls no error
		if strings.HasPrefix(line, "Reinstallation of ") {
			return errors.New(strings.TrimSpace(line))
		}
	}
	return nil
}

// Install takes downgrades too: what is declared is meant. Configuration files
// that were changed by hand are kept.
func (Manager) Install(ctx context.Context, env *kind.Env, list []backend.Want) error {
	return keepHeld(ctx, env, func() error {
		_, err := machine.Do(ctx, env.Machine, command(installing(list)...), errorLine)
		return err
	})
}

// keepHeld holds packages again that were held: apt lets go of what it gives another version.
func keepHeld(ctx context.Context, env *kind.Env, do func() error) error {
	before, err := machine.ReadFile(env.Machine, statusFile)
	if err != nil {
		return err
	}
	err = do()
	after, readErr := machine.ReadFile(env.Machine, statusFile)
	if readErr != nil {
		return errors.Join(err, readErr)
	}
	now := parse(after, nil)
	for name, was := range parse(before, nil) {
		if was.Held && !now[name].Held && now[name].Version != "" {
			err = errors.Join(err, Manager{}.Hold(ctx, env, name, true))
		}
	}
	return err
}

// Suffix ends the names of Debian's packages.
func (Manager) Suffix() string { return ".deb" }

// InstallFile brings along what the package needs.
func (Manager) InstallFile(ctx context.Context, env *kind.Env, p string) error {
	c := command("install", "--allow-downgrades", "--allow-change-held-packages", "-o",
		"APT::Sandbox::User=root", "--", p)
	return keepHeld(ctx, env, func() error {
		_, err := machine.Do(ctx, env.Machine, c, errorLine)
		return err
	})
}

// Inside reads the file's control information.
func (Manager) Inside(ctx context.Context, env *kind.Env, p string) (name, version string, err error) {
	c := machine.Command{Args: []string{"dpkg-deb", "--field", p, "Package", "Version"}}
	res, err := machine.Do(ctx, env.Machine, c, nil)
	text := []byte("\n" + res.Stdout)
	return field(text, "Package"), field(text, "Version"), err
}

// Remove leaves configuration files, unless they are to be purged.
func (Manager) Remove(ctx context.Context, env *kind.Env, names []string, purge bool) error {
	_, err := machine.Do(ctx, env.Machine, command(removing(names, purge)...), errorLine)
	return err
}

// Hold marks a package, or takes the mark away.
func (Manager) Hold(ctx context.Context, env *kind.Env, name string, hold bool) error {
	verb := "unhold"
	if hold {
		verb = "hold"
	}
	_, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{"apt-mark", verb, "--", name}}, errorLine)
	return err
}

// updates is where dpkg keeps what it has done and not yet written into its status
// file; it is there still when dpkg was cut off (dpkg's own tests and apt look there).
const updates = "/var/lib/dpkg/updates"

// Interrupted looks for what dpkg left there, as apt does before it refuses to work.
func (Manager) Interrupted(env *kind.Env) bool {
	names, err := env.Machine.ReadDir(updates)
	return err == nil && slices.ContainsFunc(names, func(n string) bool {
		return strings.Trim(n, "0123456789") == ""
	})
}

// locked is what dpkg says when another holds its lock.
var locked = lazy.Regexp(`lock.* is locked by another process(?: with pid (\d+))?`)

// Repair does what dpkg asks for. Configuration files that were changed by hand are
// kept, as in Install.
func (Manager) Repair(ctx context.Context, env *kind.Env) error {
	c := command()
	c.Args = []string{"dpkg", "--force-confdef", "--force-confold", "--configure", "--pending"}
	_, err := backend.Patiently(ctx, env, c, locked(), errorLine)
	return err
}

// lockWait is how long apt waits for another package manager, in seconds, and
// limit how long one run of it may take: to stop it midway does harm.
const (
	lockWait = "120"
	limit    = 2 * time.Hour
)

func command(args ...string) machine.Command {
	base := []string{"apt-get", "-y", "-q", "-o", "Dpkg::Options::=--force-confdef", "-o",
		"Dpkg::Options::=--force-confold",
		"-o", "Dpkg::Use-Pty=0", "-o", "DPkg::Lock::Timeout=" + lockWait}
	return machine.Command{Args: append(base, args...), Limit: limit,
		Env: []string{"DEBIAN_FRONTEND=noninteractive", "APT_LISTCHANGES_FRONTEND=none", "NEEDRESTART_SUSPEND=1"}}
}

// errorLine picks the line that says most: what dpkg says of the package that it could not put in order, which is
// below its name, or else the first error.
func errorLine(output string) string {
	if _, below, found := strings.Cut("\n"+output, "\ndpkg: error processing"); found {
		if _, why, found := strings.Cut(below, "\n"); found {
			line, _, _ := strings.Cut(strings.TrimSpace(why), "\n")
			return line
		}
	}
	return machine.ErrorLine("E: ")(output)
}
