// Package packages is the kind of software packages. The package manager behind
// it is a [backend.Manager].
package packages

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/fetch"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/apk"
	"jadekettle/internal/host/kinds/packages/apt"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/kinds/packages/dnf"
	"jadekettle/internal/host/kinds/packages/pacman"
	"jadekettle/internal/host/kinds/packages/zypper"
)

// managers are those that a host may have; the first that it has counts.
var managers = []backend.Manager{apt.Manager{}, zypper.Manager{}, dnf.Manager{}, pacman.Manager{}, apk.Manager{}}

// Newest is the version that means the newest that the host can find.
const Newest = "newest"

// nameForm is what every package manager's names keep to. None begins or ends
// with a dash, which some managers take for an order to remove.
var nameForm = lazy.Regexp(`^[A-Za-z0-9][A-Za-z0-9+._:@~-]*[A-Za-z0-9+._~]$`)

var about = &schema.Kind{
	Name:  "package",
	Area:  "software",
	About: "A software package.",
	Doc: "Uses apt, zypper, dnf, pacman or apk, whichever the host has. Packages that are adjacent in the order " +
		"are installed in one run of the package manager; if that fails, each is tried separately, so one failure " +
		"does not affect the others. The package list is refreshed at most once per run: if something must be " +
		"installed, or if newest is declared and the list is older than [run] package_list_age. Anything else that " +
		"the package manager would install, change or remove is shown first, and refused if it is declared " +
		"differently or would remove something the host needs. Configuration files that were modified by hand are " +
		"kept.",
	Attrs: append([]schema.Attr{
		{Name: "version", Type: schema.Version, Floating: Newest, Default: "any",
			Doc: "An exact version as the package manager prints it, a pattern in which * matches anything, " +
				"or newest.",
			Examples: []string{`"newest"`, `"1.4.2-1"`, `"1.4.*"`}},
		{Name: "hold", Type: schema.Bool, Default: "unchanged",
			Doc:      "Whether the package manager keeps this version in a system upgrade.",
			Examples: []string{"true"}},
		{Name: "purge", Type: schema.Bool, Default: "false",
			Doc: "With absent: also remove its configuration files.", Examples: []string{"true"}},
		{Name: "from", Type: schema.Origin, Default: "a repository",
			Doc: "A package file: in the manifest's directory, at a URL, or at a path on the host. The version " +
				"must be declared.",
			Examples: []string{`"tide-logger_1.4.2-1_all.deb"`,
				`"https://packages.example.org/tide-logger-1.4.2.rpm"`}},
	}, fetch.Attrs...),
	Examples: []schema.Example{
		{About: "A package in its newest version", TOML: `[package.tide-logger]
version = "newest"
`},
		{About: "A package to remove", TOML: `[package.old-ticker]
absent = true
`},
		{About: "A package held at a version series, and one to remove with its configuration",
			TOML: `[package.chart-press]
version = "2.0.*"
hold = true

[package.foghorn-relay]
absent = true
purge = true
`},
		{About: "A package file next to the manifest", TOML: `[package.tide-logger]
version = "1.4.2-1"
from = "tide-logger.deb"
`, Files: map[string]string{"tide-logger.deb": "Package: tide-logger\nVersion: 1.4.2-1\n"}},
	},
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) {
			return "", problem.Errorf("invalid package name %q", name).
				Remedy("use at least two letters, digits and +-._:@~, with no dash at either end")
		}
		return name, nil
	},
	Needs: func(n schema.Needer) []value.Ref {
		from := n.Attrs.Text("from")
		switch {
		case from == "" || schema.Beside(from):
			return nil
		case schema.Remote(from) && n.Ref.Name != "curl":
			return []value.Ref{{Kind: "package", Name: "curl"}}
		}
		return []value.Ref{{Kind: "file", Name: from}, {Kind: "download", Name: from}}
	},
	Check: func(_ string, a value.Attrs) (string, error) {
		if v := a.Text("version"); a.Has("from") && (v == "" || v == Newest || strings.Contains(v, "*")) {
			return "from", problem.Errorf("the version of the file is missing").
				Remedy("set version exactly as the package manager prints it")
		}
		if a.Bool("absent") && a.Has("from") {
			return "from", problem.Errorf("from cannot be combined with absent").
				Remedy("remove one of them")
		}
		if a.Bool("absent") && a.Has("version") {
			return "version", problem.Errorf("version cannot be combined with absent").
				Remedy("remove one of them")
		}
		if a.Bool("absent") && a.Has("hold") {
			return "hold", problem.Errorf("hold cannot be combined with absent").
				Remedy("remove one of them")
		}
		if a.Has("purge") && !a.Bool("absent") {
			return "purge", problem.Errorf("purge requires absent = true").
				Remedy("set absent = true, or remove purge")
		}
		return fetch.Check(a, schema.Remote(a.Text("from")))
	},
}

