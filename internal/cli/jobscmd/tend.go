package jobscmd

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
	"jadekettle/internal/serve"
)

func tend(e *cli.Env) *cobra.Command {
	t, k, here := &serve.Tender{}, &serve.Keeping{}, false
	c := &cobra.Command{
		Use: "tend", Short: "Run scheduled jobs in the foreground (scheduler daemon)",
		Args: cli.NoArgs,
		Long: "Runs the project's scheduled jobs in the foreground, one run per host at a time. Reloads the " +
			"project when its files, or the repository given with --from, change; if the new version is broken, " +
			"keeps the last good one. On SIGTERM, waits for running jobs. If it is killed, the next instance " +
			"resumes. Only one instance can run per project, user and machine.\n\nWith --here, applies the project " +
			"to this machine at an interval instead, without a controller.",
		RunE: func(c *cobra.Command, _ []string) error {
			if t.Look < time.Second || t.Most < 1 {
				return problem.Errorf("invalid --look %v or --most %d", t.Look, t.Most).
					Remedy("use at least 1s for --look and at least 1 for --most")
			}
			if here {
				if err := keeps(c, k); err != nil {
					return err
				}
				t.Keeps, t.Look, t.Most = k, k.Every, 1
			}
			t.Caller, t.Where, t.Out = e.Caller(), e.Where(), e.Err
			return t.Run(c.Context())
		},
	}
	f := c.Flags()
	f.DurationVar(&t.Look, "look", time.Minute, "`DURATION`: how often to check the project for changes")
	f.IntVar(&t.Most, "most", 8, "run at most `N` jobs at once")
	f.StringVar(&t.Listen, "listen", "", "serve OpenMetrics on `ADDRESS`, such as 127.0.0.1:9791")
	f.BoolVar(&here, "here", false, "apply the project to this machine, without a controller")
	f.StringVar(&k.Host, "as", "", "the inventory `HOST` that this machine is (default: its host name)")
	f.DurationVar(&k.Every, "every", 30*time.Minute, "`DURATION`: with --here: interval between runs")
	f.BoolVar(&k.ReportOnly, "report-only", false, "with --here: only report differences; do not fix them")
	e.FromFlag(c)
	c.AddCommand(tendStatus(e))
	return c
}

// keeps holds what a call says of a host that keeps itself.
func keeps(c *cobra.Command, k *serve.Keeping) error {
	if k.Every < time.Minute {
		return problem.Errorf("invalid --every %v", k.Every).Remedy("use a minute or more")
	}
	if c.Flags().Changed("look") || c.Flags().Changed("most") {
		return problem.Errorf("--look and --most cannot be combined with --here").
			Remedy("use --every")
	}
	if k.Host != "" {
		return nil
	}
	var err error
	k.Host, err = os.Hostname()
	return err
}

func tendStatus(e *cli.Env) *cobra.Command {
	here := false
	c := &cobra.Command{
		Use: "status", Short: "Show the scheduler's state", Args: cli.NoArgs,
		Long: "Shows whether a scheduler is running for the project, since when the project could not be read, if " +
			"so, and for each job its next start, last start, last result and missed starts. Exits with 1 if no " +
			"scheduler is running.",
		RunE: func(c *cobra.Command, _ []string) error {
			file, _, err := serve.File(c.Context(), e.Caller(), e.Where(), here)
			if err != nil {
				return err
			}
			state, err := serve.Read(file)
			if errors.Is(err, fs.ErrNotExist) {
				return problem.Errorf("the scheduler has never run for this project").
					Remedy("start it with `jadekettle tend`")
			}
			if err != nil {
				return err
			}
			unlock, held := serve.Only(file)
			doc := document.NewTended(state, held != nil)
			if err := e.Render(doc, func(w io.Writer) { text.Tended(w, doc, time.Now()) }); err != nil {
				return err
			}
			if held == nil {
				unlock()
				return cli.Exit(app.CodeFailed)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&here, "here", false, "of the scheduler that applies the project to this machine")
	e.FromFlag(c)
	return c
}
