package guard

import (
	"context"
	"errors"
	"io/fs"
	"slices"

	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service"
)

// readLate reads what earlier changes left that counts only later, but for what a service has read
// since: that we have got in now proves it.
func (k *Keeper) readLate(ctx context.Context) error {
	if k.late != nil {
		return nil
	}
	var kept Guard
	if err := k.Env.Store.Recall(lateFile, &kept); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	all := kept.Files
	var err error
	if kept.Files, err = unread(ctx, k.Env, all, kept.Boot); err != nil {
		return err
	}
	if k.late = &kept; len(kept.Files) < len(all) {
		return k.keepLate()
	}
	return nil
}

// unread gives those of some files, changed in a boot, that none of their services has read since. A
// service that starts reads all of its files.
func unread(ctx context.Context, env *kind.Env, files []saved, boot string) ([]saved, error) {
	_, now, err := env.Uptime()
	if err != nil || len(files) == 0 || boot != now {
		return nil, err
	}
	var names []string
	for _, f := range files {
		names = append(names, f.Readers...)
	}
	slices.Sort(names)
	started, err := service.Started(ctx, env, slices.Compact(names))
	if err != nil {
		return nil, err
	}
	var out []saved
	for _, f := range files {
		if !slices.ContainsFunc(f.Readers, func(name string) bool { return started[name] > f.Up }) {
			out = append(out, f)
		}
	}
	return out, nil
}

// proven says that somebody has got in after a change. Of its files those stay written down that no
// service has read yet; read says that the services which the change was about have read theirs.
func (k *Keeper) proven(ctx context.Context, g *Guard, read bool) {
	k.drop(g.Files)
	wait := slices.DeleteFunc(slices.Clone(g.Files), func(f saved) bool {
		return len(f.Readers) == 0 || read && f.readBy(g.Acts)
	})
	if rest, err := unread(ctx, k.Env, wait, g.Boot); err == nil {
		wait = rest
	}
	k.late.Boot, k.late.Files = g.Boot, append(k.late.Files, wait...)
	k.keepLate() // where that fails, the rest of this run knows it still
}

// drop forgets what is written down of files that hold something proven.
func (k *Keeper) drop(files []saved) {
	k.late.Files = slices.DeleteFunc(k.late.Files, func(f saved) bool {
		return slices.ContainsFunc(files, func(o saved) bool { return o.Path == f.Path })
	})
}

// forget is drop, kept.
func (k *Keeper) forget(files []saved) {
	if before := len(k.late.Files); before > 0 {
		if k.drop(files); len(k.late.Files) < before {
			k.keepLate()
		}
	}
}

func (k *Keeper) keepLate() error {
	if len(k.late.Files) == 0 {
		k.Env.Store.Unlearn(lateFile)
		return nil
	}
	return k.Env.Store.Remember(lateFile, k.late)
}

// Unread says whether a service has something to read that nobody has got in by yet.
func (k *Keeper) Unread(ctx context.Context, name string) bool {
	return k.readLate(ctx) == nil && slices.ContainsFunc(k.late.Files,
		func(f saved) bool { return f.readBy([]string{name}) })
}

// PutBackUnread restores what a service has not read yet and cannot start with, and gives the tasks that this undoes.
func (k *Keeper) PutBackUnread(ctx context.Context, name string) (refs []value.Ref, err error) {
	if err := k.readLate(ctx); err != nil {
		return nil, err
	}
	var of Guard
	for _, f := range k.late.Files {
		if f.readBy([]string{name}) {
			of.Files = append(of.Files, f)
			if !slices.Contains(refs, f.Ref) {
				refs = append(refs, f.Ref)
			}
		}
	}
	if err = of.files(k.Env); err == nil {
		k.forget(of.Files)
	}
	k.Env.Renew()
	return refs, err
}
