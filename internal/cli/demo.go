package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/demo"
	"jadekettle/internal/cli/screen"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/host/machine/folder"
)

func (a *App) demoCommand() *cobra.Command {
	stay := false
	c := &cobra.Command{
		Use: "demo [DIR]", Short: "Show a whole round on simulated hosts", GroupID: "start", Args: cobra.MaximumNArgs(1),
		Long: "Demo puts an example project into a folder (a temporary one, unless you name it), brings up its hosts\n" +
			"as simulated ones inside this program, and tells a story on them: preview, apply, apply again, a change\n" +
			"by hand found and mended. It needs no root and no network. It ends with 0 when the story came out as told.",
		RunE: func(c *cobra.Command, args []string) error {
			dir, cleanup, err := demoFolder(args)
			if err != nil {
				return err
			}
			defer cleanup()
			return a.demo(c.Context(), dir, stay)
		},
	}
	c.Flags().BoolVar(&stay, "stay", false, "keep the hosts up afterwards, to try commands from another terminal")
	return c
}

func demoFolder(args []string) (dir string, cleanup func(), err error) {
	if len(args) == 1 {
		dir, err = filepath.Abs(args[0])
		return dir, func() {}, err
	}
	dir, err = os.MkdirTemp("", "saltmarsh-*")
	return dir, func() { os.RemoveAll(dir) }, err
}

// demoHosts are the simulated machines. Gauge 5 is off, so there is none.
var demoHosts = []folder.Spec{
	{Name: "gauge-01", Address: "192.0.2.21", Packages: []string{"buoy-tools=1.0-1", "tide-logger=1.4.2-1"}},
	{Name: "gauge-02", Address: "192.0.2.22"},
	{Name: "gauge-03", Address: "192.0.2.23"},
	{Name: "gauge-04", Address: "192.0.2.24", OS: "ubuntu"},
	{Name: "archive-01", Address: "192.0.2.31", Memory: 16 << 30, Disk: 4 << 40, CPUs: 8},
	{Name: "chart-01", Address: "192.0.2.41", Memory: 8 << 30, CPUs: 4},
	{Name: "chart-02", Address: "192.0.2.42"},
	{Name: "signal-01", Address: "192.0.2.51"},
}

// demoDown is the host that does not answer.
const demoDown = "signal-01"

func (a *App) demo(ctx context.Context, dir string, stay bool) error {
	if _, err := unfold(demo.Files, "project", dir); err != nil {
		return err
	}
	fleet, err := sim.New(filepath.Join(dir, "simulated"))
	if err != nil {
		return err
	}
	defer fleet.Close()
	for _, spec := range demoHosts {
		h, err := fleet.Add(spec)
		if err != nil {
			return err
		}
		if h.Name == demoDown {
			h.Down()
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "simulated.toml"), []byte(fleet.Inventory()), 0o644); err != nil {
		return err
	}
	s := &story{app: a, dir: dir, fleet: fleet}
	s.tell(ctx)
	if ctx.Err() != nil {
		a.code = exitStopped
		return nil
	}
	if s.broken != nil {
		return fmt.Errorf("the story did not come out as told: %w", s.broken)
	}
	if stay {
		s.stay(ctx)
	}
	return nil
}

// story runs commands one after another and checks what comes of them.
type story struct {
	app    *App
	dir    string
	fleet  *sim.Fleet
	broken error
}

// say prints what is about to happen.
func (s *story) say(text string) {
	if s.broken != nil {
		return
	}
	fmt.Fprintln(s.app.Out)
	for line := range strings.SplitSeq(text, "\n") {
		fmt.Fprintln(s.app.Out, screen.Paint(screen.Quiet, "# "+line))
	}
}

// command prints and runs one command. want is the exit code that it must have,
// and check looks at the hosts afterwards.
func (s *story) command(ctx context.Context, want int, line string, check func(map[string]*run.Visit) error) {
	if s.broken != nil || ctx.Err() != nil {
		return
	}
	fmt.Fprintf(s.app.Out, "%s\n\n", screen.Paint(screen.Loud, "$ jadekettle "+line))
	in := &App{In: strings.NewReader(""), Out: s.app.raw, Err: s.app.raw, Getenv: s.app.plainEnv, Color: s.app.Color,
		Width: s.app.Width}
	code := in.Run(ctx, append([]string{"--project", s.dir}, strings.Fields(line)...))
	hosts := map[string]*run.Visit{}
	for _, h := range in.last {
		hosts[h.Name] = h
	}
	switch {
	case code != want:
		s.broken = fmt.Errorf("`jadekettle %s` ended with %d, not %d", line, code, want)
	case check != nil:
		if err := check(hosts); err != nil {
			s.broken = fmt.Errorf("after `jadekettle %s`: %w", line, err)
		}
	}
}

