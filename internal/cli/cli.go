// Package cli is the command line: each command reads its flags, calls what
// does the work, and prints.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/charmbracelet/lipgloss"
	"github.com/muesli/termenv"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
)

// Exit codes.
const (
	exitDone    = 0
	exitFailed  = 1   // a task failed or was blocked, or a host was not reached, busy or lost
	exitWrong   = 2   // the project or the call is wrong
	exitChanges = 3   // there are differences, and --fail-if-changes
	exitStopped = 130 // stopped from the keyboard
)

// App is where a command reads and writes. Tests and the demo run commands in
// their own process through it.
type App struct {
	In       io.Reader
	Out, Err io.Writer
	Getenv   func(string) string
	Terminal bool // Out is a terminal, and In is one to ask on
	Color    bool

	project    string   // --project
	output     string   // --output
	env        string   // --env
	params     []string // --param
	identities []string // --identity
	code       int
	last       []*run.Host // the outcome of the last preview or apply

	painter *lipgloss.Renderer // made when the first style is
}

// Main runs the program and gives its exit code.
func Main(args []string) int {
	out := term.IsTerminal(int(os.Stdout.Fd()))
	app := &App{
		In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: ownEnvironment(),
		Terminal: out && term.IsTerminal(int(os.Stdin.Fd())),
		Color:    out && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb",
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends at once
	return app.Run(ctx, args)
}

// ownEnvironment reads the environment, out of which it takes the identity, so
// that no program that is started from here inherits it.
func ownEnvironment() func(string) string {
	identity := os.Getenv(identityVariable)
	os.Unsetenv(identityVariable)
	return func(name string) string {
		if name == identityVariable {
			return identity
		}
		return os.Getenv(name)
	}
}

// Run runs one command line.
func (a *App) Run(ctx context.Context, args []string) (code int) {
	a.code = exitDone
	defer func() {
		if r := recover(); r != nil && a.Getenv("JADEKETTLE_TRACE") == "" {
			fmt.Fprintf(a.Err, "jadekettle: a mistake in this program: %v\n  please report it, with what is printed when JADEKETTLE_TRACE=1 is set\n", r)
			code = exitWrong
		} else if r != nil {
			panic(r)
		}
	}()
	root := a.root()
	root.SetArgs(args)
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	if err := root.ExecuteContext(ctx); err != nil {
		a.complain(err)
		return exitWrong
	}
	return a.code
}

const about = `Jade Kettle keeps servers as they are declared.

Manifests declare packages, files, services and users; an inventory lists hosts
and groups. Preview shows what would change on every host, apply makes just
those changes and reports what changed, failed or was already right. A host
needs only an SSH server and sh.`

// moreOutputs is the annotation by which a command names a further form of its
// output, besides text and json.
const moreOutputs = "outputs"

func (a *App) root() *cobra.Command {
	root := &cobra.Command{
		Use: "jadekettle", Short: "Keep servers as they are declared", Long: about,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if err := a.environment(c); err != nil {
				return err
			}
			allowed := []string{"text", "json"}
			if more := c.Annotations[moreOutputs]; more != "" {
				allowed = append(allowed, more)
			}
			if !slices.Contains(allowed, a.output) {
				return fmt.Errorf("--output is %q; it takes %s", a.output, strings.Join(allowed, " or "))
			}
			return nil
		},
	}
	root.PersistentFlags().StringVar(&a.project, "project", "", "the project's folder (default: this one or the nearest above with a jadekettle.toml)")
	root.PersistentFlags().StringVar(&a.output, "output", "text", "text for people, json for programs; sarif of lint, junit of rehearse")
	root.PersistentFlags().StringVar(&a.env, "env", "", "the environment, of those that jadekettle.toml declares")
	root.PersistentFlags().StringArrayVar(&a.params, "param", nil, "a value for a param, as MANIFEST.NAME=VALUE; may be repeated")
	root.PersistentFlags().StringArrayVar(&a.identities, "identity", nil, "a file with an age identity or an OpenSSH key that opens sealed data; may be repeated")
	root.RegisterFlagCompletionFunc("env", a.completeEnvs)
	root.SetCompletionCommandGroupID("grow")
	root.AddGroup(&cobra.Group{ID: "work", Title: "The daily round:"}, &cobra.Group{ID: "grow", Title: "As a project grows:"}, &cobra.Group{ID: "start", Title: "To begin with:"})
	root.AddCommand(a.initCommand(), a.demoCommand(), a.lintCommand(), a.hostsCommand(), a.kindsCommand(), a.factsCommand(), a.whyCommand(), a.secretCommand(), a.sourceCommand(), a.formatCommand(), a.captureCommand(), a.addCommand(), a.rehearseCommand(), a.schemaCommand(), a.previewCommand(), a.applyCommand(), a.versionCommand())
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return fmt.Errorf("%w; `%s --help` lists the flags", err, c.CommandPath())
	})
	return root
}

// environment lets JADEKETTLE_PARALLEL stand for --parallel, and so on, where
// the flag is not given.
func (a *App) environment(c *cobra.Command) error {
	var failed error
	c.Flags().VisitAll(func(f *pflag.Flag) {
		name := "JADEKETTLE_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if f.Name == "help" || f.Name == "all" || f.Name == "yes" || f.Name == "identity" || f.Name == "param" {
			return // nobody is to mean every host by accident
		}
		if v := a.Getenv(name); v != "" && !f.Changed {
			if err := c.Flags().Set(f.Name, v); err != nil && failed == nil {
				failed = fmt.Errorf("the variable %s is %q, which --%s does not take", name, v, f.Name)
			}
		}
	})
	return failed
}

// complain prints an error that ended a command.
func (a *App) complain(err error) {
	var ps *value.Problems
	if errors.As(err, &ps) {
		a.problems(ps.List())
		return
	}
	what, do, _ := strings.Cut(err.Error(), "; ")
	fmt.Fprintf(a.Err, "%s %s\n", a.style(bad).Render("jadekettle:"), what)
	if do != "" {
		fmt.Fprintf(a.Err, "  %s\n", do)
	}
}

// mood is what a piece of text is to convey besides its words.
type mood int

const (
	plain mood = iota
	bad        // something failed
	loud       // something changed
	quiet      // all else
	added
	removed
)

func (a *App) style(m mood) lipgloss.Style {
	if a.painter == nil {
		a.painter = lipgloss.NewRenderer(io.Discard)
		a.painter.SetColorProfile(termenv.Ascii)
		if a.Color {
			a.painter.SetColorProfile(termenv.ANSI)
		}
	}
	s := a.painter.NewStyle().TabWidth(lipgloss.NoTabConversion)
	switch m {
	case bad:
		return s.Foreground(lipgloss.Color("1"))
	case loud:
		return s.Bold(true)
	case quiet:
		return s.Foreground(lipgloss.Color("8")) // grey on light and on dark; faint is darker than plain on light ones
	case added:
		return s.Foreground(lipgloss.Color("2"))
	case removed:
		return s.Foreground(lipgloss.Color("1"))
	}
	return s
}

// count writes a number with its noun.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
