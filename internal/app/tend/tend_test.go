package tend

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schedule"
)

func every(t testing.TB, text string) *schedule.Schedule {
	t.Helper()
	var ps problem.Problems
	root, _ := manifest.ParseTOML("jobs.toml", []byte("schedule = { zone = \"UTC\", "+text+" }\n"), &ps)
	s := schedule.Read(root.Keys[0].Node, &ps)
	if ps.Err() != nil {
		t.Fatal(ps.Err())
	}
	return s
}

// night is a made-up one: the clock goes as fast as nothing is to do.
type night struct {
	Tender
	mu       sync.Mutex
	reported []string
	began    []string
	at       map[string]int // how many jobs are at a host now
	kept     State
}

func nightOf(t testing.TB, takes func(name string) time.Duration, jobs ...Job) *night {
	n := &night{at: map[string]int{}}
	p := &Project{Name: "saltmarsh", Revision: "c0ffee", Jobs: jobs}
	first := true
	n.Tender = Tender{Look: time.Minute, Beat: 10 * time.Second, Most: 8,
		Read: func(context.Context) (*Project, error) {
			if !first {
				return nil, nil
			}
			first = false
			return p, nil
		},
		Start: func(ctx context.Context, name string, began func(int)) Result {
			began(4711)
			i := slices.IndexFunc(p.Jobs, func(j Job) bool { return j.Name == name })
			n.mu.Lock()
			n.began = append(n.began, name+" "+time.Now().UTC().Format("15:04"))
			for _, h := range p.Jobs[i].Hosts {
				if n.at[h]++; n.at[h] > 1 {
					t.Errorf("two jobs are at %s", h)
				}
			}
			n.mu.Unlock()
			select {
			case <-ctx.Done():
			case <-time.After(takes(name)):
			}
			n.mu.Lock()
			defer n.mu.Unlock()
			for _, h := range p.Jobs[i].Hosts {
				n.at[h]--
			}
			return Result{Run: len(n.began), Said: "all is well"}
		},
		Lives: func(int) bool { return false },
		Keep: func(s *State) error {
			n.mu.Lock()
			defer n.mu.Unlock()
			n.kept = *s
			n.kept.Jobs = map[string]*Done{}
			for name, d := range s.Jobs {
				one := *d
				n.kept.Jobs[name] = &one
			}
			return nil
		},
		Report: func(form string, args ...any) {
			n.mu.Lock()
			defer n.mu.Unlock()
			n.reported = append(n.reported, fmt.Sprintf(form, args...))
		},
	}
	return n
}

// goOn lets the night go on for so long.
func (n *night) goOn(t testing.TB, before *State, long time.Duration) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), long)
	defer cancel()
	if err := n.Run(ctx, before); err != nil {
		t.Error(err)
	}
}

// TestANight goes through a night of schedules: from 00:00 to 08:00 of 2000-01-01, at which
// the made-up clock begins.
func TestANight(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		takes := map[string]time.Duration{"long": 3 * time.Hour, "backup": 20 * time.Minute,
			"tides": 10 * time.Minute, "hourly": time.Minute}
		n := nightOf(t, func(name string) time.Duration { return takes[name] },
			Job{Name: "tides", Schedule: every(t, `cron = "30 4 * * *"`), Hosts: []string{"gauge-01", "gauge-02"}},
			Job{Name: "backup", Schedule: every(t, `cron = "20 4 * * *"`), Hosts: []string{"gauge-02", "archive-01"}},
			Job{Name: "hourly", Schedule: every(t, `every = "1h", windows = ["02:00-05:30"]`),
				Hosts: []string{"chart-01"}},
			Job{Name: "long", Schedule: every(t, `every = "1h", windows = ["05:00-07:30"]`),
				Hosts: []string{"signal-01"}},
			Job{Name: "never", Schedule: every(t, `cron = "0 12 * * *"`), Hosts: []string{"signal-01"}})
		n.goOn(t, nil, 8*time.Hour)
		want := "hourly 02:00|hourly 03:00|hourly 04:00|backup 04:20|tides 04:40|hourly 05:00|long 05:00"
		slices.SortStableFunc(n.began, func(a, b string) int { // of two at once either may come first
			return strings.Compare(a[len(a)-5:]+a, b[len(b)-5:]+b)
		})
		if got := strings.Join(n.began, "|"); got != want {
			t.Errorf("the night went\n%s\nand not\n%s", got, want)
		}
		if d := n.kept.Jobs["tides"]; d.Late != 600 || d.Starts != 1 || d.Running ||
			d.Next.Format("15:04") != "04:30" || d.Said != "all is well" {
			t.Errorf("what waited is kept as %+v", d)
		}
		if d := n.kept.Jobs["long"]; d.Missed != 2 || d.Starts != 1 || d.Ended.IsZero() {
			t.Errorf("what took too long is kept as %+v", d)
		}
	})
}

