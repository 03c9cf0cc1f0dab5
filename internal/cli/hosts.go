package cli

import (
	"bufio"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) hostsCommand() *cobra.Command {
	var except []string
	group, moved, after := "", false, ""
	c := &cobra.Command{
		Use: "hosts [TARGET...]", Short: "List hosts with their groups", GroupID: "work",
		Long: "Hosts lists hosts with their groups and manifests. Groups that decide by facts count the facts as they " +
			"were\nlast read, by a run or by `jadekettle facts`.",
		RunE: func(_ *cobra.Command, targets []string) error {
			at, err := since(after, time.Now())
			if err != nil {
				return err
			}
			if after != "" && !moved {
				return problem.Errorf("--since is about what moved").Remedy("say --moved, too")
			}
			p, err := a.load(targets, except)
			if err != nil {
				return err
			}
			switch {
			case after != "":
				return a.movedSince(p, at)
			case group != "":
				return a.members(p, strings.TrimPrefix(group, "@"))
			case moved:
				return a.moved(p)
			}
			return a.hosts(p)
		},
		ValidArgsFunction: a.completeTargets,
	}
	c.Flags().StringSliceVar(&except, "except", nil, "`TARGETS` to take out again: hosts, patterns or @groups")
	c.Flags().StringVar(&group, "group", "", "who is a member of a `GROUP`, and by what")
	c.Flags().BoolVar(&moved, "moved", false, "what moved in or out of groups since the last run")
	c.Flags().StringVar(&after, "since", "", "with --moved: what runs have found to move since a `TIME`, when, and why")
	c.RegisterFlagCompletionFunc("group", a.completeGroups)
	c.AddCommand(a.trustCommand(), a.admitCommand(), a.enrolCommand(), a.releaseCommand(), a.hostsShowCommand(), a.retireCommand())
	return c
}

// standing is a host with the groups that it is in as far as is known.
type standing struct {
	host   *inventory.Host
	facts  *facts.Facts
	groups []*inventory.Group
}

// standings gives the selected hosts that are meant, by what is known of them.
func (p *project) standings() ([]standing, error) {
	var out []standing
	for _, h := range p.hosts {
		f, _ := p.facts(h)
		groups, err := p.Inventory.GroupsOf(h, f.Tree())
		if err != nil {
			return nil, err
		}
		all := groups
		if f == nil {
			all = slices.Concat(groups, h.Maybe) // perhaps it is meant
		}
		if p.chosen(h, all) {
			out = append(out, standing{h, f, groups})
		}
	}
	return out, nil
}

func groupNames(groups []*inventory.Group) []string {
	out := []string{}
	for _, g := range groups {
		out = append(out, g.Name)
	}
	return out
}

func manifestNames(groups []*inventory.Group) []string {
	out := []string{}
	for _, g := range groups {
		for _, use := range g.Manifests {
			if !slices.Contains(out, use.Manifest) {
				out = append(out, use.Manifest)
			}
		}
	}
	return out
}

// maybe names the groups that a host may be in and whose facts were never read.
func (s standing) maybe() []string {
	out := []string{}
	if s.facts == nil {
		for _, g := range s.host.Maybe {
			out = append(out, g.Name)
		}
	}
	return out
}

func (a *App) hosts(p *project) error {
	list, err := p.standings()
	if err != nil {
		return err
	}
	if a.output == "json" {
		docs := []document.Host{}
		for _, s := range list {
			h := s.host
			docs = append(docs, document.Host{Name: h.Name, Address: h.Address(), Groups: groupNames(s.groups),
				Maybe: s.maybe(), Manifests: manifestNames(s.groups), Off: h.Off, Own: own(h)})
		}
		return a.document(document.Hosts{Head: document.One, Hosts: docs})
	}
	rows := [][]string{{"host", "address", "groups", "manifests"}}
	notes := []string{""}
	for _, s := range list {
		groups := groupNames(s.groups)
		for _, g := range s.maybe() {
			groups = append(groups, g+"?")
		}
		rows = append(rows, []string{s.host.Name, s.host.Address(), strings.Join(groups, " "),
			strings.Join(manifestNames(s.groups), " ")})
		note := ""
		if s.host.Off != "" {
			note = "off: " + s.host.Off
		}
		notes = append(notes, note)
	}
	screen.Table(a.Out, rows, notes)
	if slices.ContainsFunc(list, func(s standing) bool { return len(s.maybe()) > 0 }) {
		fmt.Fprintln(a.Out, "\n"+screen.Paint(screen.Quiet,
			"? decided by facts that were never read; `jadekettle facts HOST` reads them"))
	}
	return nil
}

