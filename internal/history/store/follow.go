package store

import (
	"jadekettle/internal/core/record"
)

// Follower reports what happens in a run that another process keeps.
type Follower struct {
	p    Project
	n    int
	seen map[int64]*followed
}

// followed is what was sent of a host so far.
type followed struct {
	nth   int64 // of its last task that was sent
	begun int   // how many tasks were sent as planned; -1 when its turn was not sent
	hand  string
	over  bool
}

// Follow begins to follow a run.
func (p Project) Follow(n int) *Follower { return &Follower{p: p, n: n, seen: map[int64]*followed{}} }

// Next gives what has happened since it was asked last, and the run as it is now.
func (f *Follower) Next() (record.Head, []record.Event, error) {
	db, err := f.p.reading()
	if err != nil {
		return record.Head{}, nil, err
	}
	head, id, err := f.p.head(db, f.n)
	if err != nil {
		return head, nil, err
	}
	type now struct {
		id, began, last int64
		host            *record.Host
		hand            string
	}
	var all []now
	err = each(db, func(scan func(...any) error) error {
		var one now
		var err error
		one.id, one.host, err = readVisit(func(to ...any) error {
			return scan(append(to, &one.last, &one.began, &one.hand)...)
		}, head.Started)
		all = append(all, one)
		return err
	}, "SELECT "+visitColumns+`, (SELECT coalesce(max(nth), 0) FROM task
		WHERE task.visit = visit.id), visit.began, visit.hand FROM
		visit JOIN host ON host.id = visit.host WHERE visit.run = ? ORDER BY visit.nth, visit.id`, id)
	if err != nil {
		return head, nil, f.p.wrong(err)
	}
	var out []record.Event
	for _, one := range all {
		s := f.seen[one.id]
		if s == nil {
			s = &followed{begun: -1}
			f.seen[one.id] = s
		}
		if one.began > 0 && one.host.Planned > s.begun {
			s.begun = one.host.Planned
			out = append(out, record.Event{Host: one.host.Name,
				Begun: &record.Begun{At: atMillis(one.began), Tasks: one.host.Planned}})
		}
		if one.last > s.nth {
			tasks, err := f.tasks(db, one.id, one.host, s)
			if err != nil {
				return head, nil, f.p.wrong(err)
			}
			out = append(out, tasks...)
		}
		if w := one.host.AtWork; w != nil && one.hand != s.hand {
			out = append(out, record.Event{Host: one.host.Name, AtWork: w})
		}
		s.hand = one.hand
		if over := one.host.State != record.NotStarted || one.host.Message != ""; over && !s.over {
			s.over = true
			all, err := f.tasks(db, one.id, one.host, &followed{})
			if err != nil {
				return head, nil, f.p.wrong(err)
			}
			for _, e := range all {
				one.host.Tasks = append(one.host.Tasks, *e.Task)
			}
			out = append(out, record.Event{Host: one.host.Name, Ended: one.host})
		}
	}
	return head, out, nil
}

// tasks gives the tasks of a host that were not sent yet.
func (f *Follower) tasks(db *database, visit int64, host *record.Host, s *followed) ([]record.Event, error) {
	var out []record.Event
	seen := s.nth
	return out, visitedTasks(db, []int64{visit}, func(_, nth int64, t record.Task) {
		if s.nth = max(s.nth, nth); nth > seen {
			out = append(out, record.Event{Host: host.Name, Task: &t})
		}
	})
}
