package store

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
)

// HostRuns gives what became of hosts in their runs, newest first, at most so many of each. Runs of single commands and
// those in which a host's turn did not come are skipped.
func (p Project) HostRuns(env string, most int, hosts ...string) (map[string][]history.HostRun, error) {
	db, err := p.reading()
	if err != nil {
		return nil, none(err)
	}
	s := &standing{p: p, db: db, env: env, heads: map[int64]*record.Head{}, out: map[string][]history.HostRun{},
		visits: map[string][]int64{}}
	for some := range slices.Chunk(hosts, many) {
		if err := s.read(some, most); err != nil {
			return nil, p.wrong(err)
		}
	}
	return s.out, p.wrong(s.details())
}

// standing reads how hosts are.
type standing struct {
	p      Project
	db     *database
	env    string
	heads  map[int64]*record.Head // by the number of their row; nil of those that are skipped
	out    map[string][]history.HostRun
	visits map[string][]int64 // of each of out
}

// Most visits find nothing to do. Of those three numbers are read, and all that is read of a host is one text: to hand
// over a value takes longer than to find it.
const (
	quietVisit = `visit.state = 'reached' AND visit.outcome = 'unchanged' AND NOT visit.stopped AND
		visit.changed + visit.failed + visit.blocked = 0`
	visitText = `visit.run || '|' || visit.id || '|' || visit.began || CASE WHEN ` + quietVisit + ` THEN '' ELSE
		'|' || visit.state || '|' || visit.outcome || '|' || visit.changed || '|' || visit.failed || '|' ||
		visit.blocked || '|' || CASE WHEN visit.stopped THEN 1 ELSE 0 END END`
)

// read reads the runs of some hosts.
func (s *standing) read(hosts []string, most int) error {
	texts := map[string][]string{}
	if err := each(s.db, func(scan func(...any) error) error {
		var host string
		var text sql.NullString
		err := scan(&host, &text)
		if text.Valid {
			texts[host] = strings.Split(text.String, ";")
		}
		return err
	}, `SELECT host.name, (SELECT `+s.db.joined("text")+` FROM (SELECT `+visitText+` AS text FROM visit
		WHERE visit.host = host.id AND visit.state <> 'not started' ORDER BY visit.run DESC LIMIT ?) AS list)
		FROM host WHERE host.name IN (`+marks(len(hosts))+`)`,
		append([]any{most}, anys(hosts)...)...); err != nil {
		return err
	}
	rows, err := parsed(texts)
	if err == nil {
		err = s.readHeads(rows)
	}
	if err != nil {
		return err
	}
	var further []string
	for host, list := range rows {
		s.out[host], s.visits[host] = make([]history.HostRun, 0, len(list)), make([]int64, 0, len(list))
		for _, v := range list {
			s.add(host, v)
		}
		if len(list) == most && len(s.out[host]) == 0 { // all were of single commands, or other projects
			further = append(further, host)
		}
	}
	if len(further) == 0 {
		return nil
	}
	return s.read(further, 10*most)
}

// visitRow is a visit, as visitText writes it.
type visitRow struct {
	run, id, began           int64
	state                    record.State
	outcome                  record.Outcome
	changed, failed, blocked int
	stopped                  bool
}

// parsed reads the texts of visits, and puts the newest first.
func parsed(texts map[string][]string) (map[string][]visitRow, error) {
	out := make(map[string][]visitRow, len(texts))
	for host, list := range texts {
		rows := make([]visitRow, len(list))
		for i, text := range list {
			v := visitRow{state: record.Reached, outcome: record.OutUnchanged}
			var wrong error
			number := func(text string) int64 {
				n, err := strconv.ParseInt(text, 10, 64)
				wrong = cmp.Or(wrong, err)
				return n
			}
			of := strings.Split(text, "|")
			if len(of) != 3 && len(of) != 9 {
				return nil, fmt.Errorf("a visit of %s cannot be read", host)
			}
			v.run, v.id, v.began = number(of[0]), number(of[1]), number(of[2])
			if len(of) == 9 {
				v.state, v.outcome = record.State(of[3]), record.Outcome(of[4])
				v.changed, v.failed, v.blocked = int(number(of[5])), int(number(of[6])), int(number(of[7]))
				v.stopped = of[8] == "1"
			}
			if rows[i] = v; wrong != nil {
				return nil, fmt.Errorf("a visit of %s cannot be read: %w", host, wrong)
			}
		}
		slices.SortFunc(rows, func(a, b visitRow) int { return cmp.Compare(b.run, a.run) })
		out[host] = rows
	}
	return out, nil
}

