// Package inventory reads the hosts and groups of a project and selects among them.
//
//	[host."gauge-[01..12]"]
//	address = "192.0.2.${n}"
//
//	[group.gauge]
//	members = ["gauge-*"]
//	manifests = ["gauge"]
//
// A host is a member of a group by name, by pattern or by condition. Conditions that need no facts are evaluated when
// the inventory is read ([Host].Groups). Groups whose conditions read facts are ones that a host may be in
// ([Host].Maybe); [Inventory.GroupsOf] decides once there are facts.
package inventory

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Host is one managed machine.
type Host struct {
	Name     string
	Disabled string         // why it is never contacted; empty when it is
	Vars     map[string]any // host.* in expressions: name, address, groups and the host's own keys
	Connect  Connect
	Groups   []*Group // the groups it is in whatever its facts are, outermost first, then as in the inventory
	Maybe    []*Group // further groups that it is in when its facts say so
	Params   []Given  // values for the params of manifests
	Place    value.Place
}

// Given is a value for a param of a manifest.
type Given struct {
	Manifest string
	Param    string
	Node     *manifest.Node
	N        int64 // the number of the host that it was given to in a range
	Ranged   bool
}

// Address is where the host is; its name when no address is given.
func (h *Host) Address() string { return h.Vars["address"].(string) }

// Connect says how a host is reached. Zero values mean the usual: port 22,
// the user who runs the program, an agent or the usual key files.
type Connect struct {
	Address string // where to connect, when that is not the host's address
	Port    int
	User    string
	Key     string // a private key file; ~/ and paths relative to the project are allowed
	Elevate string // "sudo", "doas", or empty to stay the user that logs in
	// ElevatePassword is the path in the data, below data, to what sudo is given
	// when it asks; it is a secret there. Place is where it is said.
	ElevatePassword []string
	Place           value.Place
	Local           bool   // this machine, without SSH
	Jump            string // jump hosts on the way
	Command         string // run here, gives a shell on the host in the place of SSH
}

// Use is a manifest that a group gives to its members.
type Use struct {
	Manifest string
	Place    value.Place
}

// Group is a named set of hosts.
type Group struct {
	Name      string
	About     string
	Inside    string
	Manifests []Use
	Params    []Given
	Depth     int // how many groups it is inside of
	Place     value.Place
	// Where says by condition which hosts are members. May be nil. ByFacts
	// says that it reads facts, and TrustFacts that it is meant to bring
	// secrets to a host that says such facts of itself.
	Where      *expr.Program
	ByFacts    bool
	TrustFacts bool
	OnRemoval  string // of all that it gives its members; empty when it does not say

	members []pattern
	inside  *Group
	connect *manifest.Node
}

// Untrusted gives a group by which a host comes into this one through facts
// that it reports itself, unless that group says that this is meant; nil when
// there is none.
func (inv *Inventory) Untrusted(g *Group) *Group {
	for _, by := range inv.Groups {
		if !by.ByFacts || by.TrustFacts {
			continue
		}
		for at := by; at != nil; at = at.inside {
			if at == g {
				return by
			}
		}
	}
	return nil
}

// Inventory is all hosts and groups, in the order in which they are written.
type Inventory struct {
	Hosts  []*Host
	Groups []*Group
	Env    string

	byName map[string]*Host
}

// Load reads the inventory files. What is wrong is added to problems; whole is
// false when a file could not be read to its end.
func Load(project fs.FS, files []string, env string, problems *problem.Problems) (inv *Inventory, whole bool) {
	l := loader{inv: &Inventory{Env: env, byName: map[string]*Host{}}, problems: problems, tables: map[string][]table{},
		texts: map[*manifest.Node]*expr.Text{}}
	whole = true
	for _, name := range files {
		data, err := fs.ReadFile(project, name)
		if err != nil {
			do := ""
			if errors.Is(err, fs.ErrNotExist) {
				err, do = errors.New("the inventory file does not exist"),
					"create it, or change [inventory] files in jadekettle.toml"
			}
			problems.At(value.Place{File: name}, err.Error(), do)
			whole = false
			continue
		}
		root, ok := manifest.ParseTOML(name, data, problems)
		whole = whole && ok
		l.read(root)
	}
	l.link()
	for _, h := range l.inv.Hosts {
		connects := l.own(h)
		l.inv.join(h, problems)
		l.connections(h, connects)
	}
	return l.inv, whole
}

// setAt is where a host's key was set, and whether for a range.
type setAt struct {
	place  value.Place
	ranged bool
}

