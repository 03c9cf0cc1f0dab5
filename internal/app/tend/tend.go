// Package tend runs the schedules of a project for as long as it lives: it starts jobs when
// they are due, one run for a host at a time, reads the project again when its source moves, and
// keeps what it has done, so that one that comes after it goes on from there.
//
// It knows neither projects nor runs: a Tender is given what reads the one and starts the other.
package tend

import (
	"context"
	"fmt"
	"slices"
	"time"

	"jadekettle/internal/core/schedule"
	"jadekettle/internal/core/value"
)

// Job is one job with a schedule.
type Job struct {
	Name     string
	Schedule *schedule.Schedule
	Hosts    []string // that it goes over
	AtOnce   bool     // it starts as soon as it is known, too
}

// Project is what was read of a project.
type Project struct {
	Name     string // its identity
	Revision string // the commit that it is at; empty outside of git
	Jobs     []Job
}

// Result is what a start came to.
type Result struct {
	Code int    // that it ended with
	Run  int    // the run's number; 0 when none is known
	Said string // how it went, in a few words
}

// Tender runs schedules.
type Tender struct {
	// Read reads the project; nil when nothing has moved since it was read last. With an error
	// it may give one that was read by an earlier tender.
	Read func(ctx context.Context) (*Project, error)
	// Start starts a job and waits for its end. began is called with the process once there is
	// one.
	Start func(ctx context.Context, name string, began func(pid int)) Result
	// Lives says whether a process of an earlier tender is still at work on a job.
	Lives func(pid int) bool
	// Keep keeps the state, before anything is done that it reports.
	Keep func(*State) error
	// Report prints what happens, in a line.
	Report func(format string, args ...any)
	// Alive is called at least every Beat, for a watchdog. May be nil.
	Alive func(*State)

	Look time.Duration // how often it is looked whether the source has moved
	Beat time.Duration // how often Alive is called
	Most int           // jobs at once

	progress
}

// progress is what a Tender is at.
type progress struct {
	state   *State
	project *Project
	queue   []string
	dueAt   map[string]time.Time // of what is queued
	named   map[string]Job       // those of the project
	running map[string]Job
	ended   chan ending
	pids    chan begun
	reads   chan reading
	busy    bool // the project is being read
	unkept  bool // it was reported that nothing can be kept
}

// reading is what reading the project came to.
type reading struct {
	project *Project
	err     error
}

type ending struct {
	name string
	Result
}

type begun struct {
	name string
	pid  int
}

// putBack is how far a clock may go back and no start comes twice for it: until it has caught up none comes.
const putBack = time.Hour + time.Minute

// grace is how late a start may be begun and count as one that was not missed.
const grace = time.Minute

// State is what a tender has done and is doing, as it is kept.
type State struct {
	Format int `json:"format"`
	Status
	Jobs map[string]*Done `json:"jobs" doc:"Its jobs, by name."`
}

// Status is where a tender is, besides its jobs.
type Status struct {
	PID      int       `json:"pid" doc:"Its process."`
	Machine  string    `json:"machine" doc:"The machine it runs on."`
	Since    time.Time `json:"since,omitzero" doc:"When it was started, in UTC."`
	Source   string    `json:"source" doc:"The source of the project: a directory or a git repository."`
	Revision string    `json:"revision" doc:"The commit of the project; empty outside of git."`
	Read     time.Time `json:"read,omitzero" doc:"When the project was last read because it had changed."`
	Looked   time.Time `json:"checked,omitzero" doc:"When it was last checked for changes."`
	Wrong    string    `json:"error" doc:"Why the project cannot be read; empty if it can."`
	WrongAt  time.Time `json:"error_since,omitzero" doc:"Since when."`
}

