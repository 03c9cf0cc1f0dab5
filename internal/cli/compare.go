package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"io/fs"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"

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
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) compareCommand() *cobra.Command {
	var targets []string
	whole, strict := false, false
	c := &cobra.Command{
		Use: "compare REV [REV]", Short: "Show what a change of the project does, between two of its revisions",
		GroupID: "grow", Args: cobra.RangeArgs(1, 2),
		Long: "Compare resolves the project at two revisions of the git repository that it lies in, or at one and as it lies\n" +
			"here, and shows which tasks of which hosts differ: what a change under review will do. No host is contacted; its\n" +
			"facts are those that were read last. What is alike on several hosts is shown once.",
		RunE: func(c *cobra.Command, revs []string) error {
			return a.compare(c.Context(), revs, targets, whole, strict)
		},
	}
	c.Flags().StringSliceVar(&targets, "on", nil, "only these `TARGETS`: hosts, patterns or @groups, as the later revision has them")
	c.Flags().BoolVarP(&whole, "verbose", "v", false, "show every line of every diff")
	c.Flags().BoolVar(&strict, "fail-if-changes", false, "end with 3 when something differs")
	c.RegisterFlagCompletionFunc("on", a.completeTargets)
	return c
}

// side is a project at one revision.
type side struct {
	*compile.Project
	files fs.FS
	rev   string // as it was named; empty for the project as it lies here
	fleet *expr.Fleet
}

// said names it for people.
func (s *side) said() string { return cmp.Or(s.rev, "the files here") }

func (a *App) compare(ctx context.Context, revs, targets []string, whole, strict bool) error {
	dir, here, err := a.projectFiles()
	if err != nil {
		return err
	}
	o, err := a.options(dir)
	if err != nil {
		return err
	}
	o.Blind, o.AnyEnv = true, true
	var sides []*side
	for _, rev := range append(revs, "")[:2] {
		s, err := a.sideAt(ctx, dir, rev, here, o)
		if err != nil {
			return err
		}
		sides = append(sides, s)
	}
	c := &comparison{from: sides[0], to: sides[1], groups: map[string]*group{}}
	if err := a.permit(dir, sides[1].Settings, nil); err != nil {
		return err
	}
	known := a.history(dir, sides[1].Settings).Known(sides[1].Settings.Env)
	c.facts = func(host string) *facts.Facts { s, _ := known.Load(host); return s.Facts }
	if len(targets) > 0 {
		list, err := sides[1].Inventory.Select(targets, nil)
		if err != nil {
			return err
		}
		c.only = map[string]bool{}
		for _, h := range list {
			c.only[h.Name] = true
		}
	}
	if err := c.run(ctx); err != nil {
		return err
	}
	if strict && len(c.groups) > 0 {
		a.code = exitChanges
	}
	return a.compared(c, dir, whole)
}

// sideAt reads the project at a revision, or as it lies here.
func (a *App) sideAt(ctx context.Context, dir, rev string, here fs.FS, o compile.Options) (*side, error) {
	files := here
	if rev != "" {
		at, _, err := sources.Revision(ctx, dir, rev)
		if err != nil {
			return nil, err
		}
		files = withSources(at, here)
	}
	err := required(files)
	var p *compile.Project
	if err == nil {
		p, err = compile.Load(files, kinds.Schemas(), o)
	}
	if err != nil {
		return nil, atRevision{files, cmp.Or(rev, "the files here"), err}
	}
	return &side{Project: p, files: files, rev: rev}, nil
}

// atRevision is what is wrong with a project at a revision, whose lines are shown as they are there.
type atRevision struct {
	files fs.FS
	rev   string
	error
}

func (e atRevision) Unwrap() error { return e.error }

