// Package worker is what runs on a managed host: it reads facts, takes the
// plan, and makes the host as declared, task by task. It speaks package wire
// over the session that started it and keeps no other connection.
package worker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/survey"
)

// Silence is how long nothing may be heard before a connection counts as broken.
const Silence = 60 * time.Second

// Serve runs one session to its end, or until it has heard nothing for so long
// (0 means Silence). The error is for the worker's own standard error; the
// controller receives it over the wire.
func Serve(ctx context.Context, m machine.Machine, r io.Reader, w io.Writer, silence time.Duration) error {
	if silence == 0 {
		silence = Silence
	}
	s := &session{
		m: m, conn: wire.NewConn(r, w), silence: silence, heard: NewPulse(), outbox: make(chan letter, 64),
		lost: make(chan struct{}),
		inbox: inbox{starts: make(chan *wire.Start, 1), plans: make(chan *wire.Plan, 4),
			chunks: make(chan *wire.Chunk, 4),
			proofs: make(chan *wire.Proved, 1), goes: make(chan struct{}, 1), bye: make(chan struct{}),
			stop: make(chan struct{})},
		results:   results{kick: make(chan struct{}, 1)},
		reporting: reporting{reportEvery: min(reportEvery, max(silence/12, time.Millisecond))},
	}
	done := make(chan struct{})
	defer close(done)
	go s.receive()
	go s.deliver(done)
	go s.watch(done)
	err := s.serve(ctx)
	if err != nil && !errors.Is(err, errLost) {
		p := problem.From(err)
		s.send(wire.Message{Fault: &wire.Fault{Message: p.What, Do: p.Do}})
	}
	s.drain()
	return err
}

var errLost = errors.New("the connection to the controller was lost")

// session is one conversation with a controller.
type session struct {
	m       machine.Machine
	conn    *wire.Conn
	silence time.Duration
	heard   *Pulse
	outbox  chan letter

	lost      chan struct{} // closed when the connection is gone
	breakOnce sync.Once

	inbox
	results
	reporting
}

// inbox is what the controller has said, by what it is about.
type inbox struct {
	starts chan *wire.Start
	plans  chan *wire.Plan
	chunks chan *wire.Chunk
	asked  sync.Map // what the controller was asked, by task: of chan *wire.Answer
	proofs chan *wire.Proved
	goes   chan struct{} // it lets a foreseen plan go on
	bye    chan struct{} // closed when it has all
	stop   chan struct{} // closed when it asks to end after the task in hand

	stopOnce, byeOnce sync.Once
}

// results are those that wait to be sent.
type results struct {
	mu    sync.Mutex
	queue []plan.Result
	kick  chan struct{}
}

// reporting is how often the controller hears how tasks get on.
type reporting struct {
	quiet       bool // nobody wants to
	reportEvery time.Duration
}

func (s *session) breakOff() { s.breakOnce.Do(func() { close(s.lost) }) }

// receive sorts what comes in until the connection ends.
func (s *session) receive() {
	defer s.breakOff()
	for {
		m, err := s.conn.Receive()
		if err != nil {
			return
		}
		s.heard.Beat()
		switch {
		case m.Start != nil:
			pass(s, s.starts, m.Start)
		case m.Plan != nil:
			pass(s, s.plans, m.Plan)
		case m.Chunk != nil:
			pass(s, s.chunks, m.Chunk)
		case m.Answer != nil:
			if to, ok := s.asked.LoadAndDelete(m.Answer.Task); ok {
				to.(chan *wire.Answer) <- m.Answer // which has room for one
			}
		case m.Stop != nil:
			s.stopOnce.Do(func() { close(s.stop) })
		case m.Proved != nil:
			select {
			case s.proofs <- m.Proved:
			default: // nobody waits for it
			}
		case m.Go != nil:
			select {
			case s.goes <- struct{}{}:
			default: // it was said before
			}
		case m.Bye != nil:
			s.byeOnce.Do(func() { close(s.bye) })
		}
	}
}

func pass[T any](s *session, to chan T, v T) {
	select {
	case to <- v:
	case <-s.lost:
	}
}

// letter is a message on its way out, or, with no message, a mark whose done is
// closed when all before it is written.
type letter struct {
	message wire.Message
	done    chan struct{}
}

// send hands a message over to be written. It does not wait for that: a write
// to a connection that is dead but not closed may never end, and the host must
// be let go all the same.
func (s *session) send(m wire.Message) error { return s.hand(letter{message: m}) }

func (s *session) hand(l letter) error {
	select {
	case <-s.lost:
		return errLost
	default:
	}
	select {
	case s.outbox <- l:
		return nil
	case <-s.lost:
		return errLost
	}
}

// drain waits until all is written, or the connection is lost.
func (s *session) drain() {
	mark := letter{done: make(chan struct{})}
	if s.hand(mark) != nil {
		return
	}
	select {
	case <-mark.done:
	case <-s.lost:
	}
}