// table is one [host.NAME] table that speaks of a host, with the host's number
// when the name is a range.
type table struct {
	node   *manifest.Node
	n      int64
	ranged bool
}

type loader struct {
	inv      *Inventory
	problems *problem.Problems
	top      []*manifest.Node // [connect] of every file
	tables   map[string][]table
	texts    map[*manifest.Node]*expr.Text // compiled once, however many hosts a range has
}

func (l *loader) read(root *manifest.Node) {
	for _, k := range root.Keys {
		switch {
		case k.Node.Kind != manifest.Table || !slices.Contains([]string{"connect", "host", "group"}, k.Name):
			l.problems.At(k.Place, fmt.Sprintf("unknown table %q in an inventory", k.Name),
				problem.Meant(k.Name, []string{"connect", "host", "group"},
					"use [connect], [host.NAME] or [group.NAME]"))
		case k.Name == "connect":
			l.top = append(l.top, k.Node)
		case k.Name == "host":
			for _, h := range k.Node.Keys {
				l.host(h)
			}
		case k.Name == "group":
			for _, g := range k.Node.Keys {
				l.group(g)
			}
		}
	}
}

var hostForm = lazy.Regexp(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)

func (l *loader) host(k manifest.Key) {
	if k.Node.Kind != manifest.Table {
		l.problems.At(k.Place, fmt.Sprintf("host.%s must be a table", k.Name),
			"write [host."+k.Name+"] and the host's keys below it")
		return
	}
	names, err := expand(k.Name)
	if err != nil {
		l.problems.AddErr(k.Place, err)
		return
	}
	for _, nm := range names {
		if !hostForm().MatchString(nm.name) {
			l.problems.At(k.Place, fmt.Sprintf("invalid host name: %q", nm.name),
				"use letters, digits, dots, dashes and underscores")
			return
		}
		if l.tables[nm.name] == nil {
			h := &Host{Name: nm.name, Place: k.Place}
			l.inv.Hosts = append(l.inv.Hosts, h)
			l.inv.byName[nm.name] = h
		}
		l.tables[nm.name] = append(l.tables[nm.name], table{k.Node, nm.n, nm.ranged})
	}
}

// GroupKeys are what a [group.NAME] table may hold, HostKeys what a [host.NAME]
// table may hold besides keys of the host's own, and ConnectKeys what a connect
// table may hold.
var (
	GroupKeys = []schema.Key{
		{Name: "about", Takes: schema.TakesText, Doc: "A description."},
		{Name: "inside", Takes: schema.TakesText, Doc: "The group that contains it."},
		{Name: "manifests", Takes: schema.TakesList, Doc: "The manifests assigned to its members."},
		{Name: "members", Takes: schema.TakesList, Doc: "Host names and patterns."},
		{Name: "where", Takes: schema.TakesText, Doc: "A CEL condition over host, env and facts that selects members."},
		{Name: "trust_facts", Takes: schema.TakesBool, Default: "false",
			Doc: "Allow facts to give secrets to a host, and let `fleet` use facts of its members that another " +
				"controller wrote to a shared history."},
		{Name: schema.OnRemoval, Takes: schema.TakesText, Choices: []string{schema.Keep, schema.Remove},
			Default: `"keep"`,
			Doc:     "What happens to everything it declares once that is no longer declared for a host."},
		{Name: "connect", Takes: schema.TakesTable, Doc: "How to connect to its members.", Items: ConnectKeys},
		{Name: "params", Takes: schema.TakesTable, Doc: "Values for params, by manifest and name."},
	}
	HostKeys = []schema.Key{
		{Name: "address", Takes: schema.TakesText, Doc: "Its address or name; the host's own name by default."},
		{Name: "disabled", Takes: schema.TakesText, Doc: "Why it is never contacted."},
		{Name: "connect", Takes: schema.TakesTable, Doc: "How to connect to it.", Items: ConnectKeys},
		{Name: "params", Takes: schema.TakesTable, Doc: "Values for params, by manifest and name."},
	}
	ConnectKeys = []schema.Key{
		{Name: "address", Takes: schema.TakesText, Doc: "The address to connect to, if it is not the host's address."},
		{Name: "port", Takes: schema.TakesInt, Default: "22", Doc: "The port of its SSH server."},
		{Name: "user", Takes: schema.TakesText, Doc: "The login user; by default, the user who runs Jade Kettle."},
		{Name: "key", Takes: schema.TakesText,
			Doc: "A private key file; by default, the agent and the usual key files."},
		{Name: "elevate", Takes: schema.TakesText, Doc: "How to become root.", Choices: []string{"", "sudo", "doas"}},
		{Name: "elevate_password", Takes: schema.TakesText,
			Doc: "The encrypted data value with the password for sudo, such as data.sudo.password."},
		{Name: "jump", Takes: schema.TakesText,
			Doc: "A bastion host to connect through, from this inventory or as [USER@]HOST[:PORT]; separate " +
				"several with commas."},
		{Name: "command", Takes: schema.TakesText,
			Doc: "A line for sh, run on this machine, that opens a shell on the host instead of SSH; it can use " +
				"$JADEKETTLE_HOST and $JADEKETTLE_ADDRESS."},
		{Name: "local", Takes: schema.TakesBool, Default: "false", Doc: "This machine, without SSH."},
	}
)

