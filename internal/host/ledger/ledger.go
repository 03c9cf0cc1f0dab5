// Package ledger keeps what a host remembers between runs, in one folder of
// its own: the ledger of managed things and pending restarts, the journal of
// results not yet delivered, the lock, and the candidates that a killed run
// may have left beside their targets.
package ledger

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/machine"
)

// Format is the number of the ledger's form.
const Format = 1

// Pending is a restart or reload that is pending for a service.
type Pending struct {
	Action string        `json:"action"` // plan.Restart, plan.Reload or plan.Follow
	Cause  value.Ref     `json:"cause"`  // whose change made it due
	Boot   string        `json:"boot"`   // the kernel's boot id then
	Uptime time.Duration `json:"uptime"` // how long the host had been up then
	// Open says that the change is being made: no start in this boot has paid it.
	Open   bool `json:"open,omitempty"`
	Coming bool `json:"-"` // in a preview: the cause would change
}

// Ledger is the content of ledger.json.
type Ledger struct {
	Format  int                      `json:"format"`
	Entries map[value.Ref]plan.Entry `json:"entries"`
	Pending map[value.Ref][]Pending  `json:"pending,omitempty"`
	// Absent are things that are declared absent and were found or made so: what is there
	// since then was put there by others.
	Absent map[value.Ref]plan.Entry `json:"absent,omitempty"`
}

// Store is the folder that all of it is in. The zero Store is not usable.
type Store struct {
	Ledger

	m       machine.Machine
	dir     machine.Dir
	path    string
	project string
	lock    io.Closer
	dirty   bool
	// Said is what somebody should know of what lay there; mostly empty.
	Said string

	journal    machine.File
	unnamed    bool // the journal's name is not on disk for sure
	straysFile machine.File
	strays     []string // what is noted in it
}

// Folder gives where a machine's store lies: root's in /var/lib, another
// user's in that user's home, and there under the machine's own id when other
// machines may have the same home.
func Folder(m machine.Machine) string {
	if m.UID() == 0 {
		return "/var/lib/jadekettle"
	}
	at := path.Join(m.Home(), ".local/state/jadekettle")
	if !overNetwork(m, m.Home()) {
		return at
	}
	for _, name := range []string{"/etc/machine-id", "/etc/hostname"} {
		id, err := machine.ReadFile(m, name)
		if own := strings.TrimSpace(string(id)); err == nil && own != "" && !strings.ContainsAny(own, "/. \n") {
			return path.Join(at, own)
		}
	}
	return at
}

// networked are the types of file systems that several machines can have at a
// time, as /proc/mounts writes them.
var networked = []string{"nfs", "nfs4", "cifs", "smb3", "9p", "afs", "ceph", "lustre", "fuse.sshfs", "fuse.glusterfs",
	"virtiofs", "ocfs2", "gfs2"}

// overNetwork says whether a path is on such a file system.
func overNetwork(m machine.Machine, p string) bool {
	mounts, err := machine.ReadFile(m, "/proc/mounts")
	if err != nil {
		return false
	}
	best, kind := "", ""
	for line := range strings.Lines(string(mounts)) {
		f := strings.Fields(line)
		if len(f) < 3 {
			continue
		}
		if at := strings.TrimSuffix(f[1], "/"); (p == at || strings.HasPrefix(p, at+"/")) && len(at) >= len(best) {
			best, kind = at, f[2]
		}
	}
	return slices.Contains(networked, kind)
}

// BusyError says who holds a host.
type BusyError struct {
	Holder plan.Run
	Since  time.Time
}

func (e *BusyError) Error() string { return "another run has locked this host" }

