package store

import (
	"database/sql"
	"errors"
	"slices"
	"time"

	"jadekettle/internal/core/record"
)

// atOnce is of how many hosts a run is let go in one transaction, while which nobody else can write.
const atOnce = 500

// expire lets a part of the oldest run go that began before a time, and says whether there was one. Things, places and
// labels stay, which are few; the room that is free is taken by what comes.
func (p Project) expire(db *database, before time.Time) (more bool, err error) {
	return more, write(db, func(tx *transaction) error {
		var run int64
		err := tx.QueryRow(`SELECT id FROM run WHERE project = ? AND started < ? AND mode <> ? AND
			(ended IS NOT NULL OR beat < now_ms() - ?) ORDER BY number LIMIT 1`, p.ID, millis(before), record.ModePrune,
			time.Hour.Milliseconds()).Scan(&run)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		more = true
		return forget(tx, run)
	})
}

// forget lets some hosts of a run go with what only they had, or the run itself if they were the last.
func forget(tx *transaction, run int64) error {
	var visits, facts, lists []any
	if err := each(tx, func(scan func(...any) error) error {
		var visit int64
		var f, list sql.NullInt64
		err := scan(&visit, &f, &list)
		visits = append(visits, visit)
		if f.Valid {
			facts = append(facts, f.Int64)
		}
		if list.Valid {
			lists = append(lists, list.Int64)
		}
		return err
	}, "SELECT id, facts, list FROM visit WHERE run = ? LIMIT ?", run, atOnce); err != nil {
		return err
	}
	for _, q := range []string{"DELETE FROM task WHERE visit IN ", "DELETE FROM visit WHERE id IN "} {
		if err := among(tx, q, "", visits); err != nil {
			return err
		}
	}
	const unlisted = " AND NOT EXISTS (SELECT 1 FROM visit WHERE visit.list = "
	if err := among(tx, "DELETE FROM item WHERE list IN ", unlisted+"item.list)", lists); err != nil {
		return err
	}
	if err := among(tx, "DELETE FROM list WHERE id IN ", unlisted+"list.id)", lists); err != nil {
		return err
	}
	if len(visits) == atOnce {
		return among(tx, "DELETE FROM content WHERE id IN ", unused, facts)
	}
	texts, err := forgetRun(tx, run)
	if err != nil {
		return err
	}
	return among(tx, "DELETE FROM content WHERE id IN ", unused, append(facts, texts...))
}

// unused is the condition that nothing has a content.
const unused = ` AND NOT EXISTS (SELECT 1 FROM visit WHERE visit.facts = content.id)
	AND NOT EXISTS (SELECT 1 FROM leaf WHERE leaf.content = content.id)
	AND NOT EXISTS (SELECT 1 FROM known WHERE known.facts = content.id)`

// forgetRun lets a run go that has no hosts any more, and gives the contents that its files had.
func forgetRun(tx *transaction, run int64) (texts []any, err error) {
	var tree sql.NullInt64
	if err := tx.QueryRow("SELECT tree FROM run WHERE id = ?", run).Scan(&tree); err != nil {
		return nil, err
	}
	if err := tx.unsaid(tx, run); err != nil {
		return nil, err
	}
	for _, q := range []string{"DELETE FROM note WHERE run = ?", "DELETE FROM run WHERE id = ?"} {
		if err := tx.Exec(q, run); err != nil {
			return nil, err
		}
	}
	others := 0
	if err := tx.QueryRow("SELECT count(*) FROM run WHERE tree = ?", tree).Scan(&others); err != nil || others > 0 ||
		!tree.Valid {
		return nil, err
	}
	if err := each(tx, func(scan func(...any) error) error {
		var id int64
		err := scan(&id)
		texts = append(texts, id)
		return err
	}, "SELECT content FROM leaf WHERE tree = ? AND content IS NOT NULL", tree); err != nil {
		return nil, err
	}
	for _, q := range []string{"DELETE FROM leaf WHERE tree = ?", "DELETE FROM tree WHERE id = ?"} {
		if err := tx.Exec(q, tree); err != nil {
			return nil, err
		}
	}
	return texts, nil
}

// among does a statement for all of a list.
func among(tx *transaction, statement, cond string, list []any) error {
	for some := range slices.Chunk(list, many) {
		if err := tx.Exec(statement+"("+marks(len(some))+")"+cond, some...); err != nil {
			return err
		}
	}
	return nil
}
