package store

import (
	"cmp"
	"database/sql"
	"errors"
	"math"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
)

// Search finds runs, hosts and tasks by words, newest first, at most so many, and says how
// many there are in all.
func (p Project) Search(words []string, f Filter) (hits []history.Hit, all int, err error) {
	db, err := p.reading()
	if err != nil {
		return nil, 0, none(err)
	}
	in, found, q := db.matching(words)
	if strings.TrimSpace(strings.Join(words, "")) == "" {
		return nil, 0, problem.Errorf("no search words given").Remedy("add at least one word")
	}
	cond, args := f.where(p.ID)
	from := " FROM " + in + " JOIN run ON run.id = said.run WHERE " + found + " AND " + cond
	args = append([]any{q}, args...)
	if err := db.QueryRow("SELECT count(*)"+from, args...).Scan(&all); err != nil {
		return nil, 0, p.wrong(err)
	}
	type one struct {
		visit, nth int64
		head       record.Head
	}
	var list []one
	most := f.Most
	if most == 0 {
		most = math.MaxInt32
	}
	err = each(db, func(scan func(...any) error) error {
		var o one
		var err error
		o.head, _, err = reads(scan, &o.visit, &o.nth)
		list = append(list, o)
		return err
	}, "SELECT "+headColumns+", said.visit, said.nth"+from+" ORDER BY run.number DESC, said.id LIMIT ?",
		append(args, most)...)
	if err != nil {
		return nil, 0, p.wrong(err)
	}
	for _, o := range list {
		h, err := p.hit(db, o.head, o.visit, o.nth, words)
		if err != nil {
			return nil, 0, p.wrong(err)
		}
		hits = append(hits, h)
	}
	return hits, all, nil
}

// hit reads what was found, and the line of it that holds the words.
func (p Project) hit(db *database, head record.Head, visit, nth int64, words []string) (history.Hit, error) {
	out := history.Hit{Number: head.Number, Run: head.Run, Mode: head.Mode, Started: head.Started, Who: head.Who}
	if visit == 0 {
		head, _, err := p.head(db, head.Number)
		out.Line = history.LineWith(words, strings.Join(head.Command, " "), head.Who+"@"+head.Machine, head.Revision,
			noted(head.Notes))
		return out, err
	}
	_, h, err := readVisit(db.QueryRow("SELECT "+visitColumns+" FROM visit JOIN host ON host.id = visit.host WHERE "+
		"visit.id = ?",
		visit).Scan, head.Started)
	if err != nil {
		return out, err
	}
	out.Host = h.Name
	if nth < 0 {
		said := ""
		if h.Executed != nil {
			said = h.Executed.Output
		}
		out.Status, out.Line = string(h.Outcome), history.LineWith(words, h.Message, h.Do, said, h.Name)
		return out, nil
	}
	t, err := readTask(db.QueryRow(`SELECT `+taskColumns+` FROM task JOIN thing ON thing.id = task.thing JOIN place ON
		place.id = task.place WHERE task.visit = ? AND task.nth = ?`, visit, nth).Scan)
	if err != nil {
		return out, err
	}
	out.Kind, out.Name, out.Status = t.Kind, t.Name, string(t.Status)
	texts := []string{t.Message, t.Do, t.Output}
	for _, c := range slices.Concat(t.Changes, t.Written) {
		texts = append(texts, c.What+": "+c.Was, c.Becomes, c.Diff)
	}
	if out.Line = history.LineWith(words, append(texts, t.Kind+" "+t.Name)...); out.Line == t.Kind+" "+t.Name {
		out.Line = "" // it is named anyway
	}
	return out, nil
}