// Open takes the host's lock for a run and reads the ledger. It gives a
// *BusyError when another run has the lock.
func Open(m machine.Machine, run plan.Run) (*Store, error) {
	s := &Store{m: m, path: Folder(m), project: run.Project}
	d, err := makeFolder(m, s.path)
	if no := noRoom(err, s.path); no != nil {
		return nil, no
	}
	if err != nil && m.UID() != 0 {
		return nil, problem.Errorf("no directory found for the host's state: %w", err).
			Remedy("give the login user a writable home directory, or become root with connect.elevate")
	}
	if err != nil {
		return nil, err
	}
	s.dir = d
	s.lock, err = m.Lock(path.Join(s.path, "lock"))
	if errors.Is(err, machine.ErrLocked) {
		busy := &BusyError{}
		var h holder
		if s.read("holder.json", &h) == nil {
			busy.Holder, busy.Since = h.Run, h.Since
		}
		d.Close()
		return nil, busy
	}
	if err != nil {
		d.Close()
		return nil, fmt.Errorf("take the lock in %s: %w", s.path, err)
	}
	if err := s.load(run); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

type holder struct {
	plan.Run
	Since time.Time `json:"since"`
}

func (s *Store) load(run plan.Run) error {
	// Who holds it is of no use after a power cut, so it is not synced.
	err := s.replaceQuick("holder.json", holder{run, s.m.Now().UTC().Truncate(time.Second)})
	if no := noRoom(err, s.path); no != nil {
		return no
	}
	if err != nil {
		return err
	}
	if err := s.readLedger(); err != nil {
		return err
	}
	if s.Entries == nil {
		s.Entries = map[value.Ref]plan.Entry{}
	}
	if s.Pending == nil {
		s.Pending = map[value.Ref][]Pending{}
	}
	if run.Preview {
		return nil // strays lie outside our own folder
	}
	return s.sweep()
}

// The ledger, and the one before it: where a ledger cannot be read, what was good last counts.
const (
	ledgerFile = "ledger.json"
	beforeFile = "ledger-before.json"
	brokenFile = "ledger-broken.json"
)

// readLedger reads the ledger, and where that is broken or gone the one before it.
func (s *Store) readLedger() error {
	at := path.Join(s.path, ledgerFile)
	err := s.read(ledgerFile, &s.Ledger)
	if err == nil && s.Format < 1 {
		err = fmt.Errorf("%w: it has no format", errBroken)
	}
	gone := errors.Is(err, fs.ErrNotExist)
	switch {
	case gone || errors.Is(err, errBroken):
		var before Ledger
		again := s.read(beforeFile, &before)
		if again != nil || before.Format != Format {
			if gone {
				s.Ledger = Ledger{Format: Format}
				return nil
			}
			return problem.Errorf("read the ledger %s: %w; no earlier version exists", at, err).
				Remedy("move it away on the host; the next apply records again what is managed there, but not what " +
					"is no longer declared by then")
		}
		s.Ledger, s.dirty = before, true
		if gone { // between the two steps in which it is written
			return nil
		}
		s.Said = fmt.Sprintf("the ledger %s could not be read (%v), so the previous version is used; the broken "+
			"one is kept as %s", at, err, brokenFile)
		return s.dir.Rename(ledgerFile, brokenFile)
	case err != nil:
		return problem.Errorf("read the ledger %s: %w", at, err).Remedy("fix that on the host; nothing was changed")
	case s.Format != Format:
		return problem.Errorf("the ledger %s has format %d", at, s.Format).
			Remedy("this version supports format %d; use a newer jadekettle", Format)
	}
	return nil
}

// noRoom says that nothing can be kept in the folder, where that is why something
// failed.
func noRoom(err error, folder string) error {
	switch {
	case err == nil:
	case machine.Full(err):
		return problem.Errorf("the file system of %s is full, so changes could not be recorded; nothing was started",
			folder).Remedy("free some space there; check with `df -h %s` and `df -i %s`", folder, folder)
	case machine.ReadOnly(err):
		return problem.Errorf("the file system of %s is read-only, so changes could not be recorded; nothing was "+
			"started", folder).Remedy("see the kernel log with `dmesg`, and remount it for writing")
	}
	return nil
}

func makeFolder(m machine.Machine, p string) (machine.Dir, error) {
	if d, err := m.Dir(p); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return d, err
	}
	if p == "/" {
		return nil, errors.New("the root directory does not exist")
	}
	up, err := makeFolder(m, path.Dir(p))
	if err != nil {
		return nil, err
	}
	defer up.Close()
	mode := uint32(0o755)
	if path.Base(p) == "jadekettle" {
		mode = 0o700
	}
	if err := up.Mkdir(path.Base(p), mode, -1, -1); err != nil {
		return nil, fmt.Errorf("create the directory %s: %w", p, err)
	}
	return m.Dir(p)
}

