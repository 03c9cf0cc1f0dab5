package cli

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	unit "jadekettle/internal/app/units"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schedule"
	screen "jadekettle/internal/present/text"
)

func (a *App) jobInstallCommand() *cobra.Command {
	sure := false
	c := &cobra.Command{
		Use: "install JOB", Short: "Let systemd start a job on this machine, by its schedule", Args: oneJob,
		Long: "Install writes a service and a timer of systemd for a job that has a schedule, and shows them first: for the\n" +
			"machine when root calls it, else for the account. Where a job is taken --from a repository, it is taken anew at\n" +
			"each start. Called again it brings them up to date.",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.jobs()
			if err != nil {
				return err
			}
			j, err := job.Find(p.Jobs, args[0])
			if err != nil {
				return err
			}
			if j.Schedule == nil {
				return problem.Errorf("the job %s has no schedule", j.Name).Remedy("write [job.%s.schedule] in %s", j.Name, job.File)
			}
			files, err := a.jobUnits(p, j)
			if err != nil {
				return err
			}
			m := a.units()
			for _, f := range files {
				fmt.Fprintf(a.Out, "%s\n%s\n", screen.Paint(screen.Loud, filepath.Join(m.Dir, f.Name)), screen.Block(f.Text))
			}
			if !sure {
				if !a.Terminal {
					return problem.Errorf("install asks before it writes these, and there is no terminal to ask on").Remedy("say --yes")
				}
				fmt.Fprint(a.Err, "Write them, and begin? [y/N] ")
				if !yes(bufio.NewReader(a.In)) {
					return a.nothingDone()
				}
			}
			if err := m.Install(c.Context(), files, files[1].Name); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s starts %s\n", files[1].Name, j.Schedule)
			if m.User {
				fmt.Fprintln(a.Err, "it starts while you are logged in; `loginctl enable-linger` lets it start without")
			}
			return nil
		},
		ValidArgsFunction: a.completeJobs,
	}
	c.Flags().BoolVar(&sure, "yes", false, "do not ask")
	a.fromFlag(c)
	return c
}

func (a *App) jobRemoveCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "remove JOB", Short: "Take away what install has written for a job", Args: oneJob,
		RunE: func(c *cobra.Command, args []string) error {
			_, s, err := a.keptRuns()
			if err != nil {
				return err
			}
			name := unitName(s.Project, args[0])
			found, err := a.units().Remove(c.Context(), name+".timer", name+".service")
			if err != nil {
				return err
			}
			if !found {
				return problem.Errorf("the job %s is not installed on this machine, for this account", args[0]).
					Remedy("`jadekettle job install %s` does that", args[0])
			}
			fmt.Fprintf(a.Out, "%s.timer and %s.service are gone\n", name, name)
			return nil
		},
		ValidArgsFunction: a.completeJobs,
	}
	a.fromFlag(c)
	return c
}

// units is the manager of the account that calls.
func (a *App) units() unit.Manager {
	config := a.Getenv("XDG_CONFIG_HOME")
	if !filepath.IsAbs(config) {
		config = filepath.Join(a.Getenv("HOME"), ".config")
	}
	return unit.Of(os.Geteuid(), config)
}

// unitName names the units of a job.
func unitName(project, name string) string {
	return "jadekettle-" + project[:min(8, len(project))] + "-" + name
}

// keptVariables are those that a service has of the call that installs it.
var keptVariables = []string{"HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME", "PGPASSFILE", "SSH_AUTH_SOCK"}

// service writes the service that runs a command line of this program.
func (a *App) service(about string, more []string, args ...string) (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	about, err = unit.Text(about)
	if err != nil {
		return "", err
	}
	lines := []string{"[Unit]", "Description=" + about, "Wants=network-online.target", "After=network-online.target", "", "[Service]"}
	for _, name := range keptVariables {
		if v := a.Getenv(name); v != "" {
			word, err := unit.Word(name + "=" + v)
			if err != nil {
				return "", err
			}
			lines = append(lines, "Environment="+word)
		}
	}
	command, err := unit.Line(append([]string{self}, args...)...)
	if err != nil {
		return "", err
	}
	lines = append(lines, more...)
	lines = append(lines, "ExecStart="+command, "KillSignal=SIGINT", "KillMode=mixed", "TimeoutStopSec=10min")
	return strings.Join(lines, "\n") + "\n", nil
}

// whence are the flags by which a later call finds the project of this one.
func (a *App) whence(p *project) []string {
	if a.taken == nil {
		return []string{"--project", p.dir}
	}
	out := []string{"--from", a.from}
	if inside, err := filepath.Rel(a.taken.Dir, p.dir); err == nil && inside != "." {
		out = append(out, "--project", inside)
	}
	return out
}

// jobUnits writes the service and the timer of a job.
func (a *App) jobUnits(p *project, j *job.Job) ([]unit.File, error) {
	name := unitName(p.Settings.Project, j.Name)
	args := append(a.whence(p), "job", "start", j.Name, "--yes", "--scheduled")
	if a.trust {
		args = append(args, "--trust")
	}
	about := "jadekettle: the job " + j.Name
	if j.About != "" {
		about += ", " + j.About
	}
	service, err := a.service(about, []string{"Type=oneshot"}, args...)
	if err != nil {
		return nil, err
	}
	when, err := unit.Text("When " + about)
	if err != nil {
		return nil, err
	}
	timer := []string{"[Unit]", "Description=" + when, "", "[Timer]"}
	s := j.Schedule
	for _, event := range s.Calendar() {
		timer = append(timer, "OnCalendar="+event)
	}
	if s.Every > 0 {
		timer = append(timer, fmt.Sprintf("OnActiveSec=%ds", int(min(s.Every, time.Minute).Seconds())), fmt.Sprintf("OnUnitActiveSec=%ds", int(s.Every.Seconds())))
	}
	if s.Spread > 0 {
		timer = append(timer, fmt.Sprintf("RandomizedDelaySec=%ds", int(s.Spread.Seconds())), "FixedRandomDelay=yes")
	}
	timer = append(timer, "AccuracySec=1s")
	if s.Every == 0 {
		timer = append(timer, "Persistent="+map[bool]string{true: "yes", false: "no"}[s.Missed == schedule.Once])
	}
	timer = append(timer, "", "[Install]", "WantedBy=timers.target")
	return []unit.File{{Name: name + ".service", Text: service}, {Name: name + ".timer", Text: strings.Join(timer, "\n") + "\n"}}, nil
}

// closedNow says whether a start by a schedule is to be passed over, because no window is open.
func (a *App) closedNow(j *job.Job, now time.Time) bool {
	if j.Schedule == nil || j.Schedule.Open(now) {
		return false
	}
	var windows []string
	for _, w := range j.Schedule.Windows {
		windows = append(windows, w.String())
	}
	slices.Sort(windows)
	fmt.Fprintf(a.Err, "the job %s is not started: it starts only %s\n", j.Name, strings.Join(windows, " and "))
	return true
}