// TestOneAfterAnother has a tender be killed in mid-run, and another go on from there.
func TestOneAfterAnother(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		jobs := []Job{{Name: "tides", Schedule: every(t, `cron = "30 4 * * *", missed = "once"`),
			Hosts: []string{"gauge-01"}}, {Name: "backup", Schedule: every(t, `cron = "40 4 * * *"`),
			Hosts: []string{"archive-01"}}}
		first := nightOf(t, func(string) time.Duration { return time.Hour }, jobs...)
		first.goOn(t, nil, 4*time.Hour+45*time.Minute)
		killed := first.kept // what is on disk before their ends are kept
		for _, name := range []string{"tides", "backup"} {
			killed.Jobs[name].Running, killed.Jobs[name].PID, killed.Jobs[name].Ended = true, 4711, time.Time{}
		}
		again := nightOf(t, func(string) time.Duration { return time.Minute }, jobs...)
		again.goOn(t, &killed, time.Hour)
		if got := strings.Join(again.began, "|"); got != "tides 04:45" {
			t.Errorf("the next one started %s", got)
		}
		time.Sleep(48 * time.Hour) // nobody tends
		late := nightOf(t, func(string) time.Duration { return time.Minute }, jobs...)
		late.goOn(t, &again.kept, time.Hour)
		if got := strings.Join(late.began, "|"); got != "tides 05:45" {
			t.Errorf("after two days it started %s", got)
		}
		if a, b := late.kept.Jobs["tides"], late.kept.Jobs["backup"]; a.Missed != 1 || b.Missed != 2 || a.Starts != 3 {
			t.Errorf("what was missed is kept as %+v and %+v", a, b)
		}
		lives := true
		over := nightOf(t, func(string) time.Duration { return time.Minute }, jobs...)
		over.Lives = func(pid int) bool { return lives && pid == 4711 }
		killed.Jobs["tides"].Seen = time.Now()
		go func() { time.Sleep(30 * time.Minute); lives = false }()
		over.goOn(t, &killed, time.Hour)
		if d := over.kept.Jobs["tides"]; len(over.began) > 0 || d.Running || d.Ended.IsZero() {
			t.Errorf("what still ran was started again: %v, %+v", over.began, d)
		}
	})
}

// TestAProjectThatMoves has the project be gone, and be another one later.
func TestAProjectThatMoves(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := nightOf(t, func(string) time.Duration { return time.Second },
			Job{Name: "tides", Schedule: every(t, `every = "10m"`), Hosts: []string{"gauge-01"}})
		reads, first := 0, n.Read
		n.Read = func(ctx context.Context) (*Project, error) {
			reads++
			switch now := time.Now().UTC(); {
			case reads == 1 || now.Hour() == 0:
				return first(ctx)
			case now.Hour() == 1:
				return nil, errors.New("no route to the repository")
			case now.Hour() == 2 && now.Minute() == 5:
				return &Project{Name: "saltmarsh", Revision: "decaf",
					Jobs: []Job{{Name: "ebb", Schedule: every(t, `every = "30m"`), Hosts: nil}}}, nil
			}
			return nil, nil
		}
		start := n.Start
		n.Start = func(ctx context.Context, name string, began func(int)) Result {
			if name == "ebb" {
				n.began = append(n.began, "ebb "+time.Now().UTC().Format("15:04"))
				return Result{Code: 1}
			}
			return start(ctx, name, began)
		}
		n.goOn(t, nil, 3*time.Hour+time.Second)
		if got := strings.Join(n.began[len(n.began)-3:], "|"); got != "tides 02:00|ebb 02:30|ebb 03:00" ||
			len(n.began) != 14 {
			t.Errorf("%d starts, at the end %s", len(n.began), got)
		}
		if s := n.kept; s.Revision != "decaf" || s.Wrong != "" || s.Jobs["tides"] != nil || s.Jobs["ebb"].Failed != 2 {
			t.Errorf("it is kept as %+v, %+v", s, s.Jobs["ebb"])
		}
		reported := strings.Join(n.reported, "\n")
		if strings.Count(reported, "no route") != 1 || !strings.Contains(reported, "can be read again") {
			t.Errorf("it reported\n%s", reported)
		}
	})
	n := nightOf(t, nil)
	n.Read = func(context.Context) (*Project, error) { return nil, errors.New("no such project") }
	if err := n.Run(context.Background(), nil); err == nil {
		t.Error("it tends what it has never read")
	}
}

