// Package service is the kind of services. The service manager behind it is a
// [backend.Manager].
package service

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service/backend"
	"jadekettle/internal/host/kinds/service/openrc"
	"jadekettle/internal/host/kinds/service/runit"
	"jadekettle/internal/host/kinds/service/systemd"
	"jadekettle/internal/host/kinds/service/sysv"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// managers are those that a host may have; the first that it has counts.
var managers = []backend.Manager{systemd.Manager{}, openrc.Manager{}, runit.Manager{}, sysv.Manager{}}

// managerOf chooses the service manager that a host has.
func managerOf(m machine.Machine) (backend.Manager, error) {
	var looked []string
	for _, sm := range managers {
		if sm.Runs(m) {
			return sm, nil
		}
		looked = append(looked, sm.Name())
	}
	return nil, problem.Errorf("this host has no supported service manager").
		Remedy("supported: %s", strings.Join(looked, ", "))
}

// Survey lists all services of a host for its facts, at most so many.
func Survey(ctx context.Context, m machine.Machine, most int) map[string]facts.Service {
	sm, err := managerOf(m)
	if err != nil {
		return map[string]facts.Service{}
	}
	return sm.Survey(ctx, m, most)
}

// nameForm begins with no dash, which a command would take for an option.
var nameForm = lazy.Regexp(`^[A-Za-z0-9:_.\\@][A-Za-z0-9:_.\\@-]*$`)

var about = &schema.Kind{
	Name:  "service",
	Area:  "services",
	About: "A service: whether it runs, and whether it starts at boot.",
	Doc: "Uses systemd, OpenRC, runit or SysV scripts, whichever the host has; with systemd also a timer, a " +
		"socket or another unit, by its full name. A restart or reload happens in the service's own task, once, no " +
		"matter how many of its triggers changed; if a run is killed or fails before it, the restart stays pending " +
		"and the next run does it. A service that was just started is not restarted, and one that is neither " +
		"running nor declared running is left alone. A service counts as started if it is still up a second later. " +
		"A changed unit file is reloaded before anything else.",
	NoAbsent: "declare running = false and at_boot = false, or remove its package or unit file",
	Leave:    value.Attrs{"running": false, "at_boot": false},
	Attrs: []schema.Attr{
		{Name: "running", Type: schema.Bool, Default: "unchanged", Doc: "Whether it runs.",
			Examples: []string{"true"}},
		{Name: "at_boot", Type: schema.Bool, Default: "unchanged", Doc: "Whether it starts at boot.",
			Examples: []string{"true"}},
		{Name: "masked", Type: schema.Bool, Default: "unchanged",
			Doc:      "Whether it is masked, so that nothing can start it, by hand or as a dependency.",
			Examples: []string{"true"}},
		{Name: "start_limit", Type: schema.Duration, Default: `"10m"`, Doc: "The time limit for a start or restart.",
			Examples: []string{`"30s"`}},
		{Name: "restart_on", Type: schema.RefTo, List: true, Triggers: plan.Restart,
			Doc: "Restart the service if one of these changes.", Examples: []string{`["file /etc/tide-logger.toml"]`}},
		{Name: "reload_on", Type: schema.RefTo, List: true, Triggers: plan.Reload,
			Doc: "Reload the service if one of these changes.", Examples: []string{`["file /etc/chart-press.toml"]`}},
		{Name: "optional", Type: schema.Bool, Default: "false", Doc: "Do not fail if the unit does not exist.",
			Examples: []string{"true"}},
	},
	Examples: []schema.Example{
		{About: "A service that runs, starts at boot, and is restarted when its package changes",
			TOML: `[package.tide-logger]

[service.tide-logger]
running = true
at_boot = true
restart_on = ["package tide-logger"]
`},
		{About: "A service to stop", TOML: `[service.cron]
running = false
at_boot = false
`},
		{About: "A service that must never start", TOML: `[service.cron]
running = false
masked = true
`},
	},
	Check: func(_ string, a value.Attrs) (string, error) {
		if a.Bool("masked") && (a.Bool("running") || a.Bool("at_boot")) {
			return "masked", problem.Errorf("masked cannot be combined with running or at_boot").
				Remedy("keep one of them")
		}
		return "", nil
	},
	Captures: []string{"running", "at_boot", "masked"},
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) {
			return "", problem.Errorf("invalid service name %q", name).
				Remedy("use letters, digits and :-_.\\@, not starting with a dash")
		}
		for _, sm := range managers {
			name = sm.Short(name)
		}
		if base, rest, template := strings.Cut(name, "@"); template && (rest == "" || rest[0] == '.') {
			return "", problem.Errorf("%q is a template, which cannot run without an instance name", name).
				Remedy("use an instance of it, such as %s@north%s", base, rest)
		}
		return name, nil
	},
	Needs: func(n schema.Needer) []value.Ref {
		base, _, _ := strings.Cut(n.Ref.Name, "@")
		out := []value.Ref{{Kind: "package", Name: n.Ref.Name}}
		if base != n.Ref.Name {
			out = append(out, value.Ref{Kind: "package", Name: base})
		}
		for _, sm := range managers {
			for _, p := range sm.Definitions(n.Ref.Name) {
				if folder, ok := strings.CutSuffix(p, "/"); ok {
					out = append(append(out, value.Ref{Kind: "dir", Name: folder}), n.In(folder)...)
					continue
				}
				out = append(out, value.Ref{Kind: "file", Name: p}, value.Ref{Kind: "link", Name: p})
			}
		}
		return out
	},
}

