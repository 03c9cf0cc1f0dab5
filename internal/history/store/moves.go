package store

import (
	"time"
)

// Move is a host that came, went, or changed a group.
type Move struct {
	Host  string    `json:"host" doc:"The host."`
	What  string    `json:"moved" doc:"new, gone, into or out of."`
	Group string    `json:"group" doc:"The group it moved into or out of."`
	Why   string    `json:"why" doc:"The reason, if known."`
	At    time.Time `json:"at,omitzero" doc:"When a run noticed it; omitted if none has yet."`
	Run   int       `json:"run" doc:"That run; 0 if none has yet."`
}

// moved keeps moves, for a log of them.
func (k Known) moved(tx *transaction, n News, run int) error {
	for _, m := range n.Moves {
		if err := tx.Exec(`INSERT INTO moved (project, env, host, what, grp, why, at, run)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, k.p.ID, k.env, m.Host, m.What, m.Group, m.Why, millis(n.At),
			run); err != nil {
			return err
		}
	}
	return nil
}

// Moves gives the moves since a time, oldest first.
func (k Known) Moves(since time.Time) ([]Move, error) {
	db, err := k.p.reading()
	if err != nil {
		return nil, none(err)
	}
	var out []Move
	return out, k.p.wrong(each(db, func(scan func(...any) error) error {
		var m Move
		var at int64
		err := scan(&m.Host, &m.What, &m.Group, &m.Why, &at, &m.Run)
		m.At = atMillis(at)
		out = append(out, m)
		return err
	}, "SELECT host, what, grp, why, at, run FROM moved WHERE project = ? AND env = ? AND at >= ? ORDER BY at, id",
		k.p.ID, k.env, since.UnixMilli()))
}
