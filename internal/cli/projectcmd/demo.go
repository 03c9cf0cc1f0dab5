package projectcmd

import (
	"context"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/story"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/text"
)

func demonstrate(e *cli.Env) *cobra.Command {
	stay := false
	c := &cobra.Command{
		Use: "demo [DIR]", Short: "Run a guided demo on simulated hosts",
		Args: cli.Args(0, 1),
		Long: "Creates an example project in a directory (by default a temporary one), simulates its hosts in this " +
			"program, and walks through a typical session: preview, apply, apply again, and a manual change that " +
			"is found and fixed. Needs no root access and no network. On a terminal, waits for a keypress between " +
			"the steps.",
		RunE: func(c *cobra.Command, args []string) error {
			dir, cleanup, err := demoFolder(args)
			if err != nil {
				return err
			}
			defer cleanup()
			return playStory(c.Context(), e, dir, stay)
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

// playStory plays the story in a directory.
func playStory(ctx context.Context, e *cli.Env, dir string, stay bool) error {
	as := func(m text.Mood) func(string) string { return func(s string) string { return text.Paint(m, s) } }
	s := &story.Story{Out: e.Out, Dir: dir, Remark: as(text.Quiet), Command: as(text.Loud), Run: e.Call,
		Last: func(ctx context.Context) ([]*record.Host, error) { return lastHosts(ctx, e, dir) }}
	if e.Terminal {
		s.Pause = func(ctx context.Context) bool { return e.Key(ctx, "Press any key to continue, or q to quit. ") }
	}
	defer s.Close()
	if err := s.Up(); err != nil {
		return err
	}
	if err := s.Play(ctx); err != nil {
		return err
	}
	if ctx.Err() == nil && stay {
		s.Stay(ctx)
		return nil
	}
	if ctx.Err() != nil {
		return cli.Exit(app.CodeStopped)
	}
	return nil
}

// lastHosts gives what became of the hosts in the last run of a project.
func lastHosts(ctx context.Context, e *cli.Env, dir string) ([]*record.Host, error) {
	c := e.Caller().Sibling()
	defer c.Close()
	s, err := app.Find(ctx, c, app.Where{Dir: dir})
	if err != nil {
		return nil, err
	}
	runs, err := s.Runs()
	if err != nil {
		return nil, err
	}
	n, err := runs.Number(app.Last, "")
	if err != nil {
		return nil, err
	}
	r, err := runs.Load(n)
	if err != nil {
		return nil, err
	}
	return r.Hosts, nil
}
