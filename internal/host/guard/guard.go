// Package guard lets a host put back by itself what a change has cut us off by: before the
// change it is written down what stands, and a timer is set that outlives the worker, the
// connection and a reboot. It is lifted when somebody has got in anew.
package guard

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// Argument is the first argument with which a program is started to put things back; what
// it waits for follows.
const Argument = "worker-guard"

// The files of a guard, in the folder of what a host remembers.
const (
	armedFile    = "guard.json"
	restoredFile = "guard-restored.json"
	lockFile     = "guard-lock"
)

// atBoot stands in the place of a token where a reboot came in between.
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

// maxSaved bounds a file that is written down, in bytes.
const maxSaved = 8 << 20

// Guard is what stands written down.
type Guard struct {
	Token    string             `json:"token"` // of the timer that counts
	Project  string             `json:"project"`
	Run      string             `json:"run"`
	Refs     []value.Ref        `json:"refs"` // the tasks
	Files    []saved            `json:"files"`
	Services []service.Standing `json:"services"`
	Packets  *string            `json:"packets,omitempty"` // as nft lists them
	Made     bool               `json:"made,omitempty"`    // the change is made, and somebody has to get in now
	Begun    bool               `json:"begun,omitempty"`   // things are being put back, or were when that was cut off
	Wrong    string             `json:"wrong,omitempty"`   // why not all of it could be
}

// saved is one file, folder or link as it stood.
type saved struct {
	Path string      `json:"path"`
	Type fs.FileMode `json:"type"` // the type bits; ModeIrregular when there was nothing
	Mode uint32      `json:"mode"`
	UID  int         `json:"uid"`
	GID  int         `json:"gid"`
	To   string      `json:"to,omitempty"` // of a link
	Data []byte      `json:"data,omitempty"`
	// Late says that it counts only once a service has read it, so that somebody who gets
	// in before proves nothing of it.
	Late bool `json:"late,omitempty"`
}

// Keeper sets a guard for a run. The zero Keeper is none.
type Keeper struct {
	Env   *kind.Env
	Login string        // who logs in
	Wait  time.Duration // until somebody has to have got in anew
	guard *Guard
}

// Arm writes down what stands of all that tasks may cut us off by, and sets the timer.
func (k *Keeper) Arm(ctx context.Context, refs []value.Ref, scopes []kinds.Scope) error {
	if k.guard == nil {
		k.guard = &Guard{Project: k.Env.Run.Project, Run: k.Env.Run.ID}
	}
	g := k.guard
	for _, s := range scopes {
		if err := g.add(ctx, k.Env, s); err != nil {
			return fmt.Errorf("write down what stands: %w", err)
		}
	}
	g.Refs = append(g.Refs, refs...)
	g.Made = false
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

// add writes down what is not yet.
func (g *Guard) add(ctx context.Context, env *kind.Env, s kinds.Scope) error {
	for _, p := range s.Paths {
		if slices.ContainsFunc(g.Files, func(f saved) bool { return f.Path == p }) {
			continue
		}
		f, err := save(env, p)
		if err != nil {
			return err
		}
		f.Late = len(s.Services) > 0
		g.Files = append(g.Files, f)
	}
	var names []string
	for _, name := range s.Services {
		if !slices.ContainsFunc(g.Services, func(have service.Standing) bool { return have.Name == name }) {
			names = append(names, name)
		}
	}
	standing, err := service.Stand(ctx, env, names)
	if err != nil {
		return err
	}
	g.Services = append(g.Services, standing...)
	if s.Packets && g.Packets == nil && env.Machine.Look("nft") {
		out, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{"nft", "list", "ruleset"}, Limit: time.Minute}, nil)
		if err != nil {
			return err
		}
		g.Packets = &out.Stdout
	}
	return nil
}

// save reads what stands at a path.
func save(env *kind.Env, p string) (saved, error) {
	out := saved{Path: p, Type: fs.ModeIrregular}
	d, name, err := env.Split(p)
	if errors.Is(err, kind.ErrNotYet) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Type, out.Mode, out.UID, out.GID = info.Type, info.Mode, info.UID, info.GID
	switch {
	case info.Type&fs.ModeSymlink != 0:
		out.To, err = d.Readlink(name)
	case info.Type.IsRegular():
		out.Data, err = read(d, name)
	}
	return out, err
}

