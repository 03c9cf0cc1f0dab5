package app

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/history/store"
)

// news gives what was learnt of hosts, and after a run which groups they are in, and what moved in or out of one. After
// one over all hosts those are gone that the inventory has no more. q is nil outside of a run.
func (p *Project) news(ctx context.Context, hosts []*record.Host, q *Request) store.News {
	out := store.News{At: time.Now()}
	edit := p.editOf(ctx)
	known := p.Known.Of(len(hosts))
	for _, h := range hosts {
		if h.Facts == nil {
			continue
		}
		l := store.Learnt{Host: h.Name, Facts: h.Facts}
		if q != nil {
			l.Groups = append([]string{}, h.Groups...)
			before, _ := known(h.Name)
			out.Moves = append(out.Moves, p.moves(h, before, edit)...)
		}
		out.Hosts = append(out.Hosts, l)
	}
	if q != nil && len(q.Targets)+len(q.Except) == 0 {
		for _, name := range p.Known.Hosts() {
			if _, there := p.Inventory.Host(name); !there {
				out.Gone = append(out.Gone, name)
				out.Moves = append(out.Moves, store.Move{Host: name, What: "gone", Why: edit()})
			}
		}
	}
	return out
}

// moves reports what has changed in the groups of a host since its last run, and why.
func (p *Project) moves(v *record.Host, before store.HostState, edit func() string) []store.Move {
	h, there := p.Inventory.Host(v.Name)
	if !there {
		return nil
	}
	if before.Ran.IsZero() {
		return []store.Move{{Host: v.Name, What: "new", Why: "its first run"}}
	}
	var out []store.Move
	why := func(name string) string {
		g, there := p.Inventory.Group(name)
		if !there {
			return "the group no longer exists; " + edit()
		}
		if facts := otherFacts(p.Inventory, g, before.Facts, v.Facts); facts != "" {
			return facts
		}
		if g.ByFacts && before.Read.After(before.Ran) { // what they were at the last run is known no more
			return "by facts collected on " + before.Read.Local().Format("2006-01-02 15:04 MST")
		}
		return edit()
	}
	for _, g := range v.Groups {
		if !slices.Contains(before.Groups, g) {
			out = append(out, store.Move{Host: v.Name, What: "into", Group: g,
				Why: because(p.Inventory, h, g, v.Facts, why(g))})
		}
	}
	for _, g := range before.Groups {
		if !slices.Contains(v.Groups, g) {
			out = append(out, store.Move{Host: v.Name, What: "out of", Group: g, Why: why(g)})
		}
	}
	return out
}

// because joins by what a host is in a group, and what made it so.
func because(inv *inventory.Inventory, h *inventory.Host, name string, f *facts.Facts, cause string) string {
	g, there := inv.Group(name)
	if !there {
		return cause
	}
	return strings.Trim(inv.Why(h, g, f.Tree())+"; "+cause, "; ")
}

// otherFacts lists the facts with other values now by which a group, or one inside it, decides.
func otherFacts(inv *inventory.Inventory, g *inventory.Group, before, now *facts.Facts) string {
	was, is := &expr.Vars{Facts: before.Tree()}, &expr.Vars{Facts: now.Tree()}
	var out []string
	for _, other := range inv.Groups {
		if other.Where == nil || other != g && !inv.Within(other, g) {
			continue
		}
		for _, path := range other.Where.Reads() {
			if path[0] != "facts" {
				continue
			}
			old, _ := was.Lookup(path)
			new, _ := is.Lookup(path)
			text := fmt.Sprintf("%s: %s -> %s", strings.Join(path, "."), brief(old), brief(new))
			if !value.Equal(old, new) && !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
	}
	return strings.Join(out, "; ")
}

// brief shows a value, not too long.
func brief(v any) string {
	const most = 80
	text := []rune(visible.Line(value.Shown(v)))
	if len(text) > most {
		return string(text[:most]) + "..."
	}
	return string(text)
}

// editOf gives who edited the inventory last, asked for once.
func (p *Project) editOf(ctx context.Context) func() string {
	return sync.OnceValue(func() string {
		commit, _ := p.revised(ctx)
		if commit == "" {
			return "edited"
		}
		if author, at, ok := sources.LastEdit(ctx, p.repository(), commit, p.Settings.Inventory); ok {
			return "modified by " + author + " in " + short(at)
		}
		return "modified, and not committed"
	})
}
