package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/present/text"
)

// Completion reads the project of the call; where there is none, or it is
// wrong, nothing is offered.

// NoFiles keeps a shell from offering files.
const NoFiles = cobra.ShellCompDirectiveNoFileComp

// Complete offers what list gives of the project of the call.
func (e *Env) Complete(list func(p *app.Project, args []string) []string) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		p, err := e.Open(c.Context())
		if err != nil {
			return nil, NoFiles
		}
		return list(p, args), NoFiles
	}
}

// CompleteTargets offers host names and @groups.
func (e *Env) CompleteTargets() cobra.CompletionFunc {
	return e.Complete(func(p *app.Project, args []string) []string {
		out := p.Inventory.HostNames()
		for _, g := range p.Inventory.GroupNames() {
			out = append(out, "@"+g)
		}
		return slices.DeleteFunc(out, func(s string) bool { return slices.Contains(args, s) })
	})
}

// CompleteHosts offers host names, for a first argument.
func (e *Env) CompleteHosts() cobra.CompletionFunc {
	return e.Complete(func(p *app.Project, args []string) []string {
		if len(args) > 0 {
			return nil
		}
		return p.Inventory.HostNames()
	})
}

// CompleteRuns offers the newest runs with what they were, for a first argument.
func (e *Env) CompleteRuns() cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		s, err := e.Site(c.Context())
		if err != nil || len(args) > 0 {
			return nil, NoFiles
		}
		p, err := s.Runs()
		if err != nil {
			return nil, NoFiles
		}
		list, err := p.List(app.Filter{Most: 20})
		if err != nil {
			return nil, NoFiles
		}
		out := []string{"last", "last-failed"}
		for i := range list {
			_, outcome := text.Outcome(&list[i])
			out = append(out, fmt.Sprintf("%d\t%s %s, %s", list[i].Number, list[i].Mode,
				text.When(list[i].Started), outcome))
		}
		return out, NoFiles | cobra.ShellCompDirectiveKeepOrder
	}
}

// CompleteManifests offers manifests.
func (e *Env) CompleteManifests() cobra.CompletionFunc {
	return e.Complete(func(p *app.Project, _ []string) []string { return p.Manifests() })
}

// CompleteEnvs offers environments.
func (e *Env) CompleteEnvs(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	s, err := e.Site(c.Context())
	if err != nil {
		return nil, NoFiles
	}
	var out []string
	for name, env := range s.Glance().Envs {
		out = append(out, name+"\t"+env.About)
	}
	slices.Sort(out)
	return out, NoFiles
}
