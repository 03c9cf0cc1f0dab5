package app

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
)

// Do does what a request says and gives what it came to, with the code that the program ends with. It is the only place
// that runs anything. What happens goes to the history, the log and the sinks, one event at a time; their End comes
// when the run has its number. Whoever the settings name is notified at last. When the context ends, every host
// finishes the task in hand.
func (p *Project) Do(ctx context.Context, q Request, to ...record.Sink) (*record.Run, error) {
	d, err := p.takeDialer(q)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	hosts, err := p.hosts(&q)
	if err != nil {
		return nil, err
	}
	w, err := p.prepare(ctx, &q, d, hosts)
	if err != nil {
		return nil, err
	}
	kept, err := p.begin(&q, w, hosts)
	if err != nil {
		return nil, err
	}
	sinks := append([]record.Sink{kept.log, kept.to}, to...)
	w.fleet.Notify = func(e record.Event) {
		for _, s := range sinks {
			s.Event(e)
		}
	}
	out := w.run(ctx, &q, hosts)
	r := kept.run(out)
	if len(out) == 0 {
		r.Code = CodeWrong
		kept.end(r)
		kept.wait()
		return r, problem.Errorf("these targets match no host, now that the facts are known").
			Remedy("`jadekettle hosts --group NAME` shows who is a member")
	}
	r.Code = q.code(ctx.Err() != nil, out)
	if q.Exec == nil {
		kept.to.Learn(p.Known, p.news(context.WithoutCancel(ctx), out, &q))
	}
	kept.end(r)
	for _, s := range to {
		err = errors.Join(err, s.End(r))
	}
	kept.wait()
	if !q.Before { // of which what follows reports
		p.notify(ctx, &q, r)
	}
	if err != nil {
		return r, err
	}
	return r, q.nothing(out)
}

// takeDialer gives the dialer that connects already, or a new one.
func (p *Project) takeDialer(q Request) (*reach.Dialer, error) {
	d := p.begun
	p.begun = nil
	err := q.Check()
	if err == nil && d == nil {
		d, err = p.Dialer(q.Passwords)
	}
	if err != nil && d != nil {
		d.Close()
	}
	return d, err
}

// hosts gives those that a request is about.
func (p *Project) hosts(q *Request) ([]*inventory.Host, error) {
	list, err := p.Select(q.Targets, q.Except)
	if err != nil {
		return nil, err
	}
	if q.Only != nil {
		list = named(list, q.Only)
	}
	if q.Undo == nil {
		return list, nil
	}
	names, _ := q.Undo.Changed()
	list = named(list, names)
	if len(list) == 0 {
		return nil, problem.Errorf("the run %d changed nothing on these hosts", q.Undo.Number).
			Remedy("it changed %s", strings.Join(inventory.Fold(names), ", "))
	}
	return list, nil
}

// named keeps the hosts of a list that have one of these names.
func named(list []*inventory.Host, names []string) []*inventory.Host {
	wanted := make(map[string]bool, len(names))
	for _, name := range names {
		wanted[name] = true
	}
	return slices.DeleteFunc(list, func(h *inventory.Host) bool { return !wanted[h.Name] })
}

// Outlook is what is known of a request before it begins.
type Outlook struct {
	Mode     string                   // of the run, as it is shown
	Would    bool                     // nothing is changed: differences would change
	Hosts    []string                 // that it is about, in order
	Meant    []string                 // those that are not off
	Parallel int                      // at once
	Usual    map[string]time.Duration // how long hosts took in earlier runs of its sort, where that is known
}

// Outlook reports it.
func (p *Project) Outlook(q Request) (*Outlook, error) {
	list, err := p.hosts(&q)
	if err != nil {
		return nil, err
	}
	out := &Outlook{Mode: q.recorded(), Would: q.looks(), Parallel: q.Parallel, Usual: map[string]time.Duration{}}
	if out.Parallel == 0 {
		out.Parallel = p.Settings.Parallel
	}
	for _, h := range list {
		out.Hosts = append(out.Hosts, h.Name)
		if h.Disabled == "" {
			out.Meant = append(out.Meant, h.Name)
		}
	}
	if q.Exec == nil {
		out.Usual = UsualTimes(p.Kept, p.Settings.Env, q.recorded(), q.Part.All())
	}
	return out, nil
}

// work is a run that is ready to begin.
type work struct {
	fleet   *run.Fleet
	id      plan.Run
	started time.Time
}