// members tells who is in a group, and by what.
func (a *App) members(p *project, name string) error {
	g, ok := p.Inventory.Group(name)
	if !ok {
		return problem.Errorf("there is no group %q", name).Meant(name, p.Inventory.GroupNames(),
			"there are "+strings.Join(p.Inventory.GroupNames(), ", "))
	}
	list, err := p.standings()
	if err != nil {
		return err
	}
	docs := []document.Member{}
	rows := [][]string{{"host", "is a member"}}
	notes := []string{""}
	for _, s := range list {
		by, open := p.Inventory.Why(s.host, g, s.facts.Tree()), slices.Contains(s.maybe(), name)
		if by == "" && !open {
			continue
		}
		note := ""
		if by == "" {
			by, note = "perhaps", "its facts were never read; `jadekettle facts "+s.host.Name+"` reads them"
		}
		docs = append(docs, document.Member{Name: s.host.Name, By: by, Known: note == ""})
		rows, notes = append(rows, []string{s.host.Name, by}), append(notes, note)
	}
	if a.output == "json" {
		return a.document(document.Members{Head: document.One, Group: name, Members: docs})
	}
	if len(docs) == 0 {
		fmt.Fprintf(a.Out, "no host is a member of %s\n", name)
		return nil
	}
	screen.Table(a.Out, rows, notes)
	return nil
}

// moved tells what changed in the groups of hosts since the last run.
func (a *App) moved(p *project) error {
	list, err := p.standings()
	if err != nil {
		return err
	}
	docs := []document.Move{}
	note := func(host, what, group, why string) {
		docs = append(docs, document.Move{Host: host, Moved: what, Group: group, Why: why})
		if a.output == "text" {
			line := host + "  " + what
			if group != "" {
				line += " " + group
			}
			if why != "" {
				line += "  " + screen.Paint(screen.Quiet, why)
			}
			fmt.Fprintln(a.Out, line)
		}
	}
	for _, s := range list {
		kept, ok := p.known.Load(s.host.Name)
		if !ok || kept.Ran.IsZero() {
			note(s.host.Name, "new", "", "there was no run yet")
			continue
		}
		now := groupNames(s.groups)
		for _, g := range s.groups {
			if !slices.Contains(kept.Groups, g.Name) {
				note(s.host.Name, "into", g.Name, p.Inventory.Why(s.host, g, s.facts.Tree()))
			}
		}
		for _, g := range kept.Groups {
			if !slices.Contains(now, g) {
				note(s.host.Name, "out of", g, "")
			}
		}
	}
	if len(p.targets) == 0 {
		for _, name := range p.known.Hosts() {
			if _, there := p.Inventory.Host(name); !there {
				note(name, "gone", "", "the inventory has it no more; what is managed on it stays as it is")
			}
		}
	}
	if a.output == "json" {
		return a.document(document.Moved{Head: document.One, Moved: docs})
	}
	if len(docs) == 0 {
		fmt.Fprintln(a.Out, "no host moved in or out of a group since its last run")
	}
	return nil
}

func (a *App) hostsShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show HOST", Short: "Tell everything that applies to a host, and from where", Args: cobra.ExactArgs(1),
		Long: "Show tells a host's address, own keys and groups, and lists every declaration that it is given, in the " +
			"order\nof a run, with the group and the manifest that bring it. Facts count as they were last read.",
		RunE: func(_ *cobra.Command, args []string) error {
			p, h, err := a.oneHost(args[0])
			if err != nil {
				return err
			}
			f, read := p.facts(h)
			e, err := explain.Of(p.Project, h, p.knownOf(f))
			if err != nil {
				a.complain(err)
				a.code = exitWrong
			}
			if a.output == "json" {
				return a.showJSON(p, e)
			}
			a.show(p, e, f != nil, read)
			return nil
		},
		ValidArgsFunction: a.completeHosts,
	}
}

