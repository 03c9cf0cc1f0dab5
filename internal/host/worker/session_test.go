package worker_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"reflect"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine/folder"
	"jadekettle/internal/host/worker"
)

// talk is one session of a worker on a simulated host, seen from the
// controller's side of the wire.
type talk struct {
	*wire.Conn
	t     *testing.T
	ended chan error
	close func()
}

func gauge(t *testing.T) *folder.Machine {
	t.Helper()
	h, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-01", Services: []string{"tide-logger"}})
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func dial(t *testing.T, h *folder.Machine) *talk {
	t.Helper()
	theirs, to := io.Pipe()
	from, ours := io.Pipe()
	c := &talk{Conn: wire.NewConn(from, to), t: t, ended: make(chan error, 1)}
	c.close = func() { to.Close(); from.Close() }
	t.Cleanup(c.close)
	go func() {
		err := worker.Serve(context.Background(), h, theirs, ours, time.Minute)
		ours.Close()
		c.ended <- err
	}()
	return c
}

func (c *talk) say(m wire.Message) {
	c.t.Helper()
	if err := c.Send(m); err != nil {
		c.t.Fatal(err)
	}
}

// hear gives the next message that is not a ping.
func (c *talk) hear() wire.Message {
	c.t.Helper()
	for {
		m, err := c.Receive()
		if err != nil {
			c.t.Fatal("the worker says no more:", err)
		}
		if m.Ping == nil {
			return m
		}
	}
}

// part names what a message holds.
func part(m wire.Message) string {
	v := reflect.ValueOf(m)
	for i := range v.NumField() {
		if !v.Field(i).IsNil() {
			return v.Type().Field(i).Name
		}
	}
	return "nothing"
}

// want hears the next message and insists on its content.
func (c *talk) want(name string) wire.Message {
	c.t.Helper()
	m := c.hear()
	if got := part(m); got != name {
		c.t.Fatalf("the worker says %s %+v, want %s", got, m.Fault, name)
	}
	return m
}

func (c *talk) wantEnd(words string) {
	c.t.Helper()
	select {
	case err := <-c.ended:
		if words == "" && err != nil || words != "" && (err == nil || !strings.Contains(err.Error(), words)) {
			c.t.Errorf("the worker ended with %v, want %q", err, words)
		}
	case <-time.After(10 * time.Second):
		c.t.Fatal("the worker does not end")
	}
}

// begin takes a session to where the plan is awaited.
func (c *talk) begin(run plan.Run) {
	c.t.Helper()
	c.say(wire.Message{Start: &wire.Start{Format: wire.Format, Run: run}})
	c.want("Hello")
	if f := c.want("Facts").Facts; f.Hostname != "gauge-01" {
		c.t.Errorf("it is on %q", f.Hostname)
	}
}

var tonight = plan.Run{ID: "0198-a", Project: "saltmarsh", Who: "maren@desk"}

func declared(ref string, attrs value.Attrs) plan.Task {
	r, err := kinds.Schemas().ParseRef(ref)
	if err != nil {
		panic(err)
	}
	if attrs == nil {
		attrs = value.Attrs{}
	}
	return plan.Task{Ref: r, Attrs: attrs}
}

func parts(tasks ...plan.Task) wire.Message {
	for i := range tasks {
		tasks[i].ID = i
	}
	return wire.Message{Plan: &wire.Plan{Tasks: tasks, Last: true}}
}

func content(text string) *plan.Content {
	sum := sha256.Sum256([]byte(text))
	return &plan.Content{SHA256: hex.EncodeToString(sum[:]), Size: int64(len(text))}
}

// TestAConversation takes a run that changes something, and one that finds all
// as declared and lets the host go without a message.
func TestAConversation(t *testing.T) {
	t.Parallel()
	h := gauge(t)
	text := "High water at nine.\n"
	motd := declared("file /etc/motd", nil)
	motd.Content = content(text)
	group := declared("group keepers", nil)

	c := dial(t, h)
	c.begin(tonight)
	c.say(parts(motd, group))
	if w := c.want("Want").Want; len(w.SHA256) != 1 || w.SHA256[0] != motd.Content.SHA256 {
		t.Errorf("it wants %v", w.SHA256)
	}
	c.say(wire.Message{Chunk: &wire.Chunk{SHA256: motd.Content.SHA256, Data: []byte(text[:5])}})
	c.say(wire.Message{Chunk: &wire.Chunk{SHA256: motd.Content.SHA256, Data: []byte(text[5:]), Last: true}})
	var said []string
	m := c.hear()
	for ; m.Results != nil; m = c.hear() {
		for _, r := range m.Results.List {
			said = append(said, r.Ref.String()+" "+string(r.Status))
		}
	}
	if got := strings.Join(said, ", "); got != "file /etc/motd changed, group keepers changed" {
		t.Errorf("results: %s", got)
	}
	if m.Done == nil || m.Done.Free {
		t.Fatalf("after a change it says %s, want Done that waits for Bye", part(m))
	}
	c.say(wire.Message{Bye: &wire.Bye{}})
	c.want("Bye")
	c.wantEnd("")

	c = dial(t, h)
	c.begin(plan.Run{ID: "0198-b", Project: "saltmarsh", Who: "maren@desk"})
	c.say(parts(motd))
	c.want("Results")
	done := c.want("Done").Done
	if !done.Free || len(done.Undeclared) != 0 {
		t.Errorf("with nothing to do: %+v", done)
	}
	c.want("Bye")
	c.wantEnd("")
}

// TestWhatAControllerMayNotSay holds the worker to what it refuses, and looks
// whether the host is free afterwards and as it was.
func TestWhatAControllerMayNotSay(t *testing.T) {
	t.Parallel()
	group := declared("group keepers", nil)
	later, self, odd := group, group, group
	later.Needs, self.Only, odd.Ref = []int{1}, []int{0}, value.Ref{Kind: "barometer", Name: "x"}
	counted := wire.Message{Plan: &wire.Plan{Tasks: []plan.Task{{ID: 7, Ref: group.Ref}}, Last: true}}
	for name, c := range map[string]struct {
		plan wire.Message
		says string
	}{
		"a task that needs a later one":  {parts(later, group), "which does not come before it"},
		"a task that follows itself":     {parts(self), "which does not come before it"},
		"numbers that do not count up":   {counted, "the plan has a wrong number at task 0"},
		"a kind that the worker has not": {parts(odd), `does not know the kind "barometer"`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := gauge(t)
			talk := dial(t, h)
			talk.begin(tonight)
			talk.say(c.plan)
			if f := talk.want("Fault").Fault; !strings.Contains(f.Message, c.says) {
				t.Errorf("it says %q, want %q", f.Message, c.says)
			}
			talk.wantEnd(c.says)
			if h.HasAccount("group", "keepers") {
				t.Error("and did it all the same")
			}
			store, err := ledger.Open(h, tonight)
			if err != nil {
				t.Fatal("the host is not free:", err)
			}
			store.Close()
		})
	}
	t.Run("another format", func(t *testing.T) {
		t.Parallel()
		talk := dial(t, gauge(t))
		talk.say(wire.Message{Start: &wire.Start{Format: wire.Format + 1, Run: tonight}})
		talk.want("Fault")
		talk.wantEnd("the controller speaks format")
	})
	t.Run("what is not a message", func(t *testing.T) {
		t.Parallel()
		h := gauge(t)
		r, w := io.Pipe()
		ended := make(chan error, 1)
		go func() { ended <- worker.Serve(context.Background(), h, r, io.Discard, time.Minute) }()
		if _, err := w.Write([]byte{0, 0, 0, 2, 0xff, 0xff}); err != nil {
			t.Fatal(err)
		}
		select {
		case <-ended:
		case <-time.After(10 * time.Second):
			t.Fatal("the worker waits for more")
		}
	})
}

