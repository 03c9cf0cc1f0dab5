package run_test

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"golang.org/x/sys/unix"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/worker"
)

// faulty is a machine on which every change asks a hook first.
type faulty struct {
	machine.Machine
	hook func(op, what string) error
}

func (f faulty) Dir(p string) (machine.Dir, error) {
	d, err := f.Machine.Dir(p)
	if err != nil {
		return nil, err
	}
	return faultyDir{d, f, p}, nil
}

func (f faulty) Run(ctx context.Context, c machine.Command) (machine.Output, error) {
	if err := f.hook("run", strings.Join(c.Args, " ")); err != nil {
		return machine.Output{}, err
	}
	return f.Machine.Run(ctx, c)
}

type faultyDir struct {
	machine.Dir
	f faulty
	p string
}

func (d faultyDir) Create(name string, mode uint32, uid, gid int) (machine.File, error) {
	if err := d.f.hook("create", path.Join(d.p, name)); err != nil {
		return nil, err
	}
	f, err := d.Dir.Create(name, mode, uid, gid)
	if err != nil {
		return nil, err
	}
	return faultyFile{f, d.f, path.Join(d.p, name)}, nil
}

func (d faultyDir) Rename(from, to string) error {
	if err := d.f.hook("rename", path.Join(d.p, to)); err != nil {
		return err
	}
	return d.Dir.Rename(from, to)
}

func (d faultyDir) Remove(name string) error {
	if err := d.f.hook("remove", path.Join(d.p, name)); err != nil {
		return err
	}
	return d.Dir.Remove(name)
}

func (d faultyDir) RemoveAll(name string) error {
	if err := d.f.hook("remove", path.Join(d.p, name)); err != nil {
		return err
	}
	return d.Dir.RemoveAll(name)
}

func (d faultyDir) Mkdir(name string, mode uint32, uid, gid int) error {
	if err := d.f.hook("mkdir", path.Join(d.p, name)); err != nil {
		return err
	}
	return d.Dir.Mkdir(name, mode, uid, gid)
}

type faultyFile struct {
	machine.File
	f faulty
	p string
}

func (f faultyFile) Write(p []byte) (int, error) {
	if err := f.f.hook("write", f.p); err != nil {
		return 0, err
	}
	return f.File.Write(p)
}

var errKilled = errors.New("killed")

// killer lets a machine die at its nth step: nothing it does after that has
// any effect, and its connections are cut.
type killer struct {
	mu    sync.Mutex
	host  *sim.Host
	at    int
	steps int
}

func (k *killer) wrap(m machine.Machine) machine.Machine {
	return faulty{m, func(string, string) error {
		k.mu.Lock()
		defer k.mu.Unlock()
		if k.steps++; k.at == 0 || k.steps < k.at {
			return nil
		}
		k.host.Cut()
		return errKilled
	}}
}

// TestAWorkerKilledAtEveryStep kills an apply that changes a package, a file
// and its service at each of its steps in turn. The next run must come out
// right, with the restart that is pending, and leave nothing behind.
func TestAWorkerKilledAtEveryStep(t *testing.T) {
	first := "[package.tide-logger]\nversion = \"1.4.2-1\"\n[file.\"/etc/tide-logger.toml\"]\ncontent = \"a = 1\\n" +
		"\"\nmode = \"0640\"\n[service.tide-logger]\nrunning = true\nrestart_on = [\"file /etc/tide-logger.toml\"]\n"
	second := strings.ReplaceAll(strings.ReplaceAll(first, "a = 1", "a = 2"), "1.4.2-1", "1.5.0-1")
	steps := 0
	for at := 0; at <= steps; at++ { // the first time, at 0, counts the steps
		b := newBench(t, "gauge-01")
		b.manifest(first)
		b.run(false)
		_, started := b.host().Unit("tide-logger.service")
		b.manifest(second)
		k := &killer{host: b.host(), at: at}
		b.host().Wrap = k.wrap
		h := b.one(false)
		b.host().Wait()
		b.host().Wrap = nil
		if at == 0 {
			steps = k.steps
			if steps < 10 {
				t.Fatalf("the run has only %d steps", steps)
			}
			continue
		}
		if h.State == record.Reached && k.steps >= at && h.Count(plan.Changed)+h.Count(plan.Unchanged) == 3 &&
			at < steps-3 {
			t.Errorf("killed at step %d of %d, the run ended well", at, steps)
		}
		next := b.one(false)
		if next.State != record.Reached || next.Count(plan.Failed)+next.Count(plan.Blocked) > 0 {
			t.Errorf("after a kill at step %d: %s %s\n%s", at, next.State, next.Message, statuses(next))
		}
		if got := b.on("etc/tide-logger.toml"); got != "a = 2\n" {
			t.Errorf("after a kill at step %d the file holds %q", at, got)
		}
		if _, again := b.host().Unit("tide-logger.service"); again <= started {
			t.Errorf("after a kill at step %d the owed restart did not happen", at)
		}
		noStrays(t, b)
		b.settled()
		b.sim.Close()
	}
	t.Logf("%d steps", steps)
}

// installs says whether a command installs something, and does not only print what it would do.
func installs(command string) bool {
	return strings.Contains(command, " install ") && !strings.Contains(command, " -s ")
}

