package store

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/history"
)

// query writes words for the full text search: each is looked for as a phrase, the last of
// its parts as the beginning of a word.
func query(words []string) string {
	var all []string
	for _, w := range words {
		if strings.TrimSpace(w) != "" {
			all = append(all, `"`+strings.ReplaceAll(w, `"`, `""`)+`"*`)
		}
	}
	return strings.Join(all, " AND ")
}

// Search finds runs, hosts and tasks by words, newest first, at most so many, and says how
// many there are in all.
func (p Project) Search(words []string, f Filter) (hits []history.Hit, all int, err error) {
	q := query(words)
	if q == "" {
		return nil, 0, problem.Errorf("there is nothing to search for").Remedy("name words")
	}
	db, err := p.reading()
	if err != nil {
		return nil, 0, none(err)
	}
	cond, args := f.where(p.ID)
	from := ` FROM words JOIN said ON said.id = words.rowid JOIN run ON run.id = said.run WHERE words MATCH ? AND ` + cond
	args = append([]any{q}, args...)
	if err := db.QueryRow("SELECT count(*)"+from, args...).Scan(&all); err != nil {
		return nil, 0, p.wrong(err)
	}
	type found struct {
		visit, nth int64
		head       history.Head
	}
	var list []found
	most := f.Most
	if most == 0 {
		most = -1
	}
	err = each(db, func(scan func(...any) error) error {
		var one found
		var err error
		one.head, _, err = reads(scan, &one.visit, &one.nth)
		list = append(list, one)
		return err
	}, "SELECT "+headColumns+", said.visit, said.nth"+from+" ORDER BY run.number DESC, said.id LIMIT ?", append(args, most)...)
	if err != nil {
		return nil, 0, p.wrong(err)
	}
	for _, one := range list {
		h, err := p.hit(db, one.head, one.visit, one.nth, words)
		if err != nil {
			return nil, 0, p.wrong(err)
		}
		hits = append(hits, h)
	}
	return hits, all, nil
}