// Kind is the kind of services.
func Kind() kind.Kind { return services{} }

type services struct{}

func (services) Schema() *schema.Kind { return about }

// Joint says that what was started is waited for together.
func (services) Joint() bool { return true }

// Stale says that starting one service may start or stop others.
func (services) Stale() []kind.Topic { return []kind.Topic{kind.TheServices} }

type state struct {
	backend.State
	by      backend.Manager
	pending []ledger.Pending // not made yet
}

// Warm begins to ask the service manager, which takes as long as all else
// together, for the services that the ledger knows: the plan, which is still on
// its way, will most often name the same.
func (services) Warm(ctx context.Context, env *kind.Env) {
	sm, err := managerOf(env.Machine)
	if err != nil {
		return
	}
	var names []string
	for ref := range env.Store.Entries {
		if ref.Kind == about.Name {
			names = append(names, ref.Name)
		}
	}
	if len(names) > 0 {
		kind.Begin(env, kind.TheServices, func() (map[string]backend.State, error) {
			return sm.Show(ctx,
				env.Machine, names)
		})
	}
}

// Read asks for all services of the plan in one call.
func (services) Read(ctx context.Context, env *kind.Env, tasks []plan.Task) []kind.Reading {
	out := make([]kind.Reading, len(tasks))
	sm, all, err := read(ctx, env)
	_, boot, bootErr := env.Uptime()
	if err == nil {
		err = bootErr
	}
	for i, t := range tasks {
		if err != nil {
			out[i].Err = err
			continue
		}
		st := state{State: all[t.Ref.Name], by: sm}
		for _, d := range env.Store.Pending[t.Ref] {
			if d.Action != plan.Follow && st.Running && (d.Open && d.Boot == boot || !sm.Restarted(st.State, d, boot)) {
				st.pending = append(st.pending, d)
			}
		}
		out[i].State = st
		out[i].Err = obstacle(t, st)
	}
	return out
}

