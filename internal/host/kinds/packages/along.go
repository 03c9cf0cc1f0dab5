package packages

import (
	"context"
	"fmt"
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
)

// maxAlone bounds how many packages of one transaction are asked about one by one, to find out which
// of them causes the rest.
const maxAlone = 20

// order is what a manager is asked for together: places in the work.
type order struct {
	which  []int
	remove bool
	purge  bool
}

// orders parts what differs into what is asked for together.
func orders(work []kind.Work) []order {
	install, remove, purge := order{}, order{remove: true}, order{remove: true, purge: true}
	for i, w := range work {
		switch t := w.Task; {
		case !w.Differs("version") || w.State.(state).cut || w.State.(state).doubt:
		case t.Absent && t.Attrs.Bool("purge"):
			purge.which = append(purge.which, i)
		case t.Absent:
			remove.which = append(remove.which, i)
		case !byFile(t):
			install.which = append(install.which, i)
		}
	}
	return slices.DeleteFunc([]order{remove, purge, install}, func(o order) bool { return len(o.which) == 0 })
}

// Foresee asks the manager what else it would install or remove. A refusal, since its lists are old
// or it was interrupted, is not an error here: Write meets it again.
func (packages) Foresee(ctx context.Context, env *kind.Env, work []kind.Work) []error {
	errs := make([]error, len(work))
	m, err := ManagerOf(env)
	if err != nil {
		return errs
	}
	put := func(i int, list []backend.Effect) {
		if errs[i] == nil {
			errs[i] = forbidden(env, work[i].Task, list)
		}
		if errs[i] == nil {
			work[i].Changes = append(work[i].Changes, alsoChanges(list)...)
		}
	}
	for _, o := range orders(work) {
		all, err := o.effects(ctx, env, m, work, o.which)
		switch {
		case err != nil && !o.remove && !env.Run.Preview && !env.ListsRefreshed:
			// Write refreshes the lists first, and asks again.
		case err == nil && len(all) == 0:
		case len(o.which) == 1 || err == nil && len(o.which) > maxAlone:
			put(o.which[0], all)
		default:
			for _, i := range o.which {
				alone, _ := o.effects(ctx, env, m, work, []int{i})
				alone = slices.DeleteFunc(alone, func(e backend.Effect) bool { // with another one, or for its own sake
					return !slices.Contains(all, e) && err == nil
				})
				put(i, alone)
				all = slices.DeleteFunc(all, func(e backend.Effect) bool { return slices.Contains(alone, e) })
			}
			put(o.which[0], all) // what comes only of all of them together
		}
	}
	return errs
}

// effects gives what else a transaction over some of the work does.
func (o order) effects(ctx context.Context, env *kind.Env, m backend.Manager, work []kind.Work,
	which []int) ([]backend.Effect, error) {
	var install []backend.Want
	var remove, names []string
	for _, i := range which {
		t := work[i].Task
		names = append(names, t.Ref.Name)
		if !o.remove {
			install = append(install, want(t, work[i].State.(state)))
		}
	}
	if o.remove {
		remove = names
	}
	list, err := m.Foresee(ctx, env, install, remove, o.purge)
	return others(needed(m, list, remove), names), err
}

// own are the packages without which a manager, by its program, could bring nothing back.
var own = map[string][]string{"apt-get": {"apt", "dpkg"}, "dnf": {"dnf", "dnf5", "rpm"},
	"microdnf": {"microdnf", "rpm"}, "yum": {"yum", "rpm"},
	"zypper": {"zypper", "libzypp", "rpm"}, "pacman": {"pacman"}, "apk": {"apk-tools"}}

// needed marks what the host's manager needs itself as essential, and adds those of them that are
// to be removed by name.
func needed(m backend.Manager, list []backend.Effect, remove []string) []backend.Effect {
	for i := range list {
		list[i].Essential = list[i].Essential || slices.Contains(own[m.Program()], list[i].Name) ||
			isDoor(list[i].Name) && !slices.ContainsFunc(remove, list[i].Of)
	}
	for _, name := range remove {
		if slices.Contains(own[m.Program()], name) && !slices.ContainsFunc(list,
			func(e backend.Effect) bool { return e.Name == name }) {
			list = append(list, backend.Effect{Name: name, Essential: true})
		}
	}
	return list
}

// others skips what was asked for by name, except for essential packages that would be removed.
func others(list []backend.Effect, names []string) []backend.Effect {
	return slices.DeleteFunc(list, func(e backend.Effect) bool {
		return !(e.Essential && e.Becomes == "") &&
			slices.ContainsFunc(names, e.Of)
	})
}

// forbidden says why something must not happen along with a task: it removes what is essential, or
// is declared differently here or by another project on this host.
func forbidden(env *kind.Env, t plan.Task, list []backend.Effect) error {
	for _, e := range list {
		goes := e.Becomes == ""
		if goes && e.Essential {
			return problem.Errorf("it would remove %s, which is essential to this host", e.Name).
				Remedy("remove this declaration; nothing was changed")
		}
		if e.Of(t.Ref.Name) {
			continue
		}
		i := slices.IndexFunc(env.Tasks, func(o plan.Task) bool {
			return o.Ref.Kind == about.Name && e.Of(o.Ref.Name)
		})
		if i >= 0 && env.Tasks[i].Absent == goes && (goes || agrees(env.Tasks[i], e)) {
			continue
		}
		if i >= 0 {
			return problem.Errorf("it would also %s, which is declared differently", deed(e)).
				Remedy("make the declarations agree, or remove one of them; nothing was changed")
		}
		for ref, entry := range env.Store.Entries {
			if goes && ref.Kind == about.Name && e.Of(ref.Name) {
				return problem.Errorf("it would also remove %s, which the project %q manages on this host", e.Name,
					entry.Project).Remedy("remove one of the declarations; nothing was changed")
			}
		}
	}
	return nil
}

// agrees says whether a package that comes along may become what it becomes.
func agrees(t plan.Task, e backend.Effect) bool {
	v := t.Attrs.Text("version")
	return (v == "" || v == Newest || matches(v, e.Becomes)) && !(t.Attrs.Bool("hold") && e.Was != "")
}

// deed says in words what happens to a package.
func deed(e backend.Effect) string {
	switch {
	case e.Becomes == "":
		return "remove " + e.Name
	case e.Was == "":
		return "install " + e.Name
	}
	return "change " + e.Name + " to " + e.Becomes
}

// maxAlong bounds how many of those that come along are shown one by one.
const maxAlong = 12

// alsoChanges gives what comes along as changes: first what is removed, then what becomes another
// version, then what is installed.
func alsoChanges(along []backend.Effect) []plan.Change {
	along = slices.Clone(along)
	slices.SortStableFunc(along, func(a, b backend.Effect) int { return rank(a) - rank(b) })
	var out []plan.Change
	for i, e := range along {
		if i == maxAlong && len(along) > maxAlong+1 {
			return append(out, plan.Change{What: "also", Becomes: fmt.Sprintf("%d more packages", len(along)-i)})
		}
		c := plan.Change{What: "also " + value.Ref{Kind: about.Name, Name: e.Name}.String(), Was: e.Was,
			Becomes: e.Becomes}
		if c.Was == "" {
			c.Was = "absent"
		}
		if c.Becomes == "" {
			c.Becomes = "absent"
		}
		out = append(out, c)
	}
	return out
}

func rank(e backend.Effect) int {
	switch {
	case e.Becomes == "":
		return 0
	case e.Was != "":
		return 1
	}
	return 2
}
