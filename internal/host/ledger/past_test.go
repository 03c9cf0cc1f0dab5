package ledger_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/host/ledger"
)

// TestThePastKeepsItsBounds in bytes and in days, by the runs' own times; what is too large
// for it is not kept.
func TestThePastKeepsItsBounds(t *testing.T) {
	m := host(t)
	dice := rand.New(rand.NewPCG(1, 2))
	run := func(day int) plan.Run {
		ms := time.Date(2026, 5, day, 0, 0, 0, 0, time.UTC).UnixMilli()
		id := fmt.Sprintf("%012x", ms)
		return plan.Run{ID: id[:8] + "-" + id[8:] + "-7000-8000-000000000000", Project: "saltmarsh"}
	}
	noise := make([]byte, 10<<10)
	keep := func(day int) error {
		s := open(t, m, run(day))
		defer s.Close()
		p := s.OpenPast(10*24*time.Hour, 64<<10)
		defer p.Close()
		for i := range noise { // which cannot be packed
			noise[i] = byte(dice.Uint32())
		}
		c, err := p.Keep(run(day), strings.NewReader(string(noise)), int64(len(noise)))
		if err != nil {
			return err
		}
		before := plan.Prior{Ref: conf, As: &plan.Last{Content: &c}}
		if err := p.Note(run(day), true, ledger.Moved{Task: conf, Before: []plan.Prior{before}}); err != nil {
			return err
		}
		return p.Prune(run(day))
	}
	for _, day := range []int{1, 12, 13, 14, 15, 16, 17, 18, 19} {
		if err := keep(day); err != nil {
			t.Fatal(err)
		}
	}
	var total int64
	files, _ := filepath.Glob(filepath.Join(m.Root, "var/lib/jadekettle/before/*"))
	for _, f := range files {
		info, _ := os.Stat(f)
		total += info.Size()
	}
	s := open(t, m, run(20))
	defer s.Close()
	p := s.OpenPast(10*24*time.Hour, 64<<10)
	defer p.Close()
	if _, err := p.Of(run(1).ID); !errors.Is(err, ledger.ErrNotKept) || total > 64<<10 || len(files) < 8 {
		t.Errorf("it keeps %d bytes in %d files, and what is too old: %v", total, len(files), err)
	}
	if list, err := p.Of(run(19).ID); err != nil || len(list) != 1 {
		t.Errorf("of the newest run it keeps %v, %v", list, err)
	} else if f, err := p.Open(*list[0].Before[0].As.Content); err != nil {
		t.Error(err)
	} else {
		f.Close()
	}
	var large *ledger.TooLargeError
	if _, err := p.Keep(run(20), strings.NewReader("x"), 17<<10); !errors.As(err, &large) {
		t.Errorf("a large content: %v", err)
	}
	for _, id := range []string{"", "../lock", run(2).ID} {
		if _, err := p.Of(id); !errors.Is(err, ledger.ErrNotKept) {
			t.Errorf("of the run %q: %v", id, err)
		}
	}
	if err := s.OpenPast(time.Hour, 0).Prune(run(20)); err != nil {
		t.Fatal(err)
	}
	if files, _ = filepath.Glob(filepath.Join(m.Root, "var/lib/jadekettle/before/*")); len(files) > 0 {
		t.Errorf("with nothing to be kept there are %v", files)
	}
}