// TestContentsThatAreWrong sends what was not asked for, or less, or nothing:
// the file stays as it was, and what needs nothing of it goes on.
func TestContentsThatAreWrong(t *testing.T) {
	t.Parallel()
	text := "High water at nine.\n"
	hash := content(text).SHA256
	other := content("Low water.\n").SHA256
	for name, c := range map[string]struct {
		chunk wire.Chunk
		says  string
	}{
		"other bytes":     {wire.Chunk{SHA256: hash, Data: []byte(strings.ToUpper(text)), Last: true}, ""},
		"too few":         {wire.Chunk{SHA256: hash, Data: []byte(text[:4]), Last: true}, ""},
		"another content": {wire.Chunk{SHA256: other, Data: []byte(text), Last: true}, ""},
		"none": {wire.Chunk{SHA256: hash, Missing: "the file was deleted meanwhile"}, "the file was deleted " +
			"meanwhile"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := gauge(t)
			motd := declared("file /etc/tide.conf", nil)
			motd.Content = content(text)
			talk := dial(t, h)
			talk.begin(tonight)
			talk.say(parts(motd, declared("group keepers", nil)))
			talk.want("Want")
			talk.say(wire.Message{Chunk: &c.chunk})
			var file plan.Result
			m := talk.hear()
			for ; m.Results != nil || m.Want != nil; m = talk.hear() {
				if m.Want != nil { // once more, to write what could not be shown
					talk.say(wire.Message{Chunk: &c.chunk})
					continue
				}
				for _, r := range m.Results.List {
					if r.Ref.Kind == "file" {
						file = r
					}
				}
			}
			if m.Fault != nil {
				talk.wantEnd(m.Fault.Message) // not even the conversation can be trusted any more
			} else if file.Status != plan.Failed || !strings.Contains(file.Message, c.says) ||
				!h.HasAccount("group", "keepers") {
				t.Errorf("%+v; keepers are there: %v", file, h.HasAccount("group", "keepers"))
			}
			dir, err := h.Dir("/etc")
			if err != nil {
				t.Fatal(err)
			}
			if _, err := dir.Lstat("tide.conf"); err == nil {
				t.Error("the file was written")
			}
		})
	}
}

