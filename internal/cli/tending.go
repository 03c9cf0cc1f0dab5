package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/app/tend"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history/store"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/openmetrics"
	screen "jadekettle/internal/present/text"
)

func (a *App) tendCommand() *cobra.Command {
	look, most, listen := time.Minute, 8, ""
	k := &keeping{}
	c := &cobra.Command{
		Use: "tend", Short: "Run the schedules of a project for as long as this lives", GroupID: "work", Args: noArgs,
		Long: "Tend starts the jobs of a project when they are due, one run for a host at a time. It reads the project anew when\n" +
			"it changes, or --from a repository when that moves; what cannot be read leaves the one that was. Stopped, it\n" +
			"waits for what runs; killed, the next one goes on from there. There is one for a project, an account and a machine.",
		RunE: func(c *cobra.Command, _ []string) error {
			if look < time.Second || most < 1 {
				return problem.Errorf("--look is %v and --most %d", look, most).Remedy("look every second at most, and run one job or more")
			}
			if !k.here {
				return a.tend(c.Context(), nil, look, most, listen)
			}
			if err := k.check(a, c); err != nil {
				return err
			}
			return a.tend(c.Context(), k, k.every, 1, listen)
		},
	}
	c.Flags().DurationVar(&look, "look", look, "how often it is looked whether the project has moved, a `TIME`")
	c.Flags().IntVar(&most, "most", most, "at most `N` jobs at once")
	c.Flags().StringVar(&listen, "listen", "", "serve its state as OpenMetrics text on an `ADDRESS`, such as 127.0.0.1:9791")
	k.flags(c)
	a.fromFlag(c)
	c.Annotations = map[string]string{takesItself: "yes"}
	c.AddCommand(a.tendStatusCommand())
	return c
}

// tendFile is where what a tender does is kept, and its lock beside it.
func (a *App) tendFile(key string, here bool) (string, error) {
	history := a.historyFile()
	if history == "" {
		return "", problem.Errorf("there is no place for what is kept: neither XDG_STATE_HOME nor HOME is set").Remedy("set one of them")
	}
	if here {
		key += "@here"
	}
	return filepath.Join(filepath.Dir(history), "tend", key+".json"), nil
}

// only holds the lock of a project's tender; the error says who has it.
func only(file string) (unlock func(), err error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(strings.TrimSuffix(file, ".json")+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		who := "another process"
		if s, err := readTend(file); err == nil {
			who = fmt.Sprintf("process %d, since %s,", s.PID, screen.When(s.Since))
		}
		return nil, problem.Errorf("%s tends this project already", who).Remedy("`jadekettle tend status` tells what it does")
	}
	return func() { f.Close() }, nil
}

func readTend(file string) (*tend.State, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	s := &tend.State{}
	if err := json.Unmarshal(data, s); err != nil || s.Format < 1 {
		return nil, fmt.Errorf("%w: %s", errNoState, file)
	}
	if s.Format != 1 {
		return nil, problem.Errorf("%s is of a newer jadekettle", file).Remedy("use that one")
	}
	return s, nil
}

// errNoState is wrapped by the error of a file that holds no state, as after a full disk.
var errNoState = errors.New("it holds no state of a tender")

// tending is a tender at work on a project.
type tending struct {
	app  *App
	file string
	args []string // by which a call finds the project, but for its revision
	here *keeping // on a host that keeps itself; nil elsewhere
	last string   // the commit that an earlier tender read last

	mu    sync.Mutex
	runs  store.Project
	state tend.State // as it was kept last
	stamp string     // of the project as it was read; a commit where it is taken from a repository
}

