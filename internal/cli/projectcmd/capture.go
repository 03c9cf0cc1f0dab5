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
	all, to, seal := false, "", false
	c := &cobra.Command{
		Use: "capture HOST KIND [NAME...]", Short: "Print what stands on a host as a manifest", GroupID: cli.Grow,
		Args: func(c *cobra.Command, args []string) error {
			switch {
			case all && to == "":
				return problem.Errorf("--all is given without --to").
					Remedy("name a folder, such as --to manifests/archive")
			case !all && (to != "" || seal):
				return problem.Errorf("--to and --seal go with --all").Remedy("take them out, or add --all")
			case all:
				return cobra.ExactArgs(1)(c, args)
			}
			return cobra.MinimumNArgs(2)(c, args)
		},
		Long: "Capture reads what stands on a host and prints it as declarations: applied to the same host they " +
			"change\nnothing. With a kind alone it takes what people put there: accounts and groups from id 1000 on, " +
			"services\nwhose start at boot is otherwise than their package set it, packages that were asked " +
			"for, files " +
			"that no package\nbrought or that differ from what it brought. Passwords are never shown. It changes " +
			"nothing on the host.\n\nWith --all it takes everything that people set up there, writes it as a " +
			"manifest and previews that on the host;\nwhat would change is taken out and listed, so that what is " +
			"left changes nothing. What only its owner may read, and\nwhat holds a private key or a stored " +
			"password, is named and left out, or sealed with --seal.",
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
				return problem.Errorf("capture takes one host, and %q names %d", args[0], len(list)).Remedy("name one")
			}
			h := list[0]
			if all {
				w, err := capture.All(c.Context(), p, h, e.Passwords, to, seal)
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
				fmt.Fprintf(e.Err, "%s  there is no %s that people put there\n", h.Name, asked[0].Kind)
			}
			return captured(e, h.Name, capture.Checked(p.Site.Kinds(), asked, found))
		},
		ValidArgsFunction: completeCapture(e),
	}
	c.Flags().BoolVar(&all, "all", false, "take everything that people set up on the host")
	c.Flags().StringVar(&to, "to", "", "with --all: the `FOLDER` of the manifest to write, such as manifests/archive")
	c.Flags().BoolVar(&seal, "seal", false, "with --all: seal what may hold secrets, in the data of the host")
	e.PasswordFlags(c)
	return c
}

// captured prints what a host told, as a manifest.
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