// deliver writes what is handed over, in order.
func (s *session) deliver(done chan struct{}) {
	for {
		select {
		case l := <-s.outbox:
			if l.done != nil {
				close(l.done)
				continue
			}
			if s.conn.Send(l.message) != nil {
				s.breakOff()
				return
			}
		case <-done:
			return
		}
	}
}

// watch pings, and breaks off after a long silence.
func (s *session) watch(done chan struct{}) {
	t := time.NewTicker(s.silence / 4)
	defer t.Stop()
	for {
		select {
		case <-done:
			return
		case <-s.lost:
			return
		case <-t.C:
		}
		if s.heard.Silent() > s.silence {
			s.breakOff()
			return
		}
		select {
		case s.outbox <- letter{message: wire.Message{Ping: &wire.Ping{}}}:
		default: // enough is on its way
		}
	}
}

func next[T any](s *session, from chan T) (T, error) {
	select {
	case v := <-from:
		return v, nil
	default:
	}
	select {
	case v := <-from:
		return v, nil
	case <-s.lost:
		var zero T
		return zero, errLost
	}
}

// ending says whether to stop before the next task.
func (s *session) ending() bool {
	select {
	case <-s.lost:
		return true
	case <-s.stop:
		return true
	default:
		return false
	}
}

func (s *session) serve(ctx context.Context) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("internal error in the worker: %v", r)
		}
	}()
	start, err := next(s, s.starts)
	if err != nil {
		return err
	}
	if start.Format != wire.Format {
		return fmt.Errorf("the controller speaks format %d, this worker %d", start.Format, wire.Format)
	}
	if err := s.send(wire.Message{Hello: &wire.Hello{Format: wire.Format}}); err != nil {
		return errLost
	}
	if len(start.Capture) > 0 {
		return s.capture(ctx, start.Capture)
	}
	if start.Exec != nil {
		return s.exec(ctx, start.Exec)
	}
	if start.OnlyFacts {
		return s.send(wire.Message{Facts: survey.Read(ctx, s.m, start)})
	}
	store, err := ledger.Open(s.m, start.Run)
	var busy *ledger.BusyError
	if errors.As(err, &busy) {
		return s.send(wire.Message{Busy: &wire.Busy{Holder: busy.Holder, Since: max(0, busy.Since.Unix())}})
	}
	if err != nil {
		return err
	}
	if err := s.holding(ctx, store, start); err != nil {
		return err
	}
	return s.send(wire.Message{Bye: &wire.Bye{}}) // the lock is free again
}

// holding is run, and lets the host go whatever happens.
func (s *session) holding(ctx context.Context, store *ledger.Store, start *wire.Start) error {
	defer store.Close()
	return s.run(ctx, store, start)
}

// run takes one run to its end, with the host's lock held.
func (s *session) run(ctx context.Context, store *ledger.Store, start *wire.Start) error {
	collected, err := s.collect(ctx, store, start.Run)
	if err != nil {
		return err
	}
	r := newRunner(s, store, start.Run)
	if start.Resume != nil {
		if over, err := s.resume(r, start.Resume); over || err != nil {
			return err
		}
	}
	r.guard = r.guardFor(start)
	r.unproved, r.login = start.Unproved, loginOf(s.m, start.Login)
	r.past = store.OpenPast(start.Past.Age, start.Past.Size)
	defer r.past.Close()
	s.survey(ctx, r, start)
	goOn, err := s.planned(ctx, r, start)
	if errors.Is(err, errStopped) || err == nil && !goOn {
		return s.end(store, &wire.Done{})
	}
	if err != nil {
		return err
	}
	if !start.Run.Preview {
		if err := store.Begin(collected); err != nil {
			return err
		}
	}
	if start.Resume != nil {
		if err := r.goOn(start.Resume); err != nil {
			return err
		}
	}
	rebooting, err := s.work(ctx, r)
	if rebooting {
		return nil
	}
	<-r.surveyed
	return s.finish(ctx, r, start, collected, err)
}

// survey sends the facts: beside what follows where the plan has come along already.
func (s *session) survey(ctx context.Context, r *runner, start *wire.Start) {
	r.warm(ctx)
	r.surveyed = make(chan struct{})
	report := func() {
		s.send(wire.Message{Facts: survey.Read(ctx, s.m, start)})
		close(r.surveyed)
	}
	if start.Planned {
		go report()
	} else {
		report()
	}
}

// planned takes the plan, and says whether it is to be done: where somebody has agreed to something, only if this
// is it.
func (s *session) planned(ctx context.Context, r *runner, start *wire.Start) (goOn bool, err error) {
	tasks, err := s.plan()
	if err != nil {
		return false, err
	}
	r.acceptPlan(tasks)
	if start.Digest {
		if r.digest, err = r.digester(); err != nil {
			return false, err
		}
	}
	if start.Foresee {
		return s.foresee(ctx, r, start)
	}
	return true, nil
}