// prepare holds a request against the project, and makes the run ready.
func (p *Project) prepare(ctx context.Context, q *Request, d *reach.Dialer, hosts []*inventory.Host) (*work, error) {
	if err := q.Part.Check(p.Project); err != nil {
		return nil, err
	}
	w := &work{fleet: p.Fleet(d, q.Parallel)}
	if q.declared() {
		if err := w.fleet.Plans.Check(hosts); err != nil {
			return nil, err
		}
	}
	var err error
	if w.id, w.started, err = p.NewRun(ctx); err != nil {
		return nil, err
	}
	if q.rollsOut() {
		if w.fleet.Rollout, err = p.rollout(q, hosts); err != nil {
			return nil, err
		}
	}
	if q.Before || q.Mode == record.ModeApply && !q.Preview && q.Agreed == nil {
		p.warnOlder(ctx, w.id)
	}
	w.id.Preview, w.id.Drift = q.looks(), q.Mode == record.ModeDrift
	w.id.ShowClosed, w.id.Take, w.id.Forget, w.id.Adopt = q.ShowClosed, q.Take, q.Forget, q.Adopt
	w.id.Whole = q.Part.All() // from a part it cannot be seen what is no longer declared
	f := w.fleet
	f.Started, f.Retire, f.Undo, f.Foreseen = w.started, q.Mode == record.ModeRetire, undone(q.Undo), q.Agreed
	f.Digest, f.Selection = q.Digest, q.Part
	f.Chosen = func(h *inventory.Host, groups []*inventory.Group) bool {
		return p.Inventory.Chosen(q.Targets, q.Except, h, groups)
	}
	if q.Exec != nil && q.Exec.AsLogin {
		f.Open = func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			t := p.Target(h)
			t.Elevate = ""
			return p.connect(ctx, d, h, t, first)
		}
	}
	return w, nil
}

// undone gives what each host puts back of an earlier run; nil where there is none.
func undone(r *record.Run) map[string]*wire.Undo {
	if r == nil {
		return nil
	}
	names, changed := r.Changed()
	out := map[string]*wire.Undo{}
	for _, name := range names {
		out[name] = &wire.Undo{Run: r.Run, Tasks: changed[name]}
	}
	return out
}

// run goes over the hosts.
func (w *work) run(ctx context.Context, q *Request, hosts []*inventory.Host) []*record.Host {
	if q.Exec != nil {
		return w.fleet.Exec(ctx, hosts, q.Exec.Words, q.Exec.Limit)
	}
	return w.fleet.Run(ctx, hosts, w.id)
}

// NewRun names a run of this project.
func (p *Project) NewRun(ctx context.Context) (plan.Run, time.Time, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return plan.Run{}, time.Time{}, err
	}
	machine, err := os.Hostname()
	if err != nil {
		return plan.Run{}, time.Time{}, errors.Join(errors.New("this machine has no host name"), err)
	}
	revision, edited := p.revised(ctx)
	return plan.Run{Revision: revision, Edited: edited, ID: id.String(), Project: p.Settings.Project,
		Env: p.Settings.Env, Who: Me() + "@" + machine, ListAge: p.Settings.PackageListAge}, time.Now(), nil
}

// nothing says that a part of the tasks was meant of which no host had any.
func (q *Request) nothing(hosts []*record.Host) error {
	if q.Part.All() || !q.declared() || slices.ContainsFunc(hosts, func(h *record.Host) bool {
		return h.Planned > 0 || h.State != record.Reached && h.State != record.Disabled
	}) {
		return nil
	}
	if q.Mode == record.ModeVerify {
		return problem.Errorf("no probe is declared for any of these hosts").
			Remedy("declare one: [probe.\"the page responds\"]; see `jadekettle kinds probe`")
	}
	return problem.Errorf("no task on any of these hosts is selected").
		Remedy("`jadekettle preview -v` lists the tasks")
}

// Probes is the part of the tasks that only ask.
func (p *Project) Probes() Part {
	out := Part{Silent: true}
	for _, name := range p.Project.Kinds.Names() {
		if k, _ := p.Project.Kinds.Kind(name); k.Asks {
			out.Tasks = append(out.Tasks, name)
		}
	}
	return out
}

// warnOlder says when an apply is one of an older revision than the last one.
func (p *Project) warnOlder(ctx context.Context, id plan.Run) {
	if id.Revision == "" {
		return
	}
	last, ok := p.lastApply(id.Env)
	if !ok || last.Revision == "" || last.Revision == id.Revision || !p.before(ctx, id.Revision, last.Revision) {
		return
	}
	p.note("the revision %s is older than %s, which %s applied in run %d on %s", short(id.Revision),
		short(last.Revision), visible.Line(last.Who+"@"+last.Machine), last.Number, last.Started.Local().
			Format("2006-01-02 15:04 MST"))
}