// oneHost opens the project for a question about one host.
func (a *App) oneHost(name string) (*project, *inventory.Host, error) {
	p, err := a.open()
	if err != nil {
		return nil, nil, err
	}
	h, ok := p.Inventory.Host(name)
	if !ok {
		return nil, nil, problem.Errorf("there is no host %q", name).Meant(name,
			p.Inventory.HostNames(), "`jadekettle hosts` lists them")
	}
	return p, h, nil
}

// show prints a host with all that applies to it.
func (a *App) show(p *project, e *explain.Explanation, known bool, read time.Time) {
	h := e.Host
	fmt.Fprintf(a.Out, "%s  %s\n", screen.Paint(screen.Loud, h.Name), h.Address())
	if h.Off != "" {
		fmt.Fprintln(a.Out, "  off: "+h.Off)
	}
	if known {
		fmt.Fprintf(a.Out, "  facts read %s\n", ago(time.Since(read)))
	} else {
		fmt.Fprintf(a.Out, "  facts never read; `jadekettle facts %s` reads them\n", h.Name)
	}
	var own [][]string
	for _, k := range value.Keys(h.Vars) {
		if k != "name" && k != "address" && k != "groups" {
			own = append(own, []string{"  " + k, value.Shown(h.Vars[k])})
		}
	}
	screen.Section(a.Out, "its own keys", own)
	var rows [][]string
	f, _ := p.facts(h)
	tree := f.Tree()
	for _, g := range e.Groups {
		rows = append(rows, []string{"  " + g.Name, p.Inventory.Why(h, g, tree)})
	}
	if !known {
		for _, g := range h.Maybe {
			rows = append(rows, []string{"  " + g.Name + "?", "perhaps, when its facts say so"})
		}
	}
	screen.Section(a.Out, "its groups", rows)
	rows = nil
	for _, d := range e.Declared() {
		rows = append(rows, []string{"  " + d.Ref.String(), wayText(d.Ways[0]), d.Ways[0].Place.String(), leftOut(d)})
		for _, w := range d.Ways[1:] {
			rows = append(rows, []string{"", wayText(w), w.Place.String(), ""})
		}
	}
	screen.Section(a.Out, "what applies, in this order", rows)
}

func leftOut(d explain.Why) string {
	if d.State == explain.Perhaps {
		return "perhaps, when its facts say so"
	}
	if d.State == string(plan.LeftOut) {
		return "left out: " + d.Reason
	}
	return ""
}

func wayText(w explain.Way) string {
	text := w.Group + " > " + w.Manifest
	for _, u := range w.Uses {
		text += " > " + u.Name
	}
	return text
}

func (a *App) showJSON(p *project, e *explain.Explanation) error {
	decls := []document.Declared{}
	for _, d := range e.Declared() {
		decls = append(decls, document.Declared{Kind: d.Ref.Kind, Name: d.Ref.Name, State: string(d.State),
			Reason: d.Reason, Ways: waysDoc(d.Ways)})
	}
	return a.document(document.Shown{Head: document.One, Host: e.Host.Name, Address: e.Host.Address(), Off: e.Host.Off,
		Own: own(e.Host), Groups: groupNames(e.Groups), FactsKnown: e.Known, Declarations: decls})
}

// own gives the keys that a project gives a host, without those that every host has.
func own(h *inventory.Host) map[string]any {
	out := maps.Clone(h.Vars)
	if out == nil {
		out = map[string]any{}
	}
	for _, k := range []string{"name", "address", "groups"} {
		delete(out, k)
	}
	return out
}

