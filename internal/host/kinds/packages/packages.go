// Package packages is the kind of software packages, with dpkg and apt behind it.
package packages

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// Newest is the version that means the newest that the host can find.
const Newest = "newest"

// nameForm is Debian's form of package names (Debian Policy, 5.6.1), with an
// architecture allowed behind a colon.
var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]+(:[a-z0-9-]+)?$`)

var about = &schema.Kind{
	Name:  "package",
	Area:  "software",
	About: "A software package.",
	Doc: "Neighbours in the order are installed in one run of the package manager; when that fails each is tried " +
		"alone, so that one that cannot be installed does not sink the rest. The package list is refreshed at most " +
		"once a run: when something is to be installed, or when newest is declared and the list is older than " +
		"[run] package_list_age. Configuration files that were changed by hand are kept.",
	Attrs: []schema.Attr{
		{Name: "version", Type: schema.Version, Default: "any", Doc: `An exact version as the package manager prints it, or "newest".`, Examples: []string{`"newest"`, `"1.4.2-1"`}},
	},
	Examples: []schema.Example{
		{About: "A package in its newest version", TOML: `[package.tide-logger]
version = "newest"
`},
		{About: "A package that must not be there", TOML: `[package.old-ticker]
absent = true
`},
	},
	Canon: func(name string) (string, error) {
		if !nameForm.MatchString(name) {
			return "", fmt.Errorf("%q is no package name; use lower-case letters, digits, +, - and dots, at least two", name)
		}
		return name, nil
	},
	Check: func(_ string, a value.Attrs) (string, error) {
		if a.Bool("absent") && a.Has("version") {
			return "version", errors.New("version is given for a package that is to be absent; take one of them out")
		}
		return "", nil
	},
}

// Kind is the kind of packages.
type Kind struct{}

// Schema describes it.
func (Kind) Schema() *schema.Kind { return about }

// Joint says that one command serves many.
func (Kind) Joint() bool { return true }

type state struct {
	version   string // installed; empty when it is not
	half      string // dpkg's word when it is neither installed nor absent
	candidate string // the newest that can be found, when newest is declared
}

// Read looks packages up in dpkg's database, and asks apt for candidates only
// where newest is declared.
func (Kind) Read(ctx context.Context, env *kind.Env, tasks []plan.Task) []kind.Reading {
	out := make([]kind.Reading, len(tasks))
	fail := func(err error) []kind.Reading {
		for i := range out {
			out[i].Err = err
		}
		return out
	}
	if !env.Machine.Look("apt-get") {
		return fail(errors.New("this host has no apt-get; packages are managed with dpkg and apt only"))
	}
	db, err := kind.Cached(env, "dpkg", func() (map[string]state, error) { return database(env) })
	if err != nil {
		return fail(fmt.Errorf("read dpkg's database: %w", err))
	}
	newest, err := candidates(ctx, env, db)
	for i, t := range tasks {
		st := db[t.Ref.Name]
		if t.Attrs.Text("version") == Newest {
			st.candidate = newest[t.Ref.Name]
			switch {
			case err != nil:
				out[i].Err = err
			case st.candidate == "" && (!env.Run.Preview || env.ListsRefreshed):
				out[i].Err = kind.NotYet("the package manager knows no package %s", t.Ref.Name)
			}
		}
		out[i].State = st
	}
	return out
}

// database reads the installed packages that the plan asks about out of
// /var/lib/dpkg/status (deb822, as dpkg-query(1) describes Status).
func database(env *kind.Env) (map[string]state, error) {
	data, err := machine.ReadFile(env.Machine, "/var/lib/dpkg/status")
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for _, t := range env.Tasks {
		if t.Ref.Kind == about.Name {
			name, _, _ := strings.Cut(t.Ref.Name, ":")
			wanted[name] = true
		}
	}
	return parse(data, wanted), nil
}

func parse(data []byte, wanted map[string]bool) map[string]state {
	db := map[string]state{}
	for len(data) > 0 {
		stanza := data
		if end := bytes.Index(data, []byte("\n\n")); end >= 0 {
			stanza, data = data[:end+1], data[end+2:]
		} else {
			data = nil
		}
		line, _, _ := bytes.Cut(stanza, []byte("\n"))
		name, ok := bytes.CutPrefix(line, []byte("Package: "))
		if !ok || !wanted[string(name)] {
			continue
		}
		st := state{}
		words := strings.Fields(field(stanza, "Status"))
		switch {
		case len(words) != 3 || words[2] == "not-installed" || words[2] == "config-files":
		case words[2] == "installed":
			st.version = field(stanza, "Version")
		default:
			st.half = words[2]
		}
		arch := string(name) + ":" + field(stanza, "Architecture")
		db[arch] = st
		if old, there := db[string(name)]; !there || old.version == "" {
			db[string(name)] = st
		}
	}
	return db
}

func field(stanza []byte, name string) string {
	_, rest, ok := bytes.Cut(stanza, []byte("\n"+name+": "))
	if !ok {
		return ""
	}
	line, _, _ := bytes.Cut(rest, []byte("\n"))
	return string(line)
}

// candidates asks apt, in one call, for the newest versions of all packages in
// the plan that are declared newest. Before that the package list is refreshed
// when it is old, or when one of them is to be installed.
func candidates(ctx context.Context, env *kind.Env, db map[string]state) (map[string]string, error) {
	var names []string
	install := false
	for _, t := range env.Tasks {
		if t.Ref.Kind == about.Name && t.Attrs.Text("version") == Newest {
			names = append(names, t.Ref.Name)
			install = install || db[t.Ref.Name].version == ""
		}
	}
	if len(names) == 0 {
		return nil, nil
	}
	if !env.Run.Preview && !env.ListsRefreshed && (install || listAge(env) > env.Run.ListAge) {
		if err := refresh(ctx, env); err != nil {
			return nil, err
		}
	}
	return kind.Cached(env, "candidates", func() (map[string]string, error) {
		c := machine.Command{Args: append([]string{"apt-cache", "policy"}, names...)}
		res, err := env.Machine.Run(ctx, c)
		if err == nil {
			err = res.Fault(c)
		}
		if err != nil {
			return nil, err
		}
		out := map[string]string{}
		name := ""
		for line := range strings.Lines(res.Stdout) {
			line = strings.TrimRight(line, "\n")
			if n, ok := strings.CutSuffix(line, ":"); ok && !strings.HasPrefix(line, " ") {
				name = n
			}
			if v, ok := strings.CutPrefix(line, "  Candidate: "); ok && v != "(none)" {
				out[name] = v
			}
		}
		return out, nil
	})
}

// stamp is what we touch after a refresh, since apt leaves its own files as
// they are when nothing is new.
const stamp = "package-list-refreshed"

// listAge tells how long ago the package list was refreshed.
func listAge(env *kind.Env) time.Duration {
	var last time.Time
	for _, p := range []string{"/var/lib/apt/lists", env.Store.Path(stamp), "/var/lib/apt/periodic/update-success-stamp"} {
		d, name, err := kind.Split(env.Machine, p)
		if err != nil {
			continue
		}
		if info, err := d.Lstat(name); err == nil && info.Time.After(last) {
			last = info.Time
		}
		d.Close()
	}
	return env.Machine.Now().Sub(last)
}

func refresh(ctx context.Context, env *kind.Env) error {
	env.ListsRefreshed = true
	c := apt("update")
	res, err := env.Machine.Run(ctx, c)
	if err == nil {
		err = res.Fault(c)
	}
	if err != nil {
		return fmt.Errorf("refresh the package list: %w", err)
	}
	return env.Store.Touch(stamp)
}

// lockWait is how long apt waits for another package manager, in seconds.
const lockWait = "120"

func apt(args ...string) machine.Command {
	base := []string{"apt-get", "-y", "-q", "-o", "Dpkg::Options::=--force-confdef", "-o", "Dpkg::Options::=--force-confold",
		"-o", "Dpkg::Use-Pty=0", "-o", "DPkg::Lock::Timeout=" + lockWait}
	return machine.Command{Args: append(base, args...), Env: []string{"DEBIAN_FRONTEND=noninteractive", "APT_LISTCHANGES_FRONTEND=none", "NEEDRESTART_SUSPEND=1"}}
}

// Compare says what differs.
func (Kind) Compare(t plan.Task, s any) []plan.Change {
	st := s.(state)
	want := t.Attrs.Text("version")
	switch {
	case t.Absent && (st.version != "" || st.half != ""):
		return []plan.Change{{What: "version", Before: st.version + st.half, After: "absent"}}
	case t.Absent:
		return nil
	case st.half != "":
		return []plan.Change{{What: "version", Before: st.half, After: kind.Yes(want == "", "installed", want)}}
	}
	if want == Newest {
		want = st.candidate
		if want == "" {
			want = Newest
		}
	}
	switch {
	case st.version == "" && want == "":
		return []plan.Change{{What: "version", Before: "absent", After: "installed"}}
	case st.version == "":
		return []plan.Change{{What: "version", Before: "absent", After: want}}
	case want != "" && want != st.version:
		return []plan.Change{{What: "version", Before: st.version, After: want}}
	}
	return nil
}

// Write installs and removes, each in one run of apt-get for all.
func (Kind) Write(ctx context.Context, env *kind.Env, work []kind.Work) []error {
	out := make([]error, len(work))
	var install, remove []int
	for i, w := range work {
		if w.Task.Absent {
			remove = append(remove, i)
			continue
		}
		install = append(install, i)
	}
	if len(install) > 0 && !env.ListsRefreshed {
		err := renew(ctx, env, work)
		for _, i := range install {
			out[i] = err // what the list at hand offers may still be installed
		}
	}
	batch(ctx, env, work, remove, out, "remove")
	batch(ctx, env, work, install, out, "install", "--allow-downgrades")
	return out
}

// renew refreshes the package list, and what it says is the newest.
func renew(ctx context.Context, env *kind.Env, work []kind.Work) error {
	err := refresh(ctx, env)
	env.Drop("candidates")
	newest, err2 := candidates(ctx, env, nil)
	for i, w := range work {
		st := w.State.(state)
		if c := newest[w.Task.Ref.Name]; st.candidate != "" && c != "" {
			st.candidate = c
			work[i].State = st
		}
	}
	return both(err, err2)
}

// batch runs apt-get once for all, and when that fails once for each that is
// not right yet.
func batch(ctx context.Context, env *kind.Env, work []kind.Work, which []int, out []error, verb ...string) {
	if len(which) == 0 {
		return
	}
	run := func(which []int) error {
		args := append([]string{}, verb...)
		for _, i := range which {
			args = append(args, argument(work[i]))
		}
		c := apt(args...)
		res, err := env.Machine.Run(ctx, c)
		if err != nil {
			return err
		}
		return res.Fault(c)
	}
	err := run(which)
	if len(which) > 1 && err != nil {
		which = wrong(env, work, which, out)
		for _, i := range which {
			if err := run([]int{i}); err != nil {
				out[i] = both(out[i], err)
			}
		}
	} else if err != nil {
		out[which[0]] = both(out[which[0]], err)
	}
	wrong(env, work, which, out)
}

// both joins what failed first and what failed then in one line.
func both(first, then error) error {
	if first == nil || then == nil {
		return errors.Join(first, then)
	}
	return fmt.Errorf("%w; then %w", first, then)
}

// wrong gives those that do not stand as declared, and clears the errors of
// the others: while one package is half configured, every run of apt-get ends
// with an error, whatever it did for the rest.
func wrong(env *kind.Env, work []kind.Work, which []int, out []error) []int {
	db, err := database(env)
	if err != nil {
		return which
	}
	var left []int
	for _, i := range which {
		st := db[work[i].Task.Ref.Name]
		st.candidate = work[i].State.(state).candidate
		if len((Kind{}).Compare(work[i].Task, st)) == 0 {
			out[i] = nil
			continue
		}
		left = append(left, i)
	}
	return left
}

func argument(w kind.Work) string {
	st := w.State.(state)
	version := w.Task.Attrs.Text("version")
	if version == Newest {
		version = st.candidate
	}
	if version == "" || w.Task.Absent {
		return w.Task.Ref.Name
	}
	return w.Task.Ref.Name + "=" + version
}

// Names lists the packages that were asked for, not those that came along with
// others (apt's extended_states notes these).
func (Kind) Names(_ context.Context, env *kind.Env) ([]string, error) {
	data, err := machine.ReadFile(env.Machine, "/var/lib/dpkg/status")
	if err != nil {
		return nil, err
	}
	along := map[string]bool{}
	states, err := machine.ReadFile(env.Machine, "/var/lib/apt/extended_states")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for stanza := range bytes.SplitSeq(states, []byte("\n\n")) {
		stanza = append([]byte("\n"), stanza...)
		along[field(stanza, "Package")] = field(stanza, "Auto-Installed") == "1"
	}
	var out []string
	for stanza := range bytes.SplitSeq(data, []byte("\n\n")) {
		stanza = append([]byte("\n"), stanza...)
		name := field(stanza, "Package")
		essential := field(stanza, "Essential") == "yes" || slices.Contains([]string{"required", "important"}, field(stanza, "Priority"))
		if name != "" && !along[name] && !essential && strings.HasSuffix(field(stanza, "Status"), " installed") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// Capture declares a package as installed, in whatever version.
func (Kind) Capture(_ context.Context, _ *kind.Env, t plan.Task, s any) (plan.Captured, error) {
	st := s.(state)
	switch {
	case st.half != "":
		return plan.Captured{}, fmt.Errorf("it is %s, neither installed nor absent", st.half)
	case st.version == "":
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	return plan.Captured{Note: "the version is " + st.version}, nil
}