func TestTheConnectionIsCutMidRun(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[dir.\"/srv/a\"]\n[dir.\"/srv/b\"]\n[package.buoy-tools]\n[dir.\"/srv/c\"]\n")
	b.nearby(t, func() {
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				if op == "run" && installs(what) {
					b.session.Load().Abort() // the cable is pulled while apt-get works
					time.Sleep(500 * time.Millisecond)
				}
				return nil
			}}
		}
		h := b.one(false)
		if h.State != record.Lost || !strings.Contains(h.Message, "have no result yet") {
			t.Errorf("the host is %s: %s", h.State, h.Message)
		}
		b.workers.Wait()
		b.host().Wrap = nil
		if b.on("var/lib/dpkg/status") == "" || !strings.Contains(b.on("var/lib/dpkg/status"), "buoy-tools") {
			t.Error("the task in hand was not finished")
		}
		h = b.one(false)
		wants(t, h, "dir /srv/a unchanged", "dir /srv/b unchanged", "package buoy-tools unchanged",
			"dir /srv/c changed")
		if len(h.Collected) != 1 {
			t.Fatalf("collected %d runs", len(h.Collected))
		}
		var got []string
		for _, r := range h.Collected[0].Tasks {
			got = append(got, r.Ref().String()+" "+string(r.Status))
		}
		if want := "dir /srv/a changed, dir /srv/b changed, package buoy-tools changed"; strings.Join(got,
			", ") != want {
			t.Errorf("collected %v", got)
		}
		if h = b.one(true); len(h.Collected) != 0 {
			t.Error("what was delivered is delivered again")
		}
	})

}

func TestTwoAppliesAtOnce(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[package.buoy-tools]\n")
	inside, over := make(chan struct{}), make(chan struct{})
	b.host().Wrap = func(m machine.Machine) machine.Machine {
		return faulty{m, func(op, what string) error {
			if op == "run" && installs(what) {
				close(inside)
				<-over
			}
			return nil
		}}
	}
	done := make(chan *record.Host)
	f := b.fleet()
	go func() {
		done <- f.Run(context.Background(), f.Plans.Project.Inventory.Hosts, plan.Run{ID: "first", Project: "saltmarsh",
			Who: "maren@desk"})[0]
	}()
	<-inside
	h := f.Run(context.Background(), f.Plans.Project.Inventory.Hosts, plan.Run{ID: "second", Project: "saltmarsh",
		Who: "olga@desk"})[0]
	if h.State != record.Busy || !strings.Contains(h.Message, "an apply by maren@desk has locked it") {
		t.Errorf("the second apply is reported: %s %s", h.State, h.Message)
	}
	close(over)
	wants(t, <-done, "package buoy-tools changed")
}

func TestStoppedByItsUser(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[package.buoy-tools]\n[dir.\"/srv/a\"]\n")
	b.nearby(t, func() {
		ctx, stop := context.WithCancel(context.Background())
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				if op == "run" && installs(what) {
					stop()
					time.Sleep(500 * time.Millisecond) // for the word to come through
				}
				return nil
			}}
		}
		for _, h := range b.runCtx(ctx, false) {
			wants(t, h, "package buoy-tools changed")
			if !h.Stopped || h.State != record.Reached {
				t.Errorf("the host is %s, stopped %v", h.State, h.Stopped)
			}
		}
		b.host().Wrap = nil
		wants(t, b.one(false), "package buoy-tools unchanged", "dir /srv/a changed")
	})

}

// TestSilence lets either side fall silent without closing anything, as a
// cable does that is pulled further away.
func TestSilence(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[file.\"/srv/a\"]\ncopy = \"big\"\n")
	big := strings.Repeat("tide", 4<<20)
	b.write("manifests/big", big)
	hash := fmt.Sprintf("%x", sha256.Sum256([]byte(big)))
	b.nearby(t, func() {
		hold := make(chan struct{})
		for name, answer := range map[string]func(io.Reader, io.Writer, string){
			"it says nothing": func(_ io.Reader, out io.Writer, nonce string) {
				io.WriteString(out, worker.Ready(nonce))
				<-hold
			},
			"available: much and takes none of it": func(_ io.Reader, out io.Writer, nonce string) {
				io.WriteString(out, worker.Ready(nonce))
				c := wire.NewConn(nil, out)
				c.Send(wire.Message{Facts: &facts.Facts{}})
				c.Send(wire.Message{Want: &wire.Want{SHA256: []string{hash}}})
				<-hold
			},
		} {
			b.host().Answer = answer
			begun := time.Now()
			if h := b.one(false); h.State != record.Lost || !strings.Contains(h.Message, "silent for too long") ||
				time.Since(begun) > 2*worker.Silence {
				t.Errorf("%s: the host is %s after %v: %s", name, h.State, time.Since(begun), h.Message)
			}
		}
		close(hold)
		b.host().Answer = nil

		f := b.fleet()
		s, err := f.Open(context.Background(), f.Plans.Project.Inventory.Hosts[0], nil)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		wire.NewConn(s, s).Send(wire.Message{Start: &wire.Start{Format: wire.Format,
			Run: plan.Run{ID: "silent", Project: "saltmarsh"}}})
		synctest.Wait()
		if h := b.one(false); h.State != record.Busy {
			t.Errorf("while the first controller holds it, the host is %s", h.State)
		}
		b.workers.Wait() // its worker gives up by itself
		wants(t, b.one(false), "file /srv/a changed")
	})

}

