// Package guard lets a host put back by itself what a change has cut us off by: before the
// change it is written down what is there, and a timer is set that outlives the worker, the
// connection and a reboot. It is lifted when somebody has got in again.
//
// A file that a service reads counts only once that service has read it: until then it stays written
// down, from one run to the next.
package guard

import (
	"context"
	"crypto/rand"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/machine"
)

// Argument is the first argument with which a program is started to put things back; what
// it waits for follows.
const Argument = "worker-guard"

// The files of a guard, in the folder of what a host remembers.
const (
	armedFile    = "guard.json"
	restoredFile = "guard-restored.json"
	lateFile     = "guard-late.json"
	lockFile     = "guard-lock"
)

// atBoot is in the place of a token where a reboot came in between.
const atBoot = "boot"

// grace is how much longer than the worker the timer waits, which is there for when the
// worker is no more.
const grace = 15 * time.Second

// How often, and how long apart, it is looked whether things are still being put back.
const (
	waitTries = 300
	waitAgain = 200 * time.Millisecond
)

// changeLimit is how long a change may take before things are put back in the middle of it,
// for when the worker is no more.
const changeLimit = 5 * time.Minute

// Guard is what is there written down.
type Guard struct {
	Token    string           `json:"token"` // of the timer that counts
	Project  string           `json:"project"`
	Run      string           `json:"run"`
	Boot     string           `json:"boot,omitempty"` // the boot's id, for the uptimes of files
	Refs     []value.Ref      `json:"refs"`           // the tasks
	Files    []saved          `json:"files"`
	Services []service.Prior  `json:"services"`
	Acts     []string         `json:"acts,omitempty"` // the services that read their files by this change
	Brought  []packages.Prior `json:"packages,omitempty"`
	Packets  *string          `json:"packets,omitempty"` // as nft lists them
	Made     bool             `json:"made,omitempty"`    // the change is made, and somebody has to get in now
	Begun    bool             `json:"begun,omitempty"`   // things are being put back, or were when that was cut off
	Wrong    string           `json:"wrong,omitempty"`   // why not all of it could be
}

// saved is one file, folder or link as it was.
type saved struct {
	Path   string            `json:"path"`
	Type   fs.FileMode       `json:"type"` // the type bits; ModeIrregular when there was nothing
	Mode   uint32            `json:"mode"`
	UID    int               `json:"uid"`
	GID    int               `json:"gid"`
	To     string            `json:"to,omitempty"` // of a link
	Data   []byte            `json:"data,omitempty"`
	Extras map[string][]byte `json:"extras,omitempty"` // its extended attributes, ACLs among them
	Ref    value.Ref         `json:"ref,omitzero"`     // the task that changed it
	// Readers are services by which it counts once one of them has read it; somebody who gets in
	// before proves nothing of it. Up is the host's uptime when it was changed.
	Readers []string      `json:"readers,omitempty"`
	Up      time.Duration `json:"up,omitempty"`
}

// Change is a task that may cut us off, with what it may do so by.
type Change struct {
	Ref   value.Ref
	Scope kinds.Scope
	Reads bool // by it the services of the scope read their files
}

// Keeper sets a guard for a run. The zero Keeper is none.
type Keeper struct {
	Env   *kind.Env
	Login string        // who logs in
	Wait  time.Duration // until somebody has to have got in again
	guard *Guard
	late  *Guard // what counts only later; nil until it is read
}

// Arm writes down what is there of all that changes may cut us off by, and sets the timer.
func (k *Keeper) Arm(ctx context.Context, list []Change) error {
	up, boot, err := k.Env.Uptime()
	if err != nil {
		return err
	}
	if err := k.readLate(ctx); err != nil {
		return err
	}
	k.guard = &Guard{Project: k.Env.Run.Project, Run: k.Env.Run.ID, Boot: boot}
	for _, c := range list {
		if err := k.guard.add(ctx, k.Env, c, k.late.Files, up); err != nil {
			return fmt.Errorf("save the current state: %w", err)
		}
	}
	for _, f := range k.late.Files { // which the services read by this change
		if f.readBy(k.guard.Acts) && !k.guard.has(f.Path) {
			k.guard.Files = append(k.guard.Files, f)
			if !slices.Contains(k.guard.Refs, f.Ref) {
				k.guard.Refs = append(k.guard.Refs, f.Ref)
			}
		}
	}
	return k.set(ctx, k.Wait+changeLimit)
}

// Made says that the change is made: from here on somebody has to get in.
func (k *Keeper) Made(ctx context.Context) error {
	k.guard.Made = true
	return k.set(ctx, k.Wait+grace)
}

// set writes the guard down and sets a timer for it, in the place of an earlier one.
func (k *Keeper) set(ctx context.Context, wait time.Duration) error {
	stopTimer(ctx, k.Env.Machine, k.guard.Token)
	k.guard.Token = rand.Text()
	if err := k.Env.Store.Remember(armedFile, k.guard); err != nil {
		return err
	}
	return k.timer(ctx, wait)
}

func (g *Guard) has(p string) bool {
	return slices.ContainsFunc(g.Files, func(f saved) bool { return f.Path == p })
}