// Done is what became of one job.
type Done struct {
	Seen    time.Time `json:"seen,omitzero" doc:"The time up to which all starts are accounted for."`
	Next    time.Time `json:"next,omitzero" doc:"The next start."`
	Queued  bool      `json:"queued" doc:"Whether it is due and waiting for hosts that another job is using."`
	Running bool      `json:"running" doc:"Whether it is running."`
	PID     int       `json:"pid" doc:"The process that runs it; 0 if none."`
	Began   time.Time `json:"began,omitzero" doc:"When it was last started."`
	Ended   time.Time `json:"ended,omitzero" doc:"When that run ended."`
	Late    float64   `json:"late" doc:"How long after its due time it was started, in seconds."`
	Code    int       `json:"code" doc:"Its exit status."`
	Run     int       `json:"run" doc:"The number of that run; 0 if unknown."`
	Said    string    `json:"result" doc:"Its result."`
	Starts  int       `json:"starts" doc:"The number of starts."`
	Failed  int       `json:"failed" doc:"The number of runs with an exit status other than 0."`
	Missed  int       `json:"missed" doc:"The number of starts that were missed, or due while it was running."`
}

// Run runs until ctx is done, and then waits for what runs. before is the state that an earlier
// tender left; nil for none.
func (t *Tender) Run(ctx context.Context, before *State) error {
	t.state = before
	if t.state == nil {
		t.state = &State{}
	}
	t.state.Format = 1
	if t.state.Jobs == nil {
		t.state.Jobs = map[string]*Done{}
	}
	t.state.Since = time.Now().UTC()
	t.running, t.dueAt = map[string]Job{}, map[string]time.Time{}
	t.ended, t.pids, t.reads = make(chan ending), make(chan begun), make(chan reading, 1)
	p, err := t.Read(ctx)
	if err := t.have(reading{p, err}); err != nil {
		return err
	}
	t.takeOver()
	for looked := time.Now(); ctx.Err() == nil; {
		now := time.Now()
		if !t.busy && (now.Sub(looked) >= t.Look || now.Before(looked)) {
			looked, t.busy = now, true
			go func() { // what is far away may take long, and holds up no start
				p, err := t.Read(ctx)
				t.reads <- reading{p, err}
			}()
		}
		if err := t.due(ctx, now); err != nil {
			return err
		}
		if t.Alive != nil {
			t.Alive(t.state)
		}
		if err := t.wait(ctx, now, looked); err != nil {
			return err
		}
	}
	return t.close()
}

// have takes what was read of the project. What cannot be read leaves the one that was.
func (t *Tender) have(r reading) error {
	now, p, err := time.Now().UTC(), r.project, r.err
	t.state.Looked = now
	switch {
	case err != nil && t.project == nil && p == nil:
		return err // there is nothing to tend
	case err != nil:
		if t.state.Wrong == "" {
			t.state.WrongAt = now
			t.Report("the project cannot be read, so the last good version is kept: %v", err)
		}
		if t.state.Wrong = err.Error(); p == nil {
			t.keep()
			return nil
		}
	case t.state.Wrong != "":
		t.Report("the project can be read again")
	}
	if err == nil {
		t.state.Wrong, t.state.WrongAt = "", time.Time{}
	}
	if p == nil {
		t.keep() // that it was looked
		return nil
	}
	t.project, t.state.Revision = p, p.Revision
	if err == nil {
		t.state.Read = now
	}
	t.named = map[string]Job{}
	for _, j := range p.Jobs {
		t.named[j.Name] = j
		d := t.state.Jobs[j.Name]
		if d == nil || d.Seen.Sub(now) > 24*time.Hour { // new, or of a clock that was far ahead
			if d = (&Done{Seen: now}); j.AtOnce {
				t.queue, t.dueAt[j.Name] = append(t.queue, j.Name), now
			}
			t.state.Jobs[j.Name] = d
		}
		d.Next, _ = j.Schedule.Next(p.Name+"/"+j.Name, d.Seen) // which may be one that was missed
	}
	for name := range t.state.Jobs {
		_, there := t.named[name]
		if _, runs := t.running[name]; !there && !runs {
			delete(t.state.Jobs, name)
		}
	}
	t.queue = slices.DeleteFunc(t.queue, func(name string) bool { return t.named[name].Schedule == nil })
	t.Report("jobs with a schedule: %d%s", len(p.Jobs), at(p.Revision))
	t.keep()
	return nil
}