// Kind is the kind of packages.
func Kind() kind.Kind { return packages{} }

type packages struct{}

func (packages) Schema() *schema.Kind { return about }

// Joint says that one transaction serves many.
func (packages) Joint() bool { return true }

// Stale says that a package may bring anything with it.
func (packages) Stale() []kind.Topic {
	return []kind.Topic{kind.ThePackages, kind.TheAccounts, kind.TheServices}
}

// ManagerOf chooses the package manager that a host has.
func ManagerOf(env *kind.Env) (backend.Manager, error) {
	var looked []string
	for _, m := range managers {
		if env.Machine.Look(m.Program()) {
			return m, nil
		}
		looked = append(looked, m.Program())
	}
	return nil, problem.Errorf("this host has no supported package manager").
		Remedy("supported: %s", strings.Join(looked, ", "))
}

// state is what is there of one package, and what could.
type state struct {
	backend.State
	newest string // the newest that can be found of what is declared, where that names no version
	doubt  bool   // no list knows it, but the lists are old
	cut    bool   // the manager was interrupted and refuses all else until that is repaired
}

// known is what was read for all packages of the plan.
type known struct {
	cut       bool // the manager was interrupted
	installed map[string]backend.State
	offers    map[string]backend.Offer // nil until asked for
}

// Read looks packages up in what is installed, and in the package lists only
// what is declared newest or, in a preview, what would be installed.
func (packages) Read(ctx context.Context, env *kind.Env, tasks []plan.Task) []kind.Reading {
	out := make([]kind.Reading, len(tasks))
	m, k, err := read(ctx, env)
	for i, t := range tasks {
		if err == nil {
			out[i].Err = m.CheckName(t.Ref.Name)
		}
		if err != nil || out[i].Err != nil {
			out[i].Err = cmpErr(err, out[i].Err)
			continue
		}
		st := state{State: k.installed[t.Ref.Name], cut: k.cut}
		out[i].Err = offered(env, m, k, t, &st)
		out[i].State = st
	}
	return out
}

func cmpErr(first, second error) error {
	if first != nil {
		return first
	}
	return second
}

func read(ctx context.Context, env *kind.Env) (backend.Manager, *known, error) {
	m, err := ManagerOf(env)
	if err != nil {
		return nil, nil, err
	}
	k, err := kind.Cached(env, kind.ThePackages, func() (*known, error) {
		installed, err := m.Installed(ctx, env, names(env, func(plan.Task) bool { return true }))
		by, fixes := m.(backend.Repairer)
		return &known{installed: installed, cut: fixes && by.Interrupted(env)}, err
	})
	if err != nil {
		return nil, nil, fmt.Errorf("list installed packages: %w", err)
	}
	if k.offers != nil {
		return m, k, nil
	}
	asked := names(env, func(t plan.Task) bool {
		return m.CheckName(t.Ref.Name) == nil && !t.Absent && !byFile(t) && (isNewest(t) || env.Run.Preview &&
			!fits(t, k.installed[t.Ref.Name]))
	})
	if len(asked) == 0 {
		k.offers = map[string]backend.Offer{}
		return m, k, nil
	}
	if err := refreshOld(ctx, env, m, k); err != nil {
		return nil, nil, err
	}
	k.offers, err = m.Offers(ctx, env, asked)
	return m, k, err
}