func (a *App) tend(ctx context.Context, here *keeping, look time.Duration, most int, listen string) error {
	key, source, err := a.tended()
	if err != nil {
		return err
	}
	file, err := a.tendFile(key, here != nil)
	if err != nil {
		return err
	}
	unlock, err := only(file)
	if err != nil {
		return err
	}
	defer unlock()
	before, err := readTend(file)
	if errors.Is(err, errNoState) {
		fmt.Fprintf(a.Err, "%s, which is moved to %s.broken: what was done before is not known, and no missed start "+
			"is made up for\n",
			screen.Line(err.Error()), screen.Line(file))
		if err := os.Rename(file, file+".broken"); err != nil {
			return err
		}
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	machine, _ := os.Hostname()
	if before == nil {
		before = &tend.State{}
	}
	before.PID, before.Machine, before.Source = os.Getpid(), machine, source
	t := &tending{app: a, file: file, args: []string{"--project", source}, here: here, last: before.Revision}
	if a.from != "" {
		if t.args = []string{"--from", a.from}; a.project != "" {
			t.args = append(t.args, "--project", a.project)
		}
	}
	if a.env != "" {
		t.args = append(t.args, "--env", a.env)
	}
	for _, id := range a.identities {
		t.args = append(t.args, "--identity", id)
	}
	if a.trust {
		t.args = append(t.args, "--trust")
	}
	if listen != "" {
		stop, err := t.serve(listen)
		if err != nil {
			return err
		}
		defer stop()
	}
	watchdog, _ := daemon.SdWatchdogEnabled(false)
	beat := 10 * time.Second
	if watchdog > 0 {
		beat = min(beat, watchdog/3)
	}
	ready := sync.OnceFunc(func() { daemon.SdNotify(false, daemon.SdNotifyReady) })
	tender := &tend.Tender{Read: t.read, Start: t.start, Lives: lives, Keep: t.keep, Tell: t.tell, Look: look, Beat: beat, Most: most,
		Alive: func(s *tend.State) {
			ready()
			daemon.SdNotify(false, "STATUS="+tendLine(s)+"\n"+daemon.SdNotifyWatchdog)
		}}
	defer context.AfterFunc(ctx, func() { daemon.SdNotify(false, daemon.SdNotifyStopping) })()
	if err := tender.Run(ctx, before); err != nil {
		return err
	}
	if ctx.Err() != nil {
		a.code = exitDone // stopping it is how it ends
	}
	return nil
}

// tell prints a line of what happens, with its time.
func (t *tending) tell(format string, args ...any) {
	fmt.Fprintf(t.app.Err, "%s  %s\n", time.Now().Format("2006-01-02 15:04:05"), screen.Line(fmt.Sprintf(format, args...)))
}

// keep writes the state, and what serves it reads.
func (t *tending) keep(s *tend.State) error {
	data, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	t.mu.Lock()
	t.state = tend.State{}
	err = json.Unmarshal(data, &t.state)
	t.mu.Unlock()
	if err != nil {
		return err
	}
	err = atomicfile.Write(t.file, append(data, '\n'), 0o600)
	if err != nil && t.here != nil { // a check-in more does no harm, and one less on a full disk does
		t.tell("the state cannot be kept: %v", err)
		return nil
	}
	return err
}

// read reads the project; nil when it has not moved.
func (t *tending) read(ctx context.Context) (*tend.Project, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	own := t.app.sibling() // whose project is read while others read the old one
	stamp := ""
	var err error
	var gone error
	if own.from != "" {
		own.project = ""
		if i := slices.Index(t.args, "--project"); i >= 0 {
			own.project = t.args[i+1]
		}
		inside := own.project
		if gone = own.take(ctx, own.from); gone != nil && t.stamp == "" && t.last != "" { // as it was last declared
			url, _ := sources.SplitURL(own.from)
			if own.project = inside; own.takeAt(ctx, url, t.last) != nil {
				return nil, gone
			}
		} else if gone != nil {
			return nil, gone
		}
		stamp = own.taken.Commit
	} else {
		dir, err := own.folder()
		if err != nil {
			return nil, err
		}
		if stamp, err = stampOf(dir); err != nil {
			return nil, err
		}
	}
	if stamp == t.stamp {
		return nil, nil
	}
	defer own.closeStores()
	p, err := own.jobs()
	if err != nil {
		return nil, err
	}
	out := &tend.Project{Name: p.Settings.Project}
	out.Revision, _ = own.revised(ctx, p.dir)
	if t.here != nil {
		if err := t.here.known(p); err != nil {
			return nil, err
		}
		out.Jobs = []tend.Job{{Name: t.here.host, Schedule: t.here.schedule(), AtOnce: true}}
		t.took(p, stamp)
		return out, gone
	}
	for _, j := range p.Jobs {
		if j.Schedule == nil {
			continue
		}
		hosts, err := own.hostsOf(p, j)
		if err != nil {
			t.tell("%s: %v", j.Name, err)
		}
		out.Jobs = append(out.Jobs, tend.Job{Name: j.Name, Schedule: j.Schedule, Hosts: hosts})
	}
	t.took(p, stamp)
	return out, gone
}

// took notes what was read. The store is one of its own, which no call closes.
func (t *tending) took(p *project, stamp string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.runs.Store != nil {
		t.runs.Close()
	}
	t.runs = store.Project{Store: &store.Store{File: p.runs.File, URL: p.runs.URL}, ID: p.runs.ID}
	t.stamp = stamp
}

// call gives the words of a call that is about the project as it was read last.
func (t *tending) call(words ...string) []string {
	args := slices.Clone(t.args)
	t.mu.Lock()
	defer t.mu.Unlock()
	if i := slices.Index(args, "--from"); i >= 0 {
		url, _ := sources.SplitURL(args[i+1])
		args[i+1] = url + "@" + t.stamp
	}
	return append(args, words...)
}

// sibling is a call with the same flags, which has read nothing yet.
func (a *App) sibling() *App {
	return &App{In: a.In, Out: a.Out, Err: a.Err, Getenv: a.Getenv, Width: a.Width, args: a.args, output: a.output, env: a.env,
		params: a.params, identities: a.identities, from: a.from, project: a.project, raw: a.raw, trust: a.trust}
}

// hostsOf gives the hosts that a job goes over when nobody answers it; none where that lies
// elsewhere.
func (a *App) hostsOf(p *project, j *job.Job) ([]string, error) {
	if j.Source != "" {
		return nil, nil
	}
	if j.Env != "" && j.Env != p.Settings.Env {
		other := a.sibling()
		other.env, other.project, other.taken = j.Env, a.project, a.taken
		defer other.closeStores()
		in, err := other.jobs()
		if err != nil {
			return nil, err
		}
		p = in
	}
	answers := &job.Answers{Job: j, Setting: p.answers.Setting}
	if err := answers.Take(nil); err != nil {
		return nil, err
	}
	targets, err := job.Words(j.Targets, answers.Vars())
	if err != nil {
		return nil, err
	}
	except, err := job.Words(j.Except, answers.Vars())
	if err != nil {
		return nil, err
	}
	hosts, err := p.Inventory.Select(targets, except)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, h := range hosts {
		out = append(out, h.Name)
	}
	return out, nil
}

// stampOf changes when a file of a project does.
func stampOf(dir string) (string, error) {
	sum := fnv.New64a()
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil // it went meanwhile
		case err != nil:
			return err
		case d.IsDir() && path != dir && (strings.HasPrefix(d.Name(), ".") || d.Name() == "simulated" || d.Name() == "history"):
			return filepath.SkipDir
		case d.IsDir():
			return nil
		}
		info, err := d.Info()
		if err == nil {
			fmt.Fprintln(sum, path, info.Size(), info.ModTime().UnixNano())
		}
		return nil
	})
	return fmt.Sprintf("%x", sum.Sum64()), err
}

