// Package service is the kind of services, with systemd behind it.
package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/gather"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

var nameForm = regexp.MustCompile(`^[A-Za-z0-9:_.\\@-]+$`)

// suffixes are the kinds of units that can be named in full.
var suffixes = []string{".service", ".socket", ".timer", ".path", ".target", ".mount"}

var about = &schema.Kind{
	Name:  "service",
	Area:  "services",
	About: "A service: whether it runs, and whether it starts at boot.",
	Doc: "A restart or reload happens in the service's own task, once, however many of its triggers changed; one that " +
		"is owed by a run that was killed or failed is made up for by the next. A service that was just started is " +
		"not restarted, and one that neither runs nor is declared running is left alone. It counts as started when it " +
		"is still up a second later. A changed unit file is loaded anew before anything else.",
	NoAbsent: "declare running = false and boot = false, or remove its package or unit file",
	Attrs: []schema.Attr{
		{Name: "running", Type: schema.Bool, Default: "left as it is", Doc: "Whether it runs.", Examples: []string{"true"}},
		{Name: "boot", Type: schema.Bool, Default: "left as it is", Doc: "Whether it starts at boot.", Examples: []string{"true"}},
		{Name: "restart_on", Type: schema.RefTo, List: true, Doc: "What makes a restart due when it changes.", Examples: []string{`["file:/etc/tide-logger.toml"]`}},
		{Name: "reload_on", Type: schema.RefTo, List: true, Doc: "What makes a reload due when it changes.", Examples: []string{`["file:/etc/chart-press.toml"]`}},
		{Name: "optional", Type: schema.Bool, Default: "false", Doc: "Whether it is fine when there is no such unit.", Examples: []string{"true"}},
	},
	Examples: []schema.Example{
		{About: "A service that runs, starts at boot, and is restarted when its package changes", TOML: `[package.tide-logger]

[service.tide-logger]
running = true
boot = true
restart_on = ["package:tide-logger"]
`},
		{About: "A service that is to be off", TOML: `[service.cron]
running = false
boot = false
`},
	},
	Canon: func(name string) (string, error) {
		if !nameForm.MatchString(name) {
			return "", fmt.Errorf("%q is no unit name; use letters, digits and :-_.\\@", name)
		}
		return strings.TrimSuffix(name, ".service"), nil
	},
	Needs: func(n schema.Needer) []value.Ref {
		base, _, _ := strings.Cut(n.Ref.Name, "@")
		out := []value.Ref{{Kind: "package", Name: n.Ref.Name}}
		if base != n.Ref.Name {
			out = append(out, value.Ref{Kind: "package", Name: base})
		}
		for _, name := range []string{unitName(n.Ref.Name), base + "@.service"} {
			for _, d := range []string{"/etc/systemd/system/", "/lib/systemd/system/", "/usr/lib/systemd/system/"} {
				out = append(out, value.Ref{Kind: "file", Name: d + name})
			}
		}
		return out
	},
}

func unitName(name string) string {
	for _, s := range suffixes {
		if strings.HasSuffix(name, s) {
			return name
		}
	}
	return name + ".service"
}

// Kind is the kind of services.
type Kind struct{}

// Schema describes it.
func (Kind) Schema() *schema.Kind { return about }

// Joint says that one command serves many.
func (Kind) Joint() bool { return true }

type unit struct {
	load, active, sub, file string
	reload                  bool          // its file has changed since systemd read it
	since                   time.Duration // uptime at which it became active
	restarts                int
}

func (u unit) running() bool { return u.active == "active" || u.active == "reloading" }

type state struct {
	unit
	debts []ledger.Debt // not paid yet
}

// Warm begins to ask systemd, which takes as long as all else together, for
// the services that the ledger knows: the plan, which is still on its way,
// will most often name the same.
func (Kind) Warm(ctx context.Context, env *kind.Env) {
	var names []string
	for ref := range env.Store.Entries {
		if ref.Kind == about.Name {
			names = append(names, unitName(ref.Name))
		}
	}
	if len(names) > 0 {
		kind.Begin(env, "units", func() (map[string]unit, error) { return show(ctx, env, names) })
	}
}

// Read asks systemd for all services of the plan in one call.
func (Kind) Read(ctx context.Context, env *kind.Env, tasks []plan.Task) []kind.Reading {
	out := make([]kind.Reading, len(tasks))
	units, err := all(ctx, env)
	_, boot, bootErr := env.Uptime()
	for i, t := range tasks {
		switch {
		case err != nil:
			out[i].Err = err
			continue
		case bootErr != nil:
			out[i].Err = bootErr
			continue
		}
		st := state{unit: units[unitName(t.Ref.Name)]}
		for _, d := range env.Store.Debts[t.Ref] {
			if d.Action != plan.Follow && st.running() && d.Boot == boot && st.since <= d.Uptime {
				st.debts = append(st.debts, d)
			}
		}
		out[i].State = st
		out[i].Err = problem(t, st)
	}
	return out
}