func read(d machine.Dir, name string) ([]byte, error) {
	f, err := d.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxSaved+1))
	if err == nil && len(data) > maxSaved {
		err = errors.New("it is too large to be written down")
	}
	return data, err
}

// Lift says that somebody has got in anew. What only counts later stays written down for
// the rest of the run.
func (k *Keeper) Lift(ctx context.Context) {
	if k.guard == nil {
		return
	}
	disarm(ctx, k.Env, k.guard)
	g := *k.guard
	g.Files = slices.DeleteFunc(g.Files, func(f saved) bool { return !f.Late })
	g.Packets = nil
	g.Refs = slices.DeleteFunc(g.Refs, func(r value.Ref) bool {
		return !slices.ContainsFunc(g.Files, func(f saved) bool { return f.Path == kind.FileOfPart(r.Name) })
	})
	k.guard = &g
	if len(g.Files) == 0 {
		k.guard = nil
	}
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
	k.Env.Renew()
	return refs, err
}

// Found settles what an earlier run left: that we have got in now proves that its change
// did not cut us off. Where the host has put things back meanwhile it gives the guard.
func Found(ctx context.Context, env *kind.Env) (*Guard, bool) {
	var g Guard
	for range waitTries { // what lets us in may have been put back, and the rest not yet
		lock, err := env.Machine.Lock(env.Store.Path(lockFile))
		if err == nil {
			lock.Close()
			break
		}
		env.Machine.Wait(ctx, waitAgain)
	}
	if env.Store.Recall(restoredFile, &g) == nil {
		removeBootEntry(env) // which whoever put things back may not have come to
		stopTimer(ctx, env.Machine, g.Token)
		env.Store.Unlearn(armedFile) // it was killed between the two, and must put nothing back twice
		env.Store.Unlearn(restoredFile)
		return &g, true
	}
	if env.Store.Recall(armedFile, &g) != nil {
		return nil, false
	}
	if g.Begun { // what lets us in is put back, and perhaps not all of it
		if _, err := Restore(ctx, env.Machine, g.Token); err != nil {
			g.Wrong = err.Error()
		}
		env.Store.Unlearn(restoredFile)
		return &g, true
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
	removeBootEntry(env)
}

// stopTimer takes the transient timer of a token away. Where it is a process it ends by
// itself, since its token does not count any more.
func stopTimer(ctx context.Context, m machine.Machine, token string) {
	if token != "" && m.Self() != "" && m.Look("systemctl") {
		m.Run(ctx, machine.Command{Args: []string{"systemctl", "--no-ask-password", "stop", unit(token) + ".timer"}, Limit: time.Minute})
	}
}

func unit(token string) string { return "jadekettle-guard-" + strings.ToLower(token) }

// timer has the host start a program of its own that puts things back: by a transient
// unit, where the service manager has these, else by a process that has nothing to do with
// the session. Where the worker is no program of the host, as on a simulated one, there is
// none.
func (k *Keeper) timer(ctx context.Context, after time.Duration) error {
	m := k.Env.Machine
	self := m.Self()
	if self == "" {
		return nil
	}
	wait := int(after.Seconds())
	if err := bootEntry(k.Env, self); err != nil {
		return fmt.Errorf("set what puts things back after a reboot: %w", err)
	}
	if _, err := m.ReadDir("/run/systemd/system"); err == nil && m.UID() == 0 && m.Look("systemd-run") {
		_, err := machine.Do(ctx, m, machine.Command{Args: []string{"systemd-run", "--quiet", "--collect", "--unit=" + unit(k.guard.Token),
			"--on-active=" + strconv.Itoa(wait), "--timer-property=AccuracySec=1s", self, Argument, k.guard.Token + ":0"}, Limit: time.Minute}, nil)
		return err
	}
	_, err := machine.Do(ctx, m, machine.Command{Args: []string{"sh", "-c", `setsid "$0" "$@" </dev/null >/dev/null 2>&1 &`, self,
		Argument, k.guard.Token + ":" + strconv.Itoa(wait)}, Limit: time.Minute}, nil)
	return err
}

// The entries that have things put back when the host is rebooted in between.
const (
	bootUnit = "/etc/systemd/system/jadekettle-guard.service"
	bootLink = "/etc/systemd/system/multi-user.target.wants/jadekettle-guard.service"
	bootCron = "/etc/cron.d/jadekettle-guard"
)

func bootEntry(env *kind.Env, self string) error {
	m := env.Machine
	if m.UID() != 0 {
		return nil
	}
	if _, err := m.ReadDir("/run/systemd/system"); err == nil {
		if err := put(env, bootUnit, "[Unit]\nDescription=Put back what Jade Kettle's last change cut us off by\n"+
			"Before=ssh.service sshd.service network-pre.target\nWants=network-pre.target\n"+
			"[Service]\nType=oneshot\nExecStart="+self+" "+Argument+" "+atBoot+":0\n[Install]\nWantedBy=multi-user.target\n"); err != nil {
			return err
		}
		d, name, err := env.Split(bootLink)
		if err != nil {
			return err
		}
		defer d.Close()
		if err := d.Symlink(bootUnit, name); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		return d.Sync()
	}
	if _, err := m.ReadDir(path.Dir(bootCron)); err != nil {
		return nil
	}
	return put(env, bootCron, "@reboot root "+self+" "+Argument+" "+atBoot+":0\n")
}

func removeBootEntry(env *kind.Env) {
	for _, p := range []string{bootLink, bootUnit, bootCron} {
		if d, name, err := env.Split(p); err == nil {
			d.Remove(name)
			d.Close()
		}
	}
}

// put writes a small file of ours anew.
func put(env *kind.Env, p, text string) error {
	d, name, err := env.Split(p)
	if err != nil {
		return err
	}
	defer d.Close()
	return replace(d, name, saved{Mode: 0o644, UID: -1, GID: -1, Data: []byte(text)})
}

func replace(d machine.Dir, name string, s saved) error {
	candidate := ledger.CandidateMark + "guard-" + strings.ToLower(rand.Text()[:8])
	f, err := d.Create(candidate, s.Mode, s.UID, s.GID)
	if err != nil {
		return err
	}
	_, err = f.Write(s.Data)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = d.Rename(candidate, name)
	}
	if err != nil {
		d.Remove(candidate)
		return err
	}
	return d.Sync()
}

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
	text, err := read(d, armedFile)
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
		if told, e := json.Marshal(g); e == nil {
			text = told
		}
	}
	if e := replace(d, restoredFile, saved{Mode: 0o600, UID: -1, GID: -1, Data: text}); err == nil {
		err = e
	}
	removeBootEntry(env)
	d.Remove(armedFile)
	stopTimer(ctx, m, g.Token)
	return g.Refs, err
}

