// Package hostscmd has the commands about the hosts of a project.
package hostscmd

import (
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

// Commands gives them.
func Commands(e *cli.Env) []*cobra.Command {
	c := hosts(e)
	c.AddCommand(trust(e), admitCommand(e), enroll(e), release(e), show(e), retire(e), disconnect(e))
	return []*cobra.Command{c}
}

// listing is one call of hosts.
type listing struct {
	except       []string
	group, after string
	moved        bool
}

func hosts(e *cli.Env) *cobra.Command {
	l := &listing{}
	c := &cobra.Command{
		Use: "hosts [TARGET...]", Short: "List hosts and their groups",
		Long: "Lists hosts with their groups and manifests. Groups that depend on facts use the facts last " +
			"collected by a run or by `jadekettle facts`.",
		RunE: func(c *cobra.Command, targets []string) error {
			at, err := app.Since(l.after, time.Now())
			if err != nil {
				return err
			}
			if l.after != "" && !l.moved {
				return problem.Errorf("--since requires --moved").Remedy("add --moved")
			}
			p, err := e.Open(c.Context())
			if err != nil {
				return err
			}
			if l.after != "" {
				return l.log(e, p, targets, at)
			}
			list, err := p.Memberships(targets, l.except)
			if err != nil {
				return err
			}
			switch {
			case l.group != "":
				group := strings.TrimPrefix(l.group, "@")
				members, err := p.Members(list, group)
				if err != nil {
					return err
				}
				return e.Render(document.Members{Head: document.One, Group: group, Members: members},
					func(w io.Writer) { text.Members(w, group, members) })
			case l.moved:
				moves := p.Moves(list, len(targets) == 0)
				return e.Render(document.Moved{Head: document.One, Moved: moves},
					func(w io.Writer) { text.Moves(w, moves) })
			}
			return e.Render(document.NewHosts(list), func(w io.Writer) { text.Hosts(w, list) })
		},
		ValidArgsFunction: e.CompleteTargets(),
	}
	e.ExceptFlag(c, &l.except)
	c.Flags().StringVar(&l.group, "group", "", "list the members of `GROUP`, and why they are members")
	c.Flags().BoolVar(&l.moved, "moved", false, "list hosts that have moved in or out of groups since the last run")
	c.Flags().StringVar(&l.after, "since", "", "with --moved: list moves since `TIME`, with the reason")
	c.RegisterFlagCompletionFunc("group", e.Complete(func(p *app.Project,
		_ []string) []string {
		return p.Inventory.GroupNames()
	}))
	return c
}

// log reports the log of joinings and leavings.
func (l *listing) log(e *cli.Env, p *app.Project, targets []string, since time.Time) error {
	var names []string // nil for all
	hosts, err := p.Select(targets, l.except)
	if err != nil {
		return err
	}
	if len(targets)+len(l.except) > 0 {
		names = []string{}
		for _, h := range hosts {
			names = append(names, h.Name)
		}
	}
	list, err := p.MovesSince(since, names)
	if err != nil {
		return err
	}
	return e.Render(document.Moved{Head: document.One, Moved: list}, func(w io.Writer) { text.MovesLog(w, list) })
}

func show(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "show HOST", Short: "Show a host's groups, variables and declarations, and their origin",
		Args: cli.Args(1, 1),
		Long: "Shows a host's address, custom keys and groups, and every declaration that applies to it, in order, " +
			"with the group and the manifest it comes from. Uses the facts that were last collected.",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := e.Open(c.Context())
			if err != nil {
				return err
			}
			h, err := p.Host(args[0])
			if err != nil {
				return err
			}
			found, read, wrong := p.Explain(h)
			if wrong != nil {
				e.Complain(wrong)
			}
			if err := e.Render(document.NewShown(found),
				func(w io.Writer) { text.HostShown(w, p, found, read) }); err != nil {
				return err
			}
			if wrong != nil {
				return cli.Exit(app.CodeWrong)
			}
			return nil
		},
		ValidArgsFunction: e.CompleteHosts(),
	}
}