// TestStoppedBeforeThePlan stops a run when its host has only been greeted: as
// nothing is known of the plan, nothing may count as no longer declared.
func TestStoppedBeforeThePlan(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[dir.\"/srv/a\"]\n")
	b.nearby(t, func() {
		b.run(false)
		ctx, stop := context.WithCancel(context.Background())
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				if op == "rename" && strings.HasSuffix(what, "holder.json") {
					stop()
					time.Sleep(500 * time.Millisecond)
				}
				return nil
			}}
		}
		for _, h := range b.runCtx(ctx, false) {
			if len(h.Undeclared) > 0 || len(h.Tasks) > 0 || !h.Stopped {
				t.Errorf("the stopped run shows %v and %v", h.Undeclared, h.Tasks)
			}
		}
		if strings.Contains(b.on("var/lib/jadekettle/ledger.json"), "left") {
			t.Error("the ledger takes what is declared for left over")
		}
	})

}

func TestAFullDisk(t *testing.T) {
	for _, full := range []string{"/srv/", "/var/lib/jadekettle/"} {
		b := newBench(t, "gauge-01")
		b.manifest("[file.\"/srv/a\"]\ncontent = \"new\"\nmode = \"0644\"\n")
		b.put("srv/a", "old")
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				if op == "write" && strings.HasPrefix(what, full) {
					return &os.PathError{Op: "write", Path: what, Err: syscall.ENOSPC}
				}
				return nil
			}}
		}
		h := b.one(false)
		said := h.Message
		for _, task := range h.Tasks {
			said += task.Message
		}
		if !strings.Contains(said, "no space left on device") && !strings.Contains(said, "is full, so") {
			t.Errorf("with %s full: %s %s", full, h.State, said)
		}
		if got := b.on("srv/a"); got != "old" {
			t.Errorf("with %s full the file holds %q", full, got)
		}
		noStrays(t, b)
		b.host().Wrap = nil
		wants(t, b.one(false), "file /srv/a changed")
	}
}

func TestHostsThatAreHardToReach(t *testing.T) {
	b := newBench(t, "gauge-01", "gauge-02", "gauge-03", "gauge-04")
	b.manifest("[dir.\"/srv/a\"]\n")
	b.sim.Hosts[0].Greeting = "Welcome to the pier!\njadekettle is kept here\n\x1b[31mmind the gap"
	b.sim.Hosts[1].NoSudo = true
	b.sim.Hosts[2].Greeting = strings.Repeat("la ", 1<<20)
	out := b.run(false)
	b.sim.Hosts[3].Down()
	out["gauge-04"] = b.run(false)["gauge-04"]
	wants(t, out["gauge-01"], "dir /srv/a changed")
	for name, want := range map[string]string{
		"gauge-02": "not reached: sudo refuses the login user: a password is required; give the password with --ask " +
			"elevate; or, to allow the worker and nothing else, add `USER ALL=(root) NOPASSWD: " +
			"/var/lib/jadekettle/start`",
		"gauge-03": "lost: the host sends too much data: more than 64 KiB arrived before the worker started; " +
			"check what the login shell prints",
		"gauge-04": "not reached: cannot connect to ",
	} {
		if got := string(out[name].State) + ": " + out[name].Message + "; " +
			out[name].Do; !strings.HasPrefix(got, want) {
			t.Errorf("%s is %s", name, got)
		}
	}
}

func TestKeysThatAreWrong(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[dir.\"/srv/a\"]\n")
	known, err := os.ReadFile(b.sim.KnownHosts())
	if err != nil {
		t.Fatal(err)
	}
	other, err := sim.New(filepath.Join(b.dir, "other"))
	if err != nil {
		t.Fatal(err)
	}
	b.key = other.Key()
	if h := b.one(false); h.State != record.NotReached || !strings.Contains(h.Message, `denied for user "keeper"`) {
		t.Errorf("a wrong key: %s %s", h.State, h.Message)
	}
	b.key = ""
	os.WriteFile(b.sim.KnownHosts(), nil, 0o600)
	if h := b.one(false); h.State != record.NotReached || !strings.Contains(h.Message,
		"unknown host key ssh-ed25519 SHA256:") {
		t.Errorf("an unknown host key: %s %s", h.State, h.Message)
	}
	fields := strings.Fields(string(known))
	fields[2] = fields[2][:30] + "AAAA" + fields[2][34:]
	os.WriteFile(b.sim.KnownHosts(), []byte(strings.Join(fields, " ")+"\n"), 0o600)
	if h := b.one(false); h.State != record.Refused || !strings.Contains(h.Message, "HOST KEY HAS CHANGED") {
		t.Errorf("a changed host key: %s %s", h.State, h.Message)
	}
	b.key = filepath.Join(b.dir, "no-such-key")
	if h := b.one(false); !strings.Contains(h.Message, "no-such-key does not exist") {
		t.Errorf("a missing key: %s", h.Message)
	}
}