// readHeads reads the runs of visits.
func (s *standing) readHeads(rows map[string][]visitRow) error {
	var wanted []any
	for _, list := range rows {
		for _, v := range list {
			if _, known := s.heads[v.run]; !known {
				s.heads[v.run] = nil
				wanted = append(wanted, v.run)
			}
		}
	}
	for some := range slices.Chunk(wanted, many) {
		if err := each(s.db, func(scan func(...any) error) error {
			h, id, err := reads(scan)
			s.heads[id] = &h
			return err
		}, "SELECT "+headColumns+" FROM run WHERE run.project = ? AND run.env = ? AND run.mode <> 'exec' AND "+
			"run.id IN ("+marks(len(some))+")", append([]any{s.p.ID, s.env}, some...)...); err != nil {
			return err
		}
	}
	return nil
}

// add takes up a visit.
func (s *standing) add(host string, v visitRow) {
	head := s.heads[v.run]
	if head == nil {
		return
	}
	out := history.HostRun{Head: head, State: v.state, Outcome: v.outcome, At: head.Started, Changed: v.changed,
		Failed: v.failed, Blocked: v.blocked, Stopped: v.stopped}
	if v.state == "" {
		if v.began == 0 || head.State != record.Interrupted || head.Mode == record.ModePreview ||
			head.Mode == record.ModeDrift {
			return // it changes nothing, or is at work
		}
		out.State, out.Outcome, out.Message = record.Lost, record.OutLost, orphaned
	}
	if v.began > 0 {
		out.At = atMillis(v.began)
	}
	s.out[host] = append(s.out[host], out)
	s.visits[host] = append(s.visits[host], v.id)
}

// details reads what else is wanted of the newest visit of each host, and of the newest that went through a whole plan.
func (s *standing) details() error {
	wanted := map[int64]*history.HostRun{}
	for host, list := range s.out {
		if len(list) == 0 {
			delete(s.out, host)
			continue
		}
		wanted[s.visits[host][0]] = &list[0]
		i := slices.IndexFunc(list, func(r history.HostRun) bool {
			return r.State == record.Reached && r.Whole && r.Declared && !r.Stopped
		})
		if i >= 0 {
			list[i].Latest = true
			wanted[s.visits[host][i]] = &list[i]
		}
	}
	ids := make([]any, 0, len(wanted))
	for id := range wanted {
		ids = append(ids, id)
	}
	for some := range slices.Chunk(ids, many) {
		if err := each(s.db, func(scan func(...any) error) error {
			var id int64
			var packed []byte
			if err := scan(&id, &packed); err != nil {
				return err
			}
			text, err := unpack(packed)
			if err != nil || len(text) == 0 {
				return err
			}
			var d struct {
				Message    string              `json:"message"`
				Undeclared []record.Undeclared `json:"undeclared"`
				Pending    []record.Pending    `json:"pending"`
			}
			if err := json.Unmarshal(text, &d); err != nil {
				return err
			}
			r := wanted[id]
			r.Message = cmp.Or(d.Message, r.Message)
			if r.Latest {
				r.Undeclared, r.Pending = d.Undeclared, d.Pending
			}
			return nil
		}, "SELECT id, detail FROM visit WHERE id IN ("+marks(len(some))+")", some...); err != nil {
			return err
		}
	}
	return nil
}
