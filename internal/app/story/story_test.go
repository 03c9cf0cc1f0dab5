package story

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
)

// TestAStoryThatComesOutOtherwise lets commands end as nobody expects: the story
// stops there, says where, and runs nothing more.
func TestAStoryThatComesOutOtherwise(t *testing.T) {
	stopped, stop := context.WithCancel(t.Context())
	for name, c := range map[string]struct {
		run  func(line string) (int, []*record.Host)
		runs int
		says string
	}{
		"another exit code": {func(line string) (int, []*record.Host) {
			if strings.HasPrefix(line, "why") {
				return 2, nil
			}
			return 0, nil
		}, 2, "`jadekettle why gauge-03 data.gauge.sample_seconds` exited with 2, not 0"},
		"no outcome": {func(string) (int, []*record.Host) { return 0, nil }, 3,
			"the story has no outcome for gauge-01"},
		"another outcome": {func(string) (int, []*record.Host) {
			return 0, []*record.Host{{Name: "gauge-01", Tasks: []record.Task{{Status: plan.Failed}}}}
		}, 3, "gauge-01 has 1 tasks failed, not 0"},
		"stopped by its user": {func(line string) (int, []*record.Host) {
			if strings.HasPrefix(line, "why") {
				stop()
			}
			return 0, nil
		}, 2, ""},
	} {
		ctx := t.Context()
		if c.says == "" {
			ctx = stopped
		}
		var out strings.Builder
		runs := 0
		var hosts []*record.Host
		s := &Story{Out: &out, Dir: "pier", Run: func(_ context.Context, args []string) (code int) {
			runs++
			code, hosts = c.run(strings.Join(args[2:], " "))
			return code
		}, Last: func(context.Context) ([]*record.Host, error) { return hosts, nil }}
		err := s.Play(ctx)
		if runs != c.runs || c.says == "" && err != nil ||
			c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %d commands ran, and it says %v", name, runs, err)
		}
		if strings.Contains(out.String(), "finished") {
			t.Errorf("%s: it says that all is well", name)
		}
	}
}

// TestTheHostsAreUp brings the hosts up: all listen but the one that is down.
func TestTheHostsAreUp(t *testing.T) {
	s := &Story{Dir: t.TempDir()}
	defer s.Close()
	if err := s.Up(); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(filepath.Join(s.Dir, "simulated.toml"))
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range machines {
		if !strings.Contains(string(text), m.Name) {
			t.Errorf("the inventory lacks %s", m.Name)
		}
	}
	if err := s.editByHand("gauge-02"); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a file was edited that no apply had made: %v", err)
	}
}
