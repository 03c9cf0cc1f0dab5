package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
)

// Args refuses fewer arguments than least or more than most, naming those that the command's Use has. most is below
// 0 for any number.
func Args(least, most int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		_, words, _ := strings.Cut(c.Use, " ")
		switch {
		case len(args) < least:
			return problem.Errorf("expected %s", words).Remedy("usage: `%s %s`", c.CommandPath(), words)
		case most >= 0 && len(args) > most:
			return problem.Errorf("unexpected argument %q", args[most]).
				Remedy("usage: `%s`", strings.TrimSpace(c.CommandPath()+" "+words))
		}
		return nil
	}
}

// NoArgs refuses any argument. Of a command with others below it, the argument is the name of one that does not exist.
func NoArgs(c *cobra.Command, args []string) error {
	if len(args) > 0 && c.HasAvailableSubCommands() {
		return unknownCommand(c, args[0])
	}
	return Args(0, 0)(c, args)
}

// groupCommand makes a command that is nothing but others below it: it prints its help, and refuses what it does not
// have.
func groupCommand(c *cobra.Command) {
	c.Annotations = map[string]string{groupOnly: "yes"}
	c.Args = NoArgs
	c.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
}

// synonyms are words of the trade for our commands and flags.
var synonyms = map[string]string{"diff": "preview", "dry-run": "preview", "check": "preview", "list": "hosts",
	"inventory": "hosts", "test": "rehearse", "history": "runs", "log": "runs", "rollback": "undo", "fmt": "format",
	"import": "capture", "force": "yes", "jobs": "parallel", "limit": "most", "dir": "project", "format": "output"}

// unknownCommand says which command was meant by one that does not exist.
func unknownCommand(c *cobra.Command, name string) error {
	var names []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			names = append(names, sub.Name())
		}
	}
	return problem.Errorf("unknown command %q for %q", name, c.CommandPath()).
		Remedy("%s", meant(name, names, "", fmt.Sprintf("`%s --help` lists the commands", c.CommandPath())))
}

// meant suggests the nearest name, by its letters or by what it means.
func meant(name string, names []string, before, otherwise string) string {
	if other := synonyms[name]; slices.Contains(names, other) {
		return fmt.Sprintf("did you mean %q?", before+other)
	}
	if text := problem.Meant(name, names, ""); text != "" {
		return strings.Replace(text, `"`, `"`+before, 1)
	}
	return otherwise
}

// wrongFlag rewords an error of the library that reads flags.
func wrongFlag(c *cobra.Command, err error) error {
	help := fmt.Sprintf("`%s --help` lists the flags", c.CommandPath())
	var missing *pflag.NotExistError
	var empty *pflag.ValueRequiredError
	var wrong *pflag.InvalidValueError
	switch {
	case errors.As(err, &missing):
		var names []string
		c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		name := missing.GetSpecifiedName()
		if shorts := missing.GetSpecifiedShortnames(); shorts != "" {
			return problem.Errorf("unknown flag -%s for %q", name, c.CommandPath()).Remedy("%s", help)
		}
		return problem.Errorf("unknown flag --%s for %q", name, c.CommandPath()).
			Remedy("%s", meant(name, names, "--", help))
	case errors.As(err, &empty):
		return problem.Errorf("--%s needs a value", empty.GetFlag().Name).Remedy("%s", help)
	case errors.As(err, &wrong):
		f := wrong.GetFlag()
		return problem.Errorf("invalid value %q for --%s", wrong.GetValue(), f.Name).
			Remedy("%s", valueForms[f.Value.Type()])
	}
	return problem.Errorf("%w", err).Remedy("%s", help)
}

// valueForms say what a flag of a type takes.
var valueForms = map[string]string{"int": "use a number", "bool": "use true or false", "duration": "use a duration, " +
	"such as 90s, 10m or 24h", "stringSlice": "separate values with commas, without quotes"}

// hasDocument says whether a command can print a document of JSON.
func hasDocument(c *cobra.Command) bool {
	return slices.ContainsFunc(document.Sorts, func(s document.Sort) bool {
		return slices.Contains(s.Commands(), nameOf(c))
	})
}

// nameOf is the name of a command without that of the program, such as "runs show".
func nameOf(c *cobra.Command) string { return strings.TrimPrefix(c.CommandPath(), c.Root().Name()+" ") }