// mostSaid is how much of what a job has printed is told when it fails, in bytes.
const mostSaid = 4 << 10

// start runs a job in a process of its own, so that neither takes the other along.
func (t *tending) start(ctx context.Context, name string, began func(pid int)) tend.Result {
	self, err := os.Executable()
	if err != nil {
		return tend.Result{Code: exitWrong, Said: err.Error()}
	}
	words := []string{"job", "start", name, "--yes", "--scheduled"}
	of := store.Filter{Jobs: []string{name}, Most: 1}
	if t.here != nil {
		words, of = t.here.words(), store.Filter{Hosts: []string{name}, Most: 1}
	}
	c := exec.CommandContext(ctx, self, t.call(words...)...)
	c.Cancel = func() error { return c.Process.Signal(os.Interrupt) } // it ends the tasks in hand
	c.WaitDelay = 15 * time.Minute
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // a Ctrl-C here comes to it once, from us
	c.Env = os.Environ()
	if id := t.app.Getenv(identityVariable); id != "" {
		c.Env = append(c.Env, identityVariable+"="+id)
	}
	said := &lastBytes{}
	c.Stdout, c.Stderr = said, said // one writer for both, which is written to by one goroutine then
	since := time.Now()
	if err := c.Start(); err != nil {
		return tend.Result{Code: exitWrong, Said: err.Error()}
	}
	began(c.Process.Pid)
	c.Wait()
	out := tend.Result{Code: c.ProcessState.ExitCode()}
	if out.Code < 0 {
		out.Code, out.Said = exitFailed, "it was killed"
	}
	t.mu.Lock()
	runs := t.runs
	t.mu.Unlock()
	of.Since = since.Add(-time.Second)
	if list, err := runs.List(of); err == nil && len(list) > 0 {
		_, how := screen.Outcome(&list[0])
		out.Run, out.Said = list[0].Number, how
	} else if out.Code != exitDone && out.Said == "" {
		out.Said = lastLine(said.text.String())
	}
	return out
}