// readBy says whether one of some services reads the file.
func (f saved) readBy(services []string) bool {
	return slices.ContainsFunc(f.Readers, func(name string) bool { return slices.Contains(services, name) })
}

// add writes down what is not yet. Of a file that counts only later, what was there before its first change
// is what is put back.
func (g *Guard) add(ctx context.Context, env *kind.Env, c Change, late []saved, up time.Duration) error {
	g.Refs = append(g.Refs, c.Ref)
	files, err := saveAll(env, c.Scope)
	if err != nil {
		return err
	}
	for _, f := range files {
		if g.has(f.Path) {
			continue
		}
		if i := slices.IndexFunc(late, func(l saved) bool { return l.Path == f.Path }); i >= 0 {
			f = late[i]
		}
		f.Ref, f.Up = c.Ref, up
		if c.Scope.Late {
			f.Readers = c.Scope.Services
		}
		g.Files = append(g.Files, f)
	}
	if c.Reads {
		g.Acts = append(g.Acts, c.Scope.Services...)
	}
	var names []string
	for _, name := range c.Scope.Services {
		if !slices.ContainsFunc(g.Services, func(have service.Prior) bool { return have.Name == name }) {
			names = append(names, name)
		}
	}
	standing, err := service.PriorOf(ctx, env, names)
	if err != nil {
		return err
	}
	g.Services = append(g.Services, standing...)
	brought, err := packages.PriorOf(ctx, env, c.Scope.Packages)
	if err != nil {
		return err
	}
	g.Brought = append(g.Brought, brought...)
	if c.Scope.Packets && g.Packets == nil && env.Machine.Look("nft") {
		out, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{"nft", "list", "ruleset"},
			Limit: time.Minute}, nil)
		if err != nil {
			return err
		}
		g.Packets = &out.Stdout
	}
	return nil
}

// Lift says that somebody has got in again. What only counts later stays written down; read says that the
// services which read something by the change have done so.
func (k *Keeper) Lift(ctx context.Context, read bool) {
	g := k.guard
	if g == nil {
		return
	}
	k.guard = nil
	k.proven(ctx, g, read)
	disarm(ctx, k.Env, g)
}

// PutBack restores at once what is written down, and gives the tasks that this undoes.
func (k *Keeper) PutBack(ctx context.Context) ([]value.Ref, error) {
	g := k.guard
	if g == nil {
		return nil, nil
	}
	k.guard = nil
	refs, err := Restore(ctx, k.Env.Machine, g.Token)
	k.Env.Store.Unlearn(restoredFile)
	if err == nil {
		k.forget(g.Files)
	}
	k.Env.Renew()
	return refs, err
}

// Settle settles what an earlier run left: that we have got in now proves that its change
// did not cut us off. Where the host has put things back meanwhile it gives the guard.
func Settle(ctx context.Context, env *kind.Env) (*Guard, bool) {
	var g Guard
	for range waitTries { // what lets us in may have been put back, and the rest not yet
		lock, err := env.Machine.Lock(env.Store.Path(lockFile))
		if err == nil {
			lock.Close()
			break
		}
		env.Machine.Wait(ctx, waitAgain)
	}
	k := &Keeper{Env: env}
	if env.Store.Recall(restoredFile, &g) == nil {
		removeBootEntry(ctx, env) // which whoever put things back may not have come to
		stopTimer(ctx, env.Machine, g.Token)
		env.Store.Unlearn(armedFile) // it was killed between the two, and must put nothing back twice
		env.Store.Unlearn(restoredFile)
		if g.Wrong == "" && k.readLate(ctx) == nil {
			k.forget(g.Files)
		}
		return &g, true
	}
	if env.Store.Recall(armedFile, &g) != nil {
		return nil, false
	}
	if g.Begun { // what lets us in is put back, and perhaps not all of it
		if _, err := Restore(ctx, env.Machine, g.Token); err != nil {
			g.Wrong = err.Error()
		} else if k.readLate(ctx) == nil {
			k.forget(g.Files)
		}
		env.Store.Unlearn(restoredFile)
		return &g, true
	}
	if k.readLate(ctx) == nil {
		k.proven(ctx, &g, false)
	}
	disarm(ctx, env, &g)
	return nil, false
}

// disarm takes the guard and its timers away.
func disarm(ctx context.Context, env *kind.Env, g *Guard) {
	lock, err := env.Machine.Lock(env.Store.Path(lockFile))
	if err != nil {
		return // things are being put back
	}
	defer lock.Close()
	env.Store.Unlearn(armedFile)
	stopTimer(ctx, env.Machine, g.Token)
	removeBootEntry(ctx, env)
}

// Main is the program that a timer starts: it waits, and puts back what the guard of a
// token wrote down, if that still counts. what is the token and the seconds to wait, with
// a colon in between.
func Main(ctx context.Context, m machine.Machine, what string) error {
	token, wait, _ := strings.Cut(what, ":")
	n, err := strconv.Atoi(wait)
	if err != nil {
		return fmt.Errorf("invalid guard %q", what)
	}
	m.Wait(ctx, time.Duration(n)*time.Second)
	_, err = Restore(ctx, m, token)
	return err
}
