// Package compare shows what a change of a project does: it resolves the project at two revisions for every host, and
// reports which tasks differ.
package compare

import (
	"cmp"
	"context"
	"io"
	"io/fs"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"

	"jadekettle/internal/app"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/differ"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/source"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
)

// side is a project at one revision.
type side struct {
	*compile.Project
	files fs.FS
	rev   string // as it was named; empty for the project as it lies here
	fleet *expr.Fleet
}

// said names it for people.
func (s *side) said() string { return cmp.Or(s.rev, "the working copy") }

// Request says what is compared.
type Request struct {
	Revisions []string // the earlier one, and the later one where that is not the project as it lies here
	Targets   []string // only these hosts, as the later revision has them; all without any
}

// Project compares a project at two revisions of the git repository that it is in. No host is contacted: facts
// are those that were read last.
func Project(ctx context.Context, s *app.Site, q Request) (*Comparison, error) {
	o, err := s.Options()
	if err != nil {
		return nil, err
	}
	o.Blind, o.AnyEnv = true, true
	var sides []*side
	for _, rev := range append(q.Revisions, "")[:2] {
		one, err := sideAt(ctx, s, rev, o)
		if err != nil {
			return nil, err
		}
		sides = append(sides, one)
	}
	c := &Comparison{from: sides[0], to: sides[1], groups: map[string]*Group{}}
	runs, err := s.RunsOf(sides[1].Settings)
	if err != nil {
		return nil, err
	}
	known := runs.Known(sides[1].Settings.Env)
	c.facts = func(host string) *facts.Facts { s, _ := known.Load(host); return s.Facts }
	if len(q.Targets) > 0 {
		list, err := sides[1].Inventory.Select(q.Targets, nil)
		if err != nil {
			return nil, err
		}
		c.only = map[string]bool{}
		for _, h := range list {
			c.only[h.Name] = true
		}
	}
	if err := c.run(ctx); err != nil {
		return nil, err
	}
	slices.Sort(c.Unread)
	slices.Sort(c.Partly)
	return c, nil
}

// From and To name the two sides for people.
func (c *Comparison) From() string { return c.from.said() }

// To names the later side.
func (c *Comparison) To() string { return c.to.said() }

// Alike counts the hosts that do not differ.
func (c *Comparison) Alike() int { return len(c.Hosts) - len(c.differ) }

// sideAt reads the project at a revision, or as it lies here.
func sideAt(ctx context.Context, s *app.Site, rev string, o compile.Options) (*side, error) {
	files := s.Files
	if rev != "" {
		at, _, err := sources.Revision(ctx, s.Root, rev)
		if err != nil {
			return nil, err
		}
		files = withSources(at, s.Files)
	}
	err := s.Required(files)
	var p *compile.Project
	if err == nil {
		p, err = compile.Load(files, kinds.Schemas(), o)
	}
	if err != nil {
		return nil, AtRevision{files, cmp.Or(rev, "the working copy"), err}
	}
	return &side{Project: p, files: files, rev: rev}, nil
}

// AtRevision is what is wrong with a project at a revision, whose lines are shown as they are there.
type AtRevision struct {
	Files    fs.FS
	Revision string
	error
}

func (e AtRevision) Unwrap() error { return e.error }

// factsOf gives the facts of a host that were read last, but where a side reads one of its own that
// was not declared then: what it decides cannot be compared.
func (c *Comparison) factsOf(host string) *facts.Facts {
	known := c.facts(host)
	if known == nil {
		return nil
	}
	for _, s := range []*side{c.from, c.to} {
		for _, own := range s.Facts {
			_, read := known.Own[own.Name]
			_, wrong := known.OwnWrong[own.Name]
			if !read && !wrong && s.Reads("facts", "own", own.Name) {
				return nil
			}
		}
	}
	return known
}

// withSources lets a revision have the copies of sources that lie here, where it keeps
// none: what they hold is pinned in its lock file.
func withSources(at, here fs.FS) fs.FS {
	if _, err := fs.Stat(at, source.Dir); err == nil {
		return at
	}
	return overlaid{at, here}
}

type overlaid struct{ at, here fs.FS }

func (o overlaid) Open(name string) (fs.File, error) {
	if name == source.Dir || strings.HasPrefix(name, source.Dir+"/") {
		return o.here.Open(name)
	}
	return o.at.Open(name)
}

// Comparison is two sides of a project, and what differs between them.
type Comparison struct {
	from, to *side
	facts    func(host string) *facts.Facts
	only     map[string]bool // the hosts that it is about; nil for all

	mu     sync.Mutex
	groups map[string]*Group
	Hosts  []string        // those that were compared, in order
	differ map[string]bool // those that differ
	Unread []string        // those whose facts were never read
	Partly []string        // those of which one was not that a side reads
	Come   []string        // those that only the later side has
	Gone   []string        // those that only the earlier side has
	wrong  []error
}

// Group is one difference with all hosts that have it.
type Group struct {
	*differ.Difference
	first, place int   // where it is: the first host, and the place there
	hosts        []int // by index
	key          string
	more         []int // further hosts on which the same things of the task differ, otherwise
}