// refreshOld refreshes the lists before newest is looked up in them, when they
// are old or when something is to be installed.
func refreshOld(ctx context.Context, env *kind.Env, m backend.Manager, k *known) error {
	missing := names(env, func(t plan.Task) bool { return isNewest(t) && k.installed[t.Ref.Name].Version == "" })
	if env.Run.Preview || env.ListsRefreshed || len(missing) == 0 && m.ListAge(env) <= env.Run.ListAge {
		return nil
	}
	return refresh(ctx, env, m)
}

func refresh(ctx context.Context, env *kind.Env, m backend.Manager) error {
	env.ListsRefreshed = true
	if err := m.Refresh(ctx, env); err != nil {
		return fmt.Errorf("refresh the package lists: %w", err)
	}
	return nil
}

// names lists the packages of the plan that are so.
func names(env *kind.Env, so func(plan.Task) bool) []string {
	var out []string
	for _, t := range env.Tasks {
		if t.Ref.Kind == about.Name && so(t) {
			out = append(out, t.Ref.Name)
		}
	}
	return out
}

func isNewest(t plan.Task) bool { return !t.Absent && t.Attrs.Text("version") == Newest }

// byFile says whether a package comes as a file.
func byFile(t plan.Task) bool { return t.Attrs.Has("from") }

// fits says whether what is installed is what is declared, newest aside.
func fits(t plan.Task, s backend.State) bool {
	want := t.Attrs.Text("version")
	return s.Version != "" && s.Half == "" && (want == "" || want == Newest || matches(want, s.Version))
}

// matches says whether a version is the one that is declared, or one that the
// pattern takes.
func matches(want, version string) bool {
	if !strings.Contains(want, "*") {
		return want == version
	}
	parts := strings.Split(want, "*")
	first, last := parts[0], parts[len(parts)-1]
	if !strings.HasPrefix(version, first) {
		return false
	}
	rest := version[len(first):]
	for _, p := range parts[1 : len(parts)-1] {
		i := strings.Index(rest, p)
		if i < 0 {
			return false
		}
		rest = rest[i+len(p):]
	}
	return strings.HasSuffix(rest, last)
}

// pick gives the version to install of what is declared: the newest, or the
// first of the offers, which are in the order of the manager, that a pattern
// takes. Empty leaves it to the manager.
func pick(t plan.Task, o backend.Offer) string {
	want := t.Attrs.Text("version")
	switch {
	case want == Newest:
		return o.Newest
	case strings.Contains(want, "*"):
		i := slices.IndexFunc(o.Versions, func(v string) bool { return matches(want, v) })
		if i >= 0 {
			return o.Versions[i]
		}
	}
	return ""
}

// offered looks at what the lists have of a package that needs it.
func offered(env *kind.Env, m backend.Manager, k *known, t plan.Task, st *state) error {
	if t.Absent || byFile(t) || !isNewest(t) && !(env.Run.Preview && !fits(t, st.State)) {
		return nil
	}
	offer := k.offers[t.Ref.Name]
	st.newest = pick(t, offer)
	err := exactly(t, offer)
	if err == nil || !env.Run.Preview || m.ListAge(env) <= env.Run.ListAge {
		return err
	}
	st.doubt = true
	return nil
}

