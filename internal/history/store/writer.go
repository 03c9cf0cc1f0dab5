package store

import (
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/google/uuid"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

// insert keeps a run, under the number that it has, or the next one.
func (p Project) insert(tx *transaction, h *record.Head, alive bool) (int64, error) {
	if err := tx.alone(tx, p.ID); err != nil {
		return 0, err
	}
	if h.Number == 0 {
		if err := tx.QueryRow("SELECT coalesce(max(number), 0) + 1 FROM run WHERE project = ?", p.ID).
			Scan(&h.Number); err != nil {
			return 0, err
		}
	}
	command, err := json.Marshal(h.Command)
	if err != nil {
		return 0, err
	}
	params, err := json.Marshal(h.Params)
	if err != nil {
		return 0, err
	}
	answers, err := json.Marshal(h.Inputs)
	if err != nil {
		return 0, err
	}
	part, err := json.Marshal(h.Part)
	if err != nil {
		return 0, err
	}
	var ended any
	if !alive {
		ended = millis(h.Started) + int64(h.Seconds*1000)
	}
	var id int64
	err = tx.QueryRow(`INSERT INTO run (uuid, project, env, number, mode, who, machine, command, params, job,
		answers, source, revision, edited,
		whole, declared, undoes, started, ended, code, beat, pid, elsewhere, part)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,now_ms(),?,?,?) RETURNING id`,
		h.Run, p.ID, h.Env, h.Number, h.Mode, h.Who, h.Machine, string(command), string(params), h.Job,
		string(answers), h.Source, h.Revision, h.Edited, h.Whole, h.Declared,
		h.Undoes, millis(h.Started), ended, h.Code, os.Getpid(), h.State == record.Elsewhere, string(part)).Scan(&id)
	if err != nil {
		return 0, err
	}
	for key, text := range h.Notes {
		if err := tx.Exec("INSERT INTO note (run, key, value) VALUES (?, ?, ?)", id, key, text); err != nil {
			return 0, err
		}
	}
	w := writer{tx: tx, run: id}
	w.say(0, 0, h.Who, h.Machine, h.Job, h.Revision, strings.Join(h.Command, " "), noted(h.Notes))
	return id, w.insertRows()
}

func noted(notes map[string]string) string {
	var b strings.Builder
	for _, key := range value.Keys(notes) {
		fmt.Fprintf(&b, "%s %s\n", key, notes[key])
	}
	return b.String()
}

// writer writes one run in a transaction.
type writer struct {
	tx      *transaction
	project string
	run     int64
	number  int
	started time.Time
	files   int // how many files are in the tree that is kept

	tasks   []taskRow // that put writes
	words   []wordsRow
	waiting map[int64]waiting // by visit
	ids
}

// ids are the numbers of what was written before.
type ids struct {
	visits map[string]int64
	things map[value.Ref]int64
	places map[value.Place]int64
	labels map[string]int64
	last   map[int64]int64 // of the tasks of each visit
	hands  map[int64]bool  // the visits of which it is written what they are at
	lists  map[[sha256.Size]byte]int64
}

// visit gives the number of a host in the run, which is made where there is none.
func (w *writer) visit(host string, nth int) (int64, error) {
	if id, ok := w.visits[host]; ok {
		return id, nil
	}
	at, err := w.host(host)
	if err != nil {
		return 0, err
	}
	id, err := w.tx.numbered("SELECT id FROM visit WHERE run = ?1 AND host = ?2", "INSERT INTO visit (run, host, "+
		"nth) VALUES (?1, ?2, ?3)",
		w.run, at, nth)
	remember(&w.visits, host, id)
	return id, err
}

func (w *writer) host(name string) (int64, error) {
	return w.tx.numbered("SELECT id FROM host WHERE name = ?", "INSERT INTO host (name) VALUES (?)", name)
}

func (w *writer) thing(ref value.Ref) (int64, error) {
	if id, ok := w.things[ref]; ok {
		return id, nil
	}
	id, err := w.tx.numbered("SELECT id FROM thing WHERE kind = ? AND name = ?", "INSERT INTO thing (kind, name) "+
		"VALUES (?, ?)", ref.Kind,
		ref.Name)
	remember(&w.things, ref, id)
	return id, err
}

func (w *writer) place(file string, line int) (int64, error) {
	at := value.Place{File: file, Line: line}
	if id, ok := w.places[at]; ok {
		return id, nil
	}
	id, err := w.tx.numbered("SELECT id FROM place WHERE file = ? AND line = ?", "INSERT INTO place (file, line) "+
		"VALUES (?, ?)", file, line)
	remember(&w.places, at, id)
	return id, err
}

// labelled gives the number of a list of labels; NULL for none.
func (w *writer) labelled(list []string) (out sql.NullInt64, err error) {
	if len(list) == 0 {
		return out, nil
	}
	text, err := json.Marshal(list)
	if err != nil {
		return out, err
	}
	if id, ok := w.labels[string(text)]; ok {
		return sql.NullInt64{Int64: id, Valid: true}, nil
	}
	id, err := w.tx.numbered("SELECT id FROM labels WHERE list = ?", "INSERT INTO labels (list) VALUES (?)",
		string(text))
	remember(&w.labels, string(text), id)
	return sql.NullInt64{Int64: id, Valid: true}, err
}

func (w *writer) event(e record.Event) error {
	id, err := w.visit(e.Host, 1<<20)
	if err != nil {
		return err
	}
	switch {
	case e.Begun != nil:
		err = w.tx.Exec("UPDATE visit SET began = ?, planned = ?, hand = '' WHERE id = ?", millis(e.Begun.At),
			e.Begun.Tasks, id)
		return err
	case e.AtWork != nil:
		remember(&w.hands, id, true)
		err = w.tx.Exec("UPDATE visit SET hand = ? WHERE id = ?", hand(e.AtWork), id)
		return err
	case e.Task != nil:
		if w.hands[id] {
			delete(w.hands, id)
			if err = w.tx.Exec("UPDATE visit SET hand = '' WHERE id = ?", id); err != nil {
				return err
			}
		}
		if e.Task.Again {
			if err := w.withdraw(id, e.Task.Ref()); err != nil {
				return err
			}
		}
		return w.task(id, *e.Task)
	}
	for _, t := range e.Ended.Tasks {
		if t.ID < 0 { // skipped; all others were reported as they came
			if err := w.task(id, t); err != nil {
				return err
			}
		}
	}
	var f []byte
	if e.Ended.Facts != nil {
		if f, err = cbor.Marshal(e.Ended.Facts); err != nil {
			return err
		}
	}
	return w.ended(id, e.Ended, f)
}

// hand stores what a host is at, for those who follow the run.
func hand(w *record.AtWork) string {
	text, err := json.Marshal(w)
	if err != nil {
		return ""
	}
	return string(text)
}

// ended keeps what became of a host besides its tasks.
func (w *writer) ended(id int64, h *record.Host, f []byte) error {
	unknown := 0
	for _, c := range h.Collected {
		if err := w.late(h.Name, c, &unknown); err != nil {
			return err
		}
	}
	var facts any
	if len(f) > 0 {
		n, err := content(w.tx, f)
		if err != nil {
			return err
		}
		facts = n
	}
	return w.visited(id, h, facts)
}

// visited writes what is reported of a host besides its tasks.
func (w *writer) visited(id int64, h *record.Host, facts any) error {
	rest := *h
	rest.Tasks = nil
	detail, err := json.Marshal(rest)
	if err != nil {
		return err
	}
	list, times, err := w.settle(id, h.State == record.Reached)
	if err != nil {
		return err
	}
	err = w.tx.Exec(`UPDATE visit SET state = ?, outcome = ?, began = ?, took = ?, planned = ?, changed = ?, failed = ?,
		unchanged = ?, skipped = ?, blocked = ?, stopped = ?, facts = ?, hand = '', detail = ?, list = ?, times = ?
		WHERE id = ?`,
		string(h.State),
		string(h.Outcome), millis(w.started)+ms(h.After), ms(h.Seconds), h.Planned, h.Changed, h.Failed,
		h.Unchanged, h.Skipped,
		h.Blocked, h.Stopped, facts, pack(detail), list, times, id)
	if err != nil {
		return err
	}
	said := ""
	if h.Executed != nil {
		said = h.Executed.Output
	}
	w.say(id, -1, h.Name, h.Message, h.Do, said)
	return nil
}

func ms(seconds float64) int64 { return int64(seconds * 1000) }

// numbers of the statuses in the file; they never change.
var numbers = map[plan.Status]int{plan.Changed: 1, plan.Failed: 2, plan.Unchanged: 3, plan.Skipped: 4, plan.Blocked: 5}

// statusOf is the status of a number; one that is not known is shown as unknown, and not as all being well.
func statusOf(n int) plan.Status {
	for s, of := range numbers {
		if of == n {
			return s
		}
	}
	return plan.Status(fmt.Sprintf("unknown status %d", n))
}

// task keeps one task of a host, behind those that it has.
func (w *writer) task(visit int64, t record.Task) error {
	thing, err := w.thing(value.Ref{Kind: t.Kind, Name: t.Name})
	if err != nil {
		return err
	}
	place, err := w.place(t.Manifest, t.Line)
	if err != nil {
		return err
	}
	labels, err := w.labelled(t.Labels)
	if err != nil {
		return err
	}
	var detail []byte
	if t.Status != plan.Unchanged || len(t.Changes) > 0 || t.Message != "" {
		text, err := json.Marshal(t)
		if err != nil {
			return err
		}
		detail = pack(text)
	}
	nth, err := w.next(visit)
	if err != nil {
		return err
	}
	w.take(taskRow{visit: visit, nth: nth, thing: thing, place: place, labels: labels, status: numbers[t.Status],
		began: ms(t.After), took: ms(t.Seconds), detail: detail})
	if t.Status == plan.Unchanged || t.Status == plan.Skipped {
		return nil
	}
	words := []string{t.Kind + " " + t.Name, t.Message, t.Do, t.Output, t.By}
	for _, c := range slices.Concat(t.Changes, t.Written) {
		words = append(words, c.What, c.Was, c.Becomes, c.Diff)
	}
	w.say(visit, nth, words...)
	return nil
}

// withdraw takes away what is kept of a task, in whose place something else is reported.
func (w *writer) withdraw(visit int64, ref value.Ref) error {
	thing, err := w.thing(ref)
	if err != nil {
		return err
	}
	same := func(t taskRow) bool { return t.visit == visit && t.thing == thing }
	w.tasks = slices.DeleteFunc(w.tasks, same)
	if at, ok := w.waiting[visit]; ok {
		at.rows = slices.DeleteFunc(slices.Clone(at.rows), same)
		w.waiting[visit] = at
	}
	return w.tx.Exec("DELETE FROM task WHERE visit = ? AND thing = ?", visit, thing)
}

// next gives the number of the next task of a host.
func (w *writer) next(visit int64) (int64, error) {
	n, ok := w.last[visit]
	if !ok {
		if err := w.tx.QueryRow("SELECT coalesce(max(nth), 0) FROM task WHERE visit = ?", visit).Scan(&n); err != nil {
			return 0, err
		}
		if rows := w.waiting[visit].rows; len(rows) > 0 {
			n = max(n, rows[len(rows)-1].nth)
		}
	}
	remember(&w.last, visit, n+1)
	return n + 1, nil
}

// maxWords bounds what of one task can be found by its words, in bytes.
const maxWords = 64 << 10

// say lets words be found: those of a run (visit 0), of a host (nth -1) or of a task.
func (w *writer) say(visit, nth int64, words ...string) {
	text := strings.TrimSpace(strings.Join(words, "\n"))
	if text == "" {
		return
	}
	w.words = append(w.words, wordsRow{w.run, visit, nth, strings.ToValidUTF8(text[:min(len(text), maxWords)], "")})
}

// insertRows writes what was reported of tasks, and the words by which they are found, all at once.
func (w *writer) insertRows() error {
	tasks, words := w.tasks, w.words
	w.tasks, w.words = nil, nil
	if err := w.tx.tasks(w.tx, tasks); err != nil {
		return err
	}
	return w.tx.words(w.tx, words)
}

// mostUnknown is of how many runs that are not kept here one host may report at once.
const mostUnknown = 16

// late files results that a host had kept back under the run that they belong to, which may
// have been one of another machine. A host may lie: of a run that had all its results, or is
// another project's, it can say nothing more.
func (w *writer) late(host string, c record.Collected, unknown *int) error {
	if _, err := uuid.Parse(c.Run); err != nil {
		return nil
	}
	if err := w.insertRows(); err != nil {
		return err
	}
	other := *w
	other.visits, other.last, other.waiting = nil, nil, nil // it has others
	project, state := "", ""
	err := w.tx.QueryRow(`SELECT run.id, run.project, coalesce((SELECT visit.state FROM visit
		JOIN host ON host.id = visit.host WHERE
		visit.run = run.id AND host.name = ?), '') FROM run WHERE uuid = ?`, host, c.Run).
		Scan(&other.run, &project, &state)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		if *unknown++; *unknown > mostUnknown {
			return nil
		}
		h := record.Head{Run: c.Run, Mode: record.ModeApply, State: record.Elsewhere,
			Started: begunBy(c.Run, w.started)}
		if other.run, err = (Project{ID: w.project}).insert(w.tx, &h, false); err != nil {
			return err
		}
	case err != nil:
		return err
	case project != w.project || state == string(record.Reached):
		return nil
	}
	id, err := other.visit(host, 0)
	if err != nil {
		return err
	}
	for _, t := range c.Tasks {
		have := 0
		err := w.tx.QueryRow(`SELECT status FROM task JOIN thing ON thing.id = task.thing WHERE visit = ? AND kind = ?
			AND name = ?`, id, t.Kind, t.Name).Scan(&have)
		switch {
		case errors.Is(err, sql.ErrNoRows):
		case err != nil:
			return err
		case have != numbers[plan.Changed] || t.Status != plan.Failed:
			continue
		default: // the host has put the change back since
			if err := other.withdraw(id, value.Ref{Kind: t.Kind, Name: t.Name}); err != nil {
				return err
			}
		}
		t.After = 0
		if err := other.task(id, t); err != nil {
			return err
		}
	}
	other.show()
	if err := other.insertRows(); err != nil {
		return err
	}
	w.things, w.places = other.things, other.places
	return other.counted(id, w.number)
}

