package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jadekettle/internal/app"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/text"
)

// Flags are those of the call that more than one command has.
type Flags struct {
	Project    string
	Output     string
	EnvName    string
	Params     []string
	Identities []string
	Trust      bool
	From       string
	Here       bool
	Plain      bool
	Notes      []string
	Passwords  app.Passwords

	color   string
	noPager bool
}

// MoreOutputs is the annotation by which a command names a further form of its
// output, besides text and json, with spaces between.
const MoreOutputs = "outputs"

// global adds the flags that every command has.
func (e *Env) global(root *cobra.Command) {
	f := root.PersistentFlags()
	f.StringVarP(&e.Project, "project", "p", "",
		"`DIR`: project directory (default: nearest with jadekettle.toml)")
	f.StringVarP(&e.Output, "output", "o", "text",
		"`FORMAT`: output format: text or json")
	f.StringVarP(&e.EnvName, "env", "e", "", "`NAME`: environment to use")
	f.StringArrayVar(&e.Params, "param", nil, "`MANIFEST.NAME=VALUE`: set a param (repeatable)")
	f.StringArrayVar(&e.Identities, "identity", nil,
		"`FILE`: age identity or OpenSSH key used to decrypt secrets (repeatable)")
	f.BoolVar(&e.Trust, "trust", false,
		"allow the settings of another user's project to act on this machine, without confirmation")
	f.StringVar(&e.color, "color", "auto", "`WHEN`: colorize output: auto, always or never (NO_COLOR is respected)")
	f.BoolVar(&e.noPager, "no-pager", false, "do not show long output in $PAGER")
	root.RegisterFlagCompletionFunc("env", e.CompleteEnvs)
	root.RegisterFlagCompletionFunc("output", func(c *cobra.Command, _ []string, _ string) ([]string,
		cobra.ShellCompDirective) {
		return outputs(c), NoFiles
	})
	root.RegisterFlagCompletionFunc("color", cobra.FixedCompletions([]string{"auto", "always", "never"}, NoFiles))
}

// settle holds the flags of a call to what its command takes, before that runs.
func (e *Env) settle(c *cobra.Command) error {
	if err := e.variables(c); err != nil {
		return err
	}
	switch e.color {
	case "auto":
	case "always", "never":
		e.Color = e.color == "always"
		for _, w := range []any{e.Out, e.Err} {
			if s, ok := w.(*text.Writer); ok {
				s.Colour(e.Color)
			}
		}
	default:
		return problem.Errorf("invalid --color %q", e.color).Remedy("use auto, always or never")
	}
	if allowed := outputs(c); !slices.Contains(allowed, e.Output) {
		return problem.Errorf("%s has no output format %q", c.CommandPath(), e.Output).
			Remedy("use %s", problem.OneOf(allowed))
	}
	e.page(paged[nameOf(c)])
	return nil
}

// outputs lists the output formats of a command.
func outputs(c *cobra.Command) []string {
	out := []string{"text"}
	if hasDocument(c) {
		out = append(out, "json")
	}
	return append(out, strings.Fields(c.Annotations[MoreOutputs])...)
}

// neverFromVariables are flags by which somebody says that this call means more
// than usual; nobody is to do that by accident. The identity is read elsewhere.
var neverFromVariables = []string{"help", "version", "all", "input", "from", "trust", "yes", "again",
	"remove-undeclared", "forget-undeclared", "adopt", "replace", "show-closed", "identity", "param"}

// variables lets JADEKETTLE_PARALLEL stand for --parallel, and so on, where
// the flag is not given.
func (e *Env) variables(c *cobra.Command) error {
	var failed error
	c.Flags().VisitAll(func(f *pflag.Flag) {
		name := "JADEKETTLE_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if slices.Contains(neverFromVariables, f.Name) {
			return
		}
		if v := e.Getenv(name); v != "" && !f.Changed {
			if err := c.Flags().Set(f.Name, v); err != nil && failed == nil {
				failed = fmt.Errorf("invalid value %[2]q in the variable %[1]s, which sets --%[3]s", name, v, f.Name)
			}
		}
	})
	return failed
}

// FromFlag lets a call take its project straight from a git repository.
func (e *Env) FromFlag(c *cobra.Command) {
	c.Flags().StringVar(&e.From, "from", "", "`URL[@REV]`: read the project from a git repository; --project is "+
		"then a path inside it")
}

// HereFlag lets a call be about the machine that it runs on.
func (e *Env) HereFlag(c *cobra.Command) {
	c.Flags().BoolVar(&e.Here, "here", false,
		"apply to this machine, without SSH")
}

// NoteFlag lets a call note something on its run.
func (e *Env) NoteFlag(c *cobra.Command) {
	c.Flags().StringArrayVar(&e.Notes, "note", nil, "`KEY=VALUE`: attach a note to the run (repeatable)")
}

// PlainFlag lets a call go without a live view.
func (e *Env) PlainFlag(c *cobra.Command) {
	c.Flags().BoolVar(&e.Plain, "plain", false, "disable the live view")
}

// PasswordFlags adds the flags to a command that contacts hosts.
func (e *Env) PasswordFlags(c *cobra.Command) {
	c.Flags().StringSliceVar(&e.Passwords.For, "ask", nil,
		"`WHAT`: prompt for a password: login or elevate (repeatable)")
	c.Flags().StringVar(&e.Passwords.File, "password-file", "",
		"`FILE`: read the password from a file that only you may read; /dev/fd/N works")
	c.Flags().StringVar(&e.Passwords.Command, "password-command", "",
		"`COMMAND`: read the password from the output of a command")
	c.RegisterFlagCompletionFunc("ask", cobra.FixedCompletions([]string{"login", "elevate"}, NoFiles))
}

// ExceptFlag takes targets out again.
func (e *Env) ExceptFlag(c *cobra.Command, except *[]string) {
	c.Flags().StringSliceVar(except, "except", nil, "`TARGETS`: exclude these hosts, patterns or @groups")
}

// ParallelFlag says how many hosts are gone through at once.
func (e *Env) ParallelFlag(c *cobra.Command, parallel *int) {
	c.Flags().IntVarP(parallel, "parallel", "j", 0, "work on `N` hosts in parallel (default: run.parallel, else 32)")
}

// Parallel refuses a number of hosts that is given and none.
func Parallel(c *cobra.Command, n int) error {
	if n == 0 && c.Flags().Changed("parallel") {
		return problem.Errorf("invalid --parallel 0").Remedy("use a number from 1 to 10000")
	}
	return nil
}

// YesFlag lets a call go without a question.
func (e *Env) YesFlag(c *cobra.Command, yes *bool) {
	c.Flags().BoolVarP(yes, "yes", "y", false, "do not prompt for confirmation")
}

// LenientFlag lets hosts that are not reached be no failure.
func (e *Env) LenientFlag(c *cobra.Command, lenient *bool) {
	c.Flags().BoolVar(lenient, "accept-unreached", false,
		"do not fail if some hosts are not reached")
}