// run compares every host.
func (c *Comparison) run(ctx context.Context) error {
	c.differ = map[string]bool{}
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // plans of two sides come and go, by the thousand
	for _, h := range c.to.Inventory.Hosts {
		if c.only != nil && !c.only[h.Name] {
			continue
		}
		if _, had := c.from.Inventory.Host(h.Name); !had {
			c.Come = append(c.Come, h.Name)
			continue
		}
		c.Hosts = append(c.Hosts, h.Name)
	}
	for _, h := range c.from.Inventory.Hosts {
		if _, has := c.to.Inventory.Host(h.Name); !has && c.only == nil {
			c.Gone = append(c.Gone, h.Name)
		}
	}
	for _, s := range []*side{c.from, c.to} {
		if s.Reads("fleet") {
			s.fleet = resolve.Snapshot(s.Project, func(host string) (*facts.Facts, int64, bool) {
				f := c.facts(host)
				return f, 0, f != nil
			})
		}
	}
	next := make(chan int)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := range next {
				c.host(i)
			}
		})
	}
	for i := range c.Hosts {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	wg.Wait()
	if len(c.wrong) > 0 {
		return c.wrong[0]
	}
	return ctx.Err()
}

// host compares one host.
func (c *Comparison) host(i int) {
	name := c.Hosts[i]
	known := c.factsOf(name)
	var plans [2]*plan.Plan
	for n, s := range []*side{c.from, c.to} {
		h, _ := s.Inventory.Host(name)
		p, err := resolve.Plan(s.Project, h, resolve.Known{Facts: known, Fleet: s.fleet})
		if err != nil {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.wrong = append(c.wrong, AtRevision{s.files, s.said(), err})
			return
		}
		plans[n] = p
	}
	list := differ.Plans(plans[0], plans[1])
	for _, d := range list {
		c.texts(d, plans)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case known != nil:
	case c.facts(name) != nil:
		c.Partly = append(c.Partly, name)
	case c.from.Reads("facts") || c.to.Reads("facts"):
		c.Unread = append(c.Unread, name)
	}
	for n, d := range list {
		c.differ[name] = true
		key := d.Key()
		g := c.groups[key]
		if g == nil {
			g = &Group{key: key, first: i + 1}
			c.groups[key] = g
		}
		if g.hosts = append(g.hosts, i); i < g.first { // the first host is the one that is shown
			d.Was, d.Becomes = bare(d.Was), bare(d.Becomes)
			g.Difference, g.first, g.place = d, i, n
		}
	}
}

// bare keeps what is shown of a task, and lets the plan go that it was part of.
func bare(t *plan.Task) *plan.Task {
	if t == nil {
		return nil
	}
	return &plan.Task{Ref: t.Ref, Places: slices.Clone(t.Places), Manifests: t.Manifests}
}

// texts gives the changes of a difference with that of a text in full.
func (c *Comparison) texts(d *differ.Difference, plans [2]*plan.Plan) {
	for i := range d.Changes {
		ch := &d.Changes[i]
		if ch.What != "content" || ch.Secret || d.Was.Content == nil || d.Becomes.Content == nil {
			continue
		}
		was, ok1 := text(c.from.Project, plans[0], d.Was.Content)
		becomes, ok2 := text(c.to.Project, plans[1], d.Becomes.Content)
		if ok1 && ok2 {
			ch.Diff = kind.Diff(d.Ref.Name+" in "+c.from.said(), d.Ref.Name+" in "+c.to.said(), was, becomes)
		}
	}
}

func text(p *compile.Project, of *plan.Plan, c *plan.Content) (string, bool) {
	if c.Size > kind.MaxDiff {
		return "", false
	}
	f, err := p.Open(of.Contents[c.SHA256])
	if err != nil {
		return "", false
	}
	defer f.Close()
	data, err := io.ReadAll(f)
	return string(data), err == nil && kind.IsText(string(data))
}

// Groups lists the groups in the order of the hosts and of their tasks.
func (c *Comparison) Groups() []*Group {
	out := make([]*Group, 0, len(c.groups))
	for _, g := range c.groups {
		slices.Sort(g.hosts)
		out = append(out, g)
	}
	slices.SortFunc(out, func(a, b *Group) int {
		return cmp.Or(cmp.Compare(a.first, b.first), cmp.Compare(a.place, b.place), strings.Compare(a.key, b.key))
	})
	return out
}

// fewAlike is how many differences are shown in full of one task in which the same things
// differ, with other values from host to host.
const fewAlike = 2

// Folded is Groups, with only the hosts of any further groups of that sort.
func (c *Comparison) Folded() []*Group {
	var out []*Group
	seen := map[string][]*Group{}
	for _, g := range c.Groups() {
		key := string(g.How) + "\x00" + g.Ref.String()
		for _, ch := range g.Changes {
			key += "\x00" + ch.What
		}
		if list := seen[key]; len(list) >= fewAlike {
			last := list[len(list)-1]
			last.more = append(last.more, g.hosts...)
			continue
		}
		seen[key] = append(seen[key], g)
		out = append(out, g)
	}
	return out
}

// Names gives the hosts of a group.
func (c *Comparison) Names(g *Group) []string { return c.namesOf(g.hosts) }

// More gives the further hosts of a group, on which the same things of the task differ with other values.
func (c *Comparison) More(g *Group) []string { return c.namesOf(g.more) }

func (c *Comparison) namesOf(hosts []int) []string {
	var out []string
	for _, i := range hosts {
		out = append(out, c.Hosts[i])
	}
	return out
}
