package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) factsCommand() *cobra.Command {
	where, compare := "", false
	c := &cobra.Command{
		Use: "facts HOST [PATH] | --where EXPR [TARGET...] | --compare HOST HOST", Short: "Read hosts' facts",
		GroupID: "work",
		Long: "Facts reads what expressions see as facts: all of them, or those below a path such as os.version_id. With\n" +
			"--where it names the hosts for which a condition over host, facts and env is true; with --compare it shows\n" +
			"what differs between two hosts. Sizes are shown as people read them; JSON keeps bytes.",
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case where != "" && compare:
				return problem.Errorf("--where and --compare are given together").Remedy("keep one of the two")
			case where != "":
				return a.factsWhere(c.Context(), where, args)
			case compare && len(args) != 2:
				return problem.Errorf("--compare takes two hosts").Remedy("write `jadekettle facts --compare HOST HOST`")
			case compare:
				return a.factsCompared(c.Context(), args)
			case len(args) == 0 || len(args) > 2:
				return problem.Errorf("facts takes a host, and a path if only a part is meant").
					Remedy("write `jadekettle facts HOST [PATH]`")
			}
			var path []string
			if len(args) == 2 {
				path = strings.Split(args[1], ".")
				if err := facts.CheckPath(path); err != nil {
					return err
				}
			}
			_, hosts, err := a.readFacts(c.Context(), args[:1])
			if err != nil {
				return err
			}
			return a.facts(hosts, path)
		},
	}
	c.Flags().StringVar(&where, "where", "", "name the hosts for which an `EXPR` such as 'facts.memory.total < "+
		"bytes(\"2 GiB\")' is true")
	c.Flags().BoolVar(&compare, "compare", false, "show what differs between two hosts")
	a.passwordFlags(c)
	return c
}

// readFacts reads the facts of hosts and keeps them.
func (a *App) readFacts(ctx context.Context, targets []string) (*project, []*record.Host, error) {
	p, err := a.load(targets, nil)
	if err != nil {
		return nil, nil, err
	}
	fleet, err := a.fleet(p, 0)
	if err != nil {
		return nil, nil, err
	}
	defer p.dialer.Close()
	hosts := fleet.Facts(ctx, p.hosts)
	a.keep(ctx, p, hosts, false, 0)
	return p, hosts, nil
}

// reached leaves out, and tells of, the hosts that were not reached.
func (a *App) reached(hosts []*record.Host) []*record.Host {
	return slices.DeleteFunc(hosts, func(h *record.Host) bool {
		if h.State == record.Reached {
			return false
		}
		if h.State != record.Off {
			a.code = exitFailed
		}
		fmt.Fprintf(a.Err, "%s  %s: %s\n", h.Name, h.State, screen.Line(h.Message))
		return true
	})
}

// factsWhere names the hosts for which a condition is true.
func (a *App) factsWhere(ctx context.Context, where string, targets []string) error {
	cond, err := inventory.Condition(where)
	if err != nil {
		return err
	}
	p, hosts, err := a.readFacts(ctx, targets)
	if err != nil {
		return err
	}
	docs := []document.HostFacts{}
	for _, h := range a.reached(hosts) {
		host, _ := p.Inventory.Host(h.Name)
		yes, _, err := cond.Bool(&expr.Vars{Host: host.Vars, Env: p.Inventory.Env, Facts: h.Facts.Tree()})
		if err != nil {
			a.code = exitFailed
			fmt.Fprintf(a.Err, "%s  %s\n", h.Name, screen.Line(problem.From(err).What))
			continue
		}
		if !yes {
			continue
		}
		docs = append(docs, document.HostFacts{Name: h.Name, Facts: h.Facts.Tree()})
		if a.output != "json" {
			fmt.Fprintln(a.Out, h.Name)
		}
	}
	if a.output == "json" {
		return a.document(document.Facts{Head: document.One, Hosts: docs})
	}
	return nil
}

// factsCompared shows the facts in which two hosts differ.
func (a *App) factsCompared(ctx context.Context, names []string) error {
	_, hosts, err := a.readFacts(ctx, names)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return a.facts(hosts, nil)
	}
	if hosts = a.reached(hosts); len(hosts) != 2 {
		return nil
	}
	one, two := map[string]string{}, map[string]string{}
	for i, to := range []map[string]string{one, two} {
		for _, l := range flat("", hosts[i].Facts.Tree()) {
			to[l[0]] = l[1]
		}
	}
	all := maps.Clone(one)
	maps.Copy(all, two)
	rows := [][3]string{{"", hosts[0].Name, hosts[1].Name}}
	for _, path := range value.Keys(all) {
		if one[path] != two[path] {
			rows = append(rows, [3]string{path, cmp.Or(one[path], "-"), cmp.Or(two[path], "-")})
		}
	}
	if len(rows) == 1 {
		fmt.Fprintln(a.Out, "no fact differs")
		return nil
	}
	wide, middle := 0, 0
	for _, r := range rows {
		wide, middle = max(wide, len(r[0])), max(middle, len(r[1]))
	}
	middle = min(middle, 48)
	for i, r := range rows {
		line := strings.TrimRight(fmt.Sprintf("%-*s  %-*s  %s", wide, r[0], middle, screen.Line(r[1]), screen.Line(r[2])),
			" ")
		if i == 0 {
			line = screen.Paint(screen.Loud, line)
		}
		fmt.Fprintln(a.Out, line)
	}
	return nil
}

// sizes are the facts that are bytes, by their last word.
var sizes = []string{"total", "swap", "size", "free"}

// shownFact writes a leaf as people read it.
func shownFact(path string, v any) string {
	text, _ := value.Text(v)
	n, isInt := v.(int64)
	word := path[strings.LastIndexByte(path, '.')+1:]
	if !isInt || n < 1024 || strings.HasPrefix(path, "own.") || !slices.Contains(sizes, word) {
		return text
	}
	f, unit := float64(n), 0
	for f >= 1024 && unit < 5 {
		f, unit = f/1024, unit+1
	}
	return fmt.Sprintf("%.1f %ciB", f, "KMGTP"[unit-1])
}

// facts prints the facts of hosts below a path.
func (a *App) facts(hosts []*record.Host, path []string) error {
	docs := []document.HostFacts{}
	for _, h := range hosts {
		if h.State != record.Reached {
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
		out = append(out, [2]string{path, shownFact(path, v)})
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