// hit reads what was found, and the line of it that holds the words.
func (p Project) hit(db *sql.DB, head history.Head, visit, nth int64, words []string) (history.Hit, error) {
	out := history.Hit{Number: head.Number, Run: head.Run, Mode: head.Mode, Started: head.Started, Who: head.Who}
	if visit == 0 {
		head, _, err := p.head(db, head.Number)
		out.Line = history.LineWith(words, strings.Join(head.Command, " "), head.Who+"@"+head.Machine, head.Revision, noted(head.Notes))
		return out, err
	}
	_, h, err := readVisit(db.QueryRow("SELECT "+visitColumns+" FROM visit JOIN host ON host.id = visit.host WHERE visit.id = ?",
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
	var out []history.Moment
	err = each(db, func(scan func(...any) error) error {
		var row taskRow
		head, _, err := reads(scan, row.to()...)
		if err != nil {
			return err
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
	}, `SELECT `+headColumns+`, `+taskColumns+` FROM host JOIN visit ON visit.host = host.id JOIN run ON
		run.id = visit.run JOIN task ON task.visit = visit.id JOIN thing ON thing.id = task.thing JOIN place ON
		place.id = task.place WHERE host.name = ? AND thing.kind = ? AND thing.name = ? AND task.status <> 4 AND `+cond+
		` ORDER BY run.number DESC, task.nth DESC`, append([]any{host, ref.Kind, ref.Name}, args...)...)
	return out, p.wrong(err)
}

// usualFrom is out of how many earlier runs it is told what is usual.
const usualFrom = 20

// Slow tells where the time of a run went, and how long each was in the runs before that
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
	return history.SlowOf(k, usual, most), nil
}

// usual reads how long things took in the runs before one.
func (p Project) usual(db *sql.DB, k *history.Kept) (history.Usual, error) {
	out := history.Usual{Tasks: map[history.HostTask][]float64{}, Hosts: map[string][]float64{}, Kinds: map[string][]float64{}}
	var ids []any
	if err := each(db, func(scan func(...any) error) error {
		var id, took int64
		err := scan(&id, &took)
		ids = append(ids, id)
		out.Runs = append(out.Runs, float64(took)/1000)
		return err
	}, `SELECT id, ended - started FROM run WHERE project = ? AND env = ? AND mode = ? AND whole = ? AND number < ? AND ended
		IS NOT NULL AND elsewhere = 0 ORDER BY number DESC LIMIT ?`, p.ID, k.Env, k.Mode, k.Whole, k.Number, usualFrom); err != nil || len(ids) == 0 {
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
	if err := each(db, func(scan func(...any) error) error {
		var kind string
		var took int64
		err := scan(&kind, &took)
		out.Kinds[kind] = append(out.Kinds[kind], float64(took)/1000)
		return err
	}, `SELECT thing.kind, sum(task.took) FROM visit JOIN task ON task.visit = visit.id JOIN thing ON thing.id = task.thing
		WHERE visit.run IN `+among+` GROUP BY visit.run, thing.kind`, ids...); err != nil {
		return out, err
	}
	return out, each(db, func(scan func(...any) error) error {
		var host, kind, name string
		var status int
		var took int64
		err := scan(&host, &kind, &name, &status, &took)
		key := history.HostTask{Host: host, Ref: value.Ref{Kind: kind, Name: name}, Status: statusOf(status)}
		out.Tasks[key] = append(out.Tasks[key], float64(took)/1000)
		return err
	}, `SELECT host.name, thing.kind, thing.name, task.status, task.took FROM visit JOIN host ON host.id = visit.host JOIN task
		ON task.visit = visit.id JOIN thing ON thing.id = task.thing WHERE visit.run IN `+among+` AND task.took > 0`, ids...)
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
	}, `SELECT host.name, visit.took FROM visit JOIN host ON host.id = visit.host WHERE visit.state = 'reached' AND visit.run IN
		(SELECT id FROM run WHERE project = ? AND env = ? AND mode = ? AND whole = ? AND ended IS NOT NULL ORDER BY number DESC
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
	return p.write(db, func(tx *sql.Tx) error {
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
				_, err = tx.Exec("DELETE FROM note WHERE run = ? AND key = ?", id, key)
				continue
			}
			_, err = tx.Exec("INSERT OR REPLACE INTO note (run, key, value) VALUES (?, ?, ?)", id, key, notes[key])
			err = cmp.Or(err, w.say(0, 0, key+" "+notes[key]))
		}
		return err
	})
}

// Stands gives what became of a host in its runs, newest first, at most so many. Runs of
// single commands and those in which its turn did not come are left out.
func (p Project) Stands(env, host string, most int) ([]history.Stand, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	var out []history.Stand
	var visits []int64
	latest := -1
	err = each(db, func(scan func(...any) error) error {
		var s history.Stand
		var visit, started, began int64
		var state, outcome string
		err := scan(&s.Number, &s.Mode, &s.Who, &s.Revision, &s.Edited, &s.Whole, &s.Declared, &s.Undoes, &started, &visit, &state, &outcome,
			&began, &s.Changed, &s.Failed, &s.Blocked, &s.Stopped)
		s.Started, s.State, s.Outcome = atMillis(started), run.State(state), run.Outcome(outcome)
		if s.At = s.Started; began > 0 {
			s.At = atMillis(began)
		}
		if s.State == run.Reached && s.Whole && s.Declared && latest < 0 {
			latest = len(out)
		}
		out, visits = append(out, s), append(visits, visit)
		return err
	}, `SELECT run.number, run.mode, run.who, run.revision, run.edited, run.whole, run.declared, run.undoes, run.started, visit.id, visit.state,
		visit.outcome, visit.began, visit.changed, visit.failed, visit.blocked, visit.stopped FROM host JOIN visit ON
		visit.host = host.id JOIN run ON run.id = visit.run WHERE host.name = ? AND run.project = ? AND run.env = ? AND
		visit.state NOT IN ('', 'not begun') AND run.mode <> 'exec' ORDER BY visit.run DESC LIMIT ?`, host, p.ID, env, most)
	if err != nil || len(out) == 0 {
		return nil, p.wrong(err)
	}
	d, err := detailOf(db, visits[0])
	if err != nil {
		return nil, p.wrong(err)
	}
	if out[0].Message = d.Message; latest < 0 {
		return out, nil
	}
	if latest > 0 {
		if d, err = detailOf(db, visits[latest]); err != nil {
			return nil, p.wrong(err)
		}
	}
	out[latest].Latest, out[latest].Leftovers, out[latest].Debts = true, d.Leftovers, d.Debts
	return out, nil
}

// detailOf reads what is kept of a visit besides its columns.
func detailOf(db *sql.DB, visit int64) (d history.KeptHost, err error) {
	var packed []byte
	if err := db.QueryRow("SELECT detail FROM visit WHERE id = ?", visit).Scan(&packed); err != nil {
		return d, err
	}
	text, err := unpack(packed)
	if err != nil || len(text) == 0 {
		return d, err
	}
	return d, json.Unmarshal(text, &d)
}

// Moved gives the tasks of a host in a run that changed, failed or were blocked.
func (p Project) Moved(n int, host string) ([]history.Task, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	var out []history.Task
	return out, p.wrong(each(db, func(scan func(...any) error) error {
		t, err := readTask(scan)
		out = append(out, t)
		return err
	}, `SELECT `+taskColumns+` FROM run JOIN visit ON visit.run = run.id JOIN host ON host.id = visit.host JOIN task ON
		task.visit = visit.id JOIN thing ON thing.id = task.thing JOIN place ON place.id = task.place WHERE run.project = ? AND
		run.number = ? AND host.name = ? AND task.status IN (1, 2, 5) ORDER BY task.nth`, p.ID, n, host))
}
