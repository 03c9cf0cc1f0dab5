package cli_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"
	"testing"

	"jadekettle/internal/host/machine"
)

// waiting is a machine on which the command tide-wait takes until it is let go.
type waiting struct {
	machine.Machine
	begun chan bool
	free  chan bool
}

func (w waiting) Look(program string) bool { return program == "tide-wait" || w.Machine.Look(program) }

func (w waiting) Run(ctx context.Context, c machine.Command) (machine.Output, error) {
	if strings.Contains(strings.Join(c.Args, " "), "tide-wait") {
		w.begun <- true
		<-w.free
		return machine.Output{}, nil
	}
	return w.Machine.Run(ctx, c)
}

// heard keeps what a program prints, and signals when it says that it is stopping.
type heard struct {
	strings.Builder
	stopping chan bool
}

func (h *heard) Write(p []byte) (int, error) {
	before := strings.Contains(h.String(), "Stopping after")
	n, err := h.Builder.Write(p)
	if !before && strings.Contains(h.String(), "Stopping after") {
		close(h.stopping)
	}
	return n, err
}

// TestRunsThatAreStopped: neither by a terminal that is closed nor by a controller that is killed does a host count as
// declared whose tasks were not all done, and --again takes it up.
func TestRunsThatAreStopped(t *testing.T) {
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, syscall.SIGHUP) // so that no nohup(1) around the tests is inherited
	defer signal.Stop(hup)
	for _, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGHUP, syscall.SIGKILL} {
		dir, hosts := fleetOf(t, "", motd, "gauge-01", "gauge-02")
		w := waiting{begun: make(chan bool), free: make(chan bool)}
		hosts.Hosts[0].Between(func(m machine.Machine) machine.Machine { w := w; w.Machine = m; return w })
		jk(t, dir, "apply", "--all")
		manifest := motd
		for n := range 300 { // the worker hears of the end between two of them
			manifest += fmt.Sprintf("[command.wait-%d]\nrun = [\"tide-wait\"]\nalways = true\n", n)
		}
		put(t, dir+"/manifests/pier.toml", manifest)
		c := exec.Command(program, "apply", "--all", "--yes", "--parallel", "1")
		c.Dir, c.Env = dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir}
		out := &heard{stopping: make(chan bool)}
		c.Stdout, c.Stderr = out, out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		<-w.begun
		for kept := false; !kept; { // which the controller does beside its work
			_, out, _ := jk(t, dir, "runs", "show", "last", "--output", "json")
			kept = strings.Contains(out, `"begun": true`)
		}
		c.Process.Signal(sig)
		if sig == syscall.SIGHUP {
			c.Process.Signal(sig)
		}
		if sig != syscall.SIGKILL {
			<-out.stopping
		}
		over := make(chan bool)
		go func() { c.Wait(); hosts.Hosts[0].Wait(); close(over) }()
		for ended := false; !ended; {
			select {
			case w.free <- true:
			case <-w.begun:
			case <-over:
				ended = true
			}
		}
		if sig != syscall.SIGKILL && (c.ProcessState.ExitCode() != 130 ||
			!strings.Contains(out.String(), "1 stopped early, 1 not started")) {
			t.Errorf("%v: it ends with %v\n%s", sig, c.ProcessState, out)
		}
		_, status, errs := jk(t, dir, "status")
		want := "was stopped before all its tasks were done"
		if sig == syscall.SIGKILL {
			want = "its controller stopped before it ended"
		}
		if !strings.Contains(status, want) || !strings.Contains(status, "failing") {
			t.Errorf("%v: the status is\n%s%s", sig, status, errs)
		}
		if _, runs, _ := jk(t, dir, "runs", "show", "last"); sig == syscall.SIGKILL &&
			!strings.Contains(runs, "lost         gauge-01") {
			t.Errorf("the run is shown as\n%s", runs)
		}
		put(t, dir+"/manifests/pier.toml", motd+"[dir.\"/srv/b\"]\n")
		code, again, errs := jk(t, dir, "apply", "--again")
		if code != 0 || !strings.Contains(again, "gauge-01") {
			t.Errorf("%v: again: %d\n%s%s", sig, code, again, errs)
		}
	}
}
