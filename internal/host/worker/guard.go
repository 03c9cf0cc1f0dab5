package worker

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/guard"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// loginOf says whose login became the worker: what sudo and doas say of it in the
// environment, else what the controller says.
func loginOf(m machine.Machine, said string) string {
	environment, err := machine.ReadFile(m, "/proc/self/environ")
	if err != nil {
		return said
	}
	for v := range strings.SplitSeq(string(environment), "\x00") {
		for _, name := range []string{"SUDO_USER=", "DOAS_USER="} {
			if login, ok := strings.CutPrefix(v, name); ok && login != "" {
				return login
			}
		}
	}
	return said
}

// guardFor makes what keeps us from being locked out; nil where nothing is to.
func (r *runner) guardFor(start *wire.Start) *guard.Keeper {
	if start.Guard <= 0 {
		return nil
	}
	return &guard.Keeper{Env: r.env, Login: loginOf(r.s.m, start.Login), Wait: start.Guard}
}

// foundPutBack reports an earlier run's change that the host has put back by itself
// meanwhile.
func foundPutBack(ctx context.Context, m machine.Machine, store *ledger.Store, run plan.Run) (ledger.Record, bool) {
	g, ok := guard.Settle(ctx, &kind.Env{Machine: m, Run: run, Store: store})
	if !ok || g.Project != run.Project {
		return ledger.Record{}, false
	}
	story := "nobody could log in after this change, so the host restored the previous state: " + refsOf(g.Refs)
	if g.Wrong != "" {
		story += "; but not all of it: " + g.Wrong
	}
	rec := ledger.Record{Run: plan.Run{ID: g.Run, Project: g.Project}}
	for i, ref := range g.Refs {
		rec.Results = append(rec.Results, plan.Result{ID: i, Ref: ref, Status: plan.Failed,
			Message: story})
	}
	return rec, true
}

func refsOf(refs []value.Ref) string {
	var names []string
	for _, ref := range refs {
		names = append(names, ref.String())
	}
	return kind.Some(names)
}

// guarded finds those of some tasks that may cut us off, and sets the guard for them.
func (r *runner) guarded(ctx context.Context, work []kind.Work) (which map[int]bool, err error) {
	if r.guard == nil || r.foreseeing {
		return nil, nil
	}
	var list []guard.Change
	which = map[int]bool{}
	for _, w := range work {
		s := kinds.Guarded(r.env, w.Task, r.guard.Login)
		if s.Empty() {
			continue
		}
		c := guard.Change{Ref: w.Task.Ref, Scope: s,
			Reads: w.Task.Ref.Kind == "service" && slices.ContainsFunc(w.Changes, reads)}
		if c.Reads {
			if err := r.fit(ctx, w.Task.Ref.Name); err != nil {
				return nil, err
			}
		}
		list, which[w.Task.ID] = append(list, c), true
	}
	if len(list) == 0 {
		return nil, nil
	}
	if err := r.guard.Arm(ctx, list); err != nil {
		r.guard.Lift(ctx, false)
		return nil, err
	}
	return which, nil
}

// reads says whether a change of a service has it read its files.
func reads(c plan.Change) bool {
	return c.What == plan.Restart || c.What == plan.Reload || c.What == "running" && c.Becomes == "yes"
}

// settingsOf gives the command by which a service that people get in by says whether it can start with what
// it would read, for a login as the given account.
func settingsOf(m machine.Machine, name, login string) []string {
	switch {
	case (name == "ssh" || name == "sshd") && m.Look("sshd"):
		return []string{"sshd", "-T", "-C", "user=" + cmp.Or(login, "root") +
			",host=localhost,addr=127.0.0.1,laddr=127.0.0.1,lport=22"}
	case name == "nftables" && m.Look("nft"):
		if d, err := m.Dir("/etc"); err == nil {
			defer d.Close()
			if _, err := d.Lstat("nftables.conf"); err == nil {
				return []string{"nft", "-c", "-f", "/etc/nftables.conf"}
			}
		}
	}
	return nil
}