// Close gives the lock back.
func (s *Store) Close() {
	if s.journal != nil {
		s.journal.Close()
	}
	if s.straysFile != nil {
		s.straysFile.Close()
	}
	if s.lock != nil {
		s.lock.Close()
	}
	s.dir.Close()
}

func (s *Store) read(name string, to any) error {
	if s.dir == nil { // that of a capture, which takes no lock, remembers nothing
		return fs.ErrNotExist
	}
	f, err := s.dir.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Info()
	if err != nil {
		return err
	}
	if !info.OnlyBy(s.m.UID()) {
		return errors.New("users other than root can write to it, so it is not trusted")
	}
	data, err := io.ReadAll(io.LimitReader(f, 256<<20))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, to); err != nil {
		return fmt.Errorf("%w: %w", errBroken, err)
	}
	return nil
}

// errBroken is wrapped by errors of files that hold something else than they should.
var errBroken = errors.New("it is broken")

// replace puts a file in place atomically.
func (s *Store) replace(name string, v any) error {
	data, err := json.MarshalIndent(v, "", " ")
	if err != nil {
		return err
	}
	if err := s.writeSynced(name, append(data, '\n')); err != nil {
		return fmt.Errorf("write %s: %w", path.Join(s.path, name), err)
	}
	return nil
}

// replaceQuick puts a file in place that need not survive a power cut.
func (s *Store) replaceQuick(name string, v any) error {
	data, err := json.MarshalIndent(v, "", " ")
	if err == nil {
		err = s.write(name, append(data, '\n'), false)
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", path.Join(s.path, name), err)
	}
	return nil
}

func (s *Store) writeSynced(name string, data []byte) error { return s.write(name, data, true) }

func (s *Store) write(name string, data []byte, sync bool) error {
	temp := name + ".new"
	s.dir.Remove(temp)
	f, err := s.dir.Create(temp, 0o600, -1, -1)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil && sync {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = s.dir.Rename(temp, name)
	}
	if err != nil {
		s.dir.Remove(temp)
		return err
	}
	if !sync {
		return nil
	}
	return s.dir.Sync() // a pending action must survive what it was written for
}

// Snapshot gives the ledger as it is in memory, for Restore.
func (s *Store) Snapshot() Ledger {
	out := Ledger{Format: s.Format, Entries: maps.Clone(s.Entries), Absent: maps.Clone(s.Absent),
		Pending: make(map[value.Ref][]Pending, len(s.Pending))}
	for ref, list := range s.Pending {
		out.Pending[ref] = slices.Clone(list)
	}
	return out
}

// Restore takes back all that was noted since a Snapshot, and was not saved.
func (s *Store) Restore(l Ledger) { s.Ledger = l }

// Save writes the ledger when it differs from what is on disk.
func (s *Store) Save() error {
	if !s.dirty {
		return nil
	}
	if err := s.dir.Rename(ledgerFile, beforeFile); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := s.replace(ledgerFile, s.Ledger); err != nil {
		return errors.Join(err, s.dir.Rename(beforeFile, ledgerFile))
	}
	s.dirty = false
	return nil
}

