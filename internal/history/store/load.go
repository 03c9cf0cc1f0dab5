package store

import (
	"cmp"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/history"
)

// Filter says which runs are meant. The zero Filter means all of the project.
type Filter struct {
	Env     string // of this environment; empty for any
	Modes   []string
	Since   time.Time
	Hosts   []string // names or patterns, of which the run has one
	Failed  bool     // a host failed, was not reached, busy or lost, or the run was interrupted
	Changed bool     // a task changed, or would
	Tasks   []string // kinds, or a kind and a pattern of names, of which one changed, failed or was blocked
	Jobs    []string // of one of these jobs
	By      string   // part of the name of who ran it
	Notes   []string // KEY, or KEY=VALUE
	Most    int      // how many, newest first; 0 for all
}

// trouble are the outcomes that make a host one that has failed, in SQL.
const trouble = `('failed', 'not reached', 'refused', 'busy', 'lost', 'not resolved', 'stopped early')`

// where writes a filter in SQL.
func (f *Filter) where(project string) (cond string, args []any) {
	all := []string{"run.project = ?"}
	args = []any{project}
	add := func(c string, more ...any) { all, args = append(all, c), append(args, more...) }
	if f.Env != "" {
		add("run.env = ?", f.Env)
	}
	if len(f.Modes) > 0 {
		add("run.mode IN ("+marks(len(f.Modes))+")", anys(f.Modes)...)
	}
	if len(f.Jobs) > 0 {
		add("run.job <> '' AND run.job IN ("+marks(len(f.Jobs))+")", anys(f.Jobs)...)
	}
	if !f.Since.IsZero() {
		add("run.started >= ?", f.Since.UnixMilli())
	}
	if f.By != "" {
		add(`lower(run.who || '@' || run.machine) LIKE lower(?) ESCAPE '\'`, "%"+likely.Replace(f.By)+"%")
	}
	if len(f.Hosts) > 0 {
		add(`EXISTS (SELECT 1 FROM visit JOIN host ON host.id = visit.host WHERE visit.run = run.id AND (`+
			ors("host.name GLOB ?", len(f.Hosts))+"))", anys(f.Hosts)...)
	}
	if f.Failed {
		add(`(EXISTS (SELECT 1 FROM visit WHERE visit.run = run.id AND outcome IN ` + trouble +
			`) OR run.ended IS NULL)`)
	}
	if f.Changed {
		add(`EXISTS (SELECT 1 FROM visit WHERE visit.run = run.id AND changed > 0)`)
	}
	for _, t := range f.Tasks {
		kind, name, named := strings.Cut(t, " ")
		if !named {
			name = "*"
		}
		add(`EXISTS (SELECT 1 FROM task JOIN visit ON visit.id = task.visit JOIN thing ON thing.id = task.thing
			WHERE visit.run = run.id AND task.status IN (1, 2, 5) AND thing.kind = ? AND thing.name GLOB ?)`, kind,
			name)
	}
	for _, n := range f.Notes {
		key, text, valued := strings.Cut(n, "=")
		if !valued {
			add("EXISTS (SELECT 1 FROM note WHERE note.run = run.id AND key = ?)", key)
			continue
		}
		add("EXISTS (SELECT 1 FROM note WHERE note.run = run.id AND key = ? AND value = ?)", key, text)
	}
	return strings.Join(all, " AND "), args
}

// likely has signs stand for themselves in a pattern of LIKE.
var likely = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?,", n), ",") }

func ors(cond string, n int) string {
	return strings.TrimSuffix(strings.Repeat(cond+" OR ", n), " OR ")
}

func anys[T any](list []T) []any {
	out := make([]any, len(list))
	for i, v := range list {
		out[i] = v
	}
	return out
}