// restore goes on whatever fails, since each part may be the one that lets us in. early
// says that services start only after this.
func (g *Guard) restore(ctx context.Context, env *kind.Env, store machine.Dir, early bool) error {
	var all []error
	for _, f := range slices.Backward(g.Files) {
		if err := f.putBack(env); err != nil {
			all = append(all, fmt.Errorf("put back %s: %w", f.Path, err))
		}
	}
	if g.Packets != nil {
		const name = "guard.nft"
		err := replace(store, name, saved{Mode: 0o600, UID: -1, GID: -1, Data: []byte("flush ruleset\n" + *g.Packets)})
		if err == nil {
			_, err = machine.Do(ctx, env.Machine, machine.Command{Args: []string{"nft", "-f", path.Join(ledger.Folder(env.Machine), name)},
				Limit: time.Minute}, nil)
		}
		store.Remove(name)
		all = append(all, err)
	}
	for _, s := range g.Services {
		if err := service.PutBack(ctx, env, s, early); err != nil {
			all = append(all, fmt.Errorf("put back the service %s: %w", s.Name, err))
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
		return nil // what lies in it by now is nobody's to remove
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
	return replace(d, name, f)
}

// folder gives a folder its owner and mode again.
func (f saved) folder(d machine.Dir, name string, there bool) error {
	if !there {
		return d.Mkdir(name, f.Mode, f.UID, f.GID)
	}
	open, err := d.Open(name)
	if err != nil {
		return err
	}
	defer open.Close()
	if err := open.Chown(f.UID, f.GID); err != nil {
		return err
	}
	return open.Chmod(f.Mode)
}

// Main is the program that a timer starts: it waits, and puts back what the guard of a
// token wrote down, if that still counts. what is the token and the seconds to wait, with
// a colon in between.
func Main(ctx context.Context, m machine.Machine, what string) error {
	token, wait, _ := strings.Cut(what, ":")
	n, err := strconv.Atoi(wait)
	if err != nil {
		return fmt.Errorf("%q is no guard", what)
	}
	m.Wait(ctx, time.Duration(n)*time.Second)
	_, err = Restore(ctx, m, token)
	return err
}