func (l *loader) group(k manifest.Key) {
	if k.Node.Kind != manifest.Table || !hostForm().MatchString(k.Name) {
		l.problems.At(k.Place, fmt.Sprintf("group.%s is not a valid group", k.Name),
			"write [group.NAME], the name in letters, digits, dashes and underscores")
		return
	}
	if first, ok := l.inv.Group(k.Name); ok {
		l.problems.Add(problem.Problem{Place: k.Place,
			What: fmt.Sprintf("the group %q is defined twice; first at %s", k.Name,
				first.Place), Do: "keep one of them", Also: []value.Place{first.Place}})
		return
	}
	g := &Group{Name: k.Name, Place: k.Place}
	l.inv.Groups = append(l.inv.Groups, g)
	k.Node.Decode("a group", GroupKeys, manifest.Fields{"about": &g.About, "inside": &g.Inside,
		"manifests": func(n *manifest.Node, ps *problem.Problems) {
			for _, item := range n.Texts("manifests", ps) {
				g.Manifests = append(g.Manifests, Use{item.Value.(string), item.Place})
			}
		},
		"members": func(n *manifest.Node, ps *problem.Problems) {
			for _, item := range n.Texts("members", ps) {
				p, err := parsePattern(item.Value.(string), item.Place)
				if err != nil {
					ps.AddErr(item.Place, err)
					continue
				}
				g.members = append(g.members, p)
			}
		},
		"connect":        func(n *manifest.Node) { g.connect = n },
		"where":          g.setWhere,
		"trust_facts":    &g.TrustFacts,
		schema.OnRemoval: &g.OnRemoval,
		"params":         func(n *manifest.Node) { g.Params = l.params(n, table{}) },
	}, l.problems)
}

var whereScope = expr.Scope{Roots: []string{"host", "facts", "env"}, What: expr.Where}

// Condition compiles a condition over host, facts and env, such as those of
// groups, that is given on the command line.
func Condition(text string) (*expr.Program, error) {
	return expr.Compile(text, func(int) value.Place { return value.Place{} }, whereScope)
}

func (g *Group) setWhere(n *manifest.Node) error {
	text, _ := n.Value.(string)
	if text == "" {
		return problem.Errorf("where takes a condition, as text").Remedy(`write where = 'host.site == "north-pier"'`)
	}
	p, err := expr.Compile(text, n.At, whereScope)
	if err == nil {
		g.Where, g.ByFacts = p, p.ReadsRoot("facts")
	}
	return err
}

// params reads a table of values for params, by manifest and name.
func (l *loader) params(n *manifest.Node, from table) []Given {
	var out []Given
	const form = "write params.MANIFEST.NAME = value"
	if n.Kind != manifest.Table {
		l.problems.At(n.Place, "params must be a table of manifests", form)
		return nil
	}
	for _, m := range n.Keys {
		if m.Node.Kind != manifest.Table {
			l.problems.At(m.Place, fmt.Sprintf("params.%s must be a table of values", m.Name), form)
			continue
		}
		for _, v := range m.Node.Keys {
			out = append(out, Given{m.Name, v.Name, v.Node, from.n, from.ranged})
		}
	}
	return out
}

// link joins groups with those they are inside of and hosts with their groups.
func (l *loader) link() {
	for _, g := range l.inv.Groups {
		outer, ok := l.inv.Group(g.Inside)
		if g.Inside != "" && !ok {
			l.problems.At(g.Place, fmt.Sprintf("group %s is inside %q, which is not a group", g.Name, g.Inside),
				problem.Meant(g.Inside, l.inv.GroupNames(), "declare [group."+g.Inside+"]"))
		}
		g.inside = outer
	}
	for _, g := range l.inv.Groups {
		l.breakCircle(g)
	}
	for _, g := range l.inv.Groups {
		for at := g.inside; at != nil; at = at.inside {
			g.Depth++
		}
	}
	for _, g := range l.inv.Groups {
		if g.ByFacts && g.connect != nil {
			l.problems.At(g.connect.Place,
				fmt.Sprintf("group %s selects its members by facts, which are known only after connecting, so it "+
					"cannot set how to connect", g.Name), "set connect on the hosts or in another group")
		}
	}
}