// read gives the states of all services in the plan.
func read(ctx context.Context, env *kind.Env) (backend.Manager, map[string]backend.State, error) {
	sm, err := managerOf(env.Machine)
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for _, t := range env.Tasks {
		if t.Ref.Kind == about.Name {
			names = append(names, t.Ref.Name)
		}
	}
	show := func() (map[string]backend.State, error) { return sm.Show(ctx, env.Machine, names) }
	all, err := kind.Cached(env, kind.TheServices, show)
	if err != nil || slices.ContainsFunc(names, func(n string) bool { _, there := all[n]; return !there }) {
		env.Forget(kind.TheServices) // what was begun for the ledger's services lacks some
		all, err = kind.Cached(env, kind.TheServices, show)
	}
	return sm, all, err
}

// obstacle says why a service cannot be what is declared.
func obstacle(t plan.Task, st state) error {
	running, boot := t.Attrs.Bool("running"), t.Attrs.Bool("at_boot")
	name := st.by.Full(t.Ref.Name)
	switch {
	case !st.There && t.Attrs.Bool("optional"):
	case !st.There:
		return kind.NotYet(problem.Errorf("%s does not exist on this host", name).
			Remedy("declare the package or file that defines it, or set optional = true"))
	case st.Barred && (running || boot) && !t.Attrs.Has("masked"):
		return problem.Errorf("%s is masked", name).
			Remedy("set masked = false, or run `%s` on the host, if that is no longer intended",
				st.by.Unbar(t.Ref.Name))
	case running && st.Once && !st.Running && !st.Stale:
		return problem.Errorf("%s does its work once and exits, so it never stays running", name).
			Remedy("remove running; use at_boot = true to run it at boot, its timer to schedule it, or a command " +
				"to run it now")
	case t.Attrs.Bool("masked") && !st.Barred && st.Unmasked != "":
		return problem.Errorf("%s cannot be masked: %s", name, st.Unmasked).
			Remedy("declare running = false and at_boot = false, or that file absent")
	case boot && st.BootFixed != "":
		return problem.Errorf("%s %s, so it cannot be enabled at boot", name, st.BootFixed).
			Remedy("remove at_boot")
	}
	return nil
}

// Wrote notes that something was written at a path, which may be what defines a service. The
// manager reads it before the next service is worked on, or at the end of the run.
func Wrote(env *kind.Env, path string) {
	if sm, err := managerOf(env.Machine); err == nil && sm.Defines(path) {
		env.Unloaded = true
		env.Forget(kind.TheServices)
	}
}

// Load has the manager read what defines services, where that was written since it last did.
func Load(ctx context.Context, env *kind.Env) error {
	if !env.Unloaded {
		return nil
	}
	sm, err := managerOf(env.Machine)
	if err == nil {
		err = sm.Load(ctx, env)
	}
	env.Unloaded = err != nil
	return err
}

// definition names the change that makes the manager read what defines a
// service.
const definition = "definition"

// Compare says what differs, pending restarts included.
func (services) Compare(t plan.Task, s any) []plan.Change {
	st := s.(state)
	if !st.There {
		return nil // optional: a missing service that is not was an error
	}
	var out []plan.Change
	switch {
	case st.Broken: // which may be over once the manager looks again
		out = append(out, plan.Change{What: definition, Was: "not loaded; for the reason, see `" +
			st.by.Status(t.Ref.Name) +
			"`", Becomes: "loaded"})
	case st.Stale:
		out = append(out, plan.Change{What: definition, Was: "changed since it was loaded", Becomes: "loaded"})
	}
	if want := t.Attrs.Bool("masked"); t.Attrs.Has("masked") && want != st.Barred {
		out = append(out, plan.Change{What: "masked", Was: kind.Yes(st.Barred, "yes", "no"),
			Becomes: kind.Yes(want, "yes", "no")})
	}
	starts := false
	if want := t.Attrs.Bool("running"); t.Attrs.Has("running") && want != st.Running {
		starts = want
		out = append(out, plan.Change{What: "running", Was: kind.Yes(st.Failed, "failed",
			kind.Yes(st.Running, "yes", "no")), Becomes: kind.Yes(want, "yes", "no")})
	}
	if want := t.Attrs.Bool("at_boot"); t.Attrs.Has("at_boot") && want != st.Boot {
		out = append(out, plan.Change{What: "at_boot", Was: kind.Yes(st.Boot, "yes", "no"),
			Becomes: kind.Yes(want, "yes", "no")})
	}
	stops := t.Attrs.Has("running") && !t.Attrs.Bool("running")
	if !starts && !stops && st.Running {
		if c, due := dueChange(st.pending); due {
			out = append(out, c)
		}
	}
	return out
}

