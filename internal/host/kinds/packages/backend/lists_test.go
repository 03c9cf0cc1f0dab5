package backend_test

import (
	"context"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
	"jadekettle/internal/host/machine/scripted"
)

// queue is a package manager whose lock another one holds for a while.
type queue struct {
	*folder.Machine
	held   int // runs that meet the lock
	says   string
	waited time.Duration
	runs   int
}

func (q *queue) Run(context.Context, machine.Command) (machine.Output, error) {
	if q.runs++; q.runs > q.held {
		return machine.Output{}, nil
	}
	return machine.Output{Code: 7, Combined: machine.KeptText(q.says)}, nil
}

func (q *queue) Wait(_ context.Context, d time.Duration) { q.waited += d }

// TestPatiently waits for a lock, and in the end says who has it.
func TestPatiently(t *testing.T) {
	locked := regexp.MustCompile(`locked by the application with pid (\d+)`)
	for _, c := range []struct {
		held   int
		says   string
		runs   int
		waited time.Duration
		want   string
	}{
		{0, "", 1, 0, ""},
		{3, "locked by the application with pid 1", 4, 9 * time.Second, ""},
		{1, "nothing provides the sea", 1, 0, "zypper failed (exit status 7): nothing provides the sea"},
		{99, "locked by the application with pid 1", 40, 117 * time.Second,
			"another package manager has held the lock of zypper for 2m0s: process 1 (systemd)"},
		{99, "locked by the application with pid 424242", 40, 117 * time.Second, ": process 424242"},
	} {
		h, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-01"})
		if err != nil {
			t.Fatal(err)
		}
		q := &queue{Machine: h, held: c.held, says: c.says}
		_, err = backend.Patiently(t.Context(), &kind.Env{Machine: q},
			machine.Command{Args: []string{"zypper"}}, locked, nil)
		if q.runs != c.runs || q.waited != c.waited || (err == nil) != (c.want == "") ||
			err != nil && !strings.Contains(problem.From(err).What, c.want) {
			t.Errorf("%d times %q: %d runs, %v waited, %v", c.held, c.says, q.runs, q.waited, err)
		}
	}
}

// TestListsFromTheFuture are those of a clock that was wrong: they say nothing of when
// they were refreshed.
func TestListsFromTheFuture(t *testing.T) {
	m := scripted.New(t, "/var/lists/tides", "/etc/sources")
	age := func(lists, stamp time.Duration) time.Duration {
		m.WriteFile("/var/lib/jadekettle/"+backend.Stamp, "")
		for p, ago := range map[string]time.Duration{"/var/lists/tides": lists, "/etc/sources": 99 * time.Hour,
			"/var/lib/jadekettle/" + backend.Stamp: stamp} {
			at := time.Now().Add(-ago)
			if err := os.Chtimes(filepath.Join(m.Root, p), at, at); err != nil {
				t.Fatal(err)
			}
		}
		var age time.Duration
		m.Did(func(e *kind.Env) error {
			age = backend.ListAge(e, []string{"/var/lists/tides"}, []string{"/etc/sources"})
			return nil
		})
		return age.Round(time.Hour)
	}
	for _, c := range [][3]time.Duration{{2, 5, 2}, {-1, 5, 5}, {-1, -3, math.MaxInt64}} {
		want := c[2] * time.Hour
		if c[2] == math.MaxInt64 {
			want = time.Duration(math.MaxInt64).Round(time.Hour)
		}
		if got := age(c[0]*time.Hour, c[1]*time.Hour); got != want {
			t.Errorf("lists of %d hours and a stamp of %d are %v old, want %v", c[0], c[1], got, want)
		}
	}
}