func at(revision string) string {
	if revision == "" {
		return ""
	}
	return ", at " + revision[:min(12, len(revision))]
}

// takeOver looks after what an earlier tender was at: what still runs is waited for, and what
// was broken off is started again where a missed start is.
func (t *Tender) takeOver() {
	for _, j := range t.jobs() {
		d := t.state.Jobs[j.Name]
		d.Queued = false
		if !d.Running {
			continue
		}
		if d.PID > 0 && t.Lives(d.PID) {
			t.running[j.Name] = j
			t.Report("%s is still running, as process %d", j.Name, d.PID)
			pid := d.PID
			go func() {
				for t.Lives(pid) {
					time.Sleep(time.Second)
				}
				t.ended <- ending{j.Name, Result{Said: "it was started by an earlier process"}}
			}()
			continue
		}
		d.Running, d.PID = false, 0
		t.Report("%s was interrupted", j.Name)
		if d.Said = "it was interrupted"; j.Schedule.Missed == schedule.Once && j.Schedule.Open(time.Now()) {
			t.queue, t.dueAt[j.Name] = append(t.queue, j.Name), d.Began
		}
	}
}

func (t *Tender) jobs() []Job {
	if t.project == nil {
		return nil
	}
	return t.project.Jobs
}

// due queues what is due, and starts what can be.
func (t *Tender) due(ctx context.Context, now time.Time) error {
	for _, j := range t.jobs() {
		d, id := t.state.Jobs[j.Name], t.project.Name+"/"+j.Name
		if ahead := d.Seen.Sub(now); ahead > putBack { // what it saw then has not come yet
			t.Report("the clock was set back by %v: %s follows the new time", ahead.Round(time.Second),
				j.Name)
			d.Seen = now.UTC()
			d.Next, _ = j.Schedule.Next(id, now)
		}
		if d.Next.IsZero() || d.Next.After(now) {
			continue
		}
		n, last := j.Schedule.Starts(id, d.Seen, now)
		d.Seen = now.UTC()
		d.Next, _ = j.Schedule.Next(id, now)
		_, runs := t.running[j.Name]
		onTime := now.Sub(last) <= grace
		switch {
		case runs || slices.Contains(t.queue, j.Name):
			d.Missed += n
			t.Report("%s is due, but still running since %s", j.Name, d.Began.Local().Format("15:04:05"))
			continue
		case onTime, j.Schedule.Missed == schedule.Once && j.Schedule.Open(now):
			t.queue, t.dueAt[j.Name] = append(t.queue, j.Name), last
			if n--; n > 0 {
				d.Missed += n
			}
		default:
			d.Missed += n
		}
		if n > 0 {
			t.Report("%s missed %d of its starts, the last at %s", j.Name, n, last.Local().
				Format("2006-01-02 15:04 MST"))
		}
	}
	return t.begin(ctx, now)
}

// begin starts what is queued and goes over no host that another job goes over.
func (t *Tender) begin(ctx context.Context, now time.Time) error {
	if len(t.queue) == 0 {
		return nil
	}
	var ready []Job
	taken := map[string]bool{}
	for _, j := range t.running {
		for _, h := range j.Hosts {
			taken[h] = true
		}
	}
	t.queue = slices.DeleteFunc(t.queue, func(name string) bool {
		j := t.named[name]
		wait := len(t.running)+len(ready) >= t.Most || slices.ContainsFunc(j.Hosts,
			func(h string) bool { return taken[h] })
		for _, h := range j.Hosts { // also of one that waits, so that none comes before it for ever
			taken[h] = true
		}
		if t.state.Jobs[name].Queued = wait; !wait {
			ready = append(ready, j)
		}
		return !wait
	})
	if len(ready) == 0 {
		return nil
	}
	for _, j := range ready {
		d := t.state.Jobs[j.Name]
		d.Starts, d.Queued, d.Late = d.Starts+1, false, now.Sub(t.dueAt[j.Name]).Seconds()
		d.Running, d.Began, d.Ended, d.Code, d.Run, d.Said, d.PID = true, now.UTC(), time.Time{}, 0, 0, "", 0
	}
	// before anything is begun: a start that is not kept might be done twice
	if !t.keep() { // as on a full disk, which somebody makes room on: it is tried again
		for i, j := range ready {
			d := t.state.Jobs[j.Name]
			d.Starts, d.Running, d.Queued, d.Said = d.Starts-1, false, true, "it waits until its start can be saved"
			t.queue = slices.Insert(t.queue, i, j.Name)
		}
		return nil
	}
	for _, j := range ready {
		t.running[j.Name] = j
		t.Report("%s starts", j.Name)
		go func() {
			r := t.Start(ctx, j.Name, func(pid int) { t.pids <- begun{j.Name, pid} })
			t.ended <- ending{j.Name, r}
		}()
	}
	return nil
}

