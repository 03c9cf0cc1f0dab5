package projectcmd

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

func factsCommand(e *cli.Env) *cobra.Command {
	where := ""
	c := &cobra.Command{
		Use: "facts HOST [PATH] | --where EXPR [TARGET...]", Short: "Collect and show facts about hosts",
		Long: "Collects the facts that expressions can use and shows them: all of them, or those under a path such " +
			"as os.version_id. With --where, lists the hosts for which a condition over host, facts and env is true. " +
			"Sizes are shown in readable units; JSON has bytes.",
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case where != "":
				return factsWhere(c.Context(), e, where, args)
			case len(args) == 0 || len(args) > 2:
				return problem.Errorf("expected HOST [PATH]").Remedy("usage: `jadekettle facts HOST [PATH]`")
			}
			var path []string
			if len(args) == 2 {
				path = strings.Split(args[1], ".")
				if err := app.CheckFact(path); err != nil {
					return err
				}
			}
			hosts, err := read(c.Context(), e, args[:1])
			if err != nil {
				return err
			}
			return factsShown(e, hosts, path)
		},
	}
	c.Flags().StringVar(&where, "where", "", "list hosts for which `EXPR` is true, such as 'facts.memory.total < "+
		"bytes(\"2 GiB\")'")
	e.PasswordFlags(c)
	c.ValidArgsFunction = e.CompleteHosts()
	c.AddCommand(factsCompare(e))
	return c
}

func factsCompare(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "compare HOST HOST", Short: "Show the facts in which two hosts differ", Args: cli.Args(2, 2),
		RunE: func(c *cobra.Command, args []string) error { return factsCompared(c.Context(), e, args) },

		ValidArgsFunction: e.CompleteTargets(),
	}
	e.PasswordFlags(c)
	return c
}

// read reads the facts of hosts of the project of the call.
func read(ctx context.Context, e *cli.Env, targets []string) ([]*record.Host, error) {
	p, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	return p.ReadFacts(ctx, e.Passwords, targets)
}

// reached leaves out the hosts that were not reached, says why, and whether one should have been.
func reached(e *cli.Env, hosts []*record.Host) (there []*record.Host, code int) {
	return slices.DeleteFunc(hosts, func(h *record.Host) bool {
		if h.State == record.Reached {
			return false
		}
		if h.State != record.Disabled {
			code = app.CodeFailed
		}
		fmt.Fprintf(e.Err, "%s  %s: %s\n", h.Name, h.State, text.Line(h.Message))
		return true
	}), code
}

// factsWhere names the hosts for which a condition is true.
func factsWhere(ctx context.Context, e *cli.Env, where string, targets []string) error {
	p, err := e.Open(ctx)
	if err != nil {
		return err
	}
	cond, err := p.Condition(where)
	if err != nil {
		return err
	}
	hosts, err := p.ReadFacts(ctx, e.Passwords, targets)
	if err != nil {
		return err
	}
	docs := []document.HostFacts{}
	there, code := reached(e, hosts)
	for _, h := range there {
		yes, err := cond.Holds(h)
		if err != nil {
			code = app.CodeFailed
			fmt.Fprintf(e.Err, "%s  %s\n", h.Name, text.Line(problem.From(err).What))
		}
		if err != nil || !yes {
			continue
		}
		docs = append(docs, document.HostFacts{Name: h.Name, Facts: h.Facts.Tree()})
		if !e.JSON() {
			fmt.Fprintln(e.Out, h.Name)
		}
	}
	if e.JSON() {
		if err := e.Document(document.Facts{Head: document.One, Hosts: docs}); err != nil {
			return err
		}
	}
	return cli.Ended(code)
}

// factsCompared shows the facts in which two hosts differ.
func factsCompared(ctx context.Context, e *cli.Env, names []string) error {
	hosts, err := read(ctx, e, names)
	if err != nil {
		return err
	}
	if e.JSON() {
		return factsShown(e, hosts, nil)
	}
	there, code := reached(e, hosts)
	if len(there) == 2 {
		text.FactsCompared(e.Out, there[0], there[1])
	}
	return cli.Ended(code)
}

// factsShown prints the facts of hosts below a path.
func factsShown(e *cli.Env, hosts []*record.Host, path []string) error {
	docs, code := []document.HostFacts{}, app.CodeDone
	for _, h := range hosts {
		if h.State != record.Reached {
			fmt.Fprintf(e.Err, "%s  %s: %s\n", h.Name, h.State, text.Line(h.Message))
			code = app.CodeFailed
			continue
		}
		tree, ok := below(h.Facts.Tree(), path)
		if !ok {
			up := strings.Join(path[:len(path)-1], ".")
			return problem.Errorf("facts.%[2]s does not exist for %[1]s", h.Name, strings.Join(path, ".")).
				Remedy("`jadekettle facts %s %s` lists the available facts", h.Name, up)
		}
		docs = append(docs, document.HostFacts{Name: h.Name, Facts: tree})
		if e.JSON() {
			continue
		}
		if len(hosts) > 1 {
			fmt.Fprintln(e.Out, text.Paint(text.Loud, h.Name))
		}
		text.FactsOf(e.Out, strings.Join(path, "."), tree)
	}
	if e.JSON() {
		if err := e.Document(document.Facts{Head: document.One, Hosts: docs}); err != nil {
			return err
		}
	}
	return cli.Ended(code)
}

func below(tree any, path []string) (any, bool) {
	for _, name := range path {
		m, _ := tree.(map[string]any)
		next, ok := m[name]
		if !ok {
			return nil, false
		}
		tree = next
	}
	return tree, true
}