// plainEnv gives the demo's commands the environment without what would steer
// them elsewhere.
func (a *App) plainEnv(name string) string {
	if strings.HasPrefix(name, "JADEKETTLE_") || name == "SSH_AUTH_SOCK" {
		return ""
	}
	return a.Getenv(name)
}

func expect(hosts map[string]*run.Visit, name string, status plan.Status, want int) error {
	h := hosts[name]
	if h == nil {
		return fmt.Errorf("there is no outcome of %s", name)
	}
	if got := h.Count(status); got != want {
		return fmt.Errorf("%s has %d tasks %s, not %d", name, got, status, want)
	}
	return nil
}

func (s *story) tell(ctx context.Context) {
	fmt.Fprintf(s.app.Out, "The Saltmarsh Tide Observatory keeps its hosts with Jade Kettle. The project lies in\n"+
		"%s; its hosts are simulated inside this program.\n", s.dir)
	s.say("Which hosts are there, and is the project sound?")
	s.command(ctx, exitDone, "hosts", nil)
	fmt.Fprintln(s.app.Out)
	s.command(ctx, exitDone, "lint", nil)

	s.say("Data lies in layers, the general ones first. Why does the third gauge sample every 15 seconds,\n" +
		"and where do its sensors come from?")
	s.command(ctx, exitDone, "why gauge-03 data.gauge.sample_seconds", nil)
	fmt.Fprintln(s.app.Out)
	s.command(ctx, exitDone, "why gauge-03 data.gauge.sensors", nil)

	s.say("What would an apply do on the first gauge, which was set up by hand long ago? A preview changes nothing.")
	s.command(ctx, exitDone, "preview gauge-01", func(h map[string]*run.Visit) error {
		return errors.Join(expect(h, "gauge-01", plan.Failed, 0), expect(h, "gauge-01", plan.Unchanged, 1))
	})

	s.say("Apply it everywhere. One host does not answer, and one package cannot be installed:\n" +
		"both are told at the end, and neither stops anything else.")
	s.command(ctx, exitFailed, "apply --all", func(h map[string]*run.Visit) error {
		if h[demoDown].State != run.NotReached {
			return fmt.Errorf("%s is %s", demoDown, h[demoDown].State)
		}
		return errors.Join(expect(h, "archive-01", plan.Failed, 1), expect(h, "archive-01", plan.Blocked, 1),
			expect(h, "gauge-02", plan.Failed, 0), expect(h, "chart-01", plan.LeftOut, 0),
			expect(h, "chart-02", plan.LeftOut, 1))
	})

	s.say("The facts are known now. Who keeps old readings, because its disk is large enough?")
	s.command(ctx, exitDone, "hosts --group big-disk", nil)

	s.say("Once more: what is right already stays untouched.")
	s.command(ctx, exitDone, "apply @gauge @chart", func(h map[string]*run.Visit) error {
		for _, name := range []string{"gauge-01", "gauge-02", "gauge-03", "gauge-04", "chart-01", "chart-02"} {
			if err := errors.Join(expect(h, name, plan.Changed, 0), expect(h, name, plan.Failed, 0)); err != nil {
				return err
			}
		}
		return nil
	})

	s.say("At night somebody logs in on gauge-02 and edits the logger's configuration by hand.")
	if s.broken == nil {
		s.broken = s.editByHand("gauge-02")
	}
	s.say("A preview finds it, and tells what would follow.")
	s.command(ctx, exitChanges, "preview @gauge --fail-if-changes", func(h map[string]*run.Visit) error {
		return errors.Join(expect(h, "gauge-01", plan.Changed, 0), expect(h, "gauge-02", plan.Changed, 2))
	})

	s.say("An apply mends it and restarts the logger, once.")
	s.command(ctx, exitDone, "apply gauge-02", func(h map[string]*run.Visit) error {
		return expect(h, "gauge-02", plan.Changed, 2)
	})
	if s.broken == nil && ctx.Err() == nil {
		s.say("The story came out as told.")
	}
}

func (s *story) editByHand(host string) error {
	file := filepath.Join(s.dir, "simulated", host, "etc/tide-logger.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	text = []byte(strings.Replace(string(text), "sample_seconds = 30", "sample_seconds = 3600   # saves paper", 1))
	return os.WriteFile(file, text, 0o644)
}

// stay keeps the hosts up until it is interrupted.
func (s *story) stay(ctx context.Context) {
	fmt.Fprintf(s.app.Out, `
The simulated hosts stay up until you press Ctrl-C. In another terminal:

  cd %s
  jadekettle hosts
  jadekettle facts gauge-01 os
  jadekettle hosts show archive-01
  jadekettle why gauge-02 service tide-logger
  jadekettle preview
  jadekettle apply @gauge
  $EDITOR manifests/gauge/logger.toml.tmpl      then preview again

The hosts' files lie in simulated/HOST, to be looked at and broken by hand.
`, s.dir)
	<-ctx.Done()
	fmt.Fprintln(s.app.Out, "The simulated hosts are down.")
}