// lastBytes keeps the end of what is written.
type lastBytes struct{ text bytes.Buffer }

func (l *lastBytes) Write(p []byte) (int, error) {
	l.text.Write(p)
	if over := l.text.Len() - mostSaid; over > 0 {
		l.text.Next(over)
	}
	return len(p), nil
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	for _, line := range lines {
		if text, ok := strings.CutPrefix(line, "jadekettle: "); ok {
			return text
		}
	}
	return strings.TrimSpace(lines[len(lines)-1])
}

// lives says whether a process still runs a job.
func lives(pid int) bool {
	if syscall.Kill(pid, 0) == syscall.ESRCH {
		return false
	}
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err != nil && !errors.Is(err, fs.ErrNotExist) || bytes.Contains(line, []byte("job\x00start\x00")) ||
		bytes.Contains(line, []byte("\x00--here\x00"))
}

// tendLine tells in a line what a tender is at.
func tendLine(s *tend.State) string {
	running, next, which := []string{}, time.Time{}, ""
	for _, name := range value.Keys(s.Jobs) {
		d := s.Jobs[name]
		if d.Running {
			running = append(running, name)
		}
		if !d.Next.IsZero() && (next.IsZero() || d.Next.Before(next)) {
			next, which = d.Next, name
		}
	}
	line := fmt.Sprintf("%d jobs", len(s.Jobs))
	if len(running) > 0 {
		line += "; runs " + strings.Join(running, ", ")
	}
	if which != "" {
		line += "; next " + which + " at " + screen.When(next)
	}
	if s.Wrong != "" {
		line += "; the project cannot be read"
	}
	return line
}

