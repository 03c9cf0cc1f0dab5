package resolve

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// explicit adds the edges that are written: after, before, restart_on, reload_on.
func (r *resolver) explicit() {
	for _, it := range r.Items {
		for _, a := range it.Decl.Values {
			if a.Schema.Type != schema.RefTo {
				continue
			}
			it.Task.Follows = it.Task.Follows || a.Schema.Name == schema.OnlyIfChanged
			for _, text := range it.Task.Attrs.Texts(a.Schema.Name) {
				other := r.lookup(it, &a, text)
				if other == nil {
					continue
				}
				if a.Schema.Triggers != "" {
					other.Task.Triggers = append(other.Task.Triggers,
						plan.Pending{Service: it.Task.Ref, Action: a.Schema.Triggers})
				}
				if a.Schema.Name == schema.OnlyIfChanged {
					it.only = append(it.only, other)
				}
				if a.Schema.Turned {
					r.need(other, it, a.Schema.Name+" of "+it.Task.Ref.String())
					continue
				}
				r.need(it, other, a.Schema.Name)
			}
		}
	}
}

// need notes that one item needs another, and why.
func (r *resolver) need(it, other *Item, why string) {
	if slices.Contains(it.Needs, other) {
		return
	}
	it.Needs = append(it.Needs, other)
	if r.explain {
		it.Whys = append(it.Whys, why)
	}
}

// lookup finds what a reference names. What was skipped gives nil; what is not
// there at all is a problem.
func (r *resolver) lookup(it *Item, a *compile.Attr, text string) *Item {
	at := a.Node.Place
	for _, n := range a.Node.Items {
		if n.Value == text {
			at = n.Place
		}
	}
	ref, err := r.Project.Kinds.ParseRef(text)
	if err != nil {
		r.problems.AddErr(at, err)
		return nil
	}
	if other := r.byRef[ref]; other != nil {
		return other
	}
	if r.left[ref] || r.open["*"] || r.open[ref.Kind] {
		return nil
	}
	var names []string
	for _, other := range r.Items {
		names = append(names, other.Task.Ref.String())
	}
	r.problems.At(at, fmt.Sprintf("%[2]s: %[1]s refers to %[3]s, which is not declared on this host", a.Schema.Name,
		it.Task.Ref, ref),
		problem.Meant(ref.String(), names, "declare it, or remove the reference"))
	return nil
}

// circles reports circles among the written edges.
func (r *resolver) circles() {
	const (
		onPath = 1
		done   = 2
	)
	state := map[*Item]int{}
	var path []*Item
	var visit func(it *Item)
	visit = func(it *Item) {
		state[it] = onPath
		path = append(path, it)
		for _, n := range it.Needs {
			switch state[n] {
			case 0:
				visit(n)
			case onPath:
				var names []string
				for _, on := range path[slices.Index(path, n):] {
					names = append(names, on.Task.Ref.String())
				}
				names = append(names, n.Task.Ref.String())
				r.problems.At(it.Decl.Place, "dependency cycle: "+strings.Join(names, " needs "),
					"remove one of these dependencies")
			}
		}
		path = path[:len(path)-1]
		state[it] = done
	}
	for _, it := range r.Items {
		if state[it] == 0 {
			visit(it)
		}
	}
}

// implied adds the edges that kinds imply, dropping those that contradict what
// is there. When both ends are absent the edge turns round; a need for what is
// to be absent is none.
func (r *resolver) implied() {
	declared := func(ref value.Ref) bool { return r.byRef[ref] != nil }
	in := sync.OnceValue(r.folders)
	list := func(folder string) []value.Ref { return in()[folder] }
	for _, it := range r.Items {
		if it.Kind.Needs == nil {
			continue
		}
		for _, ref := range it.Kind.Needs(schema.Needer{Ref: it.Task.Ref, Attrs: it.Task.Attrs, Declared: declared,
			In: list}) {
			other := r.byRef[ref]
			if other == nil || other == it {
				continue
			}
			from, to := it, other
			if it.Task.Absent && other.Task.Absent {
				from, to = other, it
			} else if other.Task.Absent || it.Task.Absent {
				r.buried(it, other)
				continue
			}
			if !r.reaches(to, from) {
				r.need(from, to, "implied")
			} else if r.explain {
				r.Dropped = append(r.Dropped, [2]*Item{from, to})
			}
		}
	}
}

// folders gives what is declared to lie in each folder, parts of files included.
func (r *resolver) folders() map[string][]value.Ref {
	out := map[string][]value.Ref{}
	for _, it := range r.Items {
		at := it.Task.Ref.Name
		switch {
		case it.Kind.Part != nil:
			at = it.Kind.Part(at)
		case it.Kind.NameSpace() != schema.Paths:
			continue
		}
		folder := path.Dir(at)
		out[folder] = append(out[folder], it.Task.Ref)
	}
	return out
}