// TestAskedToStop asks between two tasks of which the first waits for its
// content: the first ends, the second is not started, and the journal is handed
// over before the host is free.
func TestAskedToStop(t *testing.T) {
	t.Parallel()
	h := gauge(t)
	motd := declared("file /etc/motd", nil)
	motd.Content = content("x")
	motd.Content.Secret = true // not compared in words, and so asked for only to be written
	talk := dial(t, h)
	talk.begin(tonight)
	talk.say(parts(motd, declared("group keepers", nil)))
	talk.want("Want")
	talk.say(wire.Message{Stop: &wire.Stop{}})
	talk.say(wire.Message{Chunk: &wire.Chunk{SHA256: motd.Content.SHA256, Data: []byte("x"), Last: true}})
	if r := talk.want("Results").Results.List; len(r) != 1 || r[0].Status != plan.Changed {
		t.Errorf("results %+v", r)
	}
	talk.want("Done")
	talk.close() // the cable goes before Bye
	talk.wantEnd("lost")
	if h.HasAccount("group", "keepers") {
		t.Error("a task was begun after Stop")
	}

	talk = dial(t, h)
	talk.say(wire.Message{Start: &wire.Start{Format: wire.Format, Run: plan.Run{ID: "0198-b", Project: "saltmarsh"}}})
	talk.want("Hello")
	if got := talk.want("Collected").Collected; got.Run != tonight.ID || len(got.Results) != 1 ||
		got.Results[0].Ref != motd.Ref {
		t.Errorf("collected %+v", got)
	}
}