// List gives the runs that are meant, newest first.
func (p Project) List(f Filter) ([]record.Summary, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	cond, args := f.where(p.ID)
	query := "SELECT " + headColumns + " FROM run WHERE " + cond + " ORDER BY run.number DESC"
	if f.Most > 0 {
		query += fmt.Sprintf(" LIMIT %d", f.Most)
	}
	rows, err := db.Query(query, args...)
	if err != nil {
		return nil, p.wrong(err)
	}
	defer rows.Close()
	var out []record.Summary
	at := map[int64]int{}
	for rows.Next() {
		h, id, err := reads(rows.Scan)
		if err != nil {
			return nil, p.wrong(err)
		}
		at[id] = len(out)
		out = append(out, record.Summary{Head: h, Hosts: []string{}})
	}
	if err := rows.Err(); err != nil {
		return nil, p.wrong(err)
	}
	return out, p.wrong(fill(db, out, at))
}

// none takes it for no error that there is no file yet.
func none(err error) error {
	if errors.Is(err, ErrNone) {
		return nil
	}
	return err
}

// many is how many arguments a statement takes with ease.
const many = 500

// fill counts the hosts of runs, and adds their notes.
func fill(db *database, out []record.Summary, at map[int64]int) error {
	ids := make([]any, 0, many)
	flush := func() error {
		if len(ids) == 0 {
			return nil
		}
		defer func() { ids = ids[:0] }()
		if err := fillHosts(db, out, at, ids); err != nil {
			return err
		}
		return each(db, func(scan func(...any) error) error {
			var id int64
			var key, text string
			err := scan(&id, &key, &text)
			if err == nil {
				out[at[id]].Notes[key] = text
			}
			return err
		}, "SELECT run, key, value FROM note WHERE run IN ("+marks(len(ids))+")", ids...)
	}
	for id := range at {
		if ids = append(ids, id); len(ids) == many {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

func fillHosts(db *database, out []record.Summary, at map[int64]int, ids []any) error {
	return each(db, func(scan func(...any) error) error {
		var id int64
		var name, outcome string
		var changed, failed int
		var began int64
		if err := scan(&id, &name, &outcome, &began, &changed, &failed); err != nil {
			return err
		}
		b := &out[at[id]]
		if b.State == record.Interrupted && outcome == "" && began > 0 {
			outcome = string(record.OutLost)
		}
		b.Hosts = append(b.Hosts, name)
		b.Count(record.Outcome(outcome), changed, failed)
		return nil
	}, `SELECT visit.run, host.name, visit.outcome, visit.began, visit.changed, visit.failed FROM visit
		JOIN host ON host.id = visit.host
		WHERE visit.run IN (`+marks(len(ids))+`) ORDER BY visit.run, visit.nth, visit.id`, ids...)
}

// The names of runs besides their numbers.
const (
	Last       = "last"
	LastFailed = "last-failed"
	Back       = "~" // may stand for the dash of -1, which a command line takes for a flag
)

// Number finds the run that is named: by its number, as last or last-failed, or counted from
// the newest one, which is -1. With modes only runs of these are looked at where it is no
// number.
func (p Project) Number(which, env string, modes ...string) (int, error) {
	n, err := strconv.Atoi(strings.Replace(which, Back, "-", 1))
	if err == nil && n > 0 {
		return n, nil
	}
	f := Filter{Env: env, Modes: modes, Most: 1}
	switch {
	case err == nil && n < 0:
		f.Most = -n
	case which == Last:
	case which == LastFailed:
		f.Failed = true
	default:
		return 0, problem.Errorf("invalid run %q", which).
			Remedy("use a number, `last`, `last-failed`, or -1, -2 and so on, counted from the newest")
	}
	list, err := p.List(f)
	if err != nil {
		return 0, err
	}
	if len(list) < f.Most {
		return 0, problem.Errorf("this run does not exist yet").Remedy("`jadekettle runs` lists the runs")
	}
	return list[f.Most-1].Number, nil
}

// ErrNoRun is wrapped by the error for a run that is not kept.
var ErrNoRun = errors.New("does not exist here")

func noRun(n int) error {
	return problem.Errorf("run %d %w", n, ErrNoRun).Remedy("`jadekettle runs` lists the runs")
}

// head reads what is kept of a run besides its hosts.
func (p Project) head(db *database, n int) (record.Head, int64, error) {
	h, id, err := reads(db.QueryRow("SELECT "+headColumns+" FROM run WHERE run.project = ? AND run.number = ?",
		p.ID, n).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return h, 0, noRun(n)
	}
	if err != nil {
		return h, 0, p.wrong(err)
	}
	return h, id, each(db, func(scan func(...any) error) error {
		var key, text string
		err := scan(&key, &text)
		h.Notes[key] = text
		return err
	}, "SELECT key, value FROM note WHERE run = ?", id)
}

// Head reads what is kept of a run besides its hosts.
func (p Project) Head(n int) (record.Head, error) {
	db, err := p.reading()
	if errors.Is(err, ErrNone) {
		return record.Head{}, noRun(n)
	}
	if err != nil {
		return record.Head{}, err
	}
	h, _, err := p.head(db, n)
	return h, err
}

// Load reads a run whole. With hosts it reads only those.
func (p Project) Load(n int, hosts ...string) (*record.Run, error) {
	db, err := p.reading()
	if errors.Is(err, ErrNone) {
		return nil, noRun(n)
	}
	if err != nil {
		return nil, err
	}
	out := &record.Run{Hosts: []*record.Host{}}
	var id int64
	if out.Head, id, err = p.head(db, n); err != nil {
		return nil, err
	}
	cond, args := "", []any{id}
	if len(hosts) > 0 {
		cond = " AND host.name IN (" + marks(len(hosts)) + ")"
		args = append(args, anys(hosts)...)
	}
	at := map[int64]int{}
	if err := each(db, func(scan func(...any) error) error {
		id, h, err := readVisit(scan, out.Started)
		at[id] = len(out.Hosts)
		out.Hosts = append(out.Hosts, h)
		return err
	}, "SELECT "+visitColumns+` FROM visit JOIN host ON host.id = visit.host WHERE visit.run = ?`+cond+
		` ORDER BY visit.nth, visit.id`, args...); err != nil {
		return nil, p.wrong(err)
	}
	for _, h := range out.Hosts {
		if out.State == record.Interrupted && h.Begun && h.State == record.NotStarted {
			h.State, h.Outcome, h.Message = record.Lost, record.OutLost, orphaned
		}
	}
	visits := slices.SortedFunc(maps.Keys(at), func(a, b int64) int { return at[a] - at[b] })
	if err := visitedTasks(db, visits, func(visit, _ int64, t record.Task) {
		host := out.Hosts[at[visit]]
		host.Tasks = append(host.Tasks, t)
	}); err != nil {
		return nil, p.wrong(err)
	}
	there := 0
	if err := db.QueryRow("SELECT count(*) FROM run WHERE id = ?", id).Scan(&there); err != nil || there == 0 {
		return nil, cmp.Or(p.wrong(err), noRun(n)) // somebody has let it go meanwhile
	}
	return out, nil
}

// orphaned is why a host is lost that was at work when its run was interrupted.
const orphaned = "its controller stopped before it ended; later results will be collected by the next run"

const visitColumns = `visit.id, host.name, visit.state, visit.outcome, visit.began, visit.took, visit.planned,
	visit.changed, visit.failed, visit.unchanged, visit.skipped, visit.blocked, visit.collected_by,
	visit.hand, visit.detail`

func readVisit(scan func(...any) error, started time.Time) (int64, *record.Host, error) {
	var id, began, took int64
	h, detail := &record.Host{}, &record.Host{}
	var state, outcome, hand string
	var packed []byte
	if err := scan(&id, &h.Name, &state, &outcome, &began, &took, &h.Planned, &h.Changed, &h.Failed,
		&h.Unchanged, &h.Skipped,
		&h.Blocked, &h.CollectedBy, &hand, &packed); err != nil {
		return 0, h, err
	}
	text, err := unpack(packed)
	if err == nil && len(text) > 0 {
		err = json.Unmarshal(text, detail)
	}
	if err != nil {
		return id, h, fmt.Errorf("the host %s: %w", h.Name, err)
	}
	h.Message, h.Do, h.Stopped, h.Executed = detail.Message, detail.Do, detail.Stopped, detail.Executed
	h.Undeclared, h.Needed, h.Collected, h.Pending = some(detail.Undeclared), some(detail.Needed),
		some(detail.Collected), some(detail.Pending)
	h.Tasks = []record.Task{}
	if e := h.Executed; e != nil {
		e.Seconds = float64(took) / 1000
	}
	h.State, h.Outcome = record.State(state), record.Outcome(outcome)
	h.Seconds = float64(took) / 1000
	if began > 0 {
		h.After = float64(max(0, began-started.UnixMilli())) / 1000
	}
	if state == "" { // it has not ended
		h.State, h.Outcome, h.Begun = record.NotStarted, record.OutNotStarted, began > 0
		if hand != "" {
			h.AtWork = &record.AtWork{}
			err = json.Unmarshal([]byte(hand), h.AtWork)
		}
	}
	return id, h, err
}

// some makes a list of none where there is none.
func some[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

const taskColumns = `thing.kind, thing.name, place.file, place.line, task.status, task.began, task.took,
	task.detail, CASE WHEN task.labels IS NULL THEN '[]' ELSE (SELECT list FROM labels
	WHERE labels.id = task.labels) END`

// foundTask is a task as taskColumns give it.
type foundTask struct {
	kind, name, file string
	labels           string
	line, status     int
	began, took      int64
	packed           []byte
}

func (r *foundTask) to() []any {
	return []any{&r.kind, &r.name, &r.file, &r.line, &r.status, &r.began, &r.took, &r.packed, &r.labels}
}

func (r *foundTask) task() (record.Task, error) {
	t := record.Task{}
	text, err := unpack(r.packed)
	if err == nil && len(text) > 0 {
		err = json.Unmarshal(text, &t)
	}
	if t.Labels = []string{}; err == nil && r.labels != "[]" {
		err = json.Unmarshal([]byte(r.labels), &t.Labels)
	}
	if err != nil {
		return t, fmt.Errorf("the task %s %s: %w", r.kind, r.name, err)
	}
	t.Kind, t.Name, t.Manifest, t.Line, t.Status = r.kind, r.name, r.file, r.line, statusOf(r.status)
	t.After, t.Seconds = float64(r.began)/1000, float64(r.took)/1000
	if len(text) == 0 {
		t.Tries = 1
	}
	t.Changes, t.Written = some(t.Changes), some(t.Written)
	return t, nil
}

// readTask reads a task, behind what else is in its row.
func readTask(scan func(...any) error, more ...any) (record.Task, error) {
	var r foundTask
	if err := scan(append(more, r.to()...)...); err != nil {
		return record.Task{}, err
	}
	return r.task()
}

// Facts gives the facts of a host as they were read in a run; nil where none were.
func (p Project) Facts(n int, host string) (*facts.Facts, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	var packed []byte
	err = db.QueryRow(`SELECT content.packed FROM run JOIN visit ON visit.run = run.id JOIN host ON host.id = visit.host
		JOIN content ON content.id = visit.facts WHERE run.project = ? AND run.number = ? AND host.name = ?`,
		p.ID, n, host).
		Scan(&packed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, p.wrong(err)
	}
	text, err := unpack(packed)
	if err != nil {
		return nil, err
	}
	var out *facts.Facts
	if err := wire.Unmarshal(text, &out); err != nil || out == nil {
		return nil, err
	}
	return out, out.Validate()
}

// Files lists the files that a run was made of.
func (p Project) Files(n int) ([]history.File, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	var out []history.File
	return out, p.wrong(each(db, func(scan func(...any) error) error {
		var f history.File
		var sum []byte
		err := scan(&f.Path, &f.Size, &sum)
		f.Sum = hex.EncodeToString(sum)
		out = append(out, f)
		return err
	}, `SELECT leaf.path, leaf.size, content.sha256 FROM run JOIN leaf ON leaf.tree = run.tree LEFT JOIN content
		ON content.id = leaf.content WHERE run.project = ? AND run.number = ? ORDER BY leaf.path`, p.ID, n))
}

// Text gives the text of a file as a run found it; nil where it is not kept.
func (p Project) Text(n int, path string) ([]byte, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	var packed []byte
	err = db.QueryRow(`SELECT content.packed FROM run JOIN leaf ON leaf.tree = run.tree
		JOIN content ON content.id = leaf.content
		WHERE run.project = ? AND run.number = ? AND leaf.path = ?`, p.ID, n, path).Scan(&packed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, p.wrong(err)
	}
	return unpack(packed)
}
