package resolve

import (
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Selection says which tasks a call is about. A task is selected when it fits
// one of each sort that is given, and nothing of Skip. The zero Selection
// takes every task.
type Selection struct {
	// "KIND PATTERN" or "KIND"; * matches any text, ? for one character
	Tasks     []string `json:"tasks" toml:"task,omitempty" doc:"The task patterns it selected; none for all."`
	Labels    []string `json:"labels" toml:"label,omitempty" doc:"The labels it selected; none for all."`
	Manifests []string `json:"manifests" toml:"manifest,omitempty" doc:"The manifests it selected; none for all."`
	// as Tasks
	Skip []string `json:"skip" toml:"skip,omitempty" doc:"The task patterns it skipped."`
	// WithNeeds takes along what selected tasks need.
	WithNeeds bool `json:"with_needs" toml:"with_needs,omitempty" doc:"Whether it also ran what the tasks depend on."`
	Silent    bool `json:"-" toml:"-"` // say nothing of what is not selected
}

// All says that nothing is skipped.
func (s Selection) All() bool {
	return len(s.Tasks)+len(s.Labels)+len(s.Manifests)+len(s.Skip) == 0
}

// Check holds a selection against a project: kinds, labels and manifests
// that are not there are an error.
func (s Selection) Check(p *compile.Project) error {
	for _, pattern := range slices.Concat(s.Tasks, s.Skip) {
		kind, _ := splitPattern(pattern)
		if kind == "" {
			return problem.Errorf("%q selects nothing", pattern).
				Remedy("write KIND PATTERN, such as \"file /etc/*\" or \"* tide-logger\"")
		}
		if _, known := p.Kinds.Kind(kind); kind != "*" && !known {
			return problem.Errorf("%q refers to the unknown kind %q", pattern, kind).
				Meant(kind, p.Kinds.Names(), "available: "+strings.Join(p.Kinds.Names(), ", "))
		}
	}
	for _, m := range s.Manifests {
		if _, ok := p.Units[m]; !ok {
			return problem.Errorf("unknown manifest %q", m).Meant(m, value.Keys(p.Units),
				"available: "+strings.Join(value.Keys(p.Units), ", "))
		}
	}
	labels, found := map[string]bool{}, map[string]bool{}
	for _, u := range p.Units {
		for _, e := range u.Entries {
			if e.Decl == nil {
				continue
			}
			for _, pattern := range s.Tasks {
				found[pattern] = found[pattern] || e.Decl.Naming != nil ||
					matchesAny([]string{pattern}, value.Ref{Kind: e.Decl.Kind.Name, Name: e.Decl.Name})
			}
			for _, a := range e.Decl.Values {
				if a.Schema.Name == schema.Labels {
					for _, l := range (value.Attrs{schema.Labels: a.Fixed}).Texts(schema.Labels) {
						labels[l] = true
					}
				}
			}
		}
	}
	for _, pattern := range s.Tasks {
		if !found[pattern] && !s.Silent {
			return problem.Errorf("no task matches %q", pattern).Remedy("`jadekettle preview -v` lists the tasks")
		}
	}
	for _, l := range s.Labels {
		switch {
		case len(labels) == 0:
			return problem.Errorf("no task has the label %q: this project uses no labels", l).
				Remedy("add labels = [%q] to a declaration", l)
		case !labels[l]:
			return problem.Errorf("no task has the label %q", l).Meant(l, value.Keys(labels),
				"available: "+strings.Join(value.Keys(labels), ", "))
		}
	}
	return nil
}

// Apply gives the part of a plan that is selected, and what selected tasks need
// that is not. The rest of the tasks is among those skipped.
func (s Selection) Apply(p *plan.Plan) (part *plan.Plan, needed []value.Ref) {
	if s.All() {
		return p, nil
	}
	take := make([]bool, len(p.Tasks))
	for i, t := range p.Tasks {
		take[i] = s.fits(t)
	}
	if s.WithNeeds {
		for i := len(p.Tasks) - 1; i >= 0; i-- { // what is needed is before what needs it
			for _, n := range p.Tasks[i].Needs {
				take[n] = take[n] || take[i] && !matchesAny(s.Skip, p.Tasks[n].Ref)
			}
		}
	}
	part = &plan.Plan{Skipped: slices.Clone(p.Skipped), Contents: p.Contents}
	if s.Silent {
		part.Skipped = nil
	}
	ids := make([]int, len(p.Tasks))
	for i, t := range p.Tasks {
		if !take[i] && s.Silent {
			continue
		}
		if !take[i] {
			part.Skipped = append(part.Skipped, plan.Omitted{Ref: t.Ref, Place: t.Places[0],
				Reason: "not selected"})
			continue
		}
		ids[i], t.ID = len(part.Tasks), len(part.Tasks)
		needs, only := t.Needs, t.Only
		t.Needs, t.Only = nil, nil
		for _, n := range only {
			if take[n] {
				t.Only = append(t.Only, ids[n])
			}
		}
		for _, n := range needs {
			switch {
			case take[n]:
				t.Needs = append(t.Needs, ids[n])
			case !s.Silent && !slices.Contains(needed, p.Tasks[n].Ref):
				needed = append(needed, p.Tasks[n].Ref)
			}
		}
		part.Tasks = append(part.Tasks, t)
	}
	return part, needed
}

func (s Selection) fits(t plan.Task) bool {
	one := func(given, has []string) bool {
		return len(given) == 0 || slices.ContainsFunc(given, func(g string) bool { return slices.Contains(has, g) })
	}
	return (len(s.Tasks) == 0 || matchesAny(s.Tasks, t.Ref)) && one(s.Labels, t.Labels) &&
		one(s.Manifests, t.Manifests) && !matchesAny(s.Skip, t.Ref)
}

func matchesAny(patterns []string, ref value.Ref) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		kind, name := splitPattern(p)
		return (kind == "*" || kind == ref.Kind) && wild(name, ref.Name)
	})
}

// splitPattern parts a pattern at its first space. A kind alone means all of it.
func splitPattern(p string) (kind, name string) {
	kind, name, _ = strings.Cut(strings.TrimSpace(p), " ")
	if name == "" {
		name = "*"
	}
	return kind, name
}

// wild matches a pattern in which * matches any text, slashes too.
func wild(pattern, name string) bool {
	if pattern == name {
		return true
	}
	// path.Match lets * stop at a slash; no name holds a NUL.
	swap := strings.NewReplacer("/", "\x00", "[", `\[`, `\`, `\\`)
	ok, err := path.Match(swap.Replace(pattern), strings.ReplaceAll(name, "/", "\x00"))
	return err == nil && ok
}
