// Package cli is the command line: each command reads its flags, calls what
// does the work, and prints.
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history/store"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
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
	Terminal bool // In and Err are a terminal to ask on, wherever Out goes
	Color    bool
	Width    int // of the terminal that Out is; 0 when it is none

	args       []string // of the call
	project    string   // --project
	output     string   // --output
	env        string   // --env
	colour     string   // --color
	params     []string // --param
	identities []string // --identity
	passwords  passwords
	code       int
	last       []*record.Host           // the outcome of the last preview or apply
	notes      []string                 // --note
	from       string                   // --from
	here       bool                     // --here
	taken      *sources.Taken           // the project, where it was taken from a git repository
	started    *startedJob              // the job that runs; nil where none does
	stores     map[string]*store.Store  // that were opened, by their files
	plain      bool                     // --plain
	watched    atomic.Pointer[watching] // the run that is shown now; nil where none is
	unkeptTold bool                     // it was told that the history cannot be written
	trust      bool                     // --trust
	agreedTo   map[string][]string      // what projects of others may do here; nil until it is read

	raw io.Writer // Out as it was given, for what programs read
}

// Main runs the program and gives its exit code.
func Main(args []string) int {
	// a pager that is closed must not end a run: the write fails instead
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	out := term.IsTerminal(int(os.Stdout.Fd()))
	app := &App{
		In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: ownEnvironment(),
		Terminal: term.IsTerminal(int(os.Stderr.Fd())) && term.IsTerminal(int(os.Stdin.Fd())),
		Color:    out && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb",
	}
	if out {
		app.Width, _, _ = term.GetSize(int(os.Stdout.Fd()))
	}
	hung, hangUp := context.WithCancel(context.Background())
	defer hangUp()
	if !signal.Ignored(syscall.SIGHUP) { // as below nohup(1)
		hup := make(chan os.Signal, 1)
		// which may come twice when a terminal is closed: by the kernel, and by the shell
		signal.Notify(hup, syscall.SIGHUP)
		go func() {
			for range hup {
				hangUp()
			}
		}()
	}
	ctx, stop := signal.NotifyContext(hung, os.Interrupt, syscall.SIGTERM)
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
	a.args = args
	a.code = exitDone
	defer func() {
		if r := recover(); r != nil && a.Getenv("JADEKETTLE_TRACE") == "" {
			fmt.Fprintf(a.Err, "jadekettle: a mistake in this program: %v\n"+
				"  please report it, with what is printed when JADEKETTLE_TRACE=1 is set\n", r)
			code = exitWrong
		} else if r != nil {
			panic(r)
		}
	}()
	raw := &screen.Raw{W: a.Out}
	a.raw = raw
	defer a.closeStores()
	out, errs := screen.New(a.Out, a.Color), screen.New(a.Err, a.Color)
	defer func(w, e io.Writer) { a.Out, a.Err = w, e }(a.Out, a.Err)
	a.Out, a.Err = out, errs
	root := a.root()
	root.SetArgs(countedBack(args))
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	err := root.ExecuteContext(ctx)
	if e := cmp.Or(raw.Err, out.Err()); e != nil {
		a.complain(problem.Errorf("not all could be printed: %w", e).Remedy("make room for it, and look again: `jadekettle runs show last` has what a run did"))
		if a.code == exitDone {
			a.code = exitFailed
		}
		return a.code
	}
	if err != nil {
		a.complain(err)
		return exitWrong
	}
	return a.code
}

// countedBack lets -1 name the newest run where a command takes runs, though it looks like a
// flag.
func countedBack(args []string) []string {
	out := slices.Clone(args)
	takes := false
	for i, arg := range args {
		if arg == "--" {
			break
		}
		takes = takes || slices.Contains([]string{"runs", "report", "undo"}, arg)
		if n, err := strconv.Atoi(arg); takes && err == nil && n < 0 {
			out[i] = store.Back + strconv.Itoa(-n)
		}
	}
	return out
}

const about = `Jade Kettle keeps servers as they are declared.

Manifests declare packages, files, services and users; an inventory lists hosts
and groups. Preview shows what would change on every host, apply makes just
those changes and reports what changed, failed or was already right. A host
needs only an SSH server and sh.`

// takesItself is the annotation of a command that takes its project from a repository by itself,
// and goes on without where that is gone.
const takesItself = "takes-itself"

// moreOutputs is the annotation by which a command names a further form of its
// output, besides text and json, with spaces between.
const moreOutputs = "outputs"