// parts reports what declares a part of a file that is declared whole.
func (r *resolver) parts() {
	for _, it := range r.Items {
		if it.Kind.Part == nil {
			continue
		}
		whole := r.bySpace[value.Ref{Kind: schema.Paths, Name: it.Kind.Part(it.Task.Ref.Name)}]
		if whole == nil || whole.Maybe || it.Maybe {
			continue
		}
		at := whole.Task.Places[0]
		r.problems.Add(problem.Problem{Place: it.Decl.Place,
			What: fmt.Sprintf("%s declares a part of what %s declares as a whole at %s", it.Task.Ref,
				whole.Task.Ref, at),
			Do: "keep one of them", Also: []value.Place{at}})
	}
}

// contradictions reports parts of one file that undo each other: each is done after the other, on
// an empty file, and the first must still hold.
func (r *resolver) contradictions() {
	files := map[string][]*Item{}
	for _, it := range r.Items {
		if it.Kind.Part == nil || it.Kind.Edit == nil || it.Maybe {
			continue
		}
		file := it.Kind.Part(it.Task.Ref.Name)
		for _, other := range files[file] {
			if takesBack(other, it) || takesBack(it, other) {
				at := other.Task.Places[0]
				r.problems.Add(problem.Problem{Place: it.Decl.Place,
					What: fmt.Sprintf("%s and %s undo each other's changes to %s; first at %s",
						other.Task.Ref, it.Task.Ref,
						file, at),
					Do: "make them agree, or keep only one", Also: []value.Place{at}})
			}
		}
		files[file] = append(files[file], it)
	}
}

// takesBack says whether another declaration undoes what one does to a file.
func takesBack(first, then *Item) bool {
	edit := func(it *Item, text string) (string, error) {
		return it.Kind.Edit(it.Task.Ref.Name, it.Task.Absent, it.Task.Attrs, text)
	}
	text, err1 := edit(first, "")
	text, err2 := edit(then, text)
	again, err3 := edit(first, text)
	return err1 == nil && err2 == nil && err3 == nil && again != text
}

// numbers reports two accounts, or two groups, that are to have one number.
func (r *resolver) numbers() {
	type id struct {
		kind, attr string
		n          int64
	}
	first := map[id]*Item{}
	for _, it := range r.Items {
		for _, a := range it.Kind.Attrs {
			n, given := it.Task.Attrs.Int(a.Name)
			if a.Type != schema.ID || !given || it.Maybe || it.Task.Absent {
				continue
			}
			key := id{it.Kind.Name, a.Name, n}
			other := first[key]
			if other == nil {
				first[key] = it
				continue
			}
			at := other.Task.Places[0]
			r.problems.Add(problem.Problem{Place: it.Decl.Place,
				What: fmt.Sprintf("%s and %s have the same %s, %d; first at %s", other.Task.Ref, it.Task.Ref,
					a.Name, n, at),
				Do: "give each a different number", Also: []value.Place{at}})
		}
	}
}

// trees reports what is declared where a folder is copied to, and so declared twice.
func (r *resolver) trees() {
	wholes := map[string][]*Item{}
	for _, it := range r.Items {
		if it.Kind.Part != nil {
			file := it.Kind.Part(it.Task.Ref.Name)
			wholes[file] = append(wholes[file], it)
		}
	}
	for _, it := range r.Items {
		if len(it.Task.Tree) == 0 || it.Maybe {
			continue
		}
		seen := map[string]bool{"": true, ".": true}
		for _, leaf := range it.Task.Tree {
			at := path.Join(it.Task.Ref.Name, leaf.Path)
			r.copied(it, at, append(slices.Clone(wholes[at]), r.bySpace[value.Ref{Kind: schema.Paths, Name: at}]))
			for up := path.Dir(leaf.Path); !seen[up]; up = path.Dir(up) {
				seen[up] = true
				at := path.Join(it.Task.Ref.Name, up)
				if other := r.bySpace[value.Ref{Kind: schema.Paths, Name: at}]; other != nil &&
					(other.Kind.Name != it.Kind.Name || other.Task.Absent) {
					r.copied(it, at, []*Item{other})
				}
			}
		}
	}
}