// Keep notes that a run manages a thing, and how it is declared. Run and time are those
// of the last change.
func (s *Store) Keep(t plan.Task, run plan.Run, changed bool) {
	last := plan.LastOf(t)
	old, there := s.Entries[t.Ref]
	ours := there && old.Project == run.Project && old.Env == run.Env && !old.Left
	if ours && !changed && old.Last.Same(last) && old.OnRemoval == t.OnRemoval && old.Order == t.ID {
		return
	}
	e := plan.Entry{Project: run.Project, Env: run.Env, Run: run.ID, Since: s.m.Now().UTC().Truncate(time.Second),
		Who: run.Who, Order: t.ID, OnRemoval: t.OnRemoval, Last: last}
	if ours && !changed {
		e.Run, e.Since, e.Who = old.Run, old.Since, old.Who
	}
	s.Entries[t.Ref] = e
	delete(s.Absent, t.Ref)
	s.dirty = true
}

// KeepAbsent notes that a thing is absent, as a run declares, and nothing is managed there.
func (s *Store) KeepAbsent(ref value.Ref, run plan.Run, changed bool) {
	s.Drop(ref)
	old, there := s.Absent[ref]
	if there && !changed && old.Project == run.Project && old.Env == run.Env {
		return
	}
	if s.Absent == nil {
		s.Absent = map[value.Ref]plan.Entry{}
	}
	s.Absent[ref] = plan.Entry{Project: run.Project, Env: run.Env, Run: run.ID, Who: run.Who,
		Since: s.m.Now().UTC().Truncate(time.Second)}
	s.dirty = true
}

// Knows says whether a project has been applied here before.
func (s *Store) Knows(project string) bool {
	for _, list := range []map[value.Ref]plan.Entry{s.Entries, s.Absent} {
		for _, e := range list {
			if e.Project == project {
				return true
			}
		}
	}
	return false
}

// KeepUnseen notes that a run changed a thing which was killed before it could say how
// that is declared. What the ledger has of that run or a later one it knows better: a power cut may
// bring back a journal whose removal was not on the disk yet.
func (s *Store) KeepUnseen(ref value.Ref, run plan.Run) {
	old, there := s.Entries[ref]
	ours := there && old.Project == run.Project && old.Env == run.Env
	if ours && old.Run >= run.ID { // UUIDv7s are in the order of time
		return
	}
	e := plan.Entry{Project: run.Project, Env: run.Env, Run: run.ID, Who: run.Who, Since: s.m.Now().UTC().
		Truncate(time.Second)}
	if ours {
		e.Order, e.OnRemoval = old.Order, old.OnRemoval
	}
	s.Entries[ref] = e
	s.dirty = true
}

// Drop forgets a thing: it is absent now, as declared.
func (s *Store) Drop(ref value.Ref) {
	if _, there := s.Entries[ref]; there {
		delete(s.Entries, ref)
		s.dirty = true
	}
}

// Reinstate has a thing be remembered as it was at an earlier time; nil is not at all.
func (s *Store) Reinstate(ref value.Ref, e *plan.Entry) {
	if e == nil {
		s.Drop(ref)
		return
	}
	s.Entries[ref] = *e
	s.dirty = true
}

// Other gives the project that manages a thing when it is another than this.
func (s *Store) Other(ref value.Ref) (project string, other bool) {
	e, there := s.Entries[ref]
	return e.Project, there && e.Project != s.project && !e.Left
}

// Undeclared marks and lists what this project managed and no longer declares.
func (s *Store) Undeclared(run plan.Run, declared map[value.Ref]bool) []value.Ref {
	var out []value.Ref
	for ref, e := range s.Entries {
		if e.Project != run.Project || e.Env != run.Env || declared[ref] {
			continue
		}
		out = append(out, ref)
		if !e.Left && !run.Preview {
			e.Left = true
			s.Entries[ref] = e
			s.dirty = true
		}
	}
	for ref, e := range s.Absent {
		if e.Project == run.Project && e.Env == run.Env && !declared[ref] && !run.Preview {
			delete(s.Absent, ref)
			s.dirty = true
		}
	}
	slices.SortFunc(out, func(a, b value.Ref) int { return strings.Compare(a.String(), b.String()) })
	return out
}