// exactly makes sure that the package manager knows just this package, in just
// this version: what it does not know it may take for a pattern or an order.
func exactly(t plan.Task, o backend.Offer) error {
	version := t.Attrs.Text("version")
	switch {
	case o.Newest == "" && len(o.Versions) == 0:
		return kind.NotYet(problem.Errorf("package %q not found in any repository", t.Ref.Name).
			Remedy("check the name, or declare its repository first"))
	case version == "" || version == Newest || slices.ContainsFunc(o.Versions,
		func(v string) bool { return matches(version, v) }):
		return nil
	}
	return kind.NotYet(problem.Errorf("package %q not found in version %s in any repository", t.Ref.Name, version).
		Remedy("available: %s", strings.Join(o.Versions, ", ")))
}

// Compare says what differs. That the manager was interrupted matters where it is
// to be asked for anything.
func (packages) Compare(t plan.Task, s any) []plan.Change {
	st := s.(state)
	changes := compare(t, st)
	if st.cut && len(changes) > 0 {
		changes = append(changes, plan.Change{What: "package manager", Was: "interrupted",
			Becomes: "finished interrupted changes"})
	}
	return changes
}

func compare(t plan.Task, st state) []plan.Change {
	want := t.Attrs.Text("version")
	if st.newest != "" && !fits(t, st.State) || want == Newest && st.newest != "" {
		want = st.newest
	}
	change := func(was, becomes string) []plan.Change {
		if st.doubt {
			becomes += ", if a repository has it after the refresh"
		}
		return []plan.Change{{What: "version", Was: was, Becomes: becomes}}
	}
	switch {
	case t.Absent && st.Version+st.Half != "":
		return change(st.Version+st.Half, "absent")
	case t.Absent && t.Attrs.Bool("purge") && st.Remains:
		return []plan.Change{{What: "configuration files", Was: "present", Becomes: "absent"}}
	case t.Absent:
		return nil
	case st.Half != "":
		return change(st.Half, orInstalled(want))
	case st.Version == "":
		return append(change("absent", orInstalled(want)), held(t, st)...)
	case want != "" && !matches(want, st.Version):
		return append(change(st.Version, want), held(t, st)...)
	}
	return held(t, st)
}

// held says whether it is to be left in its version, where that differs.
func held(t plan.Task, st state) []plan.Change {
	want := t.Attrs.Bool("hold")
	if !t.Attrs.Has("hold") || want == st.Held {
		return nil
	}
	return []plan.Change{{What: "hold", Was: kind.Yes(st.Held, "yes", "no"), Becomes: kind.Yes(want, "yes", "no")}}
}

func orInstalled(version string) string {
	if version == "" {
		return "installed"
	}
	return version
}

// Write installs and removes, each in one transaction for all.
func (packages) Write(ctx context.Context, env *kind.Env, work []kind.Work) []error {
	b := &batch{ctx: ctx, env: env, work: work, errs: make([]error, len(work))}
	var err error
	if b.m, err = ManagerOf(env); err != nil {
		for i := range b.errs {
			b.errs[i] = err
		}
		return b.errs
	}
	repaired := b.repair()
	var install, remove, purge []int
	for i, w := range work {
		switch {
		case w.Task.Absent && w.Task.Attrs.Bool("purge"):
			purge = append(purge, i)
		case w.Task.Absent:
			remove = append(remove, i)
		case w.Differs("version") && byFile(w.Task):
			b.errs[i] = b.file(w.Task)
		case w.Differs("version"):
			install = append(install, i)
		}
	}
	b.all(remove, func(which []int) error { return b.m.Remove(ctx, env, b.names(which), false) })
	b.all(purge, func(which []int) error { return b.m.Remove(ctx, env, b.names(which), true) })
	b.all(b.known(install), b.install)
	for i, w := range work {
		if w.Differs("hold") && b.errs[i] == nil {
			b.errs[i] = b.m.Hold(ctx, env, w.Task.Ref.Name, w.Task.Attrs.Bool("hold"))
		}
		if b.errs[i] != nil && repaired != nil {
			b.errs[i] = both(repaired, b.errs[i])
		}
	}
	return b.errs
}