// counted corrects the counts of a host whose results came with another run.
func (w *writer) counted(visit int64, by int) error {
	err := w.tx.Exec(`UPDATE visit SET collected_by = ?,
		changed = (SELECT count(*) FROM task WHERE visit = visit.id AND status = 1),
		failed = (SELECT count(*) FROM task WHERE visit = visit.id AND status = 2),
		unchanged = (SELECT count(*) FROM task WHERE visit = visit.id AND status = 3),
		blocked = (SELECT count(*) FROM task WHERE visit = visit.id AND status = 5),
		state = CASE state WHEN '' THEN 'lost' ELSE state END,
		outcome = CASE outcome WHEN '' THEN 'lost' ELSE outcome END
		WHERE id = ?`, by, visit)
	return err
}

// begunBy reads when a run began out of its UUIDv7 (RFC 9562, 5.7), which a host has reported
// and which may be none.
func begunBy(id string, otherwise time.Time) time.Time {
	u, err := uuid.Parse(id)
	if err != nil || u.Version() != 7 {
		return otherwise
	}
	s, ns := u.Time().UnixTime()
	return time.Unix(s, ns).UTC()
}

// end keeps that the run is over. Hosts that were not meant in the end are let go.
func (w *writer) end(code int, meant []string) error {
	among := map[string]bool{}
	for _, name := range meant {
		among[name] = true
	}
	if err := w.insertRows(); err != nil {
		return err
	}
	if err := w.tx.Exec("UPDATE run SET ended = ?, beat = now_ms(), code = ? WHERE id = ?", time.Now().
		UnixMilli(), code, w.run); err != nil {
		return err
	}
	var away []int64
	if err := each(w.tx, func(scan func(...any) error) error {
		var id int64
		var name string
		err := scan(&id, &name)
		if !among[name] {
			away = append(away, id)
		}
		return err
	}, "SELECT visit.id, host.name FROM visit JOIN host ON host.id = visit.host WHERE run = ?", w.run); err != nil {
		return err
	}
	for _, id := range away {
		for _, q := range []string{"DELETE FROM task WHERE visit = ?", "DELETE FROM visit WHERE id = ?"} {
			if err := w.tx.Exec(q, id); err != nil {
				return err
			}
		}
	}
	return nil
}
