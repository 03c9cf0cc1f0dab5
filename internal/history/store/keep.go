package store

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"slices"
	"time"

	"jadekettle/internal/core/record"
)

// Limits say which runs may go. The zero Limits let none go.
type Limits struct {
	Before time.Time // those that began before
	Count  int       // those beyond so many, the newest staying; 0 for no limit
	Size   int64     // the oldest, until those that stay take about so many bytes; 0 for no limit
}

// Old is one run that may go.
type Old struct {
	Number  int
	Started time.Time
	Bytes   int64 // that it takes, about: what it has in common with others is not in it
	id      int64
}

// Old lists the runs that are beyond limits, oldest first. Those that go on are none, and neither
// are those that say who let runs go.
func (p Project) Old(l Limits) ([]Old, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	var all []Old
	if err := each(db, func(scan func(...any) error) error {
		var o Old
		h, id, err := reads(scan, &o.Bytes)
		if err != nil || h.State == record.Running {
			return err
		}
		o.Number, o.Started, o.id = h.Number, h.Started, id
		all = append(all, o)
		return nil
	}, `SELECT `+headColumns+`, 300 + (SELECT coalesce(sum(100 + coalesce(length(visit.detail), 0) +
		coalesce(length(visit.times), 0) + (SELECT
		coalesce(sum(30 + coalesce(length(task.detail), 0)), 0) FROM task WHERE task.visit = visit.id)), 0)
		FROM visit WHERE
		visit.run = run.id) FROM run WHERE run.project = ? AND run.mode <> ? ORDER BY run.number DESC`, p.ID,
		record.ModePrune); err != nil {
		return nil, p.wrong(err)
	}
	var out []Old
	var size int64
	for i, o := range all {
		size += o.Bytes
		if o.Started.Before(l.Before) || l.Count > 0 && i >= l.Count || l.Size > 0 && size > l.Size {
			out = append(out, o)
		}
	}
	slices.Reverse(out)
	return out, nil
}

// Prune lets runs go, with all that only they had, and gives the room back. It reports how many
// bytes the file has lost.
func (p Project) Prune(list []Old) (int64, error) {
	db, err := p.open()
	if err != nil {
		return 0, err
	}
	before, err := db.size(db)
	if err != nil {
		return 0, p.wrong(err)
	}
	if err := write(db, func(tx *transaction) error {
		for _, o := range list {
			if err := tx.unsaid(tx, o.id); err != nil {
				return err
			}
			for _, q := range []string{
				"DELETE FROM task WHERE visit IN (SELECT id FROM visit WHERE run = ?)",
				"DELETE FROM visit WHERE run = ?",
				"DELETE FROM note WHERE run = ?",
				"DELETE FROM run WHERE id = ?",
			} {
				if err := tx.Exec(q, o.id); err != nil {
					return err
				}
			}
		}
		return sweep(tx)
	}); err != nil {
		return 0, err
	}
	if err := db.tidy(db); err != nil {
		return 0, p.wrong(err)
	}
	after, err := db.size(db)
	return before - after, p.wrong(err)
}

// sweep lets go of what no run has any more.
func sweep(tx *transaction) error {
	for _, q := range []string{
		"DELETE FROM leaf WHERE tree NOT IN (SELECT tree FROM run WHERE tree IS NOT NULL)",
		"DELETE FROM tree WHERE id NOT IN (SELECT tree FROM run WHERE tree IS NOT NULL)",
		`DELETE FROM content WHERE id NOT IN (SELECT content FROM leaf WHERE content IS NOT NULL UNION
			SELECT facts FROM visit
			WHERE facts IS NOT NULL UNION SELECT facts FROM known)`,
		"DELETE FROM host WHERE id NOT IN (SELECT host FROM visit)",
		"DELETE FROM item WHERE list NOT IN (SELECT list FROM visit WHERE list IS NOT NULL)",
		"DELETE FROM list WHERE id NOT IN (SELECT list FROM visit WHERE list IS NOT NULL)",
		"DELETE FROM thing WHERE id NOT IN (SELECT thing FROM task UNION SELECT thing FROM item)",
		`DELETE FROM labels WHERE id NOT IN (SELECT labels FROM task WHERE labels IS NOT NULL UNION
			SELECT labels FROM item WHERE labels IS NOT NULL)`,
		"DELETE FROM place WHERE id NOT IN (SELECT place FROM task UNION SELECT place FROM item)",
	} {
		if err := tx.Exec(q); err != nil {
			return err
		}
	}
	return nil
}

// Health is what a check of the file has found.
type Health struct {
	Bytes int64    `json:"bytes" doc:"Its size."`
	Runs  int      `json:"runs" doc:"The number of runs, of all projects."`
	Hosts int      `json:"hosts" doc:"The number of times hosts were part of these runs."`
	Tasks int      `json:"tasks" doc:"The number of tasks."`
	Texts int      `json:"texts" doc:"The number of distinct texts: facts and project files."`
	Wrong []string `json:"wrong" doc:"The problems found; empty if there are none."`
}

// maxWrong bounds how much of what is wrong is reported.
const maxWrong = 20

// Check reads the whole history: whether the database finds it sound, whether every text is still what
// it was, and whether every record can be read. Without a file it is ErrNone.
func (s *Store) Check() (*Health, error) {
	out := &Health{}
	db, err := s.reading()
	if err != nil {
		return nil, err
	}
	if out.Bytes, err = db.size(db); err != nil {
		return nil, s.wrong(err)
	}
	say := func(format string, args ...any) {
		if len(out.Wrong) < maxWrong {
			out.Wrong = append(out.Wrong, fmt.Sprintf(format, args...))
		}
	}
	if err := db.sound(db, say); err != nil {
		return nil, s.wrong(err)
	}
	for query, n := range map[string]*int{"count(*) FROM run": &out.Runs, "count(*) FROM visit": &out.Hosts,
		"(SELECT count(*) FROM task) + (SELECT count(*) FROM visit JOIN item ON item.list = visit.list)": &out.Tasks} {
		if err := db.QueryRow("SELECT " + query).Scan(n); err != nil {
			return nil, s.wrong(err)
		}
	}
	err = each(db, func(scan func(...any) error) error {
		var id int64
		var sum, packed []byte
		err := scan(&id, &sum, &packed)
		text, wrong := unpack(packed)
		if got := sha256.Sum256(text); wrong != nil || !bytes.Equal(got[:], sum) {
			say("the text %x is corrupted", sum[:min(6, len(sum))])
		}
		out.Texts++
		return err
	}, "SELECT id, sha256, packed FROM content")
	if err != nil {
		return nil, s.wrong(err)
	}
	for _, q := range []string{"SELECT detail FROM visit WHERE detail IS NOT NULL",
		"SELECT times FROM visit WHERE times IS NOT NULL", "SELECT detail FROM task WHERE detail IS NOT NULL",
		"SELECT detail FROM item WHERE detail IS NOT NULL"} {
		if err := each(db, func(scan func(...any) error) error {
			var packed []byte
			err := scan(&packed)
			if _, wrong := unpack(packed); wrong != nil {
				say("a record cannot be read: %v", wrong)
			}
			return err
		}, q); err != nil {
			return nil, s.wrong(err)
		}
	}
	return out, nil
}
