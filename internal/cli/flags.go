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

	color string
}

// MoreOutputs is the annotation by which a command names a further form of its
// output, besides text and json, with spaces between.
const MoreOutputs = "outputs"

// global adds the flags that every command has.
func (e *Env) global(root *cobra.Command) {
	f := root.PersistentFlags()
	f.StringVar(&e.Project, "project", "",
		"the project's folder, `DIR` (default: this one or the nearest above with a jadekettle.toml)")
	f.StringVar(&e.Output, "output", "text",
		"the `FORM`: text for people, json for programs; sarif of lint, junit of rehearse and report, and more of "+
			"report")
	f.StringVar(&e.EnvName, "env", "", "the environment, a `NAME` of those that jadekettle.toml declares")
	f.StringArrayVar(&e.Params, "param", nil, "a value for a param, as `MANIFEST.NAME=VALUE`; may be repeated")
	f.StringArrayVar(&e.Identities, "identity", nil,
		"a `FILE` with an age identity or an OpenSSH key that opens sealed data; may be repeated")
	f.BoolVar(&e.Trust, "trust", false,
		"let a project of somebody else do on this machine what its settings say, and do not ask")
	f.StringVar(&e.color, "color", "auto", "`WHEN` to colour: auto (on a terminal, unless NO_COLOR is set), always "+
		"or never")
	root.RegisterFlagCompletionFunc("env", e.CompleteEnvs)
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
		return problem.Errorf("--color is %q", e.color).Remedy("it takes auto, always or never")
	}
	allowed := append([]string{"text", "json"}, strings.Fields(c.Annotations[MoreOutputs])...)
	if !slices.Contains(allowed, e.Output) {
		return problem.Errorf("--output is %q", e.Output).Remedy("it takes %s", strings.Join(allowed, " or "))
	}
	return nil
}

// neverFromVariables are flags by which somebody says that this call means more
// than usual; nobody is to do that by accident. The identity is read elsewhere.
var neverFromVariables = []string{"help", "all", "answer", "from", "trust", "yes", "again", "take-leftovers",
	"forget-leftovers", "adopt", "replace", "show-closed", "identity", "param"}

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
				failed = fmt.Errorf("the variable %s is %q, which --%s does not take", name, v, f.Name)
			}
		}
	})
	return failed
}

// FromFlag lets a call take its project straight from a git repository.
func (e *Env) FromFlag(c *cobra.Command) {
	c.Flags().StringVar(&e.From, "from", "", "take the project from a git repository, `URL[@REV]`, at a branch, "+
		"tag or commit; "+
		"--project names a folder inside it")
}

// HereFlag lets a call be about the machine that it runs on.
func (e *Env) HereFlag(c *cobra.Command) {
	c.Flags().BoolVar(&e.Here, "here", false,
		"this machine is the host: it is not connected to, and the target is its name where none is given")
}

// NoteFlag lets a call note something on its run.
func (e *Env) NoteFlag(c *cobra.Command) {
	c.Flags().StringArrayVar(&e.Notes, "note", nil, "note something on the run, as `KEY=VALUE`; may be repeated")
}

// PlainFlag lets a call go without a live view.
func (e *Env) PlainFlag(c *cobra.Command) {
	c.Flags().BoolVar(&e.Plain, "plain", false, "on a terminal too, print lines as things happen in the place of "+
		"the live view")
}

// PasswordFlags adds the flags to a command that contacts hosts.
func (e *Env) PasswordFlags(c *cobra.Command) {
	c.Flags().StringSliceVar(&e.Passwords.For, "ask", nil,
		"ask once for the password of `WHAT`, login or elevate, for all hosts that take it; may be repeated")
	c.Flags().StringVar(&e.Passwords.File, "password-file", "",
		"take the password for elevate, or for what --ask names, from a `FILE`; /dev/fd/3 is a file descriptor")
	c.Flags().StringVar(&e.Passwords.Command, "password-command", "",
		"take it from what a `COMMAND` prints")
	c.RegisterFlagCompletionFunc("ask", cobra.FixedCompletions([]string{"login", "elevate"}, NoFiles))
}

// ExceptFlag takes targets out again.
func (e *Env) ExceptFlag(c *cobra.Command, except *[]string) {
	c.Flags().StringSliceVar(except, "except", nil, "`TARGETS` to take out again: hosts, patterns or @groups")
}

// ParallelFlag says how many hosts are gone through at once.
func (e *Env) ParallelFlag(c *cobra.Command, parallel *int) {
	c.Flags().IntVar(parallel, "parallel", 0, "`N` hosts at once (default: [run] parallel, 32)")
}

// Parallel refuses a number of hosts that is given and none.
func Parallel(c *cobra.Command, n int) error {
	if n == 0 && c.Flags().Changed("parallel") {
		return problem.Errorf("--parallel is 0").Remedy("it takes a number of hosts from 1 to 10000")
	}
	return nil
}

// YesFlag lets a call go without a question.
func (e *Env) YesFlag(c *cobra.Command, yes *bool) {
	c.Flags().BoolVar(yes, "yes", false, "do not ask")
}

// LenientFlag lets hosts that are not reached be no failure.
func (e *Env) LenientFlag(c *cobra.Command, lenient *bool) {
	c.Flags().BoolVar(lenient, "accept-unreached", false,
		"tell of hosts that are not reached, and do not end with 1 for them")
}

// NoArgs refuses arguments in our words.
func NoArgs(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, sub := range c.Commands() {
		names = append(names, sub.Name())
	}
	return problem.Errorf("%s has no %q", c.CommandPath(), args[0]).
		Meant(args[0], names, "it has "+strings.Join(names, ", "))
}