// Of gives the life of one thing on a host, newest first: each run in which it changed,
// would have, failed or was blocked, and between these how often it was found right.
func (p Project) Of(host string, ref value.Ref, f Filter) ([]history.Moment, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	cond, args := f.where(p.ID)
	args = append([]any{host, ref.Kind, ref.Name}, args...)
	var out []history.Moment
	const from = ` FROM host JOIN visit ON visit.host = host.id JOIN run ON run.id = visit.run JOIN `
	where := ` WHERE host.name = ? AND thing.kind = ? AND thing.name = ? AND status <> 4 AND ` + cond
	err = each(db, func(scan func(...any) error) error {
		var row foundTask
		var nth int64
		var packed []byte
		head, _, err := reads(scan, append(row.to(), &nth, &packed)...)
		if err != nil {
			return err
		}
		if times, err := readClock(packed); err != nil {
			return err
		} else if times != nil {
			row.began, row.took = times.of(nth)
		}
		t, err := row.task()
		if err != nil {
			return err
		}
		m := history.Moment{Number: head.Number, Run: head.Run, Mode: head.Mode, Started: head.Started, Who: head.Who,
			Machine: head.Machine, Revision: head.Revision, Edited: head.Edited, Runs: 1, Task: t}
		if n := len(out); n > 0 && t.Status == plan.Unchanged && out[n-1].Task.Status == plan.Unchanged {
			out[n-1].Runs++
			out[n-1].Since, out[n-1].SinceNumber = head.Started, head.Number
			return nil
		}
		m.Since, m.SinceNumber = m.Started, m.Number
		out = append(out, m)
		return nil
	}, `SELECT `+headColumns+`, `+taskColumns+`, task.nth AS nth, NULL`+from+`task ON task.visit = visit.id
		JOIN thing ON thing.id = task.thing JOIN place ON place.id = task.place`+where+
		` UNION ALL SELECT `+headColumns+`, `+itemColumns+`, item.nth AS nth, visit.times`+from+`item ON
		item.list = visit.list JOIN thing ON thing.id = item.thing JOIN place ON place.id = item.place`+where+
		` ORDER BY number DESC, nth DESC`, slices.Concat(args, args)...)
	return out, p.wrong(err)
}

// From how many earlier runs it takes what is usual; for a kind all tasks of each are
// summed up.
const (
	usualFrom  = 20
	usualKinds = 5
)

// Slow shows where the time of a run went, and how long each was in the runs before that
// were of its mode: most things first, at most so many of each sort.
func (p Project) Slow(n, most int) (*history.Slow, error) {
	k, err := p.Load(n)
	if err != nil {
		return nil, err
	}
	db, err := p.reading()
	if err != nil {
		return nil, err
	}
	usual, err := p.usual(db, k)
	if err != nil {
		return nil, p.wrong(err)
	}
	slow, err := history.SlowOf(k, usual, most)
	return slow, p.wrong(err)
}

// usual reads how long things took in the runs before one.
func (p Project) usual(db *database, k *record.Run) (history.Usual, error) {
	out := history.Usual{Hosts: map[string][]float64{}, Kinds: map[string][]float64{},
		Task: func(history.HostTask) ([]float64, error) { return nil, nil }}
	var ids []any
	if err := each(db, func(scan func(...any) error) error {
		var id, took int64
		err := scan(&id, &took)
		ids = append(ids, id)
		out.Runs = append(out.Runs, float64(took)/1000)
		return err
	}, `SELECT id, ended - started FROM run WHERE project = ? AND env = ? AND mode = ? AND whole = ?
		AND number < ? AND ended
		IS NOT NULL AND NOT elsewhere ORDER BY number DESC LIMIT ?`, p.ID, k.Env, k.Mode, k.Whole, k.Number,
		usualFrom); err != nil || len(ids) == 0 {
		return out, err
	}
	among := "(" + marks(len(ids)) + ")"
	if err := each(db, func(scan func(...any) error) error {
		var host string
		var took int64
		err := scan(&host, &took)
		out.Hosts[host] = append(out.Hosts[host], float64(took)/1000)
		return err
	}, `SELECT host.name, visit.took FROM visit JOIN host ON host.id = visit.host WHERE visit.run IN `+among+
		` AND visit.state = 'reached'`, ids...); err != nil {
		return out, err
	}
	kinds, err := kindTimes(db, ids[:min(len(ids), usualKinds)])
	if err != nil {
		return out, err
	}
	for _, times := range kinds {
		for kind, took := range times {
			out.Kinds[kind] = append(out.Kinds[kind], float64(took)/1000)
		}
	}
	out.Task = func(t history.HostTask) (times []float64, err error) {
		args := append(slices.Clone(ids), t.Host, t.Ref.Kind, t.Ref.Name, numbers[t.Status])
		where := `WHERE visit.run IN ` + among +
			` AND host.name = ? AND thing.kind = ? AND thing.name = ? AND status = ?`
		return times, each(db, func(scan func(...any) error) error {
			var nth, took int64
			var packed []byte
			if err := scan(&nth, &took, &packed); err != nil {
				return err
			}
			c, err := readClock(packed)
			if c != nil {
				_, took = c.of(nth)
			}
			times = append(times, float64(took)/1000)
			return err
		}, `SELECT task.nth, task.took, NULL FROM visit JOIN host ON host.id = visit.host JOIN task ON
			task.visit = visit.id JOIN thing ON thing.id = task.thing `+where+`
			UNION ALL SELECT item.nth, 0, visit.times FROM visit JOIN host ON host.id = visit.host JOIN item ON
			item.list = visit.list JOIN thing ON thing.id = item.thing `+where, slices.Concat(args, args)...)
	}
	return out, nil
}