// unfitError says that a service by which people get in could not start with what it would read.
type unfitError struct{ error }

func (e unfitError) Unwrap() error { return e.error }

// fit finds out whether a service by which people get in can read its settings. Where it cannot, what it has not read
// yet of our changes is put back.
func (r *runner) fit(ctx context.Context, name string) error {
	args := settingsOf(r.s.m, name, r.guard.Login)
	if len(args) == 0 {
		return nil
	}
	out, err := r.s.m.Run(ctx, machine.Command{Args: args, Limit: 10 * time.Second})
	if err != nil || out.Code == 0 {
		return err
	}
	said, _, _ := strings.Cut(strings.TrimSpace(out.Combined.String()), "\n") // the last line only counts what is wrong
	story := fmt.Sprintf("%s could not start with its settings: %s", name, said)
	refs, err := r.guard.PutBackUnread(ctx, name)
	if len(refs) == 0 {
		return unfitError{problem.Errorf("%s", story).Remedy("fix them; %s was not touched", name)}
	}
	story += "; the host restored the previous state: " + refsOf(refs)
	if err != nil {
		story += fmt.Sprintf("; but not all of it: %v", err)
	}
	if err := r.takeBack(refs, story, "fix the declaration"); err != nil {
		return err
	}
	return unfitError{problem.Errorf("%s", story).Remedy("fix the declaration; %s was not touched", name)}
}

// unfit looks whether services by which people get in can still start with what they have not read yet: nobody is
// to be locked out by the next start of the host. What they cannot read is put back.
func (r *runner) unfit(ctx context.Context) error {
	if r.guard == nil || r.foreseeing {
		return nil
	}
	for _, name := range []string{"sshd", "nftables"} {
		var unfit unfitError
		if !r.guard.Unread(ctx, name) {
			continue
		}
		if err := r.fit(ctx, name); err != nil && !errors.As(err, &unfit) {
			return err
		}
	}
	return nil
}

// unread says of a change that counts only once a service has read it, and that nothing in the plan has it read.
func (r *runner) unread(ctx context.Context, t plan.Task) []plan.Change {
	s := kinds.Guarded(r.env, t, r.login)
	if !s.Late || slices.ContainsFunc(t.Triggers, func(o plan.Pending) bool {
		return slices.Contains(s.Services, o.Service.Name)
	}) {
		return nil
	}
	there, err := service.PriorOf(ctx, r.env, s.Services)
	if err != nil || len(there) == 0 {
		return nil
	}
	return []plan.Change{{What: "guard", Was: "",
		Becomes: fmt.Sprintf("not tested until %s reads it at its next start; use restart_on to apply and test it "+
			"immediately", there[0].Name)}}
}

// takeBack reports that tasks have failed which were reported as changed.
func (r *runner) takeBack(refs []value.Ref, story, do string) error {
	var out []plan.Result
	for _, t := range r.tasks {
		if slices.Contains(refs, t.Ref) && r.ended[t.ID] == plan.Changed {
			res := r.failed(t, problem.Errorf("%s", story).Remedy("%s", do))
			res.Again = true
			out = append(out, res)
		}
	}
	return r.end(out)
}

// parts puts work together that is done at once: neighbours of a kind that is better
// written so, as long as they have one limit and none of them may cut us off.
func (r *runner) parts(k kind.Kind, work []kind.Work) [][]kind.Work {
	alone := func(w kind.Work) bool {
		return !k.Joint() || r.guard != nil && !kinds.Guarded(r.env, w.Task, r.guard.Login).Empty()
	}
	var out [][]kind.Work
	for i, w := range work {
		if i == 0 || alone(w) || alone(work[i-1]) || w.Task.Tries.Limit != work[i-1].Task.Tries.Limit {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], w)
	}
	return out
}

