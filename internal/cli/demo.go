package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/demo"
	"jadekettle/internal/app/story"
	"jadekettle/internal/core/record"
	screen "jadekettle/internal/present/text"
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

func (a *App) demo(ctx context.Context, dir string, stay bool) error {
	if _, err := unfold(demo.Files, "project", dir); err != nil {
		return err
	}
	as := func(m screen.Mood) func(string) string {
		return func(text string) string { return screen.Paint(m, text) }
	}
	s := &story.Story{Out: a.Out, Dir: dir, Remark: as(screen.Quiet), Command: as(screen.Loud), Run: func(ctx context.Context, args []string) (int, []*record.Host) {
		in := &App{In: strings.NewReader(""), Out: a.raw, Err: a.raw, Getenv: a.plainEnv, Color: a.Color, Width: a.Width}
		return in.Run(ctx, args), in.last
	}}
	defer s.Close()
	if err := s.Up(); err != nil {
		return err
	}
	if err := s.Tell(ctx); err != nil {
		return err
	}
	if ctx.Err() == nil && stay {
		s.Stay(ctx)
		return nil
	}
	if ctx.Err() != nil {
		a.code = exitStopped
	}
	return nil
}

// plainEnv gives the demo's commands the environment without what would steer
// them elsewhere.
func (a *App) plainEnv(name string) string {
	if strings.HasPrefix(name, "JADEKETTLE_") || name == "SSH_AUTH_SOCK" {
		return ""
	}
	return a.Getenv(name)
}