func waysDoc(list []explain.Way) []document.Way {
	out := []document.Way{}
	for _, w := range list {
		doc := document.Way{Group: w.Group, By: w.By, Given: document.At(w.Given), Manifest: w.Manifest,
			Uses: []string{}, Place: document.At(w.Place)}
		for _, u := range w.Uses {
			doc.Uses = append(doc.Uses, u.Name)
		}
		out = append(out, doc)
	}
	return out
}

// ago says how long something is past, in words.
func ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return screen.Count(int(d.Minutes()), "minute") + " ago"
	case d < 48*time.Hour:
		return screen.Count(int(d.Hours()), "hour") + " ago"
	}
	return screen.Count(int(d.Hours()/24), "day") + " ago"
}

func (a *App) trustCommand() *cobra.Command {
	t := &trust{app: a}
	c := &cobra.Command{
		Use: "trust HOST...", Short: "Accept the host keys that hosts show, after a look at them",
		Args: cobra.MinimumNArgs(1),
		Long: "Trust asks each host for its key, shows the fingerprint, and writes the key into the known_hosts file " +
			"when\nyou agree. Compare the fingerprint with what `ssh-keygen -lf` prints of that key on the host. A key " +
			"that differs from a known one is only accepted with --replace.",
		RunE: func(c *cobra.Command, targets []string) error {
			p, err := a.load(targets, nil)
			if err != nil {
				return err
			}
			if !t.yes && !a.Terminal {
				return problem.Errorf("there is no terminal to ask on").Remedy("say --yes when you know the fingerprints")
			}
			if t.dialer, err = a.dialer(p); err != nil {
				return err
			}
			t.in = bufio.NewReader(a.In)
			return a.eachHost(c.Context(), bySSH(p.hosts), func(h *inventory.Host) error {
				return t.host(c.Context(), a.target(h, p.dir))
			})
		},
	}
	c.Flags().BoolVar(&t.replace, "replace", false, "accept a key in the place of another that is known")
	c.Flags().BoolVar(&t.yes, "yes", false, "do not ask")
	return c
}

// trust is one call of `hosts trust`.
type trust struct {
	app          *App
	dialer       *reach.Dialer
	in           *bufio.Reader
	replace, yes bool
}

// host looks at one host's key and accepts it when that is wanted.
func (t *trust) host(ctx context.Context, target reach.Target) error {
	k, err := t.dialer.Key(ctx, target)
	switch {
	case err != nil:
		t.refuse("%s  not reached: %s", target.Name, screen.Line(err.Error()))
		return nil
	case k.Known:
		fmt.Fprintf(t.app.Out, "%s  %s  known already\n", target.Name, k.Fingerprint)
		return nil
	case k.Changed && !t.replace:
		t.refuse("%s  %s  is not the key that is known; say --replace if the host was set up anew",
			target.Name, k.Fingerprint)
		return nil
	case !t.yes && !t.agree(target.Name, k):
		return nil
	}
	if err := t.dialer.Trust(k); err != nil {
		return fmt.Errorf("write the known hosts: %w", err)
	}
	fmt.Fprintf(t.app.Out, "%s  %s  accepted\n", target.Name, k.Fingerprint)
	return nil
}

func (t *trust) refuse(format string, args ...any) {
	fmt.Fprintf(t.app.Err, format+"\n", args...)
	t.app.code = exitFailed
}

func (t *trust) agree(name string, k *reach.HostKey) bool {
	fmt.Fprintf(t.app.Err, "%s  %s\nOn the host `ssh-keygen -lf /etc/ssh/ssh_host_%s_key.pub` must print the same. "+
		"Accept it? [y/N] ", name, k.Fingerprint, k.Type())
	return yes(t.in)
}

// yes reads an answer.
func yes(in *bufio.Reader) bool {
	answer, _ := in.ReadString('\n')
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes"
}

// bySSH gives the hosts that are reached by SSH.
func bySSH(hosts []*inventory.Host) []*inventory.Host {
	return slices.DeleteFunc(slices.Clone(hosts), func(h *inventory.Host) bool {
		return h.Connect.Local || h.Connect.Command != ""
	})
}