// dueChange makes one change of all pending: a restart when any asks for one.
func dueChange(pending []ledger.Pending) (plan.Change, bool) {
	if len(pending) == 0 {
		return plan.Change{}, false
	}
	action, coming := plan.Reload, true
	var causes []string
	for _, d := range pending {
		coming = coming && d.Coming
		if d.Action == plan.Restart {
			action = plan.Restart
		}
		if c := d.Cause.String(); !slices.Contains(causes, c) {
			causes = append(causes, c)
		}
	}
	if coming {
		return plan.Change{What: action, Was: "not required", Becomes: "required by change to " +
			strings.Join(causes, ", ")}, true
	}
	return plan.Change{What: action, Was: "required since " + strings.Join(causes, ", ") + " changed",
		Becomes: "done"}, true
}

// blur is how far apart a manager may give the time of one start: some know it
// only by the time of a file.
const blur = 100 * time.Millisecond

// settle is how long a service must stay up to count as started.
const settle = time.Second

// Write acts on each service, then waits once and looks whether those that
// were started are still up.
func (services) Write(ctx context.Context, env *kind.Env, work []kind.Work) []error {
	out := make([]error, len(work))
	sm, err := managerOf(env.Machine)
	if err == nil && slices.ContainsFunc(work, func(w kind.Work) bool { return w.Differs(definition) }) {
		env.Unloaded = true // whoever wrote it
	}
	if err == nil {
		err = Load(ctx, env)
	}
	if err != nil {
		for i := range out {
			out[i] = err
		}
		return out
	}
	var started []int
	began := make([]time.Time, len(work))
	for i, w := range work {
		began[i] = env.Machine.Now()
		up, err := act(ctx, env, sm, w)
		switch out[i] = err; {
		case up && err == nil:
			started = append(started, i)
		case up:
			out[i] = unstarted(ctx, env.Machine, sm, w.Task.Ref.Name, began[i], err)
		}
	}
	if len(started) == 0 {
		return out
	}
	var names []string
	for _, i := range started {
		names = append(names, work[i].Task.Ref.Name)
	}
	first, err1 := sm.Show(ctx, env.Machine, names)
	env.Machine.Wait(ctx, settle)
	then, err2 := sm.Show(ctx, env.Machine, names)
	for _, i := range started {
		name := work[i].Task.Ref.Name
		if out[i] = errors.Join(err1, err2); out[i] != nil {
			continue
		}
		a, b := first[name], then[name]
		if !b.Running || (b.Since-a.Since).Abs() > blur || b.Starts != a.Starts {
			out[i] = unstarted(ctx, env.Machine, sm, name, began[i],
				problem.Errorf("%s did not stay up: a second after it started it is %s", sm.Full(name), b.Phase))
		}
	}
	return out
}

// unstarted is the error of a service that does not run though it was started: why, as far as its
// manager knows, and what the service itself logged.
func unstarted(ctx context.Context, m machine.Machine, sm backend.Manager, name string, since time.Time,
	err error) error {
	r := sm.Report(context.WithoutCancel(ctx), m, name, since)
	var ce *machine.CommandError
	switch {
	case r.Why != "" && errors.As(err, &ce):
		err = problem.Errorf("%s did not start: %s", sm.Full(name), r.Why)
	case r.Why != "":
		err = problem.Errorf("%s; %s", problem.From(err).What, r.Why)
	}
	p := problem.From(err)
	if p.Do == "" {
		err = problem.Errorf("%w", err).Remedy("`%s` on the host shows more", sm.Log(name))
	}
	switch {
	case r.Lines != "":
		return &machine.PrintedError{Err: err, Output: machine.KeptText(r.Lines)}
	case ce != nil:
		return &machine.PrintedError{Err: err, Output: ce.Output}
	}
	return err
}