// copied reports that others declare what a folder's copy brings.
func (r *resolver) copied(tree *Item, at string, others []*Item) {
	for _, other := range others {
		if other == nil || other.Maybe {
			continue
		}
		from := tree.Task.Places[0]
		r.problems.Add(problem.Problem{Place: other.Decl.Place,
			What: fmt.Sprintf("%s declares %s, which %s copies from its directory at %s", other.Task.Ref, at,
				tree.Task.Ref, from),
			Do: "remove it from the directory, or remove the declaration", Also: []value.Place{from}})
	}
}

// single reports a second one of what a host can have one of only.
func (r *resolver) single() {
	first := map[string]*Item{}
	for _, it := range r.Items {
		if !it.Kind.Single || it.Maybe {
			continue
		}
		other := first[it.Kind.Name]
		if other == nil {
			first[it.Kind.Name] = it
			continue
		}
		at := other.Task.Places[0]
		r.problems.Add(problem.Problem{Place: it.Decl.Place,
			What: fmt.Sprintf("%s and %s are both declared, but a host can have only one %s; first at %s",
				other.Task.Ref,
				it.Task.Ref, it.Kind.Name, at),
			Do: "keep one of them", Also: []value.Place{at}})
	}
}

// buried reports what is declared below something that is declared absent.
func (r *resolver) buried(it, other *Item) {
	below := it.Kind.NameSpace() == schema.Paths || it.Kind.Part != nil
	if it.Task.Absent || it.Maybe || other.Maybe || !below || other.Kind.NameSpace() != schema.Paths {
		return
	}
	at := other.Task.Places[0]
	how := "is below"
	if it.Kind.Name == "link" && !strings.HasPrefix(it.Task.Ref.Name, other.Task.Ref.Name+"/") {
		how = "leads to"
	}
	r.problems.Add(problem.Problem{Place: it.Decl.Place,
		What: fmt.Sprintf("%s %s %s, which is declared absent at %s", it.Task.Ref, how, other.Task.Ref, at),
		Do:   "remove one of them", Also: []value.Place{at}})
}

// reaches says whether from needs to, through any number of steps.
func (r *resolver) reaches(from, to *Item) bool {
	r.search++
	var visit func(it *Item) bool
	visit = func(it *Item) bool {
		if it == to {
			return true
		}
		if it.mark == r.search {
			return false
		}
		it.mark = r.search
		return slices.ContainsFunc(it.Needs, visit)
	}
	return visit(from)
}

// questionsLast moves what only asks behind all that changes something, unless
// that needs it.
func questionsLast(placed []*Item) []*Item {
	needed := map[*Item]bool{}
	for _, it := range slices.Backward(placed) {
		if !it.Kind.Asks || needed[it] {
			for _, n := range slices.Concat(it.Needs, it.only) {
				needed[n] = true
			}
		}
	}
	last := func(it *Item) bool { return it.Kind.Asks && !needed[it] }
	out := slices.DeleteFunc(slices.Clone(placed), last)
	for _, it := range placed {
		if last(it) {
			out = append(out, it)
		}
	}
	for i, it := range out {
		it.Task.ID = i
	}
	return out
}

// order places the items: in the order declared, each just after what it needs
// and is not placed yet. Tasks get their final numbers.
func (r *resolver) order() {
	index := make(map[*Item]int, len(r.Items))
	for i, it := range r.Items {
		index[it] = i
	}
	var placed []*Item
	var place func(it *Item)
	place = func(it *Item) {
		if it.placed {
			return
		}
		it.placed = true
		needs := slices.Clone(it.Needs)
		slices.SortFunc(needs, func(a, b *Item) int { return cmp.Compare(index[a], index[b]) })
		for _, n := range needs {
			place(n)
		}
		it.Task.ID = len(placed)
		placed = append(placed, it)
	}
	for _, it := range r.Items {
		place(it)
	}
	placed = questionsLast(placed)
	ids := func(list []*Item) []int {
		var out []int
		for _, it := range list {
			out = append(out, it.Task.ID)
		}
		slices.Sort(out)
		return out
	}
	r.plan.Tasks = make([]plan.Task, len(placed))
	for i, it := range placed {
		if it.held {
			r.plan.Contents[it.hash()] = plan.Bytes{Text: it.text}
		}
		it.Task.Needs = ids(it.Needs)
		it.Task.Only = ids(it.only)
		it.Task.Labels = it.Task.Attrs.Texts(schema.Labels)
		it.Task.Tries, it.Task.OnRemoval = r.tries(it), onRemoval(it)
		for name := range it.Task.Attrs {
			if a, _ := it.Kind.Attr(name); a.Type == schema.RefTo || isContent(it.Kind, name) ||
				slices.Contains(elsewhere, name) && !it.Kind.Owns(name) {
				delete(it.Task.Attrs, name) // the plan says it in other fields
			}
		}
		r.plan.Tasks[i] = it.Task
	}
}