// factsOf gives the facts of a host that were read last, but where a side reads one of its own that
// was not declared then: what it decides cannot be compared.
func (c *comparison) factsOf(host string) *facts.Facts {
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

// comparison is two sides of a project, and what differs between them.
type comparison struct {
	from, to *side
	facts    func(host string) *facts.Facts
	only     map[string]bool // the hosts that it is about; nil for all

	mu     sync.Mutex
	groups map[string]*group
	hosts  []string        // those that were compared, in order
	differ map[string]bool // those that differ
	unread []string        // those whose facts were never read
	partly []string        // those of which one was not that a side reads
	come   []string        // those that only the later side has
	gone   []string        // those that only the earlier side has
	wrong  []error
}

// group is one difference with all hosts that have it.
type group struct {
	*differ.Difference
	first, place int   // where it stands: the first host, and the place there
	hosts        []int // by index
	key          string
	more         []int // further hosts on which the same things of the task differ, otherwise
}

// run compares every host.
func (c *comparison) run(ctx context.Context) error {
	c.differ = map[string]bool{}
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // plans of two sides come and go, by the thousand
	for _, h := range c.to.Inventory.Hosts {
		if c.only != nil && !c.only[h.Name] {
			continue
		}
		if _, had := c.from.Inventory.Host(h.Name); !had {
			c.come = append(c.come, h.Name)
			continue
		}
		c.hosts = append(c.hosts, h.Name)
	}
	for _, h := range c.from.Inventory.Hosts {
		if _, has := c.to.Inventory.Host(h.Name); !has && c.only == nil {
			c.gone = append(c.gone, h.Name)
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
	for i := range c.hosts {
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
func (c *comparison) host(i int) {
	name := c.hosts[i]
	known := c.factsOf(name)
	var plans [2]*plan.Plan
	for n, s := range []*side{c.from, c.to} {
		h, _ := s.Inventory.Host(name)
		p, err := resolve.Plan(s.Project, h, resolve.Known{Facts: known, Fleet: s.fleet})
		if err != nil {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.wrong = append(c.wrong, atRevision{s.files, s.said(), err})
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
		c.partly = append(c.partly, name)
	case c.from.Reads("facts") || c.to.Reads("facts"):
		c.unread = append(c.unread, name)
	}
	for n, d := range list {
		c.differ[name] = true
		key := d.Key()
		g := c.groups[key]
		if g == nil {
			g = &group{key: key, first: i + 1}
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
func (c *comparison) texts(d *differ.Difference, plans [2]*plan.Plan) {
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

// sorted lists the groups in the order of the hosts and of their tasks.
func (c *comparison) sorted() []*group {
	out := make([]*group, 0, len(c.groups))
	for _, g := range c.groups {
		slices.Sort(g.hosts)
		out = append(out, g)
	}
	slices.SortFunc(out, func(a, b *group) int {
		return cmp.Or(cmp.Compare(a.first, b.first), cmp.Compare(a.place, b.place), strings.Compare(a.key, b.key))
	})
	return out
}

// fewAlike is how many differences are shown in full of one task in which the same things
// differ, with other values from host to host.
const fewAlike = 2

// folded is sorted, with the further ones of that sort told by their hosts alone.
func (c *comparison) folded(whole bool) []*group {
	if whole {
		return c.sorted()
	}
	var out []*group
	seen := map[string][]*group{}
	for _, g := range c.sorted() {
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

// names gives the hosts of a group.
func (c *comparison) names(g *group) []string { return c.namesOf(g.hosts) }

func (c *comparison) namesOf(hosts []int) []string {
	var out []string
	for _, i := range hosts {
		out = append(out, c.hosts[i])
	}
	return out
}

// compared shows a comparison.
func (a *App) compared(c *comparison, dir string, whole bool) error {
	slices.Sort(c.unread)
	slices.Sort(c.partly)
	if a.output == "json" {
		return a.document(comparedDocument(c))
	}
	v := &screen.Run{W: a.Out, Preview: true, Width: a.Width, Sources: &screen.Sources{Dir: dir}}
	if whole {
		v.Detail = screen.Whole
	}
	for _, g := range c.folded(whole) {
		at := g.Task().Places[0].String()
		if g.Becomes == nil { // it is only there
			at += " in " + c.from.said()
		}
		v.Difference(c.names(g), g.Ref, string(g.How), at, g.Changes)
		v.Moved("  and in the same way, each with values of its own", c.namesOf(g.more))
	}
	v.Moved("a new host", c.come)
	v.Moved("a host no more", c.gone)
	if len(c.groups)+len(c.come)+len(c.gone) > 0 {
		fmt.Fprintln(a.Out)
	}
	fmt.Fprintln(a.Out, screen.Paint(screen.Loud, fmt.Sprintf("from %s to %s: of %s %d differ, %d are alike", screen.Line(c.from.said()),
		screen.Line(c.to.said()), screen.Count(len(c.hosts), "host"), len(c.differ), len(c.hosts)-len(c.differ))))
	if len(c.unread) > 0 {
		v.Moved("its facts were never read, so what they decide is not compared", c.unread)
	}
	v.Moved("a fact that its plan needs was never read, so what facts decide is not compared", c.partly)
	return nil
}

func comparedDocument(c *comparison) document.Compared {
	doc := document.Compared{Head: document.One, From: c.from.said(), To: c.to.said(), Hosts: len(c.hosts),
		Alike: len(c.hosts) - len(c.differ), New: emptied(c.come), Gone: emptied(c.gone),
		Unread: append(emptied(c.unread), c.partly...), Differences: []document.Difference{}}
	for _, g := range c.sorted() {
		place := g.Task().Places[0]
		doc.Differences = append(doc.Differences, document.Difference{Kind: g.Ref.Kind, Name: g.Ref.Name, How: string(g.How),
			Hosts: c.names(g), Manifest: place.File, Line: place.Line, Changes: append([]plan.Change{}, g.Changes...)})
	}
	return doc
}

func emptied(list []string) []string { return append([]string{}, list...) }