// act does what one service needs. up says that it was started or restarted.
func act(ctx context.Context, env *kind.Env, sm backend.Manager, w kind.Work) (up bool, err error) {
	limit, _ := measure.ParseDuration(w.Task.Attrs.Text("start_limit")) // checked with the manifest
	do := func(a backend.Action) error { return sm.Act(ctx, env, a, w.Task.Ref.Name, limit) }
	if w.Differs("masked") && !w.Task.Attrs.Bool("masked") {
		if err := do(backend.Unmask); err != nil {
			return false, err
		}
	}
	if w.Differs("at_boot") {
		toggle := backend.Disable
		if w.Task.Attrs.Bool("at_boot") {
			toggle = backend.Enable
		}
		if err := do(toggle); err != nil {
			return false, err
		}
	}
	switch {
	case w.Differs("running") && w.Task.Attrs.Bool("running"):
		up, err = true, do(backend.Start)
	case w.Differs("running"):
		err = do(backend.Stop)
	case w.Differs(plan.Restart):
		up, err = true, do(backend.Restart)
	case w.Differs(plan.Reload):
		err = do(backend.Reload)
	}
	if err == nil && w.Differs("masked") && w.Task.Attrs.Bool("masked") { // last, since it bars from all else
		err = do(backend.Mask)
	}
	if err == nil {
		env.Store.Restarted(w.Task.Ref)
	}
	return up, err
}

// Names lists the services that somebody had start at boot, or not; where the
// manager does not say by whom, those that do.
func (services) Names(ctx context.Context, env *kind.Env) ([]string, error) {
	sm, err := managerOf(env.Machine)
	if err != nil {
		return nil, err
	}
	var out []string
	if by, ok := sm.(backend.Minder); ok {
		names, err := by.Minded(ctx, env.Machine)
		for _, name := range names {
			if _, err := about.Canon(name); err == nil {
				out = append(out, name)
			}
		}
		return out, err
	}
	all := sm.Survey(ctx, env.Machine, 1<<16)
	for _, name := range value.Keys(all) {
		if _, err := about.Canon(name); all[name].Boot && err == nil && !strings.HasSuffix(name, "@") {
			out = append(out, name)
		}
	}
	return out, nil
}

// Prior gives whether the service runs, is started at boot and is barred. One that is not
// there does neither.
func (services) Prior(_ context.Context, _ *kind.Env, t plan.Task, s any) ([]plan.Prior, error) {
	st := s.(state)
	attrs := value.Attrs{"running": st.Running, "optional": true}
	if st.Once {
		delete(attrs, "running")
	}
	if st.BootWord == "" {
		attrs["at_boot"] = st.Boot
	}
	if t.Attrs.Has("masked") {
		attrs["masked"] = st.Barred
	}
	return []plan.Prior{plan.NewPrior(t.Ref, attrs)}, nil
}

// Capture declares a service as it runs and starts now.
func (services) Capture(_ context.Context, _ *kind.Env, _ plan.Task, s any) (plan.Captured, error) {
	st := s.(state)
	if st.Barred {
		return plan.Captured{Attrs: map[string]any{"running": st.Running, "masked": true}}, nil
	}
	c := plan.Captured{Attrs: map[string]any{"running": st.Running}}
	if st.BootWord != "" {
		c.Note = "whether it starts at boot is not configurable: it is " + st.BootWord
		return c, nil
	}
	c.Attrs["at_boot"] = st.Boot
	return c, nil
}