// TestHostsThatLie lets hosts break every bound; each is lost, and no other.
func TestHostsThatLie(t *testing.T) {
	say := func(out io.Writer, nonce string, list ...wire.Message) {
		io.WriteString(out, worker.Ready(nonce))
		c := wire.NewConn(nil, out)
		c.Send(wire.Message{Hello: &wire.Hello{Format: wire.Format}})
		for _, m := range list {
			c.Send(m)
		}
	}
	good := &facts.Facts{OS: facts.OS{ID: "debian"}}
	ref := value.Ref{Kind: "dir", Name: "/srv/a"}
	for name, answer := range map[string]func(io.Reader, io.Writer, string){
		"garbage": func(_ io.Reader, out io.Writer, nonce string) {
			io.WriteString(out, worker.Ready(nonce)+strings.Repeat("\x00\x00\x00\x08garbage!", 4))
		},
		"a huge frame": func(_ io.Reader, out io.Writer, nonce string) {
			io.WriteString(out, worker.Ready(nonce))
			out.Write(binary.BigEndian.AppendUint32(nil, 1<<31))
		},
		"another format": func(_ io.Reader, out io.Writer, nonce string) {
			io.WriteString(out, worker.Ready(nonce))
			wire.NewConn(nil, out).Send(wire.Message{Hello: &wire.Hello{Format: 99}})
		},
		"facts with control characters": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: &facts.Facts{Hostname: "gauge\x1b[2J"}})
		},
		"facts without end": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: &facts.Facts{Disks: make([]facts.Disk, 5000)}})
		},
		"facts twice": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Facts: good})
		},
		"results before the plan": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Results: &wire.Results{List: []plan.Result{{}}}})
		},
		"a content of others": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Want: &wire.Want{SHA256: []string{strings.Repeat("0", 64)}}})
		},
		"a result that is not its": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Results: &wire.Results{List: []plan.Result{{ID: 7,
				Ref: ref, Status: plan.Unchanged}}}})
		},
		"a result twice": func(_ io.Reader, out io.Writer, nonce string) {
			r := plan.Result{Ref: ref, Status: plan.Unchanged}
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Results: &wire.Results{List: []plan.Result{r, r}}})
		},
		"a status of its own": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Results: &wire.Results{List: []plan.Result{{Ref: ref,
					Status: "splendid"}}}})
		},
		"what it takes away before its tasks are over": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Leaving: &wire.Leaving{Refs: []value.Ref{ref}}})
		},
		"what it takes away twice": func(_ io.Reader, out io.Writer, nonce string) {
			away := wire.Message{Leaving: &wire.Leaving{Refs: []value.Ref{ref}}}
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Results: &wire.Results{List: []plan.Result{{Ref: ref,
					Status: plan.Unchanged}}}}, away, away)
		},
		"what it foresees and nobody asked for": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Foreseen: &wire.Foreseen{Last: true}})
		},
		"a proof that nobody asked for": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Prove: &wire.Prove{}})
		},
		"a command that nobody asked for": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Executed: &wire.Executed{}})
		},
		"the progress of nothing": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Progress: &wire.Progress{Task: 7}})
		},
		"a reason of its own": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Results: &wire.Results{List: []plan.Result{{Ref: ref,
					Status: plan.Changed, Drift: "the moon"}}}})
		},
		"a probe before the plan": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Ask: &wire.Ask{Task: 0}})
		},
		"a probe that is none": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Ask: &wire.Ask{Task: 0}})
		},
		"a probe of nobody": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Ask: &wire.Ask{Task: -1}})
		},
		"facts of its own with control characters": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: &facts.Facts{
				Own: map[string]any{"a": []any{map[string]any{"b": "\x1b[2J"}}}}})
		},
		"an end in the middle": func(_ io.Reader, out io.Writer,
			nonce string) {
			say(out, nonce, wire.Message{Facts: good})
		},
		"nothing but pings": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce)
			for c := wire.NewConn(nil, out); c.Send(wire.Message{Ping: &wire.Ping{}}) == nil; time.Sleep(
				worker.Silence / 4) {
			}
		},
		"pings after its facts": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good})
			for c := wire.NewConn(nil, out); c.Send(wire.Message{Ping: &wire.Ping{}}) == nil; time.Sleep(
				worker.Silence / 4) {
			}
		},
		"done without doing": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Done: &wire.Done{}}, wire.Message{Bye: &wire.Bye{}})
		},
		"run ids without end": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce)
			c := wire.NewConn(nil, out)
			for i := 0; c.Send(wire.Message{Collected: &wire.Collected{Run: fmt.Sprint(i) +
				strings.Repeat("x", 900<<10)}}) == nil; i++ {
			}
		},
		"a long name of a run": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Collected: &wire.Collected{Run: strings.Repeat("x", 300)}})
		},
		"more runs than a host keeps": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce)
			c := wire.NewConn(nil, out)
			for i := 0; c.Send(wire.Message{Collected: &wire.Collected{Run: fmt.Sprint(i)}}) == nil; i++ {
			}
		},
		"a long name of what blocked": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Results: &wire.Results{List: []plan.Result{{Ref: ref,
					Status: plan.Blocked, BlockedBy: value.Ref{Kind: "file", Name: strings.Repeat("/x", 5000)}}}}})
		},
		"an end before the plan": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Done: &wire.Done{}}, wire.Message{Facts: good})
		},
		"a farewell before the end": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Bye: &wire.Bye{}})
		},
		"what it has, which nobody asked for": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good}, wire.Message{Captured: &wire.Captured{Last: true}})
		},
		"dates among its own facts": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: &facts.Facts{Own: map[string]any{"a": time.Unix(0, 0)}}})
		},
		"a number that is none": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: &facts.Facts{Own: map[string]any{"a": math.NaN()}}})
		},
		"a task that took less than no time": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Results: &wire.Results{List: []plan.Result{{Ref: ref,
					Status: plan.Unchanged, Took: math.MinInt64}}}}, wire.Message{Done: &wire.Done{}},
				wire.Message{Bye: &wire.Bye{}})
		},
		"a year that nobody can write": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Results: &wire.Results{List: []plan.Result{{Ref: ref,
					Status: plan.Changed, Since: math.MaxInt64}}}}, wire.Message{Done: &wire.Done{}},
				wire.Message{Bye: &wire.Bye{}})
		},
		"a long text of a change": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Results: &wire.Results{List: []plan.Result{{Ref: ref,
					Status: plan.Changed, Changes: []plan.Change{{What: "mode", Was: strings.Repeat("7", 300<<10)}}}}}})
		},
		"a long name of what it takes away": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good},
				wire.Message{Results: &wire.Results{List: []plan.Result{{Ref: ref,
					Status: plan.Unchanged}}}},
				wire.Message{Leaving: &wire.Leaving{Refs: []value.Ref{
					{Kind: "file", Name: strings.Repeat("/x", 5000)}}}})
		},
		"many small results": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce)
			c := wire.NewConn(nil, out)
			for c.Send(wire.Message{Collected: &wire.Collected{Run: "x", Results: make([]plan.Result, 20000)}}) == nil {
			}
		},
		"output without end": func(_ io.Reader, out io.Writer, nonce string) {
			say(out, nonce, wire.Message{Facts: good})
			for c := wire.NewConn(nil, out); ; {
				if c.Send(wire.Message{Collected: &wire.Collected{Run: "x",
					Results: []plan.Result{{Output: strings.Repeat("a",
						900<<10)}}}}) != nil {
					return
				}
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, "gauge-01", "gauge-02")
			b.manifest("[dir.\"/srv/a\"]\n")
			b.host().Answer = answer
			b.nearby(t, func() {
				out := b.run(false)
				if h := out["gauge-01"]; h.State != record.Lost {
					t.Errorf("the host is %s: %q", h.State, h.Message)
				}
				wants(t, out["gauge-02"], "dir /srv/a changed")
			})
		})
	}
}

