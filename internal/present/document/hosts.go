package document

import (
	"maps"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/app"
	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
)

// NewHosts makes the document of hosts with their groups.
func NewHosts(list []app.Standing) Hosts {
	out := Hosts{Head: One}
	for _, s := range list {
		h := s.Host
		out.Hosts = append(out.Hosts, Host{Name: h.Name, Address: h.Address(), Groups: s.Names(), Maybe: s.Maybe(),
			Manifests: s.Manifests(), Off: h.Off, Own: own(h)})
	}
	return out
}

// NewMembers tells who is in a group, and by what.
func NewMembers(p *app.Project, list []app.Standing, name string) (*Members, error) {
	g, ok := p.Inventory.Group(name)
	if !ok {
		return nil, problem.Errorf("there is no group %q", name).
			Meant(name, p.Inventory.GroupNames(), "there are "+strings.Join(p.Inventory.GroupNames(), ", "))
	}
	out := &Members{Head: One, Group: name}
	for _, s := range list {
		by, open := p.Inventory.Why(s.Host, g, s.Facts.Tree()), slices.Contains(s.Maybe(), name)
		switch {
		case by != "":
			out.Members = append(out.Members, Member{Name: s.Host.Name, By: by, Known: true})
		case open:
			out.Members = append(out.Members, Member{Name: s.Host.Name, By: "perhaps"})
		}
	}
	return out, nil
}

// NewMoves tells what changed in the groups of hosts since their last runs. all says that the hosts are all there are,
// so that those count as well that the inventory has no more.
func NewMoves(p *app.Project, list []app.Standing, all bool) []Move {
	var out []Move
	note := func(host, what, group, why string) {
		out = append(out, Move{Host: host, Moved: what, Group: group, Why: why})
	}
	for _, s := range list {
		kept, ok := p.Known.Load(s.Host.Name)
		if !ok || kept.Ran.IsZero() {
			note(s.Host.Name, "new", "", "there was no run yet")
			continue
		}
		now := s.Names()
		for _, g := range s.Groups {
			if !slices.Contains(kept.Groups, g.Name) {
				note(s.Host.Name, "into", g.Name, p.Inventory.Why(s.Host, g, s.Facts.Tree()))
			}
		}
		for _, g := range kept.Groups {
			if !slices.Contains(now, g) {
				note(s.Host.Name, "out of", g, "")
			}
		}
	}
	if !all {
		return out
	}
	for _, name := range p.Known.Hosts() {
		if _, there := p.Inventory.Host(name); !there {
			note(name, "gone", "", "the inventory has it no more; what is managed on it stays as it is")
		}
	}
	return out
}

// NewMovesLog gives what runs have found to move since a time, of some hosts, or of all without any.
func NewMovesLog(p *app.Project, since time.Time, hosts []string) ([]Move, error) {
	list, err := p.Known.Moves(since)
	if err != nil {
		return nil, err
	}
	var out []Move
	for _, m := range list {
		if hosts == nil || slices.Contains(hosts, m.Host) {
			out = append(out, Move{Host: m.Host, Moved: m.What, Group: m.Group, Why: m.Why, At: m.At, Run: m.Run})
		}
	}
	return out, nil
}

// NewShown makes the document of all that applies to a host.
func NewShown(e *explain.Explanation) Shown {
	out := Shown{Head: One, Host: e.Host.Name, Address: e.Host.Address(), Off: e.Host.Off, Own: own(e.Host),
		FactsKnown: e.Known, Declarations: e.Declared()}
	for _, g := range e.Groups {
		out.Groups = append(out.Groups, g.Name)
	}
	return out
}

// own gives the keys that a project gives a host, without those that every host has.
func own(h *inventory.Host) map[string]any {
	out := maps.Clone(h.Vars)
	if out == nil {
		out = map[string]any{}
	}
	for _, k := range []string{"name", "address", "groups"} {
		delete(out, k)
	}
	return out
}

// NewData makes the document of where a value of a host's data comes from.
func NewData(e *explain.Explanation, path []string) (*Data, error) {
	steps, v, there, err := e.Data(path)
	return &Data{Head: One, Host: e.Host.Name, Asked: "data." + strings.Join(path, "."), There: there, Value: v,
		Layers: steps}, err
}

// NewParam makes the document of where the value of a param can come from.
func NewParam(e *explain.Explanation, manifest, name string) (*Param, error) {
	steps, err := e.Param(manifest, name)
	return &Param{Head: One, Host: e.Host.Name, Asked: "param." + manifest + "." + name, Steps: steps}, err
}
