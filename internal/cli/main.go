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
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"jadekettle/internal/app"
	"jadekettle/internal/app/compare"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/text"
)

// Commands gives some commands of the program.
type Commands func(*Env) []*cobra.Command

// Streams are where a command line is read from and written to. Tests and the demo run one in their own process.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
	Getenv   func(string) string
	Terminal bool // In and Err are a terminal to ask on, wherever Out goes
	Color    bool
	Width    int // of the terminal that Out is; 0 when it is none
	Height   int // likewise, in lines; 0 where nothing is shown in a pager

	last bool // the process ends with the call
}

// Main runs the program and gives its exit code.
func Main(args []string, commands ...Commands) int {
	collectLater()
	// a pager that is closed must not end a run: the write fails instead
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	out := term.IsTerminal(int(os.Stdout.Fd()))
	s := &Streams{
		last: true, In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: ownEnvironment(),
		Terminal: term.IsTerminal(int(os.Stderr.Fd())) && term.IsTerminal(int(os.Stdin.Fd())),
		Color:    out && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb",
	}
	if out {
		s.Width, s.Height, _ = term.GetSize(int(os.Stdout.Fd()))
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
	return s.Run(ctx, args, commands...)
}

// collectLater lets the heap grow to 16 MB before garbage is collected for the first time, unless GOGC says otherwise:
// most commands end before that. From then on the collector's target is the usual one.
func collectLater() {
	if os.Getenv("GOGC") != "" {
		return
	}
	usual := debug.SetGCPercent(400) // of the 4 MB at which the first collection would start
	runtime.AddCleanup(new(*int), func(usual int) { debug.SetGCPercent(usual) }, usual)
}

// ownEnvironment reads the environment, out of which it takes the identity, so
// that no program that is started from here inherits it.
func ownEnvironment() func(string) string {
	identity := os.Getenv(app.IdentityVariable)
	os.Unsetenv(app.IdentityVariable)
	return func(name string) string {
		if name == app.IdentityVariable {
			return identity
		}
		return os.Getenv(name)
	}
}

// Run runs one command line.
func (s *Streams) Run(ctx context.Context, args []string, commands ...Commands) (code int) {
	defer func() {
		if r := recover(); r != nil && s.Getenv("JADEKETTLE_TRACE") == "" {
			fmt.Fprintf(s.Err, "jadekettle: internal error: %v\n  please report this, with the output of "+
				"JADEKETTLE_TRACE=1\n", r)
			code = app.CodeWrong
		} else if r != nil {
			panic(r)
		}
	}()
	raw, out := &text.Raw{W: s.Out}, text.New(s.Out, s.Color)
	e := &Env{In: s.In, Out: out, Err: text.New(s.Err, s.Color), Raw: raw, Getenv: s.Getenv, Terminal: s.Terminal,
		Color: s.Color, Width: s.Width, Height: s.Height, Args: args}
	e.Call = func(ctx context.Context, args []string) int {
		in := &Streams{In: strings.NewReader(""), Out: raw, Err: raw, Getenv: e.plainEnv, Color: e.Color,
			Width: s.Width}
		return in.Run(ctx, args, commands...)
	}
	root := e.root(commands)
	root.SetArgs(countedBack(root, args))
	root.SetIn(e.In)
	root.SetOut(e.Out)
	root.SetErr(e.Err)
	err := root.ExecuteContext(ctx)
	e.endPage()
	if s.last {
		e.Caller().End()
	} else {
		e.Caller().Close()
	}
	var exit Exit
	if errors.As(err, &exit) {
		code, err = int(exit), nil
	}
	if lost := cmp.Or(raw.Err, out.Err()); lost != nil {
		e.Complain(problem.Errorf("some output could not be written: %w", lost).
			Remedy("free some space; `jadekettle runs show last` shows what a run did"))
		return cmp.Or(code, app.CodeFailed)
	}
	if err != nil {
		e.Complain(err)
		return app.CodeWrong
	}
	return code
}

// plainEnv is the environment without what would steer a command elsewhere.
func (e *Env) plainEnv(name string) string {
	if strings.HasPrefix(name, "JADEKETTLE_") || name == "SSH_AUTH_SOCK" {
		return ""
	}
	return e.Getenv(name)
}

// countedBack lets -1 name the newest run if a command takes runs, though it looks like a flag. A number that is the
// value of a flag stays.
func countedBack(root *cobra.Command, args []string) []string {
	out := slices.Clone(args)
	takes := false
	for i, arg := range args {
		if arg == "--" {
			break
		}
		takes = takes || slices.Contains([]string{"runs", "report", "undo"}, arg)
		n, err := strconv.Atoi(arg)
		if !takes || err != nil || n >= 0 {
			continue
		}
		c, _, err := root.Find(args[:i])
		if err == nil && i > 0 && takesValue(c, args[i-1]) {
			continue
		}
		out[i] = app.Back + strconv.Itoa(-n)
	}
	return out
}

// takesValue says whether the word after a flag is its value.
func takesValue(c *cobra.Command, word string) bool {
	name, long := strings.CutPrefix(word, "--")
	if !long || strings.Contains(name, "=") {
		return false
	}
	f := c.Flag(name)
	return f != nil && f.NoOptDefVal == "" && f.Value.Type() != "bool"
}

func (e *Env) root(commands []Commands) *cobra.Command {
	version := false
	root := &cobra.Command{
		Use: "jadekettle", Short: "Configure servers over SSH from declarative manifests",
		SilenceErrors: true, SilenceUsage: true, Args: NoArgs,
		Long: "Jade Kettle configures servers over SSH from declarative manifests.\n\n" +
			"`jadekettle preview` shows what " +
			"would change; `jadekettle apply` makes those changes and reports what changed, what failed and what was " +
			"already correct. Hosts need only an SSH server and a POSIX shell.",
		PersistentPreRunE: func(c *cobra.Command, _ []string) error { return e.settle(c) },
		RunE: func(c *cobra.Command, _ []string) error {
			if version {
				fmt.Fprintln(e.Out, "jadekettle", Version)
				return nil
			}
			return c.Help()
		},
	}
	e.global(root)
	root.Flags().BoolVarP(&version, "version", "V", false, "print the version")
	for _, some := range commands {
		root.AddCommand(some(e)...)
	}
	e.furnish(root)
	root.SetFlagErrorFunc(wrongFlag)
	return root
}

// Complain prints an error that ended a command.
func (e *Env) Complain(err error) {
	var ps *problem.Problems
	if !errors.As(err, &ps) {
		p := problem.From(err)
		fmt.Fprintf(e.Err, "%s %s\n", text.Paint(text.Bad, "jadekettle:"), text.Line(p.What))
		if p.Do != "" {
			fmt.Fprint(e.Err, text.Wrap(text.Line(p.Do), "  ", e.Width))
		}
		return
	}
	lines := e.Sources()
	var at compare.AtRevision
	var in app.InFolder
	if errors.As(err, &in) {
		lines = &text.Sources{Dir: in.Root}
	}
	if errors.As(err, &at) {
		lines.Text = func(name string) ([]byte, error) { return fs.ReadFile(at.Files, name) }
		fmt.Fprintf(e.Err, "%s the project has problems at %s\n", text.Paint(text.Bad, "jadekettle:"),
			text.Line(at.Revision))
	}
	text.Problems(e.Err, lines, e.Width, ps.List())
	fmt.Fprintln(e.Err, text.Count(len(ps.List()), "error"))
}