// breakCircle reports a group that is inside itself and takes it out, so that
// every way outwards ends.
func (l *loader) breakCircle(g *Group) {
	seen := []string{g.Name}
	for at := g.inside; at != nil; at = at.inside {
		if at == g {
			l.problems.At(g.Place, "groups contain each other in a cycle: "+strings.Join(append(seen, g.Name),
				" inside "), "remove one of these inside keys")
			g.inside = nil
			return
		}
		if slices.Contains(seen, at.Name) {
			return // a circle further out, which is broken at its own groups
		}
		seen = append(seen, at.Name)
	}
}

// join gives a host the groups that it is in without its facts being known,
// and those that it may be in.
func (inv *Inventory) join(h *Host, problems *problem.Problems) {
	in, maybe := map[*Group]bool{}, map[*Group]bool{}
	vars := &expr.Vars{Host: h.Vars, Env: inv.Env}
	for _, g := range inv.Groups {
		switch {
		case g.named(h.Name):
			g.mark(in)
		case g.ByFacts:
			g.mark(maybe)
		case g.Where != nil:
			yes, _, err := g.Where.Bool(vars)
			if err != nil {
				var ps problem.Problems
				ps.AddErr(g.Place, err)
				ps.On(h.Name)
				problems.AddErr(g.Place, ps.Err())
			}
			if yes {
				g.mark(in)
			}
		}
	}
	h.Groups = inv.inOrder(in)
	for g := range in {
		delete(maybe, g)
	}
	h.Maybe = inv.inOrder(maybe)
	h.Vars["groups"] = names(h.Groups)
}

func names(groups []*Group) []any {
	out := []any{}
	for _, g := range groups {
		out = append(out, g.Name)
	}
	return out
}

// Widened lists the groups whose where makes hosts members of the group that they are inside of,
// or may do so by facts, which would not be its members otherwise.
func (inv *Inventory) Widened() []*Group {
	var out []*Group
	for _, g := range inv.Groups {
		if g.Where == nil || g.inside == nil {
			continue
		}
		if slices.ContainsFunc(inv.Hosts, func(h *Host) bool { return inv.widens(g, h) }) {
			out = append(out, g)
		}
	}
	return out
}

// widens says whether a host may come into the outer group of g by the where of g alone.
func (inv *Inventory) widens(g *Group, h *Host) bool {
	if g.named(h.Name) {
		return false
	}
	vars := &expr.Vars{Host: h.Vars, Env: inv.Env}
	holds := func(g *Group) bool {
		yes, _, err := g.Where.Bool(vars)
		return err == nil && yes
	}
	if !g.ByFacts && !holds(g) {
		return false
	}
	in := map[*Group]bool{}
	for _, other := range inv.Groups {
		if other != g && (other.named(h.Name) || other.Where != nil && !other.ByFacts && holds(other)) {
			other.mark(in)
		}
	}
	return !in[g.inside]
}

// named says whether a host is a member by name or pattern.
func (g *Group) named(host string) bool {
	return slices.ContainsFunc(g.members, func(p pattern) bool { return p.matches(host) })
}

// mark adds a group and all that it is inside of.
func (g *Group) mark(in map[*Group]bool) {
	for at := g; at != nil && !in[at]; at = at.inside {
		in[at] = true
	}
}

func (inv *Inventory) inOrder(in map[*Group]bool) []*Group {
	if len(in) == 0 {
		return nil
	}
	var out []*Group
	for _, g := range inv.Groups {
		if in[g] {
			out = append(out, g)
		}
	}
	slices.SortStableFunc(out, func(a, b *Group) int { return cmp.Compare(a.Depth, b.Depth) })
	return out
}

// GroupsOf gives all groups of a host, those that its facts decide included.
// With facts nil it gives those that it is in whatever they are.
func (inv *Inventory) GroupsOf(h *Host, facts map[string]any) ([]*Group, error) {
	if len(h.Maybe) == 0 || facts == nil {
		return h.Groups, nil
	}
	in := map[*Group]bool{}
	for _, g := range h.Groups {
		in[g] = true
	}
	vars := &expr.Vars{Host: h.Vars, Env: inv.Env, Facts: facts}
	more := false
	for _, g := range h.Maybe {
		if !g.ByFacts || in[g] {
			continue
		}
		yes, _, err := g.Where.Bool(vars)
		if err != nil {
			return nil, err
		}
		if yes {
			g.mark(in)
			more = true
		}
	}
	if !more {
		return h.Groups, nil
	}
	return inv.inOrder(in), nil
}

