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
	where, compare := "", false
	c := &cobra.Command{
		Use: "facts HOST [PATH] | --where EXPR [TARGET...] | --compare HOST HOST", Short: "Read hosts' facts",
		GroupID: cli.Work,
		Long: "Facts reads what expressions see as facts: all of them, or those below a path such as " +
			"os.version_id. With\n--where it names the hosts for which a condition over host, facts and env is " +
			"true; with --compare it shows\nwhat differs between two hosts. Sizes are shown as people read them; " +
			"JSON keeps bytes.",
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case where != "" && compare:
				return problem.Errorf("--where and --compare are given together").Remedy("keep one of the two")
			case where != "":
				return factsWhere(c.Context(), e, where, args)
			case compare && len(args) != 2:
				return problem.Errorf("--compare takes two hosts").
					Remedy("write `jadekettle facts --compare HOST HOST`")
			case compare:
				return factsCompared(c.Context(), e, args)
			case len(args) == 0 || len(args) > 2:
				return problem.Errorf("facts takes a host, and a path if only a part is meant").
					Remedy("write `jadekettle facts HOST [PATH]`")
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
	c.Flags().StringVar(&where, "where", "", "name the hosts for which an `EXPR` such as 'facts.memory.total < "+
		"bytes(\"2 GiB\")' is true")
	c.Flags().BoolVar(&compare, "compare", false, "show what differs between two hosts")
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
		if h.State != record.Off {
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
			return problem.Errorf("%s has no facts.%s", h.Name, strings.Join(path, ".")).
				Remedy("`jadekettle facts %s %s` lists what it has", h.Name, up)
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