// finish ends a run whose tasks are over: what is undeclared, what is kept, and the last message to the controller.
// err is why the tasks did not come to their end.
func (s *session) finish(ctx context.Context, r *runner, start *wire.Start, collected []ledger.Record,
	err error) error {
	var left []plan.Undeclared
	if err == nil {
		left, err = s.last(ctx, r, start)
	}
	if !start.Run.Preview {
		_ = service.Load(ctx, r.env) // else the next run that declares the service finds it not loaded
	}
	store := r.store
	err = errors.Join(err, store.Finish(start.Run))
	if r.moved() { // whether the controller is still there or not
		r.log(ctx)
	}
	if err != nil {
		return err
	}
	r.prune()
	pending := store.AllPending()
	if !r.moved() && len(collected) == 0 {
		store.Delivered() // a run that found everything as declared is not a loss
		store.Close()
		return s.send(wire.Message{Done: &wire.Done{Undeclared: left, Pending: pending, Free: true,
			Notice: store.Said}})
	}
	return s.end(store, &wire.Done{Undeclared: left, Pending: pending})
}

// collect sends what earlier runs did whose results never arrived.
func (s *session) collect(ctx context.Context, store *ledger.Store, run plan.Run) ([]ledger.Record, error) {
	collected, err := store.Collect()
	if err != nil {
		return nil, fmt.Errorf("read the journal of an earlier run: %w", err)
	}
	if rec, ok := foundPutBack(ctx, s.m, store, run); ok {
		collected = append(collected, rec)
	}
	if len(collected) == 0 {
		return nil, nil
	}
	if err := store.Save(); err != nil { // the ledger has learnt from the journal
		return nil, err
	}
	for _, rec := range collected {
		for part := range chunked(rec.Results) {
			if s.send(wire.Message{Collected: &wire.Collected{Run: rec.Run.ID, Results: part}}) != nil {
				return nil, errLost
			}
		}
	}
	return collected, nil
}

// streaming does some work while what it posts is sent, until all is sent.
func (s *session) streaming(work func() error) error {
	flushed, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(flushed)
		s.flush(over)
	}()
	err := work()
	close(over)
	select {
	case <-flushed:
	case <-s.lost:
	}
	return err
}

// end says that all is reported, and forgets the journal once it has arrived.
func (s *session) end(store *ledger.Store, done *wire.Done) error {
	done.Notice = store.Said
	if s.send(wire.Message{Done: done}) != nil {
		return errLost
	}
	if _, err := next(s, s.bye); err != nil {
		return err
	}
	store.Delivered()
	return nil
}

// errStopped says that the run was stopped before its plan had come. What is
// declared is not known then, so nothing can be reported to be no longer declared.
var errStopped = errors.New("stopped before the plan arrived")

// maxTasks bounds a plan.
const maxTasks = 1 << 20

// plan takes the parts of the plan.
func (s *session) plan() ([]plan.Task, error) {
	var tasks []plan.Task
	for {
		var p *wire.Plan
		select {
		case <-s.stop:
			return nil, errStopped
		case <-s.lost:
			return nil, errLost
		case p = <-s.plans:
		}
		tasks = append(tasks, p.Tasks...)
		if len(tasks) > maxTasks {
			return nil, fmt.Errorf("the plan has more than %d tasks", maxTasks)
		}
		if p.Last {
			return tasks, check(tasks)
		}
	}
}

// check makes sure that tasks name earlier tasks only.
func check(tasks []plan.Task) error {
	for i, t := range tasks {
		if t.ID != i {
			return fmt.Errorf("the plan has a wrong number at task %d", i)
		}
		for _, n := range slices.Concat(t.Needs, t.Only) {
			if n < 0 || n >= i {
				return fmt.Errorf("task %d of the plan refers to task %d, which does not come before it", i, n)
			}
		}
	}
	return nil
}

// post hands results to be sent. It never waits.
func (s *session) post(results []plan.Result) {
	s.mu.Lock()
	s.queue = append(s.queue, results...)
	s.mu.Unlock()
	select {
	case s.kick <- struct{}{}:
	default:
	}
}

// flush sends what is posted, together what has gathered meanwhile, until all
// is over and sent.
func (s *session) flush(over chan struct{}) {
	for {
		last := false
		select {
		case <-s.kick:
		case <-over:
			last = true
		}
		s.mu.Lock()
		list := s.queue
		s.queue = nil
		s.mu.Unlock()
		for part := range chunked(list) {
			if s.send(wire.Message{Results: &wire.Results{List: part}}) != nil {
				return
			}
		}
		if last {
			return
		}
	}
}

// chunked splits results so that each part fits into a frame.
func chunked(list []plan.Result) func(yield func([]plan.Result) bool) {
	return func(yield func([]plan.Result) bool) {
		start, size := 0, 0
		for i, r := range list {
			n := weight(r)
			if i > start && size+n > wire.MaxFrame/4 {
				if !yield(list[start:i]) {
					return
				}
				start, size = i, 0
			}
			size += n
		}
		if start < len(list) {
			yield(list[start:])
		}
	}
}

func weight(r plan.Result) int {
	n := 256 + len(r.Message) + len(r.Output) + len(r.Ref.Name)
	for _, c := range slices.Concat(r.Changes, r.Written) {
		n += 64 + len(c.Was) + len(c.Becomes) + len(c.Diff)
	}
	return n
}