// unguarded are the results of tasks that are not done, since no guard could be set.
func (r *runner) unguarded(work []kind.Work, err error) []plan.Result {
	var out []plan.Result
	var unfit unfitError
	for _, w := range work {
		if errors.As(err, &unfit) {
			res := r.failed(w.Task, unfit.error)
			res.Changes = w.Changes
			out = append(out, res)
			continue
		}
		res := r.failed(w.Task, problem.Errorf(
			"this change may cut off access, but an automatic rollback could not be set up: %w", err).
			Remedy("fix the cause, or set guard = \"0s\" in [run] to disable the guard"))
		res.Changes = w.Changes
		out = append(out, res)
	}
	return out
}

// proved has the controller get in again after a change that may have cut us off, and lifts
// the guard. Where it cannot, what was there is put back, and those tasks have failed.
func (r *runner) proved(ctx context.Context, which map[int]bool, results []plan.Result) error {
	why, early := "", true
	for round := 0; early && round < mostRounds; round++ {
		early = false
		if err := r.guard.Made(ctx); err != nil {
			why = "the guard could not be saved: " + err.Error()
		} else {
			why, early = r.s.prove(results[0].ID, r.guard.Wait)
		}
	}
	done := !slices.ContainsFunc(results, func(res plan.Result) bool {
		return which[res.ID] && res.Status != plan.Changed
	})
	if why == "" {
		r.guard.Lift(ctx, done)
		return nil
	}
	if early && r.doorWorks(ctx) {
		r.guard.Lift(ctx, false)
		r.refuse(which, results, "it is not proven that logins still work: "+why+" each time, as when all its "+
			"logins are taken, "+
			"while its settings are valid and it is listening. The change stays: keeping a server busy must not "+
			"revert a change",
			"log in again, and check the host's log for who occupies the logins")
		return nil
	}
	refs, err := r.guard.PutBack(ctx)
	story := fmt.Sprintf("nobody could log in after this change (%s), so the host restored the previous state: %s",
		why, refsOf(refs))
	if err != nil {
		story += fmt.Sprintf("; but not all of it: %v", err)
	}
	const do = "test the change with a console of the host at hand"
	r.refuse(which, results, story, do)
	return r.takeBack(slices.DeleteFunc(refs, func(ref value.Ref) bool {
		return slices.ContainsFunc(results, func(res plan.Result) bool { return res.Ref == ref })
	}), story, do)
}

// mostRounds is how often a connection is waited for that is closed before a login: who takes all
// logins of a server for a while must not have it locked.
const mostRounds = 5

// refuse makes those results failed ones.
func (r *runner) refuse(which map[int]bool, results []plan.Result, story, do string) {
	for i := range results {
		if res := &results[i]; which[res.ID] {
			changes := res.Changes
			*res = r.failed(r.tasks[res.ID], problem.Errorf("%s", story).Remedy("%s", do))
			res.Changes = changes
		}
	}
}

// doorWorks looks from the host itself whether its SSH server has valid settings and listens.
func (r *runner) doorWorks(ctx context.Context) bool {
	args := settingsOf(r.s.m, "sshd", r.guard.Login)
	if len(args) == 0 {
		return false
	}
	out, err := r.s.m.Run(ctx, machine.Command{Args: args, Limit: 10 * time.Second})
	if err != nil || out.Code != 0 {
		return false
	}
	for line := range strings.Lines(out.Stdout) {
		text, ok := strings.CutPrefix(strings.TrimSpace(line), "port ")
		port, err := strconv.ParseUint(text, 10, 16)
		if !ok || err != nil {
			continue
		}
		for _, at := range []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1}), netip.IPv6Loopback()} {
			if r.s.m.Connect(ctx, netip.AddrPortFrom(at, uint16(port))) == nil {
				return true
			}
		}
	}
	return false
}

// prove asks the controller to get in again, and says why it did not; empty when it did. early says that
// no login was refused.
func (s *session) prove(task int, within time.Duration) (why string, early bool) {
	if s.send(wire.Message{Prove: &wire.Prove{Task: task}}) != nil {
		return "the connection was lost", false
	}
	late := time.After(within)
	for {
		select {
		case p := <-s.proofs:
			if p.Task == task {
				return p.Wrong, p.Early
			}
		case <-s.lost:
			return "the connection was lost", false
		case <-late:
			return fmt.Sprintf("within %v", within), false
		}
	}
}
