package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli/document"
	"jadekettle/internal/cli/screen"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
)

func (a *App) factsCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "facts HOST [PATH]", Short: "Read a host's facts", GroupID: "work", Args: cobra.RangeArgs(1, 2),
		Long: "Facts reads what expressions see as facts: all of them, or those below a path such as os.version_id.",
		RunE: func(c *cobra.Command, args []string) error {
			var path []string
			if len(args) == 2 {
				path = strings.Split(args[1], ".")
				if err := facts.CheckPath(path); err != nil {
					return err
				}
			}
			p, err := a.load(args[:1], nil)
			if err != nil {
				return err
			}
			fleet, err := a.fleet(p, 0)
			if err != nil {
				return err
			}
			hosts := fleet.Facts(c.Context(), p.hosts)
			a.keep(p, hosts, false)
			return a.facts(hosts, path)
		},
	}
	a.passwordFlags(c)
	return c
}

// facts prints the facts of hosts below a path.
func (a *App) facts(hosts []*run.Visit, path []string) error {
	docs := []document.HostFacts{}
	for _, h := range hosts {
		if h.State != run.Reached {
			fmt.Fprintf(a.Err, "%s  %s: %s\n", h.Name, h.State, screen.Line(h.Message))
			a.code = exitFailed
			continue
		}
		tree, ok := below(h.Facts.Tree(), path)
		if !ok {
			up := strings.Join(path[:len(path)-1], ".")
			return problem.Errorf("%s has no facts.%s", h.Name, strings.Join(path, ".")).
				Remedy("`jadekettle facts %s %s` lists what it has", h.Name, up)
		}
		docs = append(docs, document.HostFacts{Name: h.Name, Facts: tree})
		if a.output == "json" {
			continue
		}
		if len(hosts) > 1 {
			fmt.Fprintln(a.Out, screen.Paint(screen.Loud, h.Name))
		}
		name := strings.Join(path, ".")
		list := flat(name, tree)
		write(a.Out, list, len(list) == 1 && list[0][0] == name)
	}
	if a.output == "json" {
		return a.document(document.Facts{Head: document.One, Hosts: docs})
	}
	return nil
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

// flat lists a tree's leaves with their paths.
func flat(path string, v any) [][2]string {
	join := func(name string) string {
		if path == "" {
			return name
		}
		return path + "." + name
	}
	var out [][2]string
	switch v := v.(type) {
	case map[string]any:
		for _, k := range value.Keys(v) {
			out = append(out, flat(join(k), v[k])...)
		}
	case []any:
		for i, item := range v {
			out = append(out, flat(path+"["+strconv.Itoa(i)+"]", item)...)
		}
	default:
		text, _ := value.Text(v)
		out = append(out, [2]string{path, text})
	}
	return out
}

// write prints leaves in two columns, or a single value alone.
func write(w io.Writer, list [][2]string, alone bool) {
	wide := 0
	for _, l := range list {
		wide = max(wide, len(l[0]))
	}
	for _, l := range list {
		if alone {
			fmt.Fprintln(w, screen.Line(l[1]))
			continue
		}
		fmt.Fprintf(w, "%-*s  %s\n", wide, l[0], screen.Line(l[1]))
	}
}