// TestOneRunAtATime begins a second run, one that only asks for facts, and one
// that captures, while a first holds the host.
func TestOneRunAtATime(t *testing.T) {
	t.Parallel()
	h := gauge(t)
	dial(t, h).begin(tonight)

	second := dial(t, h)
	second.say(wire.Message{Start: &wire.Start{Format: wire.Format, Run: plan.Run{ID: "0198-b", Project: "saltmarsh"}}})
	second.want("Hello")
	if b := second.want("Busy").Busy; b.Holder.Who != tonight.Who || b.Holder.ID != tonight.ID || b.Since == 0 {
		t.Errorf("busy: %+v", b)
	}
	second.wantEnd("")

	facts := dial(t, h)
	facts.say(wire.Message{Start: &wire.Start{Format: wire.Format, OnlyFacts: true, Services: true}})
	facts.want("Hello")
	if f := facts.want("Facts").Facts; len(f.Services) == 0 {
		t.Error("it was asked for services and shows none")
	}
	facts.wantEnd("")

	look := dial(t, h)
	look.say(wire.Message{Start: &wire.Start{Format: wire.Format, Capture: []value.Ref{
		{Kind: "service", Name: "tide-logger"}, {Kind: "barometer", Name: "x"}, {Kind: "file", Name: "/etc/nothing"},
	}}})
	look.want("Hello")
	got := look.want("Captured").Captured
	if !got.Last || len(got.List) != 3 {
		t.Fatalf("captured %+v", got)
	}
	if got.List[0].Attrs["running"] != true || got.List[1].Problem == "" {
		t.Errorf("captured %+v", got.List)
	}
	look.wantEnd("")
}

// TestNoSecretLeaves fails a task with a program that prints what it was given.
func TestNoSecretLeaves(t *testing.T) {
	t.Parallel()
	h := gauge(t)
	conf := declared("file /etc/tide.conf", value.Attrs{"check": "cat {file} >&2; false"})
	conf.Content = content("password = brine-1897\n")
	conf.Content.Secret = true
	conf.Masks = []any{value.NewSecret("brine-1897")}
	talk := dial(t, h)
	talk.begin(tonight)
	talk.say(parts(conf))
	talk.want("Want")
	talk.say(wire.Message{Chunk: &wire.Chunk{SHA256: conf.Content.SHA256, Data: []byte("password = " +
		"brine-1897\n"), Last: true}})
	r := talk.want("Results").Results.List[0]
	if r.Status != plan.Failed {
		t.Fatalf("the check passed: %+v", r)
	}
	var all strings.Builder
	for _, c := range r.Changes {
		all.WriteString(c.Was + c.Becomes + c.Diff)
	}
	if strings.Contains(all.String()+r.Message+r.Output+r.Do, "brine") {
		t.Errorf("it shows the secret: %+v", r)
	}
	if m := talk.want("Done"); m.Done.Free {
		t.Error("a failure is let go before it has arrived")
	}
	talk.say(wire.Message{Bye: &wire.Bye{}})
	talk.want("Bye")
	talk.wantEnd("")
}

// TestAPulseCountsElapsedTime and nothing that a clock shows.
func TestAPulseCountsElapsedTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := worker.NewPulse()
		time.Sleep(20 * time.Second)
		if d := p.Silent(); d != 20*time.Second {
			t.Errorf("after 20s it was silent for %v", d)
		}
		if p.Beat(); p.Silent() != 0 {
			t.Errorf("just heard, it was silent for %v", p.Silent())
		}
	})
}

// TestAConnectionThatIsLostInTheMiddle leaves tasks without a result, and reports none of
// them as failed.
func TestAConnectionThatIsLostInTheMiddle(t *testing.T) {
	t.Parallel()
	h := gauge(t)
	var tasks []plan.Task
	for i := range 40 {
		f := declared(fmt.Sprintf("file /etc/gauge-%d", i), nil)
		f.Content = content(fmt.Sprintf("gauge %d\n", i))
		tasks = append(tasks, f)
	}
	c := dial(t, h)
	c.begin(tonight)
	c.say(parts(append([]plan.Task{declared("group keepers", nil)}, tasks...)...))
	for m := c.hear(); m.Want == nil; m = c.hear() {
	}
	c.close()
	select {
	case <-c.ended:
	case <-time.After(10 * time.Second):
		t.Fatal("the worker does not end")
	}
	next := dial(t, h)
	next.say(wire.Message{Start: &wire.Start{Format: wire.Format, Run: plan.Run{ID: "0198-b", Project: "saltmarsh"}}})
	next.want("Hello")
	var reported []string
	for _, r := range next.want("Collected").Collected.Results {
		reported = append(reported, r.Ref.String()+" "+string(r.Status))
	}
	if got := strings.Join(reported, ", "); got != "group keepers changed" {
		t.Errorf("the next run is reported: %s", got)
	}
}