// repair has a manager that was interrupted finish first. Where that fails, what is
// asked for may still work, and else the error is reported with it.
func (b *batch) repair() error {
	by, ok := b.m.(backend.Repairer)
	if !ok || !slices.ContainsFunc(b.work, func(w kind.Work) bool { return w.State.(state).cut }) {
		return nil
	}
	if err := by.Repair(b.ctx, b.env); err != nil {
		return fmt.Errorf("finish what was interrupted: %w", err)
	}
	return nil
}

func (b *batch) names(which []int) []string {
	var out []string
	for _, i := range which {
		out = append(out, b.work[i].Task.Ref.Name)
	}
	return out
}

// batch is the work on neighbours.
type batch struct {
	ctx  context.Context
	env  *kind.Env
	m    backend.Manager
	work []kind.Work
	errs []error

	refreshed bool // by this work
}

// known refreshes the lists once a run, looks up what is to be installed, and
// gives what is known. When the refresh fails, what the lists at hand offer may
// still be installed.
func (b *batch) known(which []int) []int {
	if len(which) == 0 {
		return nil
	}
	if !b.env.ListsRefreshed {
		err := refresh(b.ctx, b.env, b.m)
		b.refreshed = true
		for _, i := range which {
			b.errs[i] = err
		}
	}
	offers, err := b.m.Offers(b.ctx, b.env, b.names(which))
	return slices.DeleteFunc(which, func(i int) bool {
		t, st := b.work[i].Task, b.work[i].State.(state)
		unknown := err
		if unknown == nil {
			unknown = exactly(t, offers[t.Ref.Name])
		}
		if unknown != nil {
			b.errs[i] = both(b.errs[i], unknown)
			return true
		}
		st.newest = pick(t, offers[t.Ref.Name])
		b.work[i].State = st
		return false
	})
}

// file installs a package that comes as a file.
func (b *batch) file(t plan.Task) (err error) {
	at := t.Attrs.Text("from")
	switch {
	case t.Content != nil:
		at, err = fetch.Kept(b.env, *t.Content)
	case schema.Remote(at):
		at, err = fetch.File(b.ctx, b.env, t, at)
	default:
		return b.putIn(t, at)
	}
	if err == nil {
		at, err = fetch.WithSuffix(b.env, at, b.m.Suffix())
	}
	if err != nil {
		return err
	}
	defer fetch.Drop(b.env, at)
	return b.putIn(t, at)
}

// putIn installs a file once it is known to be the package that is declared, and to bring nothing
// that must not come.
func (b *batch) putIn(t plan.Task, at string) error {
	name, version, err := b.m.Inside(b.ctx, b.env, at)
	if err != nil {
		return fmt.Errorf("read the package file: %w", err)
	}
	if bare, _, _ := strings.Cut(t.Ref.Name, ":"); name != bare && name != t.Ref.Name ||
		version != t.Attrs.Text("version") {
		return problem.Errorf("the file is the package %s in the version %s", name, version).
			Remedy("declare that version, or use another file; nothing was installed")
	}
	effects, _ := b.m.Foresee(b.ctx, b.env, []backend.Want{{Name: at}}, nil, false)
	if err := forbidden(b.env, t, others(effects, []string{name, t.Ref.Name})); err != nil {
		return err
	}
	return b.m.InstallFile(b.ctx, b.env, at)
}

func (b *batch) install(which []int) error {
	var list []backend.Want
	for _, i := range which {
		list = append(list, want(b.work[i].Task, b.work[i].State.(state)))
	}
	if b.refreshed { // the new lists may bring or remove others than was foreseen
		effects, _ := b.m.Foresee(b.ctx, b.env, list, nil, false)
		if err := forbidden(b.env, b.work[which[0]].Task, others(effects, b.names(which))); err != nil {
			return err
		}
	}
	return b.m.Install(b.ctx, b.env, list)
}