func (a *App) root() *cobra.Command {
	root := &cobra.Command{
		Use: "jadekettle", Short: "Keep servers as they are declared", Long: about,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if err := a.environment(c); err != nil {
				return err
			}
			if err := a.colours(); err != nil {
				return err
			}
			if a.from != "" && c.Annotations[takesItself] == "" {
				if err := a.take(c.Context(), a.from); err != nil {
					return err
				}
			}
			allowed := []string{"text", "json"}
			allowed = append(allowed, strings.Fields(c.Annotations[moreOutputs])...)
			if !slices.Contains(allowed, a.output) {
				return problem.Errorf("--output is %q", a.output).Remedy("it takes %s", strings.Join(allowed, " or "))
			}
			return nil
		},
	}
	root.PersistentFlags().StringVar(&a.project, "project", "",
		"the project's folder, `DIR` (default: this one or the nearest above with a jadekettle.toml)")
	root.PersistentFlags().StringVar(&a.output, "output", "text",
		"the `FORM`: text for people, json for programs; sarif of lint, junit of rehearse and report, and more of report")
	root.PersistentFlags().StringVar(&a.env, "env", "", "the environment, a `NAME` of those that jadekettle.toml declares")
	root.PersistentFlags().StringArrayVar(&a.params, "param", nil,
		"a value for a param, as `MANIFEST.NAME=VALUE`; may be repeated")
	root.PersistentFlags().StringArrayVar(&a.identities, "identity", nil,
		"a `FILE` with an age identity or an OpenSSH key that opens sealed data; may be repeated")
	root.PersistentFlags().BoolVar(&a.trust, "trust", false,
		"let a project of somebody else do on this machine what its settings say, and do not ask")
	root.PersistentFlags().StringVar(&a.colour, "color", "auto",
		"`WHEN` to colour: auto (on a terminal, unless NO_COLOR is set), always or never")
	root.RegisterFlagCompletionFunc("env", a.completeEnvs)
	root.SetCompletionCommandGroupID("grow")
	root.AddGroup(&cobra.Group{ID: "work", Title: "The daily round:"},
		&cobra.Group{ID: "grow", Title: "As a project grows:"}, &cobra.Group{ID: "start", Title: "To begin with:"})
	root.AddCommand(a.initCommand(), a.demoCommand(), a.lintCommand(), a.hostsCommand(), a.kindsCommand(),
		a.factsCommand(), a.whyCommand(), a.secretCommand(), a.sourceCommand(), a.formatCommand(), a.captureCommand(),
		a.addCommand(), a.rehearseCommand(), a.schemaCommand(), a.previewCommand(), a.applyCommand(), a.driftCommand(), a.undoCommand(), a.verifyCommand(), a.execCommand(), a.compareCommand(),
		a.jobCommand(), a.tendCommand(), a.runsCommand(), a.statusCommand(), a.reportCommand(),
		a.versionCommand())
	a.told(root)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return problem.Errorf("%w", err).Remedy("`%s --help` lists the flags", c.CommandPath())
	})
	return root
}

// colours does as --color says.
func (a *App) colours() error {
	switch a.colour {
	case "auto":
		return nil
	case "always", "never":
		a.Color = a.colour == "always"
		for _, w := range []io.Writer{a.Out, a.Err} {
			if s, ok := w.(*screen.Writer); ok {
				s.Colour(a.Color)
			}
		}
		return nil
	}
	return problem.Errorf("--color is %q", a.colour).Remedy("it takes auto, always or never")
}

// neverFromVariables are flags by which somebody says that this call means more
// than usual; nobody is to do that by accident. The identity is read elsewhere.
var neverFromVariables = []string{"help", "all", "answer", "from", "trust", "yes", "again", "take-leftovers",
	"forget-leftovers", "adopt", "replace", "show-closed", "identity", "param"}

// environment lets JADEKETTLE_PARALLEL stand for --parallel, and so on, where
// the flag is not given.
func (a *App) environment(c *cobra.Command) error {
	var failed error
	c.Flags().VisitAll(func(f *pflag.Flag) {
		name := "JADEKETTLE_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if slices.Contains(neverFromVariables, f.Name) {
			return
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
	var ps *problem.Problems
	if errors.As(err, &ps) {
		dir, _ := a.folder()
		lines := &screen.Sources{Dir: dir}
		var at atRevision
		if errors.As(err, &at) {
			lines.Text = func(name string) ([]byte, error) { return fs.ReadFile(at.files, name) }
			fmt.Fprintf(a.Err, "%s with %s the project has problems\n", screen.Paint(screen.Bad, "jadekettle:"),
				screen.Line(at.rev))
		}
		screen.Problems(a.Err, lines, a.Width, ps.List())
		return
	}
	p := problem.From(err)
	fmt.Fprintf(a.Err, "%s %s\n", screen.Paint(screen.Bad, "jadekettle:"), screen.Line(p.What))
	if do := p.Do; do != "" {
		fmt.Fprint(a.Err, screen.Wrap(screen.Line(do), "  ", a.Width))
	}
}

// document prints what programs read. Their own parsers make text safe.
func (a *App) document(doc any) error { return document.Write(a.raw, doc) }
