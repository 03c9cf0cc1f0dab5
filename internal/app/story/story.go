// Package story shows how the Saltmarsh Tide Observatory keeps its hosts: it runs
// commands of this program one after another on simulated hosts, and checks what
// comes of each, so that the demo is a test of the whole as well.
package story

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"jadekettle/demo"
	"jadekettle/internal/app/edit"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/host/machine/folder"
)

// machines are the simulated ones. Gauge 5 is off, so there is none.
var machines = []folder.Spec{
	{Name: "gauge-01", Address: "192.0.2.21", Packages: []string{"buoy-tools=1.0-1", "tide-logger=1.4.2-1"}},
	{Name: "gauge-02", Address: "192.0.2.22"},
	{Name: "gauge-03", Address: "192.0.2.23"},
	{Name: "gauge-04", Address: "192.0.2.24", OS: "ubuntu"},
	{Name: "archive-01", Address: "192.0.2.31", Memory: 16 << 30, Disk: 4 << 40, CPUs: 8},
	{Name: "chart-01", Address: "192.0.2.41", Memory: 8 << 30, CPUs: 4},
	{Name: "chart-02", Address: "192.0.2.42"},
	{Name: "signal-01", Address: "192.0.2.51"},
}

// down is the host that does not answer.
const down = "signal-01"

// The exit codes that commands of the story end with.
const (
	done    = 0
	failed  = 1
	changes = 3
)

// Story is one walk through the example project, on hosts that are simulated inside this program.
type Story struct {
	Out io.Writer
	// Remark and Command say how remarks and commands look. Nil leaves them as they are.
	Remark, Command func(string) string
	// Pause waits between scenes, and gives false to end the story early. Nil does not wait.
	Pause func(context.Context) bool
	// Dir is the folder of the example project, which Up makes.
	Dir string
	// Run runs one command line of this program, and gives its exit code.
	Run func(ctx context.Context, args []string) (code int)
	// Last gives what became of the hosts in the last run.
	Last func(ctx context.Context) ([]*record.Host, error)

	fleet  *sim.Fleet
	scenes int
	left   bool // early, at a pause
	broken error
}

// Up makes the project, brings up its hosts and writes where they listen into it. Close
// takes them down again.
func (s *Story) Up() (err error) {
	if _, err := edit.Unfold(demo.Files, "project", s.Dir); err != nil {
		return err
	}
	if s.fleet, err = sim.New(filepath.Join(s.Dir, "simulated")); err != nil {
		return err
	}
	for _, spec := range machines {
		h, err := s.fleet.Add(spec)
		if err != nil {
			return err
		}
		if h.Name == down {
			h.Down()
		}
	}
	return os.WriteFile(filepath.Join(s.Dir, "simulated.toml"), []byte(s.fleet.Inventory()), 0o644)
}

// Close takes the hosts down.
func (s *Story) Close() {
	if s.fleet != nil {
		s.fleet.Close()
	}
}

// say prints what is about to happen, after a pause where there was something to read.
func (s *Story) say(ctx context.Context, text string) {
	if s.broken != nil || s.left || ctx.Err() != nil {
		return
	}
	fmt.Fprintln(s.Out)
	if s.scenes++; s.scenes > 1 && s.Pause != nil && !s.Pause(ctx) {
		s.left = true
		return
	}
	for line := range strings.SplitSeq(text, "\n") {
		fmt.Fprintln(s.Out, as(s.Remark, "# "+line))
	}
}

func as(look func(string) string, text string) string {
	if look == nil {
		return text
	}
	return look(text)
}

// command prints and runs one command. want is the exit code that it must have,
// and check looks at the hosts afterwards.
func (s *Story) command(ctx context.Context, want int, line string, check func(map[string]*record.Host) error) {
	if s.broken != nil || s.left || ctx.Err() != nil {
		return
	}
	fmt.Fprintf(s.Out, "%s\n", as(s.Command, "$ jadekettle "+line))
	code := s.Run(ctx, append([]string{"--project", s.Dir}, strings.Fields(line)...))
	if code != want {
		s.broken = fmt.Errorf("`jadekettle %s` exited with %d, not %d", line, code, want)
	}
	if s.broken != nil || check == nil || ctx.Err() != nil {
		return
	}
	list, err := s.Last(ctx)
	hosts := map[string]*record.Host{}
	for _, h := range list {
		hosts[h.Name] = h
	}
	if err == nil {
		err = check(hosts)
	}
	if err != nil {
		s.broken = fmt.Errorf("after `jadekettle %s`: %w", line, err)
	}
}

func expect(hosts map[string]*record.Host, name string, status plan.Status, want int) error {
	h := hosts[name]
	if h == nil {
		return fmt.Errorf("the story has no outcome for %s", name)
	}
	if got := h.Count(status); got != want {
		return fmt.Errorf("%s has %d tasks %s, not %d", name, got, status, want)
	}
	return nil
}

