package review

import (
	"bytes"
	"crypto/sha256"
	"reflect"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
)

// TestASavedPreview is written, read, and compared with what the hosts would do by then.
func TestASavedPreview(t *testing.T) {
	task := func(name string, s plan.Status, becomes string) record.Task {
		out := record.NewTask(plan.Result{Ref: value.Ref{Kind: "file", Name: name}, Status: s,
			Digest: bytes.Repeat([]byte{7}, sha256.Size)})
		if s == plan.Changed {
			out.Changes = []plan.Change{{What: "content", Was: "4 bytes", Becomes: becomes,
				Diff: "-ebb\n+\x1b[31mflood\n"}}
		}
		return out
	}
	shown := []record.Task{task("/etc/a", plan.Changed, "6 bytes"), task("/etc/b \"c\" # d", plan.Unchanged, ""),
		task("/etc/e", plan.Failed, ""), task("/etc/f", plan.Skipped, "")}
	r := &record.Run{Head: record.Head{Who: "maren", Machine: "desk", Env: "production"}, Hosts: []*record.Host{
		{Name: "gauge-01", State: record.Reached, Tasks: shown},
		{Name: "gauge-02", State: record.NotReached}}}
	part := resolve.Selection{Manifests: []string{"base"}}
	made := New(r, "saltmarsh", part, "0123", true, time.Date(2026, 11, 30, 4, 0, 0, 7, time.UTC))
	data, err := made.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	read, err := Read("tonight.toml", data)
	if err != nil || !reflect.DeepEqual(read, made) {
		t.Fatalf("it is read as\n%+v\nnot\n%+v (%v)\n%s", read, made, err, data)
	}
	foreseen, err := read.Foreseen(value.ParseRef)
	if err != nil || len(foreseen) != 1 {
		t.Fatalf("it foresees %v (%v)", foreseen, err)
	}
	for name, c := range map[string]struct {
		host string
		now  []record.Task
		want string
	}{
		"the same":               {"gauge-01", shown, ""},
		"in another order":       {"gauge-01", []record.Task{shown[3], shown[2], shown[1], shown[0]}, ""},
		"a host that it was not": {"gauge-02", nil, "the preview does not include this host"},
		"it becomes another": {"gauge-01", append([]record.Task{task("/etc/a", plan.Changed, "7 bytes")}, shown[1:]...),
			"done: file /etc/a would change differently: content: 4 bytes -> 7 bytes"},
		"it has changed": {"gauge-01", append([]record.Task{task("/etc/a", plan.Unchanged, "")}, shown[1:]...),
			"file /etc/a was due to change and is now unchanged"},
		"one is new": {"gauge-01", append([]record.Task{task("/etc/x", plan.Changed, "")}, shown...),
			"file /etc/x is new"},
		"one is gone": {"gauge-01", shown[1:], "file /etc/a is no longer part of it"},
	} {
		err := foreseen.Moved(c.host, c.now)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

// FuzzRead: whatever a saved preview holds, it is refused or says of each of its hosts what an apply is
// held to, and written again it reads the same.
func FuzzRead(f *testing.F) {
	digest := strings.Repeat("ab", 32)
	f.Add("format = 2\nproject = 'tide'\nenv = ''\nrevision = ''\nedited = false\nmade = 2026-01-01T00:00:00Z\nby " +
		"= 'maren'\n[[host]]\nname = 'gauge-01'\nunchanged = ['file /a']\nleft_out = []\n[[host.task]]\ndeclared = " +
		"'file /b'\nstatus = 'would change'\ndigest = '" + digest + "'\n" +
		"[[host.task.change]]\nwhat = 'mode'\nwas = ''\nbecomes = '0644'\n")
	f.Add("format = 2\n[[host]]\nname = 'gauge-01'\n[[host.task]]\ndeclared = 'x'\n")
	f.Add("")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Read("tonight.toml", []byte(text))
		if err != nil {
			return
		}
		foreseen, err := p.Foreseen(value.ParseRef)
		if err == nil && len(foreseen) > len(p.Hosts) {
			t.Errorf("of %d hosts it says something of %d", len(p.Hosts), len(foreseen))
		}
		data, err := p.Bytes()
		if err != nil {
			t.Fatal(err)
		}
		if again, err := Read("tonight.toml", data); err != nil || len(again.Hosts) != len(p.Hosts) {
			t.Errorf("written again it is %v, %v", again, err)
		}
	})
}