// TestAStartThatCannotBeKept waits until it can: it might be done twice. A full disk ends no tender.
func TestAStartThatCannotBeKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := nightOf(t, func(string) time.Duration { return time.Second },
			Job{Name: "tides", Schedule: every(t, `every = "10m"`), Hosts: nil})
		keep, begun := n.Keep, time.Now()
		n.Keep = func(s *State) error {
			if d := time.Since(begun); d > 9*time.Minute && d < 13*time.Minute {
				if len(n.began) > 0 {
					t.Errorf("it started %v", n.began)
				}
				return errors.New("the disk is full")
			}
			return keep(s)
		}
		n.goOn(t, nil, 25*time.Minute)
		said := strings.Join(n.reported, "\n")
		if got := strings.Join(n.began, "|"); got != "tides 00:13|tides 00:20" ||
			strings.Count(said, "the disk is full") != 1 ||
			!strings.Contains(said, "can be saved again") || n.kept.Jobs["tides"].Starts != 2 {
			t.Errorf("it started %s, kept %+v and said\n%s", got, n.kept.Jobs["tides"], said)
		}
	})
}

// TestAClockThatWasAhead for a minute, by years, while nothing of the project moved.
func TestAClockThatWasAhead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := nightOf(t, func(string) time.Duration { return time.Second },
			Job{Name: "tides", Schedule: every(t, `every = "30m"`)})
		keep, begun, ahead := n.Keep, time.Now(), false
		n.Keep = func(s *State) error {
			if !ahead && time.Since(begun) > 40*time.Minute {
				ahead = true
				far := time.Now().Add(3 * 365 * 24 * time.Hour)
				s.Jobs["tides"].Seen, s.Jobs["tides"].Next = far, far.Add(30*time.Minute)
			}
			return keep(s)
		}
		n.goOn(t, nil, 95*time.Minute)
		if got := strings.Join(n.began, "|"); got != "tides 00:30|tides 01:00|tides 01:30" ||
			!strings.Contains(strings.Join(n.reported, "\n"), "set back") {
			t.Errorf("it started %s and said %v", got, n.reported)
		}
	})
}

// TestAThousand measures how late the last of a thousand schedules begins that are due at once.
func TestAThousand(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var jobs []Job
		for i := range 1000 {
			jobs = append(jobs, Job{Name: fmt.Sprintf("tide-%d", i), Schedule: every(t, `every = "1h"`),
				Hosts: []string{fmt.Sprintf("gauge-%d", i)}})
		}
		n := nightOf(t, func(string) time.Duration { return time.Second }, jobs...)
		n.goOn(t, nil, 70*time.Minute)
		last := 0.0
		for _, d := range n.kept.Jobs {
			last = max(last, d.Late)
		}
		if len(n.began) != 1000 || last > 130 {
			t.Errorf("%d began, the last %v s late", len(n.began), last)
		}
	})
}

// TestAClockThatIsOff has a clock be put back an hour, and one have been years ahead.
func TestAClockThatIsOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		jobs := []Job{{Name: "tides", Schedule: every(t, `every = "30m"`)},
			{Name: "ebb", Schedule: every(t, `every = "30m"`)}}
		n := nightOf(t, func(string) time.Duration { return time.Second }, jobs...)
		n.goOn(t, &State{Jobs: map[string]*Done{"tides": {Seen: time.Now().Add(time.Hour)}, "ebb": {Seen: time.Now().
			Add(3 * 365 * 24 * time.Hour)}}},
			95*time.Minute)
		slices.Sort(n.began)
		if got := strings.Join(n.began, "|"); got != "ebb 00:30|ebb 01:00|ebb 01:30|tides 01:30" {
			t.Errorf("it started %s", got)
		}
	})
}

// BenchmarkAThousandAtOnce starts a thousand jobs that are due at once and end at once, with their
// state kept in a file.
func BenchmarkAThousandAtOnce(b *testing.B) {
	var jobs []Job
	for i := range 1000 {
		jobs = append(jobs, Job{Name: fmt.Sprintf("tide-%d", i), Schedule: every(b, `every = "1h"`), AtOnce: true})
	}
	file := filepath.Join(b.TempDir(), "state.json")
	for b.Loop() {
		n := nightOf(b, func(string) time.Duration { return 0 }, jobs...)
		ctx, cancel := context.WithCancel(context.Background())
		n.Start = func(_ context.Context, _ string, began func(int)) Result { began(1); return Result{} }
		n.Report = func(string, ...any) {}
		n.Keep = func(s *State) error {
			data, err := json.Marshal(s)
			if err != nil {
				return err
			}
			if !slices.ContainsFunc(slices.Collect(maps.Values(s.Jobs)),
				func(d *Done) bool { return d.Ended.IsZero() }) {
				cancel()
			}
			return os.WriteFile(file, data, 0o600)
		}
		if err := n.Run(ctx, nil); err != nil {
			b.Fatal(err)
		}
		last := 0.0
		for _, d := range n.state.Jobs {
			last = max(last, d.Late)
		}
		b.ReportMetric(last, "s-late")
	}
}
