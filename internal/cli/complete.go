package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/explain"
)

// Completion reads the project of the call; where there is none, or it is
// wrong, nothing is offered.

const noFiles = cobra.ShellCompDirectiveNoFileComp

// completeTargets offers host names and @groups.
func (a *App) completeTargets(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.open()
	if err != nil {
		return nil, noFiles
	}
	out := p.Inventory.HostNames()
	for _, g := range p.Inventory.GroupNames() {
		out = append(out, "@"+g)
	}
	return slices.DeleteFunc(out, func(s string) bool { return slices.Contains(args, s) }), noFiles
}

// completeHosts offers host names, for a first argument.
func (a *App) completeHosts(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.open()
	if err != nil || len(args) > 0 {
		return nil, noFiles
	}
	return p.Inventory.HostNames(), noFiles
}

func (a *App) completeGroups(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	p, err := a.open()
	if err != nil {
		return nil, noFiles
	}
	return p.Inventory.GroupNames(), noFiles
}

func (a *App) completeManifests(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	p, err := a.open()
	if err != nil {
		return nil, noFiles
	}
	return p.Manifests(), noFiles
}

// completeRefs offers kinds, and declarations by both words.
func (a *App) completeRefs(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	p, err := a.open()
	if err != nil {
		return nil, noFiles
	}
	return append(a.kinds().Names(), p.Refs()...), noFiles
}

func (a *App) completeEnvs(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	v, err := a.sealedData()
	if err != nil {
		return nil, noFiles
	}
	var out []string
	for name, e := range v.settings.Envs {
		out = append(out, name+"\t"+e.About)
	}
	slices.Sort(out)
	return out, noFiles
}

// completeWhy offers a host and then its declarations and the first names of
// its data.
func (a *App) completeWhy(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeHosts(c, args, typed)
	}
	p, h, err := a.oneHost(args[0])
	if err != nil || len(args) > 2 {
		return nil, noFiles
	}
	f, _ := p.facts(h)
	e, _ := explain.Of(p.Project, h, p.knownOf(f))
	var out []string
	for _, d := range e.Declared() {
		word := d.Ref.Kind
		if len(args) == 2 && d.Ref.Kind == args[1] {
			word = d.Ref.Name
		} else if len(args) == 2 {
			continue
		}
		if !slices.Contains(out, word) {
			out = append(out, word)
		}
	}
	if len(args) == 2 {
		return out, noFiles
	}
	at := strings.Split(typed, ".")
	if at[0] == "data" || strings.HasPrefix("data", typed) {
		path := at[1:max(1, len(at)-1)]
		for _, name := range e.DataNames(path) {
			out = append(out, strings.Join(append(append([]string{"data"}, path...), name), "."))
		}
		return out, noFiles | cobra.ShellCompDirectiveNoSpace
	}
	return out, noFiles
}

// completeCapture offers a host, then kinds, and then what is declared of one.
func (a *App) completeCapture(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeHosts(c, args, typed)
	}
	if len(args) == 1 {
		return a.kinds().Names(), noFiles
	}
	out, directive := a.completeWhy(c, args[:2], typed)
	return slices.DeleteFunc(out, func(s string) bool { return slices.Contains(args[2:], s) }), directive
}
