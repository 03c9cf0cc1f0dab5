package guard

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// Restore puts back what the guard of a token wrote down, if it still counts, and says of
// which tasks that was.
func Restore(ctx context.Context, m machine.Machine, token string) ([]value.Ref, error) {
	env := &kind.Env{Machine: m}
	folder := ledger.Folder(m)
	lock, err := m.Lock(path.Join(folder, lockFile))
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	d, err := m.Dir(folder)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	text, _, err := read(d, armedFile, true)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // it was lifted
	}
	var g Guard
	if err == nil {
		err = json.Unmarshal(text, &g)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", armedFile, err)
	}
	if token != atBoot && token != g.Token {
		return nil, nil // a later one counts
	}
	g.Begun = true
	if text, err = json.Marshal(g); err == nil {
		err = replace(d, armedFile, saved{Mode: 0o600, UID: -1, GID: -1, Data: text})
	}
	_, e := m.ReadDir("/run/systemd/system")
	err = errors.Join(err, g.restore(ctx, env, d, token == atBoot && e == nil)) // on a full disk as well
	if err != nil {
		g.Wrong = err.Error()
		if reported, e := json.Marshal(g); e == nil {
			text = reported
		}
	}
	if e := replace(d, restoredFile, saved{Mode: 0o600, UID: -1, GID: -1, Data: text}); err == nil {
		err = e
	}
	removeBootEntry(ctx, env)
	d.Remove(armedFile)
	stopTimer(ctx, m, g.Token)
	return g.Refs, err
}

// restore goes on whatever fails, since each part may be the one that lets us in. early
// says that services start only after this.
func (g *Guard) restore(ctx context.Context, env *kind.Env, store machine.Dir, early bool) error {
	var all []error
	for _, p := range g.Brought {
		if err := packages.PutBack(ctx, env, p); err != nil {
			all = append(all, fmt.Errorf("restore the package %s: %w", p.Name, err))
		}
	}
	all = append(all, g.files(env))
	if g.Packets != nil {
		const name = "guard.nft"
		err := replace(store, name, saved{Mode: 0o600, UID: -1, GID: -1, Data: []byte("flush ruleset\n" + *g.Packets)})
		if err == nil {
			_, err = machine.Do(ctx, env.Machine, machine.Command{
				Args: []string{"nft", "-f", path.Join(ledger.Folder(env.Machine), name)}, Limit: time.Minute}, nil)
		}
		store.Remove(name)
		all = append(all, err)
	}
	if !early {
		all = append(all, service.Load(ctx, env)) // what defines services may have come back
	}
	for _, s := range g.Services {
		if err := service.PutBack(ctx, env, s, early); err != nil {
			all = append(all, fmt.Errorf("restore the service %s: %w", s.Name, err))
		}
	}
	return errors.Join(all...)
}

// files puts back all files, folders before what is in them, and goes on whatever fails.
func (g *Guard) files(env *kind.Env) error {
	var all []error
	back := func(f saved) {
		if err := f.putBack(env); err != nil {
			all = append(all, fmt.Errorf("restore %s: %w", f.Path, err))
		}
		service.Wrote(env, f.Path)
	}
	for _, f := range g.Files {
		if f.Type.IsDir() {
			back(f)
		}
	}
	for _, f := range slices.Backward(g.Files) {
		if !f.Type.IsDir() {
			back(f)
		}
	}
	return errors.Join(all...)
}

// putBack makes one path hold again what it held.
func (f saved) putBack(env *kind.Env) error {
	d, name, err := env.Split(f.Path)
	if errors.Is(err, kind.ErrNotYet) && f.Type == fs.ModeIrregular {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	there := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	switch {
	case f.Type == fs.ModeIrregular && !there:
		return nil
	case f.Type == fs.ModeIrregular && info.Type.IsDir():
		return nil // what is in it by now is nobody's to remove
	case f.Type == fs.ModeIrregular:
		if err := d.Remove(name); err != nil {
			return err
		}
		return d.Sync()
	case f.Type.IsDir():
		return f.folder(d, name, there)
	case f.Type&fs.ModeSymlink != 0:
		candidate := ledger.CandidateMark + "guard-" + strings.ToLower(rand.Text()[:8])
		if err := d.Symlink(f.To, candidate); err != nil {
			return err
		}
		return errors.Join(d.Rename(candidate, name), d.Sync())
	}
	if there && info.Type.IsDir() {
		return errors.New("a directory is there now")
	}
	return replace(d, name, f)
}

// folder gives a folder its owner and mode again.
func (f saved) folder(d machine.Dir, name string, there bool) error {
	if !there {
		if err := d.Mkdir(name, f.Mode, f.UID, f.GID); err != nil {
			return err
		}
	}
	open, err := d.Open(name)
	if err != nil {
		return err
	}
	defer open.Close()
	if err := open.Chown(f.UID, f.GID); err != nil {
		return err
	}
	if err := open.Chmod(f.Mode); err != nil {
		return err
	}
	return kind.GiveExtras(open, f.Extras)
}