// Pattern is a name or a pattern of a group's members.
type Pattern struct {
	Group string
	Text  string
	Place value.Place
}

// Strangers lists the members by name that are no hosts of this inventory: those of another
// environment, or mistakes.
func (inv *Inventory) Strangers() []Pattern {
	var out []Pattern
	for _, g := range inv.Groups {
		for _, m := range g.members {
			if m.plain() && !inv.has(m.text) {
				out = append(out, Pattern{g.Name, m.text, m.place})
			}
		}
	}
	return out
}

// Unmatched lists the patterns of members that no host matches. A plain name
// that is not of a host is among the Strangers.
func (inv *Inventory) Unmatched() []Pattern {
	var out []Pattern
	for _, g := range inv.Groups {
		for _, p := range g.members {
			if !p.plain() && p.text != "*" && !slices.ContainsFunc(inv.Hosts,
				func(h *Host) bool { return p.matches(h.Name) }) {
				out = append(out, Pattern{g.Name, p.text, p.place})
			}
		}
	}
	return out
}

// HostKeys lists the keys that any host has of its own.
func (inv *Inventory) HostKeys() []string {
	all := map[string]bool{}
	for _, h := range inv.Hosts {
		for k := range h.Vars {
			all[k] = true
		}
	}
	return value.Keys(all)
}

// WithGroups gives the host's own values with another list of groups.
func (h *Host) WithGroups(groups []*Group) map[string]any {
	if len(groups) == len(h.Groups) {
		return h.Vars
	}
	out := make(map[string]any, len(h.Vars))
	for k, v := range h.Vars {
		out[k] = v
	}
	out["groups"] = names(groups)
	return out
}

// Within says whether a group is inside another, however deep.
func (inv *Inventory) Within(g, other *Group) bool {
	for at := g.inside; at != nil; at = at.inside {
		if at == other {
			return true
		}
	}
	return false
}

// Why says by what a host is a member of a group: by its name, by a pattern, by
// a condition, or because it is in a group inside; empty when it is not in it.
func (inv *Inventory) Why(h *Host, g *Group, facts map[string]any) string {
	for _, p := range g.members {
		if p.matches(h.Name) {
			if p.plain() {
				return "by its name"
			}
			return "by the pattern " + p.text
		}
	}
	if g.Where != nil {
		if yes, known, err := g.Where.Bool(&expr.Vars{Host: h.Vars, Env: inv.Env, Facts: facts}); err == nil &&
			known && yes {
			return "by the condition " + g.Where.Text()
		}
	}
	for _, inner := range inv.Groups {
		if inner.inside == g && inv.Why(h, inner, facts) != "" {
			return "through the group " + inner.Name
		}
	}
	return ""
}

// own gives a host its own keys, and its params. It returns where its
// connection is reported.
func (l *loader) own(h *Host) []ranked {
	h.Vars = map[string]any{"name": h.Name, "address": h.Name, "groups": []any{}}
	from := map[string]setAt{}
	tables := slices.Clone(l.tables[h.Name])
	slices.SortStableFunc(tables, func(a, b table) int {
		switch {
		case a.ranged == b.ranged:
			return 0
		case a.ranged:
			return -1
		}
		return 1
	})
	var connects []ranked
	for _, t := range tables {
		for _, k := range t.node.Keys {
			// What is said of one host goes before what is said of a range.
			if first, there := from[k.Name]; there && first.ranged == t.ranged && k.Name != "connect" {
				l.problems.Add(problem.Problem{Place: k.Place,
					What: fmt.Sprintf("host %s has the key %q twice; first at %s", h.Name,
						k.Name, first.place), Do: "keep one of them", Also: []value.Place{first.place}})
				continue
			}
			from[k.Name] = setAt{k.Place, t.ranged}
			l.hostKey(h, t, k, &connects)
		}
	}
	return connects
}

// connections gives a host its connection: what is said of all, of its groups,
// and of itself.
func (l *loader) connections(h *Host, own []ranked) {
	var all []ranked
	for _, t := range l.top {
		all = append(all, ranked{node: t, rank: ofTop})
	}
	for _, g := range h.Groups {
		if g.connect != nil {
			all = append(all, ranked{node: g.connect, rank: g.Depth})
		}
	}
	l.connect(h, append(all, own...))
}