// TestAServiceThatOthersRestartMeanwhile restarts a service by another hand while
// its new file is being put in place: it runs with the old one, so our restart is
// due still.
func TestAServiceThatOthersRestartMeanwhile(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.nearby(t, func() {
		logger := "[package.tide-logger]\n[file.\"/etc/tide-logger.toml\"]\ncontent = \"a = " +
			"1\\n\"\n[service.tide-logger]\n" +
			"running = true\nrestart_on = [\"file /etc/tide-logger.toml\"]\n"
		b.manifest(logger)
		b.run(false)
		b.manifest(strings.Replace(logger, "a = 1", "a = 2", 1))
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				if op != "rename" || what != "/etc/tide-logger.toml" {
					return nil
				}
				time.Sleep(30 * time.Millisecond) // the pending restart is noted by now
				out, err := m.Run(t.Context(), machine.Command{Args: []string{"systemctl", "restart", "--",
					"tide-logger.service"}})
				if err != nil || out.Code != 0 {
					t.Errorf("restart by hand: %v %+v", err, out)
				}
				time.Sleep(30 * time.Millisecond)
				return nil
			}}
		}
		h := b.one(false)
		wants(t, h, "package tide-logger unchanged", "file /etc/tide-logger.toml changed",
			"service tide-logger changed")
		b.host().Wrap = nil
		b.settled()
	})

}

// TestADpkgThatWasCutOff is one that refuses all work until it is asked to finish.
func TestADpkgThatWasCutOff(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[package.tide-logger]\n[package.salt-lamp]\n")
	b.put("var/lib/dpkg/updates/0001", "buoy-tools 1.0-1\n")
	if h := b.one(true); h.Count(plan.Changed) != 2 || h.Tasks[0].Changes[1].Was != "interrupted" {
		t.Errorf("a preview shows %+v", h.Tasks)
	}
	wants(t, b.one(false), "package tide-logger changed", "package salt-lamp changed")
	calls := strings.Join(b.host().Machine.Calls(), "\n")
	if n := strings.Count(calls, "dpkg --force-confdef --force-confold --configure --pending"); n != 1 {
		t.Errorf("dpkg was called %d times to finish:\n%s", n, calls)
	}
	if b.host().Installed("buoy-tools") != "1.0-1" {
		t.Error("what was cut off is not done")
	}
	b.settled()
}

// TestAMountInsideAFolderThatIsToGo is refused before anything is deleted, in a preview
// as well, unless the mount is declared absent too. A folder of which others go keeps it.
func TestAMountInsideAFolderThatIsToGo(t *testing.T) {
	b := newBench(t, "gauge-01")
	mounts := b.on("proc/mounts")
	b.put("srv/pool/old/readings", "3.1\n")
	b.put("srv/pool/stray", "x\n")
	b.put("proc/mounts", mounts+"/dev/vdb1 /srv/pool/old ext4 rw 0 0\n")
	b.write("manifests/all/manifest.toml", "[dir.\"/srv/pool\"]\nabsent = true\nwith_contents = true\n")
	for _, preview := range []bool{true, false} {
		h := b.one(preview)
		if h.Count(plan.Failed) != 1 || !strings.Contains(h.Tasks[0].Message, "is mounted at /srv/pool/old") {
			t.Errorf("preview %v: %+v", preview, h.Tasks)
		}
	}
	b.write("manifests/all/manifest.toml", "[dir.\"/srv/pool\"]\ncopy = \"pages\"\nonly_declared = true\n")
	b.write("manifests/all/pages/index.html", "tides\n")
	wants(t, b.one(false), "dir /srv/pool changed")
	if b.on("srv/pool/old/readings") == "" || b.on("srv/pool/stray") != "" {
		t.Fatal("what is mounted there is deleted, or what lies there is not")
	}
	b.settled()
	b.write("manifests/all/manifest.toml", "[dir.\"/srv/pool\"]\nabsent = true\nwith_contents = true\n"+
		"[mount.\"/srv/pool/old\"]\nabsent = true\n")
	if h := b.one(true); h.Count(plan.Changed) != 2 {
		t.Errorf("with the mount declared absent a preview says\n%s", statuses(h))
	}
	wants(t, b.one(false), "mount /srv/pool/old changed", "dir /srv/pool changed")
	b.settled()
}

