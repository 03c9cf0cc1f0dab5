package dir

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/host/kinds/kind"
)

// leaves says whether nothing declares the folder any more: then what was copied goes, and the
// folder itself only if nothing else is in it.
func leaves(t plan.Task) bool { return t.Absent && t.Leaves }

// leaving is a walk through a folder that is no longer declared.
type leaving struct {
	env  *kind.Env
	task plan.Task
	ours map[string]bool      // paths below the folder of the files that were copied
	up   map[string]bool      // and of the folders that hold them
	kept map[string]int       // what is declared or mounted below it
	away map[string]plan.Task // what else goes in this run, by its path on the host

	goes  []entry  // what is removed, contents before their folder
	stays []string // paths of what is not
}

// readLeaving lists what goes with a folder that nothing declares any more, and what stays in it.
func readLeaving(env *kind.Env, t plan.Task) (*leaving, error) {
	w := &leaving{env: env, task: t, ours: map[string]bool{}, up: map[string]bool{}, away: map[string]plan.Task{}}
	for _, l := range t.Tree {
		w.ours[l.Path] = true
		for p := path.Dir(l.Path); p != "."; p = path.Dir(p) {
			w.up[p] = true
		}
	}
	for _, other := range env.Tasks {
		if env.Paths == nil || !other.Absent || other.Ref == t.Ref {
			continue
		}
		for _, p := range env.Paths(other) {
			w.away[p] = other
		}
	}
	var err error
	if w.kept, err = kept(env, t); err != nil {
		return nil, err
	}
	return w, w.walk("")
}

// walk looks at all that is in a folder.
func (w *leaving) walk(folder string) error {
	names, err := w.env.Machine.ReadDir(path.Join(w.task.Ref.Name, folder))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, name := range names {
		if err := w.look(path.Join(folder, name)); err != nil {
			return err
		}
	}
	return nil
}

func (w *leaving) look(p string) error {
	at := path.Join(w.task.Ref.Name, p)
	other, away := w.away[at]
	isDir := isFolder(w.env, at)
	only := w.task.Attrs.Bool("only_declared")
	switch {
	case len(w.goes)+len(w.stays) > maxForeign, w.kept[p] == whole:
		w.stays = append(w.stays, p)
	case away && leaves(other) && isDir && other.Ref.Kind == about.Name: // which may itself stay
		inner, err := readLeaving(w.env, other)
		if err != nil {
			return err
		}
		if len(inner.stays) > 0 {
			w.stays = append(w.stays, p)
		}
	case away:
	case isDir && (w.up[p] || w.kept[p] == above || w.holdsAway(at)):
		had := len(w.stays)
		if err := w.walk(p); err != nil {
			return err
		}
		switch {
		case len(w.stays) > had:
		case w.up[p] || only:
			w.goes = append(w.goes, entry{path: p, isDir: true, foreign: true})
		default:
			w.stays = append(w.stays, p)
		}
	case !isDir && w.ours[p], only:
		w.goes = append(w.goes, entry{path: p, foreign: true})
	default:
		w.stays = append(w.stays, p)
	}
	return nil
}

// holdsAway says whether anything below a folder goes in this run.
func (w *leaving) holdsAway(at string) bool {
	for p := range w.away {
		if strings.HasPrefix(p, at+"/") {
			return true
		}
	}
	return false
}

// Stays says why a folder that nothing declares any more stays; empty when it does not.
func (dirs) Stays(_ context.Context, t plan.Task, st state) string {
	if !leaves(t) || !st.there || len(st.stays) == 0 {
		return ""
	}
	return "it is kept because it still contains " + kind.Some(st.stays)
}
