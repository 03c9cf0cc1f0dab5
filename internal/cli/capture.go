package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/history"
	"jadekettle/internal/host/kinds"
)

func (a *App) captureCommand() *cobra.Command {
	return &cobra.Command{
		Use: "capture HOST KIND | KIND:NAME...", Short: "Print what stands on a host as a manifest", GroupID: "grow", Args: cobra.MinimumNArgs(2),
		Long:    "Capture reads what stands on a host and prints it as declarations: applied to the same host they change\nnothing. With a kind alone it takes what people put there: accounts and groups from id 1000 on, services\nthat start at boot, packages that were asked for. Passwords are never shown. It changes nothing on the host.",
		Example: "  jadekettle capture gauge-01 service:tide-logger file:/etc/motd\n  jadekettle capture gauge-01 user > manifests/people.toml",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.load(args[:1], nil)
			if err != nil {
				return err
			}
			if len(p.hosts) != 1 {
				return fmt.Errorf("capture takes one host, and %q names %d; name one", args[0], len(p.hosts))
			}
			asked, err := asks(args[1:])
			if err != nil {
				return err
			}
			fleet := a.fleet(p, 1)
			fleet.Chosen = nil
			out := fleet.Capture(c.Context(), p.hosts[0], asked)
			if out.State != run.Reached {
				return fmt.Errorf("%s  %s: %s", out.Name, out.State, value.Printable(out.Message))
			}
			return a.captured(out)
		},
		ValidArgsFunction: a.completeCapture,
	}
}

// asks reads what is to be captured.
func asks(args []string) ([]value.Ref, error) {
	var out []value.Ref
	catalog := kinds.Catalog()
	for _, arg := range args {
		if !strings.Contains(arg, ":") {
			if _, ok := catalog.Kind(arg); !ok {
				return nil, fmt.Errorf("there is no kind %q; %s", arg, value.Meant(arg, catalog.Names(), "the kinds are "+strings.Join(catalog.Names(), ", ")))
			}
			if arg == "file" || arg == "dir" {
				return nil, fmt.Errorf("a host has too many of the kind %s; name one, such as %s:/etc/motd", arg, arg)
			}
			out = append(out, value.Ref{Kind: arg})
			continue
		}
		ref, err := catalog.ParseRef(arg)
		if err != nil {
			return nil, err
		}
		out = append(out, ref)
	}
	return out, nil
}

// captured prints what a host told. It is checked like what a person writes,
// since a host may say anything.
func (a *App) captured(h *run.Host) error {
	docs := []any{}
	catalog := kinds.Catalog()
	for i, c := range h.Captured {
		attrs, err := checked(catalog, &c)
		if c.Problem != "" {
			err = errors.New(c.Problem)
		}
		if err != nil {
			fmt.Fprintf(a.Err, "%s  %s cannot be captured: %s\n", h.Name, value.Printable(c.Ref.String()), value.Printable(err.Error()))
			a.code = exitFailed
			continue
		}
		docs = append(docs, map[string]any{"declaration": c.Ref.String(), "attributes": attrs, "note": c.Note})
		if a.output == "text" {
			if i > 0 {
				fmt.Fprintln(a.Out)
			}
			kind, _ := catalog.Kind(c.Ref.Kind)
			fmt.Fprint(a.Out, declarationText(kind, literalText(c.Ref.Name), attrs, value.Printable(c.Note)))
		}
	}
	if a.output == "json" {
		return history.WriteJSON(a.Out, map[string]any{"format": 1, "host": h.Name, "captured": docs})
	}
	return nil
}

// checked holds a captured declaration to its kind.
func checked(catalog schema.Catalog, c *plan.Captured) (value.Attrs, error) {
	kind, ok := catalog.Kind(c.Ref.Kind)
	if !ok {
		return nil, fmt.Errorf("%q is no kind", c.Ref.Kind)
	}
	name, err := kind.Canon(c.Ref.Name)
	if err != nil {
		return nil, err
	}
	c.Ref.Name = name
	out := value.Attrs{}
	for k, v := range c.Attrs {
		at, ok := kind.Attr(k)
		if !ok {
			return nil, fmt.Errorf("%s has no attribute %q", kind.Name, k)
		}
		if v, err = at.Value(v); err != nil {
			return nil, err
		}
		out[k] = literal(v)
	}
	return out, nil
}

// declarationText writes one declaration as TOML, attributes in the order of
// the kind's schema.
func declarationText(k *schema.Kind, name string, attrs value.Attrs, note string) string {
	var b strings.Builder
	if note != "" {
		fmt.Fprintf(&b, "# %s\n", note)
	}
	fmt.Fprintf(&b, "[%s.%s]\n", k.Name, manifest.QuoteKey(name))
	for _, at := range slices.Concat(k.Attrs, schema.Common) {
		if v, ok := attrs[at.Name]; ok {
			fmt.Fprintf(&b, "%s = %s\n", at.Name, manifest.Literal(v))
		}
	}
	return b.String()
}

// literalText escapes what an expression would be.
func literalText(s string) string { return strings.ReplaceAll(s, "${", "$${") }

// literal escapes what would be an expression in a value.
func literal(v any) any {
	switch v := v.(type) {
	case string:
		return literalText(v)
	case []any:
		out := make([]any, len(v))
		for i, item := range v {
			out[i] = literal(item)
		}
		return out
	}
	return v
}