func (l *loader) hostKey(h *Host, t table, k manifest.Key, connects *[]ranked) {
	switch k.Name {
	case "connect":
		*connects = append(*connects, ranked{k.Node, ofHost, t})
		return
	case "params":
		given := l.params(k.Node, t)
		for _, old := range h.Params { // a range's, where this table says nothing
			if !slices.ContainsFunc(given, func(g Given) bool {
				return g.Manifest == old.Manifest &&
					g.Param == old.Param
			}) {
				given = append(given, old)
			}
		}
		h.Params = given
		return
	case "name", "groups":
		l.problems.At(k.Place, fmt.Sprintf("the host key %q is reserved", k.Name), "choose another key")
		return
	}
	v, err := l.value(h, t, k.Node)
	if err != nil {
		l.problems.AddErr(k.Node.Place, err)
		return
	}
	text, isText := v.(string)
	switch k.Name {
	case "disabled":
		if !isText || text == "" {
			l.problems.At(k.Node.Place, "disabled takes the reason, as text", `write disabled = "why and until when"`)
			return
		}
		h.Disabled = text
		return
	case "address":
		if !isText || text == "" || strings.ContainsAny(text, " \t\n/") {
			l.problems.At(k.Node.Place, "address takes an address or a name, as text", `write address = "192.0.2.21"`)
			return
		}
	}
	h.Vars[k.Name] = v
}

