package live

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

var update = flag.Bool("update", false, "write the golden files again")

var noon = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

// tide is a run over twelve gauges in the middle: some have ended, one of them failed, two are
// at work.
func tide() *Board {
	var names []string
	for i := range 12 {
		names = append(names, fmt.Sprintf("gauge-%02d", i+1))
	}
	b := NewBoard("apply", names, noon)
	b.Parallel = 4
	visit := func(i int) *record.Host { return &record.Host{Name: names[i], State: record.Reached} }
	ended := func(i int, ref string, s plan.Status, message string) {
		r, _ := value.ParseRef(ref)
		t := record.NewTask(plan.Result{Ref: r, Status: s, Message: message, Took: 300 * time.Millisecond})
		t.DeclaredAt(value.Place{File: "manifests/gauge.toml", Line: 4})
		if s == plan.Changed {
			t.Changes = []plan.Change{{What: "mode", Was: "0644", Becomes: "0600"}}
		}
		b.Event(record.Event{Host: names[i], Task: &t})
	}
	for i := range 6 {
		b.Event(record.Event{Host: names[i], Begun: &record.Begun{At: noon.Add(time.Duration(i) * time.Second)}})
		b.Event(record.Event{Host: names[i], Begun: &record.Begun{
			At: noon.Add(time.Duration(i) * time.Second), Tasks: 4}})
		ended(i, "package tide-logger", plan.Unchanged, "")
		ended(i, "file /etc/motd", plan.Changed, "")
	}
	for i := range 4 {
		if i == 2 {
			ended(i, "service tide-logger", plan.Failed, "the unit did not start\nand more lines")
		} else {
			ended(i, "service tide-logger", plan.Unchanged, "")
		}
		ended(i, "user maren", plan.Unchanged, "")
		v := visit(i)
		v.Seconds = 4
		b.Event(record.Event{Host: v.Name, Ended: v})
	}
	gone := &record.Host{Name: "gauge-07", State: record.NotReached, Message: "no route to the pier\x1b[2J"}
	b.Event(record.Event{Host: gone.Name, Ended: gone})
	b.Event(record.Event{Host: names[5], AtWork: &record.AtWork{Kind: "package", Name: "chart-press", Seconds: 12,
		Reported: noon.Add(18 * time.Second), Line: "Unpacking chart-press (2.0) ...", Try: 2}})
	b.Note("batch 2 of 3: 4 hosts, gauge-[05..08]\n")
	return b
}

func golden(t *testing.T, name, got string) {
	t.Helper()
	file := filepath.Join("testdata", name+".golden")
	if *update {
		os.MkdirAll("testdata", 0o755)
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if want, err := os.ReadFile(file); err != nil || got != string(want) {
		t.Errorf("%s differs (%v):\n%s", file, err, got)
	}
}

// plain draws a board without moods, with its sizes above.
func plain(t *testing.T, b *Board, width, height int) string {
	t.Helper()
	out := b.Draw(width, height, noon.Add(20*time.Second), false)
	lines := strings.Split(out, "\n")
	if len(lines) != height {
		t.Errorf("at %dx%d it has %d lines", width, height, len(lines))
	}
	for _, line := range lines {
		if utf8.RuneCountInString(line) > width || strings.Contains(line, "\x1b") {
			t.Errorf("at %dx%d it is too wide, or hostile: %q", width, height, line)
		}
	}
	return fmt.Sprintf("%dx%d\n%s\n\n", width, height, out)
}

func TestTheBoardFitsAnySize(t *testing.T) {
	all := ""
	for _, size := range [][2]int{{100, 30}, {80, 24}, {60, 12}, {40, 8}, {20, 5}} {
		all += plain(t, tide(), size[0], size[1])
	}
	golden(t, "overview", all)
	for w := 10; w < 130; w += 7 {
		for h := 3; h < 60; h++ {
			plain(t, tide(), w, h)
		}
	}
	plain(t, NewBoard("preview", nil, noon), 80, 24)
	// in color each line has codes for that around it, and no others
	codes := regexp.MustCompile("\x1b\\[[0-9;]*m")
	b := tide()
	for _, key := range []string{"", "enter", "enter"} {
		b.Key(key)
		drawn := b.Draw(60, 14, noon.Add(20*time.Second), true)
		want := b.Draw(60, 14, noon.Add(20*time.Second), false)
		if got := codes.ReplaceAllString(drawn, ""); got != want || got == drawn {
			t.Errorf("in color there is\n%q\nnot\n%s", drawn, want)
		}
	}
}

func TestKeysGoThroughTheBoard(t *testing.T) {
	b := tide()
	all := ""
	for _, keys := range []string{"", "down down", "enter", "down", "enter", "pgdown", "esc", "esc home",
		"pgdown pgdown", "enter"} {
		for _, key := range strings.Fields(keys) {
			if !b.Key(key) {
				t.Errorf("%s leaves the view", key)
			}
		}
		all += "keys: " + keys + "\n" + plain(t, b, 90, 16)
	}
	golden(t, "keys", all)
	if b.Key("q") {
		t.Error("q does not leave the view")
	}
}

func TestWhatIsLeft(t *testing.T) {
	at := noon.Add(20 * time.Second)
	b := tide()
	over, share := b.progress(at)
	if d, ok := b.left(at, share); over != 5 || !ok || d < 10*time.Second || d > 40*time.Second {
		t.Errorf("by how far it is, %d are over and %v left (%v)", over, d, ok)
	}
	b.Usual = map[string]time.Duration{}
	for _, h := range b.hosts {
		b.Usual[h.name] = 40 * time.Second
	}
	if d, ok := b.left(at, share); !ok || d != (5*40+24+25)*time.Second/4 {
		t.Errorf("by what is usual, %v are left", d)
	}
	if _, ok := NewBoard("apply", []string{"gauge-01"}, noon).left(noon.Add(time.Second), 0); ok {
		t.Error("it knows what it cannot know")
	}
}