// problem says why a service cannot be what is declared.
func problem(t plan.Task, st state) error {
	running, boot := t.Attrs.Bool("running"), t.Attrs.Bool("boot")
	switch {
	case st.load == "not-found" && t.Attrs.Bool("optional"):
	case st.load == "not-found":
		return kind.NotYet("there is no unit %s on this host; declare its package or unit file, or set optional = true", unitName(t.Ref.Name))
	case st.load == "masked" && (running || boot):
		return fmt.Errorf("the unit %s is masked; run `systemctl unmask %s` on the host if that is no longer meant", unitName(t.Ref.Name), unitName(t.Ref.Name))
	case boot && st.file == "static":
		return fmt.Errorf("the unit %s has no [Install] section, so it cannot be started at boot by itself; take boot out", unitName(t.Ref.Name))
	}
	return nil
}

// properties are what show asks systemd for; see org.freedesktop.systemd1(5).
const properties = "--property=Id,Names,LoadState,ActiveState,SubState,UnitFileState,NeedDaemonReload,ActiveEnterTimestampMonotonic,NRestarts"

// all gives the units of all services in the plan, read in one call.
func all(ctx context.Context, env *kind.Env) (map[string]unit, error) {
	var names []string
	for _, t := range env.Tasks {
		if t.Ref.Kind == about.Name {
			names = append(names, unitName(t.Ref.Name))
		}
	}
	read := func() (map[string]unit, error) { return show(ctx, env, names) }
	units, err := kind.Cached(env, "units", read)
	if err != nil || slices.ContainsFunc(names, func(n string) bool { _, there := units[n]; return !there }) {
		env.Drop("units") // what was begun for the ledger's services lacks some
		return kind.Cached(env, "units", read)
	}
	return units, nil
}

func show(ctx context.Context, env *kind.Env, names []string) (map[string]unit, error) {
	if !env.Machine.Look("systemctl") {
		return nil, errors.New("this host has no systemctl; services are managed with systemd only")
	}
	c := machine.Command{Args: append([]string{"systemctl", "show", "--no-pager", properties, "--"}, names...)}
	res, err := env.Machine.Run(ctx, c)
	if err == nil {
		err = res.Fault(c)
	}
	if err != nil {
		return nil, err
	}
	blocks := strings.Split(strings.TrimRight(res.Stdout, "\n"), "\n\n")
	if len(blocks) != len(names) {
		return nil, fmt.Errorf("systemctl told of %d units, %d were asked for", len(blocks), len(names))
	}
	out := map[string]unit{}
	for i, b := range blocks {
		out[names[i]] = parse(b)
	}
	return out, nil
}

func parse(block string) unit {
	u := unit{}
	for line := range strings.Lines(block) {
		k, v, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "=")
		switch k {
		case "LoadState":
			u.load = v
		case "ActiveState":
			u.active = v
		case "SubState":
			u.sub = v
		case "UnitFileState":
			u.file = v
		case "NeedDaemonReload":
			u.reload = v == "yes"
		case "ActiveEnterTimestampMonotonic":
			us, _ := strconv.ParseInt(v, 10, 64)
			u.since = time.Duration(us) * time.Microsecond
		case "NRestarts":
			u.restarts, _ = strconv.Atoi(v)
		}
	}
	return u
}

// atBoot says whether a unit file's state means that it starts at boot.
func atBoot(file string) bool {
	return slices.Contains([]string{"enabled", "enabled-runtime", "alias", "generated"}, file)
}

// Compare says what differs, debts included.
func (Kind) Compare(t plan.Task, s any) []plan.Change {
	st := s.(state)
	if st.load == "not-found" {
		return nil // optional: a missing unit that is not was an error
	}
	var out []plan.Change
	switch {
	case st.load == "error" || st.load == "bad-setting": // which may be over once systemd looks again
		out = append(out, plan.Change{What: "unit file", Before: "not loaded, for a reason that `systemctl status " + unitName(t.Ref.Name) + "` tells", After: "loaded"})
	case st.reload:
		out = append(out, plan.Change{What: "unit file", Before: "changed since it was loaded", After: "loaded"})
	}
	starts := false
	if want := t.Attrs.Bool("running"); t.Attrs.Has("running") && want != st.running() {
		starts = want
		out = append(out, plan.Change{What: "running", Before: kind.Yes(st.active == "failed", "failed", kind.Yes(st.running(), "yes", "no")), After: kind.Yes(want, "yes", "no")})
	}
	if want := t.Attrs.Bool("boot"); t.Attrs.Has("boot") && want != atBoot(st.file) {
		out = append(out, plan.Change{What: "boot", Before: kind.Yes(atBoot(st.file), "yes", "no"), After: kind.Yes(want, "yes", "no")})
	}
	stops := t.Attrs.Has("running") && !t.Attrs.Bool("running")
	if !starts && !stops && st.running() {
		if c, due := dueChange(st.debts); due {
			out = append(out, c)
		}
	}
	return out
}