// AddPending notes a pending action. Call Save before the change that causes it.
func (s *Store) AddPending(ref value.Ref, d Pending) {
	for _, have := range s.Pending[ref] {
		if have.Action == d.Action && have.Cause == d.Cause && have.Boot == d.Boot {
			// The older one is paid by an earlier start; keep the later.
			s.forgive(ref, have)
		}
	}
	s.Pending[ref] = append(s.Pending[ref], d)
	s.dirty = true
}

// Date closes what a cause has left pending since a time: its change was over at another.
func (s *Store) Date(cause value.Ref, since, over time.Duration) {
	for _, list := range s.Pending {
		for i := range list {
			if d := &list[i]; d.Open && d.Cause == cause && d.Uptime >= since {
				d.Open, d.Uptime, s.dirty = false, over, true
			}
		}
	}
}

// Forgive takes back the pending actions that a cause made since a time, when it turned
// out to have changed nothing.
func (s *Store) Forgive(cause value.Ref, since time.Duration) {
	for ref, list := range s.Pending {
		for _, d := range slices.Clone(list) {
			if d.Cause == cause && d.Uptime >= since {
				s.forgive(ref, d)
			}
		}
	}
}

func (s *Store) forgive(ref value.Ref, d Pending) {
	s.Pending[ref] = slices.DeleteFunc(s.Pending[ref], func(have Pending) bool { return have == d })
	if len(s.Pending[ref]) == 0 {
		delete(s.Pending, ref)
	}
	s.dirty = true
}

// IsPending says whether an action is pending for a thing.
func (s *Store) IsPending(ref value.Ref, action string) bool {
	return slices.ContainsFunc(s.Pending[ref], func(d Pending) bool { return d.Action == action })
}

// AllPending lists what is pending, each once.
func (s *Store) AllPending() []plan.Pending {
	var out []plan.Pending
	for ref, list := range s.Pending {
		for _, d := range list {
			if o := (plan.Pending{Service: ref, Action: d.Action}); !d.Coming && !slices.Contains(out, o) {
				out = append(out, o)
			}
		}
	}
	slices.SortFunc(out, func(a, b plan.Pending) int {
		return cmp.Or(cmp.Compare(a.Service.String(), b.Service.String()), cmp.Compare(a.Action, b.Action))
	})
	return out
}

// Settle forgets what is pending for a thing of one action.
func (s *Store) Settle(ref value.Ref, action string) {
	for _, d := range slices.Clone(s.Pending[ref]) {
		if d.Action == action {
			s.forgive(ref, d)
		}
	}
}

// Restarted forgets all that is pending for a service.
func (s *Store) Restarted(ref value.Ref) {
	if _, there := s.Pending[ref]; there {
		delete(s.Pending, ref)
		s.dirty = true
	}
}

// Path gives the path of a file in the store.
func (s *Store) Path(name string) string { return path.Join(s.path, name) }

// Remember keeps a value in a file of its own in the store, as JSON.
func (s *Store) Remember(name string, v any) error { return s.replace(name, v) }

// Recall reads what Remember kept; without any the error wraps fs.ErrNotExist.
func (s *Store) Recall(name string, to any) error {
	err := s.read(name, to)
	if errors.Is(err, errBroken) { // it is found out, or done, again
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	}
	return err
}

// Unlearn removes what Remember kept, if any.
func (s *Store) Unlearn(name string) { s.dir.Remove(name) }

// Touch makes a file in the store, empty and new.
func (s *Store) Touch(name string) error { return s.writeSynced(name, nil) }