// TestWhatAnOldFileHad carries extended attributes over to the new content, drops
// capabilities and says so, and keeps names together or refuses.
func TestWhatAnOldFileHad(t *testing.T) {
	b := newBench(t, "gauge-01")
	at := func(p string) string { return filepath.Join(b.host().Root, p) }
	for _, p := range []string{"etc/motd", "etc/tide.conf", "srv/gauge"} {
		b.put(p, "old = 1\n")
		err := unix.Setxattr(at(p), "user.keeper", []byte("maren"), 0)
		if errors.Is(err, unix.ENOTSUP) {
			t.Skip("this file system has no extended attributes")
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	capable := unix.Setxattr(at("srv/gauge"), "security.capability", []byte("\x01\x00\x00\x02\x00\x20\x00\x00"+
		"\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"), 0) == nil // which root alone can set
	manifest := "[file.\"/etc/motd\"]\ncontent = \"new\\n\"\n[file.\"/srv/gauge\"]\ncontent = \"new\\n\"\n" +
		"[lines.\"/etc/tide.conf\"]\nadd = [{ line = \"new = 2\" }]\n"
	b.manifest(manifest)
	h := b.one(true)
	if reported := fmt.Sprint(h.Tasks[1].Changes); strings.Contains(reported, "capabilities") != capable {
		t.Errorf("a preview shows %s, and it has capabilities: %v", reported, capable)
	}
	wants(t, b.one(false), "file /etc/motd changed", "file /srv/gauge changed", "lines /etc/tide.conf changed")
	for _, p := range []string{"etc/motd", "etc/tide.conf", "srv/gauge"} {
		v := make([]byte, 64)
		n, err := unix.Getxattr(at(p), "user.keeper", v)
		if err != nil || string(v[:n]) != "maren" || !strings.Contains(b.on(p), "new") {
			t.Errorf("%s holds %q, and its attribute is %q (%v)", p, b.on(p), v[:max(n, 0)], err)
		}
	}
	b.settled()

	if err := os.Link(at("etc/motd"), at("etc/issue")); err != nil {
		t.Fatal(err)
	}
	b.manifest(strings.ReplaceAll(manifest, "new\\n", "newer\\n"))
	if h = b.one(true); h.Tasks[0].Status != plan.Failed || !strings.Contains(h.Tasks[0].Message, "has 2 hard links") {
		t.Errorf("a file with two names: %+v", h.Tasks[0])
	}
	b.manifest("[file.\"/etc/motd\"]\ncontent = \"it\\n\"\nfollow = true\nmode = \"0640\"\n")
	wants(t, b.one(false), "file /etc/motd changed")
	if b.on("etc/issue") != "it\n" || b.on("etc/motd") != "it\n" {
		t.Errorf("its names hold %q and %q", b.on("etc/motd"), b.on("etc/issue"))
	}
	noStrays(t, b)
	b.settled()
}

// TestACandidateThatStays is one in a folder out of which nothing can be taken for a
// while: it is reported, and gone once that is over.
func TestACandidateThatStays(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[file.\"/etc/motd\"]\ncontent = \"new\\n\"\n[dir.\"/srv/tide\"]\n")
	b.host().Wrap = func(m machine.Machine) machine.Machine {
		return faulty{m, func(op, what string) error {
			if op != "create" && strings.HasPrefix(what, "/etc/") && op != "write" {
				return syscall.EPERM
			}
			return nil
		}}
	}
	for range 2 {
		h := b.one(false)
		if m := h.Tasks[0].Message; h.Tasks[0].Status != plan.Failed ||
			!strings.Contains(m, "is left at /etc/.jadekettle-") {
			t.Errorf("it is reported as %s: %s", h.Tasks[0].Status, m)
		}
	}
	b.host().Wrap = nil
	wants(t, b.one(false), "file /etc/motd changed", "dir /srv/tide unchanged")
	noStrays(t, b)
	b.settled()
}

// TestAHomeThatIsThereAlready is a file system of its own, root's, as it was made.
func TestAHomeThatIsThereAlready(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[dir.\"/home/maren\"]\n[dir.\"/home/maren/lost+found\"]\n[dir.\"/home/tide\"]\nowner = \"root\"\n")
	b.run(false)
	b.manifest("[user.maren]\n[user.tide]\n[dir.\"/home/tide\"]\nowner = \"root\"\n")
	wants(t, b.one(false), "user maren changed", "user tide changed", "dir /home/tide unchanged")
	if got := b.owned("home/maren") + " " + b.owned("home/tide"); got != "1000 0755 0 0755" {
		t.Errorf("the homes belong to %s", got)
	}
	b.settled()
}

// TestTriesAndLimits tries again what fails for a while, ends what hangs, and says how
// it gets on.
func TestTriesAndLimits(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.write("jadekettle.toml", "project = \"saltmarsh\"\n[inventory]\nfiles = [\"hosts.toml\", \"simulated.toml\"]\n"+
		"[run]\nretries = 1\nretry_every = \"1ms\"\n")
	b.manifest("[package.salt-lamp]\nretries = 3\n[package.buoy-tools]\n[command.wait]\nrun = [\"touch\", " +
		"\"/srv/x\"]\n" +
		"always = true\nretries = 0\n[dir.\"/srv/tide\"]\ntimeout = \"40ms\"\nretries = 0\n")
	b.nearby(t, func() {
		count := 0
		b.silence = 600 * time.Millisecond
		b.host().Silence = b.silence
		var reported []string
		b.notify = func(e record.Event) {
			if e.AtWork != nil {
				reported = append(reported, e.AtWork.Ref().String())
			}
		}
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				switch {
				case op == "run" && installs(what) && strings.Contains(what, "salt-lamp"):
					if count++; count < 5 { // two for both, two for it alone
						return errors.New("the repository does not respond")
					}
				case op == "run" && strings.HasPrefix(what, "touch"):
					time.Sleep(300 * time.Millisecond)
				}
				return nil
			}}
		}
		h := b.one(false)
		wants(t, h, "package salt-lamp changed", "package buoy-tools changed", "command wait changed",
			"dir /srv/tide changed")
		if h.Tasks[0].Tries < 2 || h.Tasks[1].Tries > 1 {
			t.Errorf("they were tried %d and %d times, in %d installs", h.Tasks[0].Tries, h.Tasks[1].Tries, count)
		}
		if !slices.Contains(reported, "command wait") {
			t.Errorf("it reported %v", reported)
		}
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				if op == "run" && strings.Contains(what, " install ") {
					return errors.New("the repository does not respond")
				}
				return nil
			}}
		}
		b.manifest("[package.tide-logger]\nretries = 2\n")
		if h = b.one(false); h.Tasks[0].Status != plan.Failed || h.Tasks[0].Tries != 3 {
			t.Errorf("%s after %d tries: %s", h.Tasks[0].Status, h.Tasks[0].Tries, h.Tasks[0].Message)
		}
	})

}

