package projectcmd

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/capture"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

func captureCommand(e *cli.Env) *cobra.Command {
	all, to, encrypt := false, "", false
	c := &cobra.Command{
		Use: "capture HOST KIND [NAME...]", Short: "Generate a manifest from a host's current state",
		Args: func(c *cobra.Command, args []string) error {
			switch {
			case all && to == "":
				return problem.Errorf("--all requires --to").
					Remedy("use a directory, such as --to manifests/archive")
			case !all && (to != "" || encrypt):
				return problem.Errorf("--to and --encrypt require --all").Remedy("remove them, or add --all")
			case all:
				return cli.Args(1, 1)(c, args)
			}
			return cli.Args(2, -1)(c, args)
		},
		Long: "Reads the current state of a host and prints it as declarations. Applying them to the same host " +
			"changes nothing. Passwords are never shown.\n\nWith only a kind, captures what was set up by hand: " +
			"users and groups from ID 1000, services with a changed boot setting, packages that were explicitly " +
			"installed, and files that no package installed or that differ from their package.\n\nWith --all, " +
			"writes everything that was set up by hand to a manifest and previews it on the host; declarations " +
			"that would change anything are removed and listed. Private files, private keys and password hashes " +
			"are listed and skipped, or encrypted with --encrypt.",
		Example: "  jadekettle capture gauge-01 service tide-logger cron\n  jadekettle capture gauge-01 file " +
			"/etc/motd\n  jadekettle capture gauge-01 user > manifests/people.toml\n" +
			"  jadekettle capture archive-01 --all --to manifests/archive",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := e.Open(c.Context())
			if err != nil {
				return err
			}
			list, err := p.Select(args[:1], nil)
			if err != nil {
				return err
			}
			if len(list) != 1 {
				return problem.Errorf("capture takes one host, but %q matches %d", args[0], len(list)).
					Remedy("use a single host")
			}
			h := list[0]
			if all {
				w, err := capture.All(c.Context(), p, h, e.Passwords, to, encrypt)
				if err != nil {
					return err
				}
				text.CapturedWhole(e.Out, h.Name, w)
				return nil
			}
			asked, found, err := capture.Some(c.Context(), p, h, e.Passwords, args[1], args[2:])
			if err != nil {
				return err
			}
			if len(found) == 0 {
				fmt.Fprintf(e.Err, "%s  no %s was set up by hand\n", h.Name, asked[0].Kind)
			}
			return captured(e, h.Name, capture.Checked(p.Site.Kinds(), asked, found))
		},
		ValidArgsFunction: completeCapture(e),
	}
	c.Flags().BoolVar(&all, "all", false, "capture everything that was set up by hand on the host")
	c.Flags().StringVar(&to, "to", "", "with --all: write the manifest to `DIR`, such as manifests/archive")
	c.Flags().BoolVar(&encrypt, "encrypt", false, "with --all: encrypt possible secrets in the host's data")
	e.PasswordFlags(c)
	return c
}

// captured prints what a host reported, as a manifest.
func captured(e *cli.Env, host string, list []capture.Thing) error {
	docs, code := []document.Capture{}, app.CodeDone
	for _, t := range list {
		if t.Err != nil {
			p := problem.From(t.Err)
			fmt.Fprintf(e.Err, "%s  %s cannot be captured: %s\n", host, text.Line(t.Ref.String()), text.Line(p.What))
			if p.Do != "" {
				fmt.Fprintf(e.Err, "  %s\n", text.Line(p.Do))
			}
			if !t.Guarded {
				code = app.CodeFailed
			}
			continue
		}
		if !e.JSON() {
			if len(docs) > 0 {
				fmt.Fprintln(e.Out)
			}
			fmt.Fprint(e.Out, t.Text)
		}
		docs = append(docs, document.Capture{Kind: t.Ref.Kind, Name: t.Ref.Name, Attributes: t.Attrs, Note: t.Note})
	}
	if e.JSON() {
		if err := e.Document(document.Captures{Head: document.One, Host: host, Captured: docs}); err != nil {
			return err
		}
	}
	return cli.Ended(code)
}

// completeCapture offers a host, then kinds, and then what is declared of one.
func completeCapture(e *cli.Env) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 {
			return e.CompleteHosts()(c, args, typed)
		}
		if len(args) == 1 {
			return kindsOf(c.Context(), e).Names(), cli.NoFiles
		}
		out, directive := completeWhy(e)(c, args[:2], typed)
		return slices.DeleteFunc(out, func(s string) bool { return slices.Contains(args[2:], s) }), directive
	}
}