// Play shows the story once, and says where it did not go as written. When
// the context ends, or a pause asks for it, it breaks off without an error.
func (s *Story) Play(ctx context.Context) error {
	fmt.Fprintf(s.Out, "The Saltmarsh Tide Observatory configures its hosts with Jade Kettle. The project is in\n"+
		"%s; its hosts are simulated by this program.\n", s.Dir)
	s.look(ctx)
	s.apply(ctx)
	s.restore(ctx)
	if s.broken != nil && ctx.Err() == nil {
		return fmt.Errorf("the demo did not go as expected: %w", s.broken)
	}
	if ctx.Err() == nil && !s.left {
		fmt.Fprintf(s.Out, "\n%s\n", as(s.Remark, "# Demo finished successfully."))
	}
	return nil
}

// look shows what is declared, and what would change.
func (s *Story) look(ctx context.Context) {
	s.say(ctx, "List the hosts.")
	s.command(ctx, done, "hosts", nil)

	s.say(ctx, "Data comes in layers, from general to specific. Why does the third gauge sample every 15 seconds?")
	s.command(ctx, done, "why gauge-03 data.gauge.sample_seconds", nil)

	s.say(ctx, "What would apply change on gauge-01? Here, only its packages and groups; a preview changes nothing.")
	s.command(ctx, done, "preview gauge-01 --task package --task group", func(h map[string]*record.Host) error {
		return errors.Join(expect(h, "gauge-01", plan.Failed, 0), expect(h, "gauge-01", plan.Changed, 4))
	})
}

// apply brings all hosts to what is declared, of which one is down and one fails in part.
func (s *Story) apply(ctx context.Context) {
	s.say(ctx, "Apply the project to all hosts. One host is down and one package cannot be installed:\n"+
		"both are reported at the end, and neither stops the rest.")
	s.command(ctx, failed, "apply --all --yes --summary", func(h map[string]*record.Host) error {
		if h[down] == nil || h[down].State != record.NotReached {
			return fmt.Errorf("%s was reached, or forgotten", down)
		}
		return errors.Join(expect(h, "archive-01", plan.Failed, 1), expect(h, "archive-01", plan.Blocked, 1),
			expect(h, "gauge-02", plan.Failed, 0), expect(h, "chart-01", plan.Skipped, 0),
			expect(h, "chart-02", plan.Skipped, 1))
	})

	s.say(ctx, "Apply again: nothing is left to change.")
	s.command(ctx, done, "apply @gauge --yes", func(h map[string]*record.Host) error {
		for _, name := range []string{"gauge-01", "gauge-02", "gauge-03", "gauge-04"} {
			if err := errors.Join(expect(h, name, plan.Changed, 0), expect(h, name, plan.Failed, 0)); err != nil {
				return err
			}
		}
		return nil
	})

	s.say(ctx, "Does it work? Run the declared health checks.")
	s.command(ctx, done, "verify gauge-01", func(h map[string]*record.Host) error {
		return errors.Join(expect(h, "gauge-01", plan.Unchanged, 1), expect(h, "gauge-01", plan.Failed, 0))
	})
}

// restore finds and fixes what somebody has changed by hand.
func (s *Story) restore(ctx context.Context) {
	if s.broken == nil && ctx.Err() == nil && !s.left {
		s.broken = s.editByHand("gauge-02")
	}
	s.say(ctx, "At night, someone logs in to gauge-02 and edits the logger's configuration by hand.\n"+
		"A preview finds the edit, and shows what would be restarted.")
	s.command(ctx, changes, "preview gauge-02 --fail-if-changes", func(h map[string]*record.Host) error {
		return expect(h, "gauge-02", plan.Changed, 2)
	})

	s.say(ctx, "Apply restores the file and restarts the logger once.")
	s.command(ctx, done, "apply gauge-02 --yes", func(h map[string]*record.Host) error {
		return expect(h, "gauge-02", plan.Changed, 2)
	})
}

func (s *Story) editByHand(host string) error {
	file := filepath.Join(s.Dir, "simulated", host, "etc/tide-logger.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	text = []byte(strings.Replace(string(text), "sample_seconds = 30", "sample_seconds = 3600   # saves paper", 1))
	return os.WriteFile(file, text, 0o644)
}

// Stay keeps the hosts up until the context ends, and reports what to try.
func (s *Story) Stay(ctx context.Context) {
	fmt.Fprintf(s.Out, `
The simulated hosts stay up until you press Ctrl-C. In another terminal:

  cd %s
  jadekettle hosts
  jadekettle facts gauge-01 os
  jadekettle hosts show archive-01
  jadekettle why gauge-02 service tide-logger
  jadekettle preview
  jadekettle apply @gauge
  $EDITOR manifests/gauge/logger.toml.tmpl      then preview again

The hosts' files are in simulated/HOST: look at them, and break them by hand.
`, s.Dir)
	<-ctx.Done()
	fmt.Fprintln(s.Out, "The simulated hosts are down.")
}