func (a *App) tendStatusCommand() *cobra.Command {
	here := false
	c := &cobra.Command{
		Use: "status", Short: "Tell what tends the project, what it does, and how its jobs went", Args: noArgs,
		Long: "Status tells whether something tends the project now, since when it could not be read if it cannot be, and of each\n" +
			"job its next start, its last one, what that came to, and how many were missed. It ends with 1 when nothing tends it.",
		RunE: func(c *cobra.Command, _ []string) error {
			key, _, err := a.tended()
			if err != nil {
				return err
			}
			file, err := a.tendFile(key, here)
			if err != nil {
				return err
			}
			state, err := readTend(file)
			if errors.Is(err, fs.ErrNotExist) {
				return problem.Errorf("nothing has tended this project on this machine yet, for this account").Remedy("`jadekettle tend` does")
			}
			if err != nil {
				return err
			}
			unlock, wrong := only(file)
			if wrong == nil {
				unlock()
				a.code = exitFailed
			}
			doc := tendDocument(state, wrong != nil)
			if a.output == "json" {
				return a.document(doc)
			}
			a.showTend(a.Out, doc, time.Now())
			return nil
		},
	}
	c.Flags().BoolVar(&here, "here", false, "of the tender by which this machine keeps itself")
	a.fromFlag(c)
	c.Annotations = map[string]string{takesItself: "yes"}
	return c
}

func tendDocument(s *tend.State, alive bool) document.Tended {
	out := document.Tended{Head: document.One, Running: alive, PID: s.PID, Machine: s.Machine, Since: s.Since, Source: s.Source, Revision: s.Revision,
		Read: s.Read, Looked: s.Looked, Wrong: s.Wrong, WrongAt: s.WrongAt, Jobs: []document.TendedJob{}}
	for _, name := range value.Keys(s.Jobs) {
		out.Jobs = append(out.Jobs, document.TendedJob{Name: name, Done: *s.Jobs[name]})
	}
	return out
}

func (a *App) showTend(w io.Writer, d document.Tended, now time.Time) {
	if d.Running {
		fmt.Fprintln(w, screen.Paint(screen.Loud, fmt.Sprintf("process %d on %s tends this project, since %s", d.PID, screen.Line(d.Machine), screen.When(d.Since))))
	} else {
		fmt.Fprintln(w, screen.Paint(screen.Bad, "nothing tends this project now: what did, from "+screen.When(d.Since)+" on, has ended"))
	}
	rows := [][]string{{"  from", screen.Line(d.Source)}}
	if d.Revision != "" {
		rows = append(rows, []string{"  revision", short(d.Revision) + ", read " + screen.Ago(d.Read, now)})
	}
	rows = append(rows, []string{"  looked", screen.Ago(d.Looked, now)})
	if d.Wrong != "" {
		rows = append(rows, []string{"  but", "since " + screen.When(d.WrongAt) + " the project cannot be read, and stays as it was: " + screen.Line(d.Wrong)})
	}
	screen.Columns(w, rows)
	fmt.Fprintln(w)
	rows = [][]string{{"JOB", "NOW", "NEXT", "LAST", "CAME TO", "STARTS", "FAILED", "MISSED"}}
	for _, j := range d.Jobs {
		state, next, last := "", "none", "never"
		switch {
		case j.Running && d.Running:
			state = "runs"
		case j.Queued && d.Running:
			state = "waits for hosts"
		}
		if !j.Next.IsZero() {
			next = screen.When(j.Next)
		}
		if !j.Began.IsZero() {
			last = screen.When(j.Began)
		}
		how := screen.Line(j.Said)
		if j.Run > 0 {
			how = fmt.Sprintf("run %d: %s", j.Run, how)
		}
		rows = append(rows, []string{j.Name, state, next, last, how, fmt.Sprint(j.Starts), fmt.Sprint(j.Failed), fmt.Sprint(j.Missed)})
	}
	screen.Table(w, rows, nil)
}

// serve serves the state as OpenMetrics text.
func (t *tending) serve(address string) (stop func(), err error) {
	server, l, err := t.app.metrics(address, func() ([]byte, error) {
		t.mu.Lock()
		defer t.mu.Unlock()
		return openmetrics.Tend(&t.state), nil
	})
	if err != nil {
		return nil, err
	}
	go server.Serve(l)
	return func() { server.Close() }, nil
}
