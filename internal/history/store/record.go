package store

import (
	"fmt"
	"maps"
	"sync"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
)

// Recorder writes a run while it goes. Its methods never wait for the file, but Number and
// Wait, for a short time.
type Recorder struct {
	p     Project
	db    *database
	id    int64
	head  record.Head
	hosts []string
	files *Files // may be nil

	mu    sync.Mutex
	queue []record.Event
	kick  chan struct{}
	begun chan struct{} // closed once it is kept that the run has begun, or cannot be
	over  chan struct{}
	done  chan struct{}
	last  ending
	err   error // why it cannot be kept; final once done is closed

	w writer // of the goroutine that writes
}

// ending is what comes with the end of a run.
type ending struct {
	code  int
	meant []string // the hosts that were meant, once all facts were known
	known Known
	news  News
}

// How often is written while a run goes, how often a run says that it is still alive, and how
// long its number and its end wait for a disk that is still. What is locked, or away, is given
// up sooner.
const (
	flushEvery = 50 * time.Millisecond
	beatEvery  = 2 * time.Second
	lastWait   = 90 * time.Second
)

// Begin begins to keep a run over these hosts. files, which may be nil, are those that the run
// is made of.
func (p Project) Begin(h record.Head, hosts []string, files *Files) *Recorder {
	r := &Recorder{p: p, head: h, hosts: hosts, files: files, kick: make(chan struct{}, 1), begun: make(chan struct{}),
		over: make(chan struct{}), done: make(chan struct{})}
	go r.write()
	return r
}

// Number gives the run's number, once it is kept that it has begun. The error says why it is
// not.
func (r *Recorder) Number() (int, error) {
	select {
	case <-r.begun:
		return r.head.Number, r.beginning()
	case <-time.After(lastWait):
		return 0, fmt.Errorf("the run could not be written within %v", lastWait)
	}
}

// beginning is why the run could not be kept from its beginning on.
func (r *Recorder) beginning() error {
	if r.id == 0 {
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.err
	}
	return nil
}

// begin keeps that the run has begun. While another process holds the file it tries again.
func (r *Recorder) begin() error {
	defer close(r.begun)
	const again, last = 100 * time.Millisecond, 2
	var err error
	for over := 0; ; {
		if err = r.tryBegin(); err == nil {
			return nil
		}
		if !passes(err) || over == last {
			return r.fail(err)
		}
		select {
		case <-r.over:
			over++
		case <-time.After(again):
		}
	}
}

func (r *Recorder) tryBegin() error {
	var err error
	if r.db, err = r.p.openAgain(); err != nil {
		return err
	}
	var id int64
	h := r.head
	if err := write(r.db, func(tx *transaction) error {
		var err error
		if id, err = r.p.insert(tx, &h, true); err != nil {
			return err
		}
		w := writer{tx: tx, run: id}
		for i, name := range r.hosts {
			if _, err := w.visit(name, i); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	r.id, r.head = id, h
	r.w = writer{project: r.p.ID, run: id, number: h.Number, started: h.Started}
	return nil
}

// fail notes why the run cannot be kept.
func (r *Recorder) fail(err error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.err = err
	return err
}

// Event takes what has happened in the run. It does not wait.
func (r *Recorder) Event(e record.Event) {
	r.mu.Lock()
	r.queue = append(r.queue, e)
	r.mu.Unlock()
	select {
	case r.kick <- struct{}{}:
	default:
	}
}

// Learn has it kept what the run has learnt of hosts, together with its end.
func (r *Recorder) Learn(in Known, n News) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.last.known, r.last.news = in, n
}

// End has it kept that the run has ended, with the code of the program, and over which hosts it went in the
// end. It does not wait, see Wait, and never fails.
func (r *Recorder) End(as *record.Run) error {
	r.mu.Lock()
	r.last.code, r.last.meant = as.Code, as.Names()
	r.mu.Unlock()
	close(r.over)
	return nil
}

// Wait waits until the end is kept. The error says why not all of the run could be.
func (r *Recorder) Wait() error {
	select {
	case <-r.done:
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.err
	case <-time.After(lastWait):
		return fmt.Errorf("the end of the run could not be written within %v", lastWait)
	}
}

// write writes what comes in until the run is over, and then its end. What finds the file
// locked is tried again with what comes next.
func (r *Recorder) write() {
	defer close(r.done)
	defer func() {
		if p := recover(); p != nil {
			r.fail(fmt.Errorf("internal error: %v", p))
		}
	}()
	if r.begin() != nil {
		return
	}
	r.letGo()
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	var open []record.Event
	var err error
	for over := false; !over; {
		long := false // since it was last written how far hosts are
		select {
		case <-r.kick:
			select {
			case <-time.After(flushEvery): // for more to come
			case <-r.over:
				over = true
			}
		case <-beat.C:
			long = true
			r.letGo()
		case <-r.over:
			over = true
		}
		r.mu.Lock()
		open = append(open, r.queue...)
		r.queue = nil
		r.mu.Unlock()
		if err != nil && !passes(err) {
			open = nil
			continue
		}
		if err = r.flush(open, over, long); err == nil {
			open = nil
		}
		for again := 0; over && passes(err) && again < 3; again++ {
			err = r.flush(open, true, false)
		}
	}
	if s := r.p.Store; err == nil && s.URL == "" && (inFile{path: s.File}).taken(s.file) {
		err = problem.Errorf("history database %s was removed during the run, which is not recorded", s.File).
			Remedy("find out what removed it; the next run creates a new one")
	}
	r.fail(err)
}

// letGo deletes runs that are kept no longer, one part after the other, until there is something to write. A run has
// the time while it connects to its hosts. That it cannot is no reason to fail, and shows at the next write.
func (r *Recorder) letGo() {
	if r.p.Keep <= 0 {
		return
	}
	for until := time.Now().Add(beatEvery / 2); time.Now().Before(until); {
		r.mu.Lock()
		busy := len(r.queue) > 0
		r.mu.Unlock()
		select {
		case <-r.over:
			return
		default:
		}
		if busy {
			return
		}
		if more, err := r.p.expire(r.db, time.Now().Add(-r.p.Keep)); !more || err != nil {
			return
		}
	}
}

// flush writes events, and at the end that the run is over. With show it writes as well how far hosts are.
func (r *Recorder) flush(events []record.Event, over, show bool) error {
	w := r.w
	w.waiting = maps.Clone(w.waiting)
	err := write(r.db, func(tx *transaction) error {
		w.tx = tx
		// what is read later, such as templates, comes with the end
		if r.files != nil && (w.files == 0 || over) && w.files != r.files.count() {
			id, err := r.files.tree(tx)
			if err != nil {
				return err
			}
			w.files = r.files.count()
			if err := tx.Exec("UPDATE run SET tree = ? WHERE id = ?", id, r.id); err != nil {
				return err
			}
		}
		for _, e := range events {
			if err := w.event(e); err != nil {
				return err
			}
		}
		if show || over {
			w.show()
		}
		if over {
			if err := w.end(r.last.code, r.last.meant); err != nil { // which nobody changes any more
				return err
			}
			return r.last.known.keep(tx, r.last.news, r.head.Number)
		}
		if err := w.insertRows(); err != nil {
			return err
		}
		return tx.Exec("UPDATE run SET beat = now_ms() WHERE id = ?", r.id)
	})
	if err != nil {
		r.w.ids = ids{} // some of them were never written
		return err
	}
	r.w = w
	return nil
}
