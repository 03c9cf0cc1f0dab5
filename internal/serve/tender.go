package serve

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
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

	"jadekettle/internal/app"
	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/app/jobs"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/app/tend"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schedule"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/history/store"
	"jadekettle/internal/present/openmetrics"
	"jadekettle/internal/present/text"
)

// Tender is one call that runs the schedules of a project for as long as it lives.
type Tender struct {
	Caller *app.Caller
	Where  app.Where
	Out    io.Writer     // takes a line for each thing that happens
	Look   time.Duration // how often it is looked whether the project has moved
	Most   int           // jobs at once
	Listen string        // an address to serve the state on; empty for none
	Keeps  *Keeping      // this machine, which keeps itself; nil where jobs are run

	file string
	args []string // by which a call finds the project, but for its revision
	last string   // the commit that an earlier tender read last

	mu    sync.Mutex
	runs  store.Project
	state tend.State // as it was kept last
	stamp string     // of the project as it was read; a commit where it is taken from a repository
}

// Keeping is a host that keeps itself.
type Keeping struct {
	Host       string
	Every      time.Duration
	ReportOnly bool
}

// known says whether the inventory has the host.
func (k *Keeping) known(p *app.Project) error {
	if _, there := p.Inventory.Host(k.Host); there {
		return nil
	}
	return problem.Errorf("unknown host %q", k.Host).
		Meant(k.Host, p.Inventory.HostNames(), "use --as to set which host this machine is")
}

// schedule is when it checks itself: hosts of one project not all at once.
func (k *Keeping) schedule() *schedule.Schedule {
	return &schedule.Schedule{Every: k.Every, Zone: time.Local, Spread: k.Every / 2, Missed: schedule.Once}
}

// words are those of the call by which it checks itself.
func (k *Keeping) words() []string {
	if k.ReportOnly {
		return []string{"preview", "--here", k.Host}
	}
	return []string{"apply", "--here", "--yes", k.Host}
}

// File is where what a tender does is kept, and its lock beside it. source is where the project comes from. Nothing is
// fetched for it.
func File(ctx context.Context, c *app.Caller, w app.Where, here bool) (file, source string, err error) {
	key := ""
	if w.From != "" {
		url, _ := sources.SplitURL(w.From)
		sum := sha256.Sum256([]byte(url + "\x00" + w.Dir))
		key, source = sources.NameOf(url)+"-"+hex.EncodeToString(sum[:6]), w.From
	} else {
		s, err := app.Find(ctx, c, w)
		if err != nil {
			return "", "", err
		}
		if key, source = s.Glance().Project, s.Root; key == "" {
			return "", "", problem.Errorf("%s does not identify this project", settings.File).
				Remedy("`jadekettle lint` shows what is wrong with it")
		}
	}
	state := c.StateDir()
	if state == "" {
		return "", "", problem.Errorf("no location for the state: neither XDG_STATE_HOME nor HOME is set").
			Remedy("set one of them")
	}
	if here {
		key += "@here"
	}
	return filepath.Join(state, "tend", key+".json"), source, nil
}

// Only holds the lock of a project's tender; the error says who has it.
func Only(file string) (unlock func(), err error) {
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
		if s, err := Read(file); err == nil {
			who = fmt.Sprintf("process %d, since %s,", s.PID, text.When(s.Since))
		}
		return nil, problem.Errorf("%s is already running the scheduler for this project", who).
			Remedy("`jadekettle tend status` shows what it does")
	}
	return func() { f.Close() }, nil
}

// Read reads what a tender has kept.
func Read(file string) (*tend.State, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	s := &tend.State{}
	if err := json.Unmarshal(data, s); err != nil || s.Format < 1 {
		return nil, fmt.Errorf("%w: %s", errNoState, file)
	}
	if s.Format != 1 {
		return nil, problem.Errorf("%s was written by a newer jadekettle", file).Remedy("use the newer version")
	}
	return s, nil
}

// errNoState is wrapped by the error of a file that holds no state, as after a full disk.
var errNoState = errors.New("it is not a scheduler state")