// want is what is asked of the manager for a task.
func want(t plan.Task, st state) backend.Want {
	w := backend.Want{Name: t.Ref.Name, Version: t.Attrs.Text("version")}
	if w.Version == Newest || strings.Contains(w.Version, "*") {
		w.Version = ""
	}
	if st.newest != "" {
		w.Version = st.newest
	}
	return w
}

// all does something once for all, and when that fails once for each that is
// not right yet.
func (b *batch) all(which []int, do func([]int) error) {
	if len(which) == 0 {
		return
	}
	switch err := do(which); {
	case err != nil && len(which) == 1:
		b.errs[which[0]] = both(b.errs[which[0]], err)
	case err != nil:
		which = b.wrong(which)
		for _, i := range which {
			if err := do([]int{i}); err != nil {
				b.errs[i] = both(b.errs[i], err)
			}
		}
	}
	b.wrong(which)
}

// both joins what failed first and what failed then in one line.
func both(first, then error) error {
	if first == nil || then == nil {
		return errors.Join(first, then)
	}
	return fmt.Errorf("%w; then %w", first, then)
}

// wrong gives those that do not stand as declared, and clears the errors of
// the others: while one package is half configured, every transaction may end
// with an error, whatever it did for the rest.
func (b *batch) wrong(which []int) []int {
	installed, err := b.m.Installed(b.ctx, b.env, b.names(which))
	if err != nil {
		return which
	}
	var left []int
	for _, i := range which {
		t := b.work[i].Task
		st := state{State: installed[t.Ref.Name], newest: b.work[i].State.(state).newest}
		if !slices.ContainsFunc((packages{}).Compare(t, st), func(c plan.Change) bool { return c.What != "hold" }) {
			b.errs[i] = nil
			continue
		}
		left = append(left, i)
	}
	return left
}

// Names lists the packages that were asked for, not those that came along with
// others.
func (packages) Names(ctx context.Context, env *kind.Env) ([]string, error) {
	m, err := ManagerOf(env)
	if err != nil {
		return nil, err
	}
	return m.Asked(ctx, env)
}

// Prior gives the version.
func (packages) Prior(_ context.Context, _ *kind.Env, t plan.Task, s any) ([]plan.Prior, error) {
	st := s.(state)
	if st.Half != "" {
		return nil, fmt.Errorf("it was %s, neither installed nor absent", st.Half)
	}
	return []plan.Prior{standing(t.Ref.Name, st.State, t.Attrs.Has("hold") || st.Held)}, nil
}

func standing(name string, s backend.State, hold bool) plan.Prior {
	ref := value.Ref{Kind: about.Name, Name: name}
	if s.Version == "" {
		return plan.Missing(ref)
	}
	attrs := value.Attrs{"version": s.Version}
	if hold {
		attrs["hold"] = s.Held
	}
	return plan.NewPrior(ref, attrs)
}

// All gives every package that is installed: what others need comes along with them.
func (packages) All(ctx context.Context, env *kind.Env) (map[string]plan.Prior, error) {
	m, err := ManagerOf(env)
	if err != nil {
		return nil, err
	}
	installed, err := m.Installed(ctx, env, nil)
	out := map[string]plan.Prior{}
	for name, s := range installed {
		if s.Version != "" {
			out[name] = standing(name, s, false)
		}
	}
	return out, err
}

// Who asks the manager who did something to a package last.
func (packages) Who(env *kind.Env, name string) (who string, when time.Time) {
	m, err := ManagerOf(env)
	if by, ok := m.(backend.Author); ok && err == nil {
		return by.Who(env, name)
	}
	return "", time.Time{}
}

// Capture declares a package as installed, in whatever version.
func (packages) Capture(_ context.Context, _ *kind.Env, _ plan.Task, s any) (plan.Captured, error) {
	st := s.(state)
	switch {
	case st.Half != "":
		return plan.Captured{}, fmt.Errorf("it is %s, neither installed nor absent", st.Half)
	case st.Version == "":
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	return plan.Captured{Note: "the version is " + st.Version}, nil
}