// dueChange makes one change of all debts: a restart when any asks for one.
func dueChange(debts []ledger.Debt) (plan.Change, bool) {
	if len(debts) == 0 {
		return plan.Change{}, false
	}
	action, coming := plan.Reload, true
	var causes []string
	for _, d := range debts {
		coming = coming && d.Coming
		if d.Action == plan.Restart {
			action = plan.Restart
		}
		if c := d.Cause.String(); !slices.Contains(causes, c) {
			causes = append(causes, c)
		}
	}
	if coming {
		return plan.Change{What: action, Before: "not due", After: "due by the change of " + strings.Join(causes, ", ")}, true
	}
	return plan.Change{What: action, Before: "due since " + strings.Join(causes, ", ") + " changed", After: "done"}, true
}

// settle is how long a service must stay up to count as started.
const settle = time.Second

// Write acts on each service, then waits once and looks whether those that
// were started are still up.
func (Kind) Write(ctx context.Context, env *kind.Env, work []kind.Work) []error {
	out := make([]error, len(work))
	if slices.ContainsFunc(work, func(w kind.Work) bool { return w.Differs("unit file") }) {
		if err := systemctl(ctx, env, "daemon-reload"); err != nil {
			for i := range out {
				out[i] = err
			}
			return out
		}
	}
	var started []int
	for i, w := range work {
		up, err := act(ctx, env, w)
		out[i] = err
		if up && err == nil {
			started = append(started, i)
		}
	}
	if len(started) == 0 {
		return out
	}
	var names []string
	for _, i := range started {
		names = append(names, unitName(work[i].Task.Ref.Name))
	}
	before, err := show(ctx, env, names)
	env.Machine.Wait(ctx, settle)
	after, err2 := show(ctx, env, names)
	for _, i := range started {
		name := unitName(work[i].Task.Ref.Name)
		if out[i] = errors.Join(err, err2); out[i] != nil {
			continue
		}
		a, b := before[name], after[name]
		if !b.running() || b.since != a.since || b.restarts != a.restarts {
			out[i] = fmt.Errorf("%s did not stay up: a second after its start it is %s (%s); `journalctl -u %s` on the host says more", name, b.active, b.sub, name)
		}
	}
	return out
}

// act does what one service needs. up says that it was started or restarted.
func act(ctx context.Context, env *kind.Env, w kind.Work) (up bool, err error) {
	name := unitName(w.Task.Ref.Name)
	if w.Differs("boot") {
		if err := systemctl(ctx, env, kind.Yes(w.Task.Attrs.Bool("boot"), "enable", "disable"), name); err != nil {
			return false, err
		}
	}
	switch {
	case w.Differs("running") && w.Task.Attrs.Bool("running"):
		err = systemctl(ctx, env, "start", name)
		up = true
	case w.Differs("running"):
		err = systemctl(ctx, env, "stop", name)
	case w.Differs("restart"):
		err = systemctl(ctx, env, "restart", name)
		up = true
	case w.Differs("reload"):
		err = systemctl(ctx, env, "reload", name)
	}
	if err == nil {
		env.Store.Paid(w.Task.Ref)
	}
	return up, err
}

func systemctl(ctx context.Context, env *kind.Env, args ...string) error {
	c := machine.Command{Args: append([]string{"systemctl", "--no-ask-password"}, args...)}
	res, err := env.Machine.Run(ctx, c)
	if err != nil {
		return err
	}
	return res.Fault(c)
}

// Names lists the services that start at boot.
func (Kind) Names(ctx context.Context, env *kind.Env) ([]string, error) {
	var out []string
	services := gather.Services(ctx, env.Machine)
	for _, name := range value.Keys(services) {
		if _, err := about.Canon(name); services[name].Boot && err == nil && !strings.HasSuffix(name, "@") {
			out = append(out, name)
		}
	}
	return out, nil
}

// Capture declares a service as it runs and starts now.
func (Kind) Capture(_ context.Context, _ *kind.Env, t plan.Task, s any) (plan.Captured, error) {
	st := s.(state)
	if st.load == "masked" {
		return plan.Captured{}, errors.New("the unit is masked")
	}
	c := plan.Captured{Attrs: map[string]any{"running": st.running()}}
	switch st.file {
	case "static", "indirect", "generated", "transient":
		c.Note = "whether it starts at boot is not its own to say: its unit file is " + st.file
	default:
		c.Attrs["boot"] = atBoot(st.file)
	}
	return c, nil
}