// Run tends until the context ends.
func (t *Tender) Run(ctx context.Context) error {
	var source string
	var err error
	if t.file, source, err = File(ctx, t.Caller, t.Where, t.Keeps != nil); err != nil {
		return err
	}
	unlock, err := Only(t.file)
	if err != nil {
		return err
	}
	defer unlock()
	before, err := t.before(source)
	if err != nil {
		return err
	}
	t.args = t.callAgain(source)
	if t.Listen != "" {
		server, l, err := Metrics(t.Listen, t.Out, func() ([]byte, error) {
			t.mu.Lock()
			defer t.mu.Unlock()
			return openmetrics.Tend(&t.state), nil
		})
		if err != nil {
			return err
		}
		go server.Serve(l)
		defer server.Close()
	}
	watchdog, _ := daemon.SdWatchdogEnabled(false)
	beat := 10 * time.Second
	if watchdog > 0 {
		beat = min(beat, watchdog/3)
	}
	ready := sync.OnceFunc(func() { daemon.SdNotify(false, daemon.SdNotifyReady) })
	tender := &tend.Tender{Read: t.read, Start: t.start, Lives: lives, Keep: t.keep, Report: t.say,
		Look: t.Look, Beat: beat,
		Most: t.Most, Alive: func(s *tend.State) {
			ready()
			daemon.SdNotify(false, "STATUS="+text.TendLine(s)+"\n"+daemon.SdNotifyWatchdog)
		}}
	defer context.AfterFunc(ctx, func() { daemon.SdNotify(false, daemon.SdNotifyStopping) })()
	return tender.Run(ctx, before)
}

