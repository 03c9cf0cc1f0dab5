package store

import (
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"fmt"
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
)

// Most hosts have nothing to do in most runs. A host on which nothing was done has no rows in the table task: its visit
// names a list of tasks, which it has in common with its other runs and with hosts like it, and holds their times.

// waiting are the tasks of a host at work that are not in the table yet, and may never come there.
type waiting struct {
	rows    []taskRow
	written bool // they are there meanwhile, for those who follow the run
	odd     bool // something was done, or failed: all tasks are rows
}

// quietly says whether a task is one of those that a list can hold.
func (r taskRow) quietly() bool {
	return r.status == numbers[plan.Skipped] || r.status == numbers[plan.Unchanged] && r.detail == nil
}

// take keeps a task of a host at work.
func (w *writer) take(row taskRow) {
	at := w.waiting[row.visit]
	switch {
	case at.odd:
		w.tasks = append(w.tasks, row)
		return
	case !row.quietly():
		if !at.written {
			w.tasks = append(w.tasks, at.rows...)
		}
		w.tasks = append(w.tasks, row)
		at = waiting{odd: true}
	default:
		if at.written {
			w.tasks = append(w.tasks, row)
		}
		at.rows = append(at.rows, row)
	}
	remember(&w.waiting, row.visit, at)
}

// show has the tasks written that wait, so that those who follow the run see how far it is.
func (w *writer) show() {
	for visit, at := range w.waiting {
		if !at.written {
			w.tasks = append(w.tasks, at.rows...)
			at.written = true
			w.waiting[visit] = at
		}
	}
}

// settle ends a visit: it gives the list of its tasks and their times, or has them written if there is something in
// them that a list cannot hold.
func (w *writer) settle(visit int64, quiet bool) (list sql.NullInt64, times []byte, err error) {
	at := w.waiting[visit]
	delete(w.waiting, visit)
	if len(at.rows) == 0 {
		return list, nil, nil
	}
	if !quiet {
		if !at.written {
			w.tasks = append(w.tasks, at.rows...)
		}
		return list, nil, nil
	}
	if at.written {
		w.tasks = slices.DeleteFunc(w.tasks, func(t taskRow) bool { return t.visit == visit })
		if err := w.tx.Exec("DELETE FROM task WHERE visit = ?", visit); err != nil {
			return list, nil, err
		}
	}
	id, err := w.list(at.rows)
	for _, r := range at.rows {
		times = binary.AppendUvarint(times, uint64(max(0, r.began)))
		times = binary.AppendUvarint(times, uint64(max(0, r.took)))
	}
	return sql.NullInt64{Int64: id, Valid: true}, pack(times), err
}

// list gives the number of a list of tasks, which is kept once.
func (w *writer) list(rows []taskRow) (int64, error) {
	h := sha256.New()
	for _, r := range rows {
		fmt.Fprintf(h, "%d %d %d %d %d:%s\n", r.thing, r.place, r.labels.Int64, r.status, len(r.detail), r.detail)
	}
	sum := [sha256.Size]byte(h.Sum(nil))
	if id, ok := w.lists[sum]; ok {
		return id, nil
	}
	find := "SELECT id FROM list WHERE sha256 = ?"
	id, err := w.tx.numbered(find, "INSERT INTO list (sha256) VALUES (?)", sum[:])
	if err != nil {
		return 0, err
	}
	have := 0
	if err := w.tx.QueryRow("SELECT count(*) FROM item WHERE list = ?", id).Scan(&have); err != nil {
		return 0, err
	}
	for i := have; i < len(rows); i++ { // another may be writing the same, with the same effect
		r, detail := rows[i], any(nil)
		if r.detail != nil {
			detail = r.detail
		}
		if err := w.tx.Exec(`INSERT INTO item (list, nth, thing, place, labels, status, detail)
			VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, id, i+1, r.thing, r.place, r.labels, r.status,
			detail); err != nil {
			return 0, err
		}
	}
	remember(&w.lists, sum, id)
	return id, nil
}

// itemColumns are taskColumns of a task in a list, whose times are elsewhere.
const itemColumns = `thing.kind, thing.name, place.file, place.line, item.status, 0, 0,
	item.detail, CASE WHEN item.labels IS NULL THEN '[]' ELSE (SELECT list FROM labels
	WHERE labels.id = item.labels) END`

// clock gives when the tasks of a visit began and how long they took, in milliseconds, by their number in its list.
type clock []int64

func readClock(packed []byte) (clock, error) {
	text, err := unpack(packed)
	var out clock
	for err == nil && len(text) > 0 {
		n, size := binary.Uvarint(text)
		if size <= 0 {
			return nil, fmt.Errorf("the times of tasks cannot be read")
		}
		out, text = append(out, int64(n)), text[size:]
	}
	return out, err
}

func (c clock) of(nth int64) (began, took int64) {
	if at := 2 * (nth - 1); at >= 0 && at+1 < int64(len(c)) {
		return c[at], c[at+1]
	}
	return 0, 0
}

// visitedTasks gives the tasks of visits, visit by visit, in their order.
func visitedTasks(db asker, visits []int64, do func(visit, nth int64, t record.Task)) error {
	var visit, nth int64
	for some := range slices.Chunk(visits, many) {
		if err := each(db, func(scan func(...any) error) error {
			t, err := readTask(scan, &visit, &nth)
			if err == nil {
				do(visit, nth, t)
			}
			return err
		}, `SELECT task.visit, task.nth, `+taskColumns+` FROM task JOIN thing ON thing.id = task.thing
			JOIN place ON place.id = task.place WHERE task.visit IN (`+marks(len(some))+`)
			ORDER BY task.visit, task.nth`, anys(some)...); err != nil {
			return err
		}
	}
	return listedTasks(db, visits, do)
}

// listedTasks does that for visits that name a list.
func listedTasks(db asker, visits []int64, do func(visit, nth int64, t record.Task)) error {
	timed, lists, err := listed(db, visits)
	if err != nil {
		return err
	}
	for _, v := range timed {
		for i, row := range lists[v.list] {
			row.began, row.took = v.times.of(int64(i + 1))
			t, err := row.task()
			if err != nil {
				return err
			}
			do(v.visit, int64(i+1), t)
		}
	}
	return nil
}

// timed is a visit that names a list.
type timed struct {
	visit, list int64
	times       clock
}

// listed gives those of some visits that name a list, in their order, and these lists.
func listed(db asker, visits []int64) (out []timed, lists map[int64][]foundTask, err error) {
	lists = map[int64][]foundTask{}
	for some := range slices.Chunk(visits, many) {
		if err := each(db, func(scan func(...any) error) error {
			var v timed
			var packed []byte
			err := scan(&v.visit, &v.list, &packed)
			if err == nil {
				v.times, err = readClock(packed)
			}
			out, lists[v.list] = append(out, v), nil
			return err
		}, "SELECT id, list, times FROM visit WHERE list IS NOT NULL AND id IN ("+marks(len(some))+") ORDER BY id",
			anys(some)...); err != nil {
			return nil, nil, err
		}
	}
	for list := range lists {
		if err := each(db, func(scan func(...any) error) error {
			var row foundTask
			err := scan(row.to()...)
			lists[list] = append(lists[list], row)
			return err
		}, `SELECT `+itemColumns+` FROM item JOIN thing ON thing.id = item.thing JOIN place ON place.id = item.place
			WHERE item.list = ? ORDER BY item.nth`, list); err != nil {
			return nil, nil, err
		}
	}
	return out, lists, nil
}