// TestKillsAtRandom kills workers at random moments, several times over, while a project
// changes: after the next apply all is as declared, and no stray is left. KILLS says how
// often; the seed is printed, and SEED begins with it again.
func TestKillsAtRandom(t *testing.T) {
	kills, seed := 25, uint64(time.Now().UnixNano())
	if n, err := strconv.Atoi(os.Getenv("KILLS")); err == nil {
		kills = n
	}
	if n, err := strconv.ParseUint(os.Getenv("SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("SEED=%d KILLS=%d", seed, kills)
	dice := rand.New(rand.NewPCG(seed, 0))
	b := newBench(t, "gauge-01")
	declared := func(n int) string {
		text := fmt.Sprintf("[package.tide-logger]\nversion = \"%s\"\n[file.\"/etc/tide-logger.toml\"]\ncontent = "+
			"\"a = %d\\n\"\n"+
			"[service.tide-logger]\nrunning = true\nrestart_on = [\"file /etc/tide-logger.toml\"]\n[user.keeper-%d]\n"+
			"on_removal = \"remove\"\n[file.\"/etc/ssh/sshd_config\"]\ncontent = \"# %d\\n\"\n",
			[]string{"1.4.2-1", "1.5.0-1"}[n%2], n, n%3, n)
		for i := range n % 4 {
			text += fmt.Sprintf("[file.\"/srv/reading-%d\"]\non_removal = \"remove\"\ncontent = \"%d\\n\"\n", i, n)
		}
		return text
	}
	b.guard = 2 * time.Minute // so that a busy disk is not a reason to put things back
	b.manifest(declared(0))
	b.run(false)
	for n := 1; n <= kills; n++ {
		b.manifest(declared(n))
		for range 1 + dice.IntN(2) {
			b.host().Wrap = (&killer{host: b.host(), at: 1 + dice.IntN(60)}).wrap
			b.one(false)
			b.host().Wait()
		}
		b.host().Wrap = nil
		if h := b.one(false); h.State != record.Reached || h.Count(plan.Failed)+h.Count(plan.Blocked) > 0 {
			t.Fatalf("SEED=%d, kill %d: %s %s\n%s", seed, n, h.State, h.Message, statuses(h))
		}
		for p, want := range map[string]string{"etc/tide-logger.toml": fmt.Sprintf("a = %d\n", n),
			"etc/ssh/sshd_config": fmt.Sprintf("# %d\n", n)} {
			if got := b.on(p); got != want {
				t.Errorf("SEED=%d, kill %d: %s holds %q", seed, n, p, got)
			}
		}
		if b.on(fmt.Sprintf("srv/reading-%d", n%4)) != "" || b.on("var/lib/jadekettle/guard.json") != "" {
			t.Errorf("SEED=%d, kill %d: something is left", seed, n)
		}
		noStrays(t, b)
		b.settled()
	}
}

// cutter pulls the cable before a message of a run, whichever way that goes.
type cutter struct {
	mu   sync.Mutex
	at   int // the message, from 1 on
	seen int
	pull func()
}

// passes says whether the next message still does.
func (c *cutter) passes() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.seen++
	if c.seen == c.at {
		c.pull()
	}
	return c.seen < c.at
}

// came counts the messages so far.
func (c *cutter) came() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.seen
}

// fromHost and toHost are the two ways of a session.
type fromHost struct {
	io.Reader
	*cutter
	left int // of the message that is being read
	head []byte
}

