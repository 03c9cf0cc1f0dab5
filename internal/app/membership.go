package app

import (
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/history/store"
)

// Member is a host in a group.
type Member struct {
	Name  string `json:"name" doc:"The host."`
	By    string `json:"by" doc:"What makes it a member."`
	Known bool   `json:"known" doc:"False if it depends on facts that were never collected."`
}

// Members lists which of some hosts are in a group, and by what.
func (p *Project) Members(list []Membership, name string) ([]Member, error) {
	g, ok := p.Inventory.Group(name)
	if !ok {
		return nil, problem.Errorf("unknown group %q", name).
			Meant(name, p.Inventory.GroupNames(), "available: "+strings.Join(p.Inventory.GroupNames(), ", "))
	}
	var out []Member
	for _, s := range list {
		switch by := p.Inventory.Why(s.Host, g, s.Facts.Tree()); {
		case by != "":
			out = append(out, Member{Name: s.Host.Name, By: by, Known: true})
		case slices.Contains(s.Maybe(), name):
			out = append(out, Member{Name: s.Host.Name, By: "maybe"})
		}
	}
	return out, nil
}

// Moves lists what changed in the groups of hosts since their last runs. all says that the hosts are all there are, so
// that those count as well that are no longer in the inventory.
func (p *Project) Moves(list []Membership, all bool) []store.Move {
	var out []store.Move
	known := p.Known.Of(len(list))
	for _, s := range list {
		name := s.Host.Name
		kept, ok := known(name)
		if !ok || kept.Ran.IsZero() {
			out = append(out, store.Move{Host: name, What: "new", Why: "there are no runs yet"})
			continue
		}
		now := s.Names()
		for _, g := range s.Groups {
			if !slices.Contains(kept.Groups, g.Name) {
				out = append(out, store.Move{Host: name, What: "into", Group: g.Name,
					Why: p.Inventory.Why(s.Host, g, s.Facts.Tree())})
			}
		}
		for _, g := range kept.Groups {
			if !slices.Contains(now, g) {
				out = append(out, store.Move{Host: name, What: "out of", Group: g})
			}
		}
	}
	if !all {
		return out
	}
	for _, name := range p.Known.Hosts() {
		if _, there := p.Inventory.Host(name); !there {
			out = append(out, store.Move{Host: name, What: "gone",
				Why: "it is no longer in the inventory; everything managed on it is left as it is"})
		}
	}
	return out
}

// MovesSince lists what runs have found to move since a time, of some hosts, or of all if hosts is nil.
func (p *Project) MovesSince(since time.Time, hosts []string) ([]store.Move, error) {
	list, err := p.Known.Moves(since)
	if hosts != nil {
		list = slices.DeleteFunc(list, func(m store.Move) bool { return !slices.Contains(hosts, m.Host) })
	}
	return list, err
}