// wait waits for what comes next.
func (t *Tender) wait(ctx context.Context, now, looked time.Time) error {
	const most = 30 * time.Second // a clock may be put meanwhile, which no timer sees
	next := now.Add(most)
	for _, j := range t.jobs() {
		if d := t.state.Jobs[j.Name]; !d.Next.IsZero() && d.Next.Before(next) {
			next = d.Next
		}
	}
	if at := looked.Add(t.Look); !t.busy && at.Before(next) {
		next = at
	}
	if at := now.Add(t.Beat); at.Before(next) {
		next = at
	}
	timer := time.NewTimer(max(next.Sub(now), time.Millisecond))
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	case b := <-t.pids:
		t.noted(b)
		t.drain()
	case e := <-t.ended:
		t.finish(e)
		t.drain()
	case r := <-t.reads:
		t.busy = false
		if ctx.Err() == nil {
			return t.have(r)
		}
	}
	return nil
}

// drain takes what else has happened by now, and keeps all of it at once.
func (t *Tender) drain() {
	for {
		select {
		case b := <-t.pids:
			t.noted(b)
		case e := <-t.ended:
			t.finish(e)
		default:
			t.keep()
			return
		}
	}
}

func (t *Tender) noted(b begun) {
	if d := t.state.Jobs[b.name]; d != nil {
		d.PID = b.pid
	}
}

// finish notes that a job has ended.
func (t *Tender) finish(e ending) {
	delete(t.running, e.name)
	d := t.state.Jobs[e.name]
	if d == nil {
		return
	}
	d.Running, d.PID, d.Ended, d.Code, d.Run, d.Said = false, 0, time.Now().UTC(), e.Code, e.Run, e.Said
	if e.Code != 0 {
		d.Failed++
	}
	t.Report("%s ended with exit status %d%s", e.name, e.Code, said(e.Result))
}

func said(r Result) string {
	out := ""
	if r.Run > 0 {
		out = fmt.Sprintf(", run %d", r.Run)
	}
	if r.Said != "" {
		out += ": " + r.Said
	}
	return out
}

// keep keeps the state, and says once that it cannot be, and once that it can be again. It is not a reason to end.
func (t *Tender) keep() bool {
	err := t.Keep(t.state)
	switch {
	case err != nil && !t.unkept:
		t.Report("the state cannot be saved, and nothing is started until it can: %v", err)
	case err == nil && t.unkept:
		t.Report("the state can be saved again")
	}
	t.unkept = err != nil
	return err == nil
}

// close waits for what runs.
func (t *Tender) close() error {
	if len(t.running) > 0 {
		t.Report("stopping: waiting for %v", value.Keys(t.running))
	}
	for len(t.running) > 0 {
		select {
		case b := <-t.pids:
			t.noted(b)
			t.drain()
		case e := <-t.ended:
			t.finish(e)
			t.drain()
		case <-time.After(t.Beat):
			if t.Alive != nil {
				t.Alive(t.state)
			}
		}
	}
	t.keep()
	return nil
}