// kindTimes sums up how long the tasks of each kind took in runs, in milliseconds.
func kindTimes(db *database, runs []any) (map[int64]map[string]int64, error) {
	run, visits := map[int64]int64{}, []int64{}
	if err := each(db, func(scan func(...any) error) error {
		var id, of int64
		err := scan(&id, &of)
		run[id], visits = of, append(visits, id)
		return err
	}, "SELECT id, run FROM visit WHERE run IN ("+marks(len(runs))+")", runs...); err != nil {
		return nil, err
	}
	out := map[int64]map[string]int64{}
	add := func(visit int64, kind string, took int64) {
		if out[run[visit]] == nil {
			out[run[visit]] = map[string]int64{}
		}
		out[run[visit]][kind] += took
	}
	for some := range slices.Chunk(visits, many) {
		if err := each(db, func(scan func(...any) error) error {
			var visit, took int64
			var kind string
			err := scan(&visit, &kind, &took)
			add(visit, kind, took)
			return err
		}, `SELECT task.visit, thing.kind, sum(task.took) FROM task JOIN thing ON thing.id = task.thing `+
			`WHERE task.visit IN (`+
			marks(len(some))+`) GROUP BY task.visit, thing.kind`, anys(some)...); err != nil {
			return nil, err
		}
	}
	quiet, lists, err := listed(db, visits)
	for _, v := range quiet {
		for i, row := range lists[v.list] {
			_, took := v.times.of(int64(i + 1))
			add(v.visit, row.kind, took)
		}
	}
	return out, err
}

// UsualHosts gives how long hosts took in the last runs of a sort, in seconds: the median.
func (p Project) UsualHosts(env, mode string, whole bool) (map[string]float64, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	all := map[string][]float64{}
	if err := each(db, func(scan func(...any) error) error {
		var host string
		var took int64
		err := scan(&host, &took)
		all[host] = append(all[host], float64(took)/1000)
		return err
	}, `SELECT host.name, visit.took FROM visit JOIN host ON host.id = visit.host WHERE visit.state = 'reached'
		AND visit.run IN
		(SELECT id FROM run WHERE project = ? AND env = ? AND mode = ? AND whole = ? AND ended IS NOT NULL
		ORDER BY number DESC
		LIMIT ?)`, p.ID, env, mode, whole, usualFrom); err != nil {
		return nil, p.wrong(err)
	}
	out := make(map[string]float64, len(all))
	for host, list := range all {
		out[host] = history.Median(list)
	}
	return out, nil
}

// Note notes something on a run, or with an empty text takes a note away.
func (p Project) Note(n int, notes map[string]string) error {
	db, err := p.reading()
	if errors.Is(err, ErrNone) {
		return noRun(n)
	}
	if err != nil {
		return err
	}
	return write(db, func(tx *transaction) error {
		var id int64
		err := tx.QueryRow("SELECT id FROM run WHERE project = ? AND number = ?", p.ID, n).Scan(&id)
		if errors.Is(err, sql.ErrNoRows) {
			return noRun(n)
		}
		w := writer{tx: tx, run: id}
		for _, key := range value.Keys(notes) {
			if err != nil {
				return err
			}
			if notes[key] == "" {
				err = tx.Exec("DELETE FROM note WHERE run = ? AND key = ?", id, key)
				continue
			}
			err = tx.Exec("INSERT INTO note (run, key, value) VALUES (?, ?, ?) ON CONFLICT (run, key) DO UPDATE "+
				"SET value = excluded.value", id, key, notes[key])
			w.say(0, 0, key+" "+notes[key])
		}
		return cmp.Or(err, w.insertRows())
	})
}

// Moved gives the tasks in a run that changed, failed or were blocked, by host. If many hosts are named, others may be
// among them.
func (p Project) Moved(n int, hosts ...string) (map[string][]record.Task, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	cond, args := "", []any{p.ID, n}
	if len(hosts) <= many {
		cond, args = " AND host.name IN ("+marks(len(hosts))+")", append(args, anys(hosts)...)
	}
	out := map[string][]record.Task{}
	return out, p.wrong(each(db, func(scan func(...any) error) error {
		host := ""
		t, err := readTask(scan, &host)
		out[host] = append(out[host], t)
		return err
	}, `SELECT host.name, `+taskColumns+` FROM run JOIN visit ON visit.run = run.id JOIN host ON host.id = visit.host
		JOIN task ON task.visit = visit.id JOIN thing ON thing.id = task.thing JOIN place ON place.id = task.place
		WHERE run.project = ? AND run.number = ?`+cond+` AND task.status IN (1, 2, 5) ORDER BY visit.id, task.nth`,
		args...))
}
