package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	captured "jadekettle/internal/app/capture"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) captureCommand() *cobra.Command {
	all, to, seal := false, "", false
	c := &cobra.Command{
		Use: "capture HOST KIND [NAME...]", Short: "Print what stands on a host as a manifest", GroupID: "grow",
		Args: func(c *cobra.Command, args []string) error {
			switch {
			case all && to == "":
				return problem.Errorf("--all is given without --to").Remedy("name a folder, such as --to manifests/archive")
			case !all && (to != "" || seal):
				return problem.Errorf("--to and --seal go with --all").Remedy("take them out, or add --all")
			case all:
				return cobra.ExactArgs(1)(c, args)
			}
			return cobra.MinimumNArgs(2)(c, args)
		},
		Long: "Capture reads what stands on a host and prints it as declarations: applied to the same host they " +
			"change\nnothing. With a kind alone it takes what people put there: accounts and groups from id 1000 on, " +
			"services\nwhose start at boot is otherwise than their package set it, packages that were asked for, files " +
			"that no package\nbrought or that differ from what it brought. Passwords are never shown. It changes nothing on " +
			"the host.\n\nWith --all it takes everything that people set up there, writes it as a manifest and previews " +
			"that on the host;\nwhat would change is taken out and listed, so that what is left changes nothing. What only its owner may read, and\n" +
			"what holds a private key or a stored password, is named and left out, or sealed with --seal.",
		Example: "  jadekettle capture gauge-01 service tide-logger cron\n  jadekettle capture gauge-01 file /etc/motd\n" +
			"  jadekettle capture gauge-01 user > manifests/people.toml\n" +
			"  jadekettle capture archive-01 --all --to manifests/archive",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.load(args[:1], nil)
			if err != nil {
				return err
			}
			if len(p.hosts) != 1 {
				return problem.Errorf("capture takes one host, and %q names %d", args[0], len(p.hosts)).Remedy("name one")
			}
			if all {
				return a.captureAll(c.Context(), p, to, seal)
			}
			asked, err := a.asks(args[1], args[2:])
			if err != nil {
				return err
			}
			fleet, err := a.fleet(p, 1)
			if err != nil {
				return err
			}
			fleet.Chosen = nil
			out := fleet.Capture(c.Context(), p.hosts[0], asked)
			if out.State != record.Reached {
				return fmt.Errorf("%s  %s: %s", out.Name, out.State, screen.Line(out.Message))
			}
			return a.captured(out, asked)
		},
		ValidArgsFunction: a.completeCapture,
	}
	c.Flags().BoolVar(&all, "all", false, "take everything that people set up on the host")
	c.Flags().StringVar(&to, "to", "", "with --all: the `FOLDER` of the manifest to write, such as manifests/archive")
	c.Flags().BoolVar(&seal, "seal", false, "with --all: seal what may hold secrets, in the data of the host")
	a.passwordFlags(c)
	return c
}

// asks reads what is to be captured: things of one kind, or all of it.
func (a *App) asks(kind string, names []string) ([]value.Ref, error) {
	schemas := a.kinds()
	k, ok := schemas.Kind(kind)
	if !ok {
		return nil, a.noKind(kind)
	}
	if len(names) == 0 && k.TooMany != "" {
		return nil, problem.Errorf("a host has too many of the kind %s", kind).Remedy("name one, such as %s", k.TooMany)
	}
	if len(names) == 0 {
		return []value.Ref{{Kind: kind}}, nil
	}
	var out []value.Ref
	for _, name := range names {
		ref, err := schemas.ParseRef(kind + " " + name)
		if err != nil {
			return nil, err
		}
		out = append(out, ref)
	}
	return out, nil
}

// noKind says that there is no such kind.
func (a *App) noKind(name string) error {
	names := a.kinds().Names()
	return problem.Errorf("there is no kind %q", name).Meant(name, names,
		"the kinds are "+strings.Join(names, ", "))
}

// captured prints what a host told. It is checked like what a person writes,
// since a host may say anything.
func (a *App) captured(h *record.Host, asked []value.Ref) error {
	docs := []document.Capture{}
	schemas := a.kinds()
	if len(h.Captured) == 0 {
		fmt.Fprintf(a.Err, "%s  there is no %s that people put there\n", h.Name, asked[0].Kind)
	}
	for _, c := range h.Captured {
		attrs, err := captured.Check(schemas, asked, &c)
		if c.Problem != "" {
			err = problem.Errorf("%s", c.Problem).Remedy("%s", c.Do)
		}
		if err != nil {
			p := problem.From(err)
			fmt.Fprintf(a.Err, "%s  %s cannot be captured: %s\n", h.Name, screen.Line(c.Ref.String()), screen.Line(p.What))
			if p.Do != "" {
				fmt.Fprintf(a.Err, "  %s\n", screen.Line(p.Do))
			}
			if !c.Guarded {
				a.code = exitFailed
			}
			continue
		}
		if a.output == "text" {
			if len(docs) > 0 {
				fmt.Fprintln(a.Out)
			}
			kind, _ := schemas.Kind(c.Ref.Kind)
			fmt.Fprint(a.Out, captured.Text(kind, captured.Literal(c.Ref.Name), attrs, c.Note))
		}
		docs = append(docs, document.Capture{Kind: c.Ref.Kind, Name: c.Ref.Name, Attributes: attrs, Note: c.Note})
	}
	if a.output == "json" {
		return a.document(document.Captures{Head: document.One, Host: h.Name, Captured: docs})
	}
	return nil
}
