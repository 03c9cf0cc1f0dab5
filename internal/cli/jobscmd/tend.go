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
		Use: "tend", Short: "Run the schedules of a project for as long as this lives", GroupID: cli.Work,
		Args: cli.NoArgs,
		Long: "Tend starts the jobs of a project when they are due, one run for a host at a time. It reads the " +
			"project anew when\nit changes, or --from a repository when that moves; what cannot be read leaves the " +
			"one that was. Stopped, it\nwaits for what runs; killed, the next one goes on from there. There is one " +
			"for a project, an account and a machine.",
		RunE: func(c *cobra.Command, _ []string) error {
			if t.Look < time.Second || t.Most < 1 {
				return problem.Errorf("--look is %v and --most %d", t.Look, t.Most).
					Remedy("look every second at most, and run one job or more")
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
	f.DurationVar(&t.Look, "look", time.Minute, "how often it is looked whether the project has moved, a `TIME`")
	f.IntVar(&t.Most, "most", 8, "at most `N` jobs at once")
	f.StringVar(&t.Listen, "listen", "", "serve its state as OpenMetrics text on an `ADDRESS`, such as 127.0.0.1:9791")
	f.BoolVar(&here, "here", false, "keep this machine as the project declares it, without a controller")
	f.StringVar(&k.Host, "as", "", "the `HOST` of the inventory that this machine is (default: its own name)")
	f.DurationVar(&k.Every, "every", 30*time.Minute, "how often it checks itself, a `TIME`")
	f.BoolVar(&k.OnlyTell, "only-tell", false, "tell what differs, and mend nothing")
	e.FromFlag(c)
	c.AddCommand(tendStatus(e))
	return c
}

// keeps holds what a call says of a host that keeps itself.
func keeps(c *cobra.Command, k *serve.Keeping) error {
	if k.Every < time.Minute {
		return problem.Errorf("--every is %v", k.Every).Remedy("give a minute or more")
	}
	if c.Flags().Changed("look") || c.Flags().Changed("most") {
		return problem.Errorf("--look and --most are about schedules, and --here has one of its own").
			Remedy("give --every")
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
		Use: "status", Short: "Tell what tends the project, what it does, and how its jobs went", Args: cli.NoArgs,
		Long: "Status tells whether something tends the project now, since when it could not be read if it cannot " +
			"be, and of each\njob its next start, its last one, what that came to, and how many were missed. It " +
			"ends with 1 when nothing tends it.",
		RunE: func(c *cobra.Command, _ []string) error {
			file, _, err := serve.File(c.Context(), e.Caller(), e.Where(), here)
			if err != nil {
				return err
			}
			state, err := serve.Read(file)
			if errors.Is(err, fs.ErrNotExist) {
				return problem.Errorf("nothing has tended this project on this machine yet, for this account").
					Remedy("`jadekettle tend` does")
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
	c.Flags().BoolVar(&here, "here", false, "of the tender by which this machine keeps itself")
	e.FromFlag(c)
	return c
}