// value gives a host's key, with ${n} and ${host.name} filled in.
func (l *loader) value(h *Host, t table, node *manifest.Node) (any, error) {
	switch node.Kind {
	case manifest.List:
		out := make([]any, len(node.Items))
		for i, item := range node.Items {
			var err error
			if out[i], err = l.value(h, t, item); err != nil {
				return nil, err
			}
		}
		return out, nil
	case manifest.Table:
		out := make(map[string]any, len(node.Keys))
		for _, k := range node.Keys {
			var err error
			if out[k.Name], err = l.value(h, t, k.Node); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	s, ok := node.Value.(string)
	if !ok || !manifest.Interpolated(s) {
		return node.Plain(), nil
	}
	scope := expr.Scope{Roots: []string{"host", "env"}, What: "a host's own key"}
	vars := &expr.Vars{Host: map[string]any{"name": h.Name}, Env: l.inv.Env}
	if t.ranged {
		scope = scope.And("n")
		vars = vars.With("n", t.n)
	}
	text := l.texts[node]
	if text == nil {
		var err error
		if text, err = expr.ParseText(s, node.At, "", scope); err != nil {
			return nil, err
		}
		l.texts[node] = text
	}
	return text.Eval(vars)
}

// ranked is a connect table with the rank of where it is: ofTop, a group's
// depth, or ofHost.
type ranked struct {
	node *manifest.Node
	rank int
	from table // the host's table that it is in, for ofHost
}

const (
	ofTop  = -1
	ofHost = 1 << 20 // deeper than any group
)

func (l *loader) connect(h *Host, sources []ranked) {
	type setBy struct {
		rank  int
		value any
		place value.Place
	}
	set := map[string]setBy{}
	for _, s := range sources {
		if s.node.Kind != manifest.Table {
			l.problems.At(s.node.Place, "connect must be a table", `write connect = { user = "ops" }`)
			continue
		}
		for _, k := range s.node.Keys {
			v, err := l.value(h, s.from, k.Node)
			if err != nil {
				l.problems.AddErr(k.Node.Place, err)
				continue
			}
			if first, there := set[k.Name]; there && first.rank == s.rank && s.rank != ofHost &&
				!value.Equal(first.value, v) {
				l.problems.Add(problem.Problem{Place: k.Place,
					What: fmt.Sprintf("connect.%s of host %s differs between two groups at the same depth; first at %s",
						k.Name,
						h.Name, first.place),
					Do: "set it on the host, or put one group inside the other", Also: []value.Place{first.place}})
				continue
			}
			set[k.Name] = setBy{s.rank, v, k.Place}
			if k.Name == "elevate_password" {
				h.Connect.Place = k.Node.Place
			}
			if err := h.Connect.set(k.Name, v); err != nil {
				l.problems.AddErr(k.Place, err)
			}
		}
	}
}

// set reads one key of connect, whose value may have come out of an expression.
func (c *Connect) set(key string, v any) error {
	i := slices.IndexFunc(ConnectKeys, func(k schema.Key) bool { return k.Name == key })
	if i < 0 {
		names := schema.KeyNames(ConnectKeys)
		return problem.Errorf("unknown key %q in connect", key).
			Meant(key, names, "available: "+strings.Join(names, ", "))
	}
	password := ""
	of := ConnectKeys[i]
	of.Name = "connect." + key
	if err := manifest.Assign(of, v, c.field(key, &password)); err != nil {
		return err
	}
	switch key {
	case "jump":
		if strings.ContainsAny(c.Jump, " \t\r\n") || strings.HasPrefix(c.Jump, "-") {
			return problem.Errorf("invalid connect.jump: %q", c.Jump).
				Remedy("write it such as \"ops@gate.example.org:2222\"")
		}
	case "command":
		if strings.TrimSpace(c.Command) == "" || strings.ContainsAny(c.Command, "\r\n\x00") {
			return problem.Errorf("invalid connect.command: %q", c.Command).
				Remedy("write one line for sh that opens a shell on the host")
		}
	case "elevate_password":
		at := strings.Split(password, ".")
		if len(at) < 2 || at[0] != "data" || slices.Contains(at, "") || strings.ContainsAny(password, " \t\r\n$") {
			p := problem.Errorf("connect.elevate_password is not a path to a data value").
				Remedy("encrypt the password with `jadekettle secret set` and write its path, such as " +
					"\"data.sudo.password\"")
			p.Quiet = true // it may be the password itself
			return p
		}
		c.ElevatePassword = at[1:]
	}
	return nil
}

// field is where a key goes. Connections are read for every host, so it makes one field and not all.
func (c *Connect) field(key string, password *string) any {
	switch key {
	case "address":
		return &c.Address
	case "port":
		return manifest.Number{To: &c.Port, Min: 1, Max: 65535}
	case "user":
		return &c.User
	case "key":
		return &c.Key
	case "elevate":
		return &c.Elevate
	case "elevate_password":
		return password
	case "jump":
		return &c.Jump
	case "command":
		return &c.Command
	}
	return &c.Local // for "local", the only other key
}

// Host looks a host up by name.
func (inv *Inventory) Host(name string) (*Host, bool) {
	h, ok := inv.byName[name]
	return h, ok
}

func (inv *Inventory) has(name string) bool { _, ok := inv.Host(name); return ok }

// Group looks a group up by name.
func (inv *Inventory) Group(name string) (*Group, bool) {
	for _, g := range inv.Groups {
		if g.Name == name {
			return g, true
		}
	}
	return nil, false
}

// HostNames lists the hosts.
func (inv *Inventory) HostNames() []string {
	var out []string
	for _, h := range inv.Hosts {
		out = append(out, h.Name)
	}
	return out
}

// GroupNames lists the groups.
func (inv *Inventory) GroupNames() []string {
	var out []string
	for _, g := range inv.Groups {
		out = append(out, g.Name)
	}
	return out
}

// listThem is what to do about a name that there is not.
const listThem = "`jadekettle hosts` lists them"

// Select gives the hosts that targets name (host names, patterns, @group),
// without those that except names, in the inventory's order. No targets means
// every host. A name that means nothing is an error. Hosts whose facts decide
// whether they are in a group that is named are among them; once their facts
// are known, Chosen reports.
func (inv *Inventory) Select(targets, except []string) ([]*Host, error) {
	in, err := inv.match(targets, true)
	if err != nil {
		return nil, err
	}
	out, err := inv.match(except, false)
	if err != nil {
		return nil, err
	}
	var hosts []*Host
	for _, h := range inv.Hosts {
		if (len(targets) == 0 || in[h]) && !out[h] {
			hosts = append(hosts, h)
		}
	}
	if len(hosts) == 0 {
		return nil, problem.Errorf("these targets match no host").Remedy(listThem)
	}
	return hosts, nil
}

// Chosen says whether a host that Select gave is meant after all, now that its
// groups are known.
func (inv *Inventory) Chosen(targets, except []string, h *Host, groups []*Group) bool {
	has := func(t string) bool {
		name, isGroup := strings.CutPrefix(t, "@")
		if isGroup {
			return slices.ContainsFunc(groups, func(g *Group) bool { return g.Name == name })
		}
		p, err := parsePattern(t, value.Place{})
		return err == nil && p.matches(h.Name)
	}
	return (len(targets) == 0 || slices.ContainsFunc(split(targets), has)) && !slices.ContainsFunc(split(except), has)
}

// split splits targets at their commas, except in brackets.
func split(targets []string) []string {
	var out []string
	for _, t := range targets {
		depth, from := 0, 0
		for i, r := range t {
			switch {
			case r == '[':
				depth++
			case r == ']':
				depth--
			case r == ',' && depth <= 0:
				out, from = append(out, t[from:i]), i+1
			}
		}
		out = append(out, t[from:])
	}
	return out
}

// match gives the hosts that targets name; maybe says whether those count that
// are in a group only if their facts say so.
func (inv *Inventory) match(targets []string, maybe bool) (map[*Host]bool, error) {
	out := map[*Host]bool{}
	for _, t := range split(targets) {
		if name, ok := strings.CutPrefix(t, "@"); ok {
			g, ok := inv.Group(name)
			if !ok {
				return nil, problem.Errorf("unknown group %q", name).Meant(name, inv.GroupNames(), listThem)
			}
			for _, h := range inv.Hosts {
				if slices.Contains(h.Groups, g) || maybe && slices.Contains(h.Maybe, g) {
					out[h] = true
				}
			}
			continue
		}
		if h, ok := inv.byName[t]; ok {
			out[h] = true
			continue
		}
		p, err := parsePattern(t, value.Place{})
		if err != nil {
			return nil, err
		}
		found := false
		for _, h := range inv.Hosts {
			if p.matches(h.Name) {
				out[h], found = true, true
			}
		}
		switch {
		case found:
		case p.plain():
			if _, ok := inv.Group(t); ok {
				return nil, problem.Errorf("%q is a group, not a host", t).Remedy("write @%s", t)
			}
			return nil, problem.Errorf("unknown host %q", t).Meant(t, inv.HostNames(), listThem)
		default:
			return nil, problem.Errorf("no host matches %q", t).Remedy(listThem)
		}
	}
	return out, nil
}

// numbered is one name out of a range.
type numbered struct {
	name   string
	n      int64
	ranged bool
}

var rangeForm = lazy.Regexp(`\[([0-9]+)\.\.([0-9]+)\]`)

// maxRange bounds how many hosts one table may make.
const maxRange = 100_000

// expand gives the names that a host table's name covers: gauge-[01..04]
// is gauge-01 to gauge-04, as wide as the first number is written.
func expand(name string) ([]numbered, error) {
	at := rangeForm().FindStringSubmatchIndex(name)
	if at == nil {
		if strings.ContainsAny(name, "[]*?") {
			return nil, problem.Errorf("invalid host name: %q", name).Remedy("write a range as gauge-[01..04]")
		}
		return []numbered{{name: name}}, nil
	}
	low, high := name[at[2]:at[3]], name[at[4]:at[5]]
	from, err1 := strconv.ParseInt(low, 10, 64)
	to, err2 := strconv.ParseInt(high, 10, 64)
	if err1 != nil || err2 != nil || to < from || to-from >= maxRange {
		return nil, fmt.Errorf("the range [%s..%s] is reversed or too long", low, high)
	}
	var out []numbered
	for n := from; n <= to; n++ {
		out = append(out, numbered{fmt.Sprintf("%s%0*d%s", name[:at[0]], len(low), n, name[at[1]:]), n, true})
	}
	return out, nil
}

// pattern matches host names: * matches any text, ? for one character,
// [01..04] for the numbers of a range.
type pattern struct {
	text  string
	place value.Place
	form  *regexp.Regexp
	low   int64
	high  int64
	wide  int // how many digits the range's first number has
}

func parsePattern(text string, place value.Place) (pattern, error) {
	p := pattern{text: text, place: place}
	if text == "" {
		return p, problem.Errorf("a target is empty").Remedy("remove it")
	}
	if p.plain() {
		return p, nil
	}
	var b strings.Builder
	rest := text
	if at := rangeForm().FindStringSubmatchIndex(text); at != nil {
		p.low, _ = strconv.ParseInt(text[at[2]:at[3]], 10, 64)
		p.high, _ = strconv.ParseInt(text[at[4]:at[5]], 10, 64)
		b.WriteString(glob(text[:at[0]]))
		p.wide = at[3] - at[2]
		b.WriteString("([0-9]+)")
		rest = text[at[1]:]
	}
	b.WriteString(glob(rest))
	var err error
	p.form, err = regexp.Compile("^" + b.String() + "$")
	return p, err
}

func glob(s string) string {
	s = regexp.QuoteMeta(s)
	s = strings.ReplaceAll(s, `\*`, `.*`)
	return strings.ReplaceAll(s, `\?`, `.`)
}

func (p pattern) plain() bool { return !strings.ContainsAny(p.text, "*?[") }

func (p pattern) matches(name string) bool {
	if p.plain() {
		return p.text == name
	}
	m := p.form.FindStringSubmatch(name)
	if m == nil {
		return false
	}
	if len(m) == 1 {
		return true
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	// A range means the names that it would make, and no others.
	return err == nil && n >= p.low && n <= p.high && m[1] == fmt.Sprintf("%0*d", p.wide, n)
}
