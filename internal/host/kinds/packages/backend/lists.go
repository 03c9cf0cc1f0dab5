package backend

import (
	"context"
	"errors"
	"math"
	"path"
	"regexp"
	"strings"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// Stamp is what is touched in our own folder after a refresh of the lists, since
// managers leave their files as they are when nothing is new.
const Stamp = "package-list-refreshed"

// ListAge is how long ago lists were refreshed: the files that a refresh
// touches are those of lists, and what they are made of those of sources. Lists
// that are older than their sources are older than anything.
func ListAge(env *kind.Env, lists, sources []string) time.Duration {
	last := LastRefresh(env, lists...)
	if last.IsZero() || LastChange(env, sources...).After(last) {
		return math.MaxInt64
	}
	return env.Machine.Now().Sub(last)
}

// LastRefresh gives the time of the last change of any of these files of lists, and of
// our own stamp. One from the future is the sign of a wrong clock, not of a refresh.
func LastRefresh(env *kind.Env, lists ...string) time.Time {
	return lastChange(env, env.Machine.Now(), append(lists, env.Store.Path(Stamp)))
}

// LastChange gives the time of the last change of any of these files.
func LastChange(env *kind.Env, paths ...string) time.Time {
	return lastChange(env, time.Time{}, paths)
}

func lastChange(env *kind.Env, latest time.Time, paths []string) time.Time {
	var last time.Time
	for _, p := range paths {
		d, name, err := env.Split(p)
		if err != nil {
			continue
		}
		if info, err := d.Lstat(name); err == nil && info.Time.After(last) &&
			(latest.IsZero() || !info.Time.After(latest)) {
			last = info.Time
		}
		d.Close()
	}
	return last
}

// Under gives the paths of what is in a folder.
func Under(env *kind.Env, folder string) []string {
	names, err := env.Machine.ReadDir(folder)
	if err != nil {
		return nil
	}
	for i, name := range names {
		names[i] = path.Join(folder, name)
	}
	return names
}

// How often it is asked whether another package manager has let go of its lock,
// and how long is waited in between.
const (
	lockTries = 40
	lockAgain = 3 * time.Second
)

// Limit is how long one run of a package manager may take: to stop it midway
// does harm.
const Limit = 2 * time.Hour

// Patiently runs a package manager, and again while its output says that
// another one holds its lock, up to two minutes. What locked matches first in it
// is the process that holds the lock, if the manager names it.
func Patiently(ctx context.Context, env *kind.Env, c machine.Command, locked *regexp.Regexp,
	reporting func(string) string) (machine.Output, error) {
	for try := 1; ; try++ {
		out, err := machine.Do(ctx, env.Machine, c, reporting)
		if err == nil || out.Code == 0 {
			return out, err
		}
		found := locked.FindStringSubmatch(out.Combined.String())
		if found == nil || ctx.Err() != nil {
			return out, err
		}
		if try < lockTries {
			env.Machine.Wait(ctx, lockAgain)
			continue
		}
		return out, problem.Errorf("another package manager has held the lock of %s for %v%s", c.Args[0],
			lockTries*lockAgain, holder(env, found)).
			Remedy("wait for it to finish, or check on the host why it does not, and apply again")
	}
}

// holder describes the process whose number was matched.
func holder(env *kind.Env, found []string) string {
	if len(found) < 2 || found[1] == "" {
		return ""
	}
	name, err := machine.ReadFile(env.Machine, "/proc/"+found[1]+"/comm")
	if err != nil {
		return ": process " + found[1]
	}
	return ": process " + found[1] + " (" + strings.TrimSpace(string(name)) + ")"
}

// Freed does something to packages that a manager refuses to touch while they
// are held. Those that are to stay are held again, whatever came of it.
func Freed(ctx context.Context, env *kind.Env, m Manager, names []string, stay bool, do func() error) error {
	states, err := m.Installed(ctx, env, names)
	if err != nil {
		return err
	}
	var held []string
	for _, name := range names {
		if states[name].Held {
			held = append(held, name)
		}
	}
	for _, name := range held {
		if err := m.Hold(ctx, env, name, false); err != nil {
			return err
		}
	}
	err = do()
	for _, name := range held {
		if stay {
			err = errors.Join(err, m.Hold(ctx, env, name, true))
		}
	}
	return err
}