// before gives what an earlier tender has kept.
func (t *Tender) before(source string) (*tend.State, error) {
	before, err := Read(t.file)
	if errors.Is(err, errNoState) {
		fmt.Fprintf(t.Out, "%s, which is moved to %s.broken: earlier starts are unknown, and missed starts are not "+
			"made up for\n", text.Line(err.Error()), text.Line(t.file))
		err = os.Rename(t.file, t.file+".broken")
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if before == nil {
		before = &tend.State{}
	}
	machine, _ := os.Hostname()
	before.PID, before.Machine, before.Source = os.Getpid(), machine, source
	t.last = before.Revision
	return before, nil
}

// callAgain gives the flags of the calls that this makes.
func (t *Tender) callAgain(source string) []string {
	args := []string{"--project", source}
	if t.Where.From != "" {
		if args = []string{"--from", t.Where.From}; t.Where.Dir != "" {
			args = append(args, "--project", t.Where.Dir)
		}
	}
	if t.Where.Env != "" {
		args = append(args, "--env", t.Where.Env)
	}
	for _, id := range t.Where.Identities {
		args = append(args, "--identity", id)
	}
	if t.Caller.Trust {
		args = append(args, "--trust")
	}
	return args
}

// say prints a line of what happens, with its time.
func (t *Tender) say(format string, args ...any) {
	fmt.Fprintf(t.Out, "%s  %s\n", time.Now().Format("2006-01-02 15:04:05 MST"),
		text.Line(fmt.Sprintf(format, args...)))
}

// keep writes the state, and what serves it reads.
func (t *Tender) keep(s *tend.State) error {
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
	if err != nil && t.Keeps != nil { // a check-in more does no harm, and one less on a full disk does
		t.say("the state cannot be kept: %v", err)
		return nil
	}
	return err
}

// find finds the project as it is now, and a stamp that changes when it does. gone is why it is as it was last.
func (t *Tender) find(ctx context.Context, c *app.Caller) (s *app.Site, stamp string, gone, err error) {
	s, err = app.Find(ctx, c, t.Where)
	if t.Where.From == "" {
		if err == nil {
			stamp, err = stampOf(s.Root)
		}
		return s, stamp, nil, err
	}
	if gone = err; gone != nil && t.stamp == "" && t.last != "" { // as it was last declared
		w := t.Where
		w.From, _ = sources.SplitURL(w.From)
		w.Revision = t.last
		if s, err = app.Find(ctx, c, w); err != nil {
			return nil, "", nil, gone
		}
	} else if gone != nil {
		return nil, "", nil, gone
	}
	return s, s.Taken.Commit, gone, nil
}

// read reads the project; nil when it has not moved.
func (t *Tender) read(ctx context.Context) (*tend.Project, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	own := t.Caller.Sibling() // whose project is read while others read the old one
	defer own.Close()
	s, stamp, gone, err := t.find(ctx, own)
	if err != nil || stamp == t.stamp {
		return nil, err
	}
	b, err := jobs.Open(s)
	if err != nil {
		return nil, err
	}
	out := &tend.Project{Name: b.Settings.Project, Revision: b.Commit(ctx)}
	if t.Keeps != nil {
		if err := t.Keeps.known(b.Project); err != nil {
			return nil, err
		}
		out.Jobs = []tend.Job{{Name: t.Keeps.Host, Schedule: t.Keeps.schedule(), AtOnce: true}}
		t.took(b.Project, stamp)
		return out, gone
	}
	for _, j := range b.Jobs {
		if j.Schedule == nil {
			continue
		}
		hosts, err := b.Hosts(j)
		if err != nil {
			t.say("%s: %v", j.Name, err)
		}
		out.Jobs = append(out.Jobs, tend.Job{Name: j.Name, Schedule: j.Schedule, Hosts: hosts})
	}
	t.took(b.Project, stamp)
	return out, gone
}

// took notes what was read. The store is one of its own, which no call closes.
func (t *Tender) took(p *app.Project, stamp string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.runs.Store != nil {
		t.runs.Close()
	}
	t.runs = store.Project{Store: &store.Store{File: p.Kept.File, URL: p.Kept.URL}, ID: p.Kept.ID}
	t.stamp = stamp
}

// call gives the words of a call that is about the project as it was read last.
func (t *Tender) call(words ...string) []string {
	args := slices.Clone(t.args)
	t.mu.Lock()
	defer t.mu.Unlock()
	if i := slices.Index(args, "--from"); i >= 0 {
		url, _ := sources.SplitURL(args[i+1])
		args[i+1] = url + "@" + t.stamp
	}
	return append(args, words...)
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
		case d.IsDir() && path != dir && (strings.HasPrefix(d.Name(), ".") || d.Name() == "simulated" ||
			d.Name() == "history"):
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

// start runs a job in a process of its own, so that neither takes the other along.
func (t *Tender) start(ctx context.Context, name string, began func(pid int)) tend.Result {
	self, err := os.Executable()
	if err != nil {
		return tend.Result{Code: app.CodeWrong, Said: err.Error()}
	}
	words := []string{"job", "start", name, "--yes", "--scheduled"}
	of := store.Filter{Jobs: []string{name}, Most: 1}
	if t.Keeps != nil {
		words, of = t.Keeps.words(), store.Filter{Hosts: []string{name}, Most: 1}
	}
	c := exec.CommandContext(ctx, self, t.call(words...)...)
	c.Cancel = func() error { return c.Process.Signal(os.Interrupt) } // it ends the tasks in hand
	c.WaitDelay = 15 * time.Minute
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // a Ctrl-C here comes to it once, from us
	c.Env = os.Environ()
	if id := t.Caller.Getenv(app.IdentityVariable); id != "" {
		c.Env = append(c.Env, app.IdentityVariable+"="+id)
	}
	said := &lastBytes{}
	c.Stdout, c.Stderr = said, said // one writer for both, which is written to by one goroutine then
	since := time.Now()
	if err := c.Start(); err != nil {
		return tend.Result{Code: app.CodeWrong, Said: err.Error()}
	}
	began(c.Process.Pid)
	c.Wait()
	out := tend.Result{Code: c.ProcessState.ExitCode()}
	if out.Code < 0 {
		out.Code, out.Said = app.CodeFailed, "it was killed"
	}
	t.mu.Lock()
	runs := t.runs
	t.mu.Unlock()
	of.Since = since.Add(-time.Second)
	if list, err := runs.List(of); err == nil && len(list) > 0 {
		_, how := text.Outcome(&list[0])
		out.Run, out.Said = list[0].Number, how
	} else if out.Code != app.CodeDone && out.Said == "" {
		out.Said = lastLine(said.text.String())
	}
	return out
}

// mostSaid is how much of what a job has printed is kept for when it fails, in bytes.
const mostSaid = 4 << 10

// lastBytes keeps the end of what is written.
type lastBytes struct{ text bytes.Buffer }

// Write implements io.Writer.
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
		if said, ok := strings.CutPrefix(line, "jadekettle: "); ok {
			return said
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