func (r *fromHost) Read(p []byte) (int, error) {
	if r.left == 0 && len(r.head) == 0 && !r.passes() {
		return 0, io.EOF
	}
	if r.left == 0 { // one byte at a time until its length is known
		n, err := r.Reader.Read(p[:1])
		if r.head = append(r.head, p[:n]...); len(r.head) == 4 {
			r.left, r.head = int(binary.BigEndian.Uint32(r.head)), nil
		}
		return n, err
	}
	n, err := r.Reader.Read(p[:min(len(p), r.left)])
	r.left -= n
	return n, err
}

type toHost struct {
	io.Writer
	*cutter
}

func (w toHost) Write(p []byte) (int, error) {
	if !w.passes() {
		return 0, io.ErrClosedPipe
	}
	return w.Writer.Write(p)
}

// TestTheConnectionIsCutAtEveryMessage of an apply that asks first, guards a change, fetches
// a content and takes undeclared away: the next apply ends as declared, with nothing left.
func TestTheConnectionIsCutAtEveryMessage(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.guard = 2 * time.Minute // so that a busy disk is not a reason to put things back
	b.host().Silence = 10 * time.Second
	declare := func(n int) {
		text := fmt.Sprintf("[file.\"/srv/reading-%d\"]\non_removal = \"remove\"\ncopy = \"reading-%d\"\n"+
			"[file.\"/etc/ssh/sshd_config\"]\ncontent = \"# %d\\n\"\n[package.tide-logger]\nversion = \"%s\"\n", n,
			n, n,
			[]string{"1.4.2-1", "1.5.0-1"}[n%2])
		b.write(fmt.Sprintf("manifests/reading-%d", n), strings.Repeat(fmt.Sprint(n), 300_000))
		b.manifest(text)
	}
	declare(0)
	b.run(false)
	for at := 1; ; at++ {
		declare(at)
		f := b.fleet()
		f.Digest = true
		f.Foreseen = run.Foresee(f.Run(context.Background(), f.Plans.Project.Inventory.Hosts, b.id(true)))
		c := &cutter{at: at, pull: b.host().Cut}
		open, first := f.Open, true
		f.Open = func(ctx context.Context, h *inventory.Host, start []byte) (*reach.Session, error) {
			s, err := open(ctx, h, start)
			if err == nil && first { // not that by which it is proved that we get in
				first = false
				s.Reader, s.Writer = &fromHost{Reader: s.Reader, cutter: c}, toHost{s.Writer, c}
			}
			return s, err
		}
		h := f.Run(context.Background(), f.Plans.Project.Inventory.Hosts, b.id(false))[0]
		b.host().Wait()
		came := c.came()
		whole := came < at
		if whole != (h.State == record.Reached) && h.Count(plan.Changed) < 3 {
			t.Errorf("cut at message %d of %d, it is %s %s", at, came, h.State, h.Message)
		}
		if h = b.one(false); h.State != record.Reached || h.Count(plan.Failed)+h.Count(plan.Blocked) > 0 {
			t.Errorf("after a cut at message %d: %s %s\n%s", at, h.State, h.Message, statuses(h))
		}
		if b.on(fmt.Sprintf("srv/reading-%d", at-1)) != "" ||
			b.on("etc/ssh/sshd_config") != fmt.Sprintf("# %d\n", at) ||
			b.on("var/lib/jadekettle/guard.json") != "" || len(b.on(fmt.Sprintf("srv/reading-%d", at))) < 300_000 {
			t.Errorf("after a cut at message %d something is left, or is not as declared", at)
		}
		noStrays(t, b)
		b.settled()
		if whole || t.Failed() {
			t.Logf("%d messages", at-1)
			return
		}
	}
}

// late is a host whose clock is wrong, and is set right, or wrong again, at any time.
type late struct {
	machine.Machine
	by func() time.Duration
}

func (l late) Now() time.Time { return l.Machine.Now().Add(l.by()) }

// TestAClockThatIsWrong by an hour, a year, or by another time at each look, makes no
// difference to what is done.
func TestAClockThatIsWrong(t *testing.T) {
	jump := time.Hour
	for name, by := range map[string]func() time.Duration{
		"an hour ahead":  func() time.Duration { return time.Hour },
		"an hour behind": func() time.Duration { return -time.Hour },
		"before 1970":    func() time.Duration { return -60 * 365 * 24 * time.Hour },
		"set while it runs": func() time.Duration {
			jump = -jump
			return jump
		},
	} {
		b := newBench(t, "gauge-01")
		b.guard = 2 * time.Minute
		b.host().Wrap = func(m machine.Machine) machine.Machine { return late{m, by} }
		b.manifest(whole + "[file.\"/etc/ssh/sshd_config\"]\ncontent = \"# tide\\n\"\n")
		if h := b.one(false); h.State != record.Reached || h.Count(plan.Failed) > 0 {
			t.Fatalf("%s: %s %s\n%s", name, h.State, h.Message, statuses(h))
		}
		b.settled()
		b.host().Wrap = nil // it is set right
		b.settled()
		b.manifest(strings.Replace(whole, "newest", "1.4.2-1", 1))
		b.host().Wrap = func(m machine.Machine) machine.Machine { return late{m, by} }
		if h := b.one(false); h.Count(plan.Failed) > 0 || h.Count(plan.Changed) == 0 {
			t.Errorf("%s, then: %s", name, statuses(h))
		}
		if h := b.undo(b.last(), false); h.Count(plan.Failed) > 0 || h.Count(plan.Changed) == 0 {
			t.Errorf("%s, undone: %s %s", name, h.Message, statuses(h))
		}
	}
}
