// Package advice is what lint says of a project that is right: what had better
// be otherwise. Each piece has a code, and a comment in the project can say that
// it is meant.
package advice

import (
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Codes are the pieces of advice that lint gives, and what each is about.
var Codes = []struct{ Code, Doc string }{
	{"owner-mode", "A file or a folder is declared without an owner or a mode, so these stay as they happen to be."},
	{"matches-nothing", "A pattern of a group's members matches no host."},
	{"where-widens", "The where of a group that is inside another makes hosts members of the other one, too."},
	{"layer-of-nobody", "A layer of data is named by a key that no host has."},
	{"secret-mode", "A file that a secret goes into has no mode."},
	{"secret-condition", "A condition asks for a secret, and everybody sees what it decided."},
	{"plain-secret", "Something that looks like a password or a key stands in plain text."},
	{"unused-param", "A param is declared and nothing in its manifest uses it."},
	{"unread-data", "A value of the data is read by nothing."},
	{layers.Unopened, "A sealed file could not be opened here, so what depends on it was not checked."},
	{"unread-file", "A file of data belongs to no layer of the project."},
	{"never-holds", "A condition is false on every host, whatever its facts are."},
	{"newest-in-production",
		"A package is declared as newest in production, where versions had better not change by themselves."},
	{"dropped-edge", "An order that follows from the kinds contradicts one that is written, and was dropped."},
	{"secret-by-facts", "A host comes by a secret through its facts, which it tells of itself; trust_facts = true " +
		"says that this is meant."},
	{"yaml-word", "A bare word of YAML that other readers take as true or false."},
	{"yaml-number", "A YAML value with a leading zero or colons that other readers take as another number."},
}

// Piece is one piece of advice. A silenced one carries the reason.
type Piece struct {
	problem.Problem
	Silenced bool
	Reason   string
}

// Check reads a project and resolves every host without facts. The error holds
// every problem that this shows; where there is none, the advice is complete, in
// the order of files and lines. The project is nil when too little could be read.
func Check(files fs.FS, kinds schema.Kinds, options compile.Options) (*compile.Project, []Piece, error) {
	p, err := compile.Load(files, kinds, options)
	if p == nil {
		return nil, nil, err
	}
	var ps problem.Problems
	ps.AddErr(value.Place{}, err)
	ps.AddErr(value.Place{}, p.Data.ReadAll().Err())
	known := resolve.Known{}
	if p.Reads("fleet") {
		known.Fleet = resolve.Snapshot(p, nil)
	}
	w := &gathered{dropped: map[[2]string]value.Place{}, byFacts: map[value.Place]string{},
		openSecrets: map[value.Place]string{}}
	known.Asked = w.conditions.Asked
	for _, h := range p.Inventory.Hosts {
		traced, err := resolve.Trace(p, h, known)
		w.host(traced)
		var found problem.Problems
		found.AddErr(h.Place, err)
		found.On(h.Name)
		ps.AddErr(h.Place, found.Err())
	}
	wrong, remarks := ps.Split()
	a := &adviser{Project: p, gathered: w}
	a.remarks.AddErr(value.Place{}, p.Remarks.Err())
	a.remarks.AddErr(value.Place{}, remarks.Err())
	if wrong.Err() == nil {
		a.advise()
	}
	m := marks{p: p}
	var out []Piece
	for _, pr := range a.remarks.List() {
		one := Piece{Problem: pr}
		one.Reason, one.Silenced = m.meant(pr.Place, pr.Code)
		out = append(out, one)
	}
	return p, out, wrong.Err()
}

// gathered is what advice is given from, over all hosts.
type gathered struct {
	conditions Tally
	dropped    map[[2]string]value.Place // from and to
	byFacts    map[value.Place]string    // declarations with secrets, and the group

	openSecrets map[value.Place]string // contents with secrets and without a mode
}

// host takes up what one host shows.
func (w *gathered) host(r *resolve.Traced) {
	for _, d := range r.Dropped {
		w.dropped[[2]string{d[0].Task.Ref.String(), d[1].Task.Ref.String()}] = d[0].Decl.Place
	}
	for _, it := range r.Items {
		if c := it.Task.Content; c != nil && c.Secret && !slices.ContainsFunc(it.Kind.Attrs,
			func(a schema.Attr) bool { return a.Type == schema.Mode && it.Task.Attrs.Has(a.Name) }) {
			w.openSecrets[it.Decl.Place] = it.Task.Ref.String()
		}
	}
	for _, g := range r.Maybe { // the host is in it only if its facts say so
		by := r.Project.Inventory.Untrusted(g)
		if by == nil {
			continue
		}
		for _, it := range r.Items {
			if slices.ContainsFunc(it.Contexts, func(c *resolve.Context) bool { return c.Group == g }) &&
				it.ReadsSecret() {
				w.byFacts[it.Decl.Place] = by.Name
			}
		}
		for _, given := range g.Params {
			if r.Vars.Touches(compile.ReadsOf(r.Project.Given[given.Node].Texts)) {
				w.byFacts[given.Node.Place] = by.Name
			}
		}
	}
}

// plainSecret is the advice on what had better be sealed.
const plainSecret = "plain-secret"

// adviser gives advice on one project.
type adviser struct {
	*compile.Project
	*gathered
	remarks problem.Problems
}

func (p *adviser) advise() {
	say := func(at value.Place, code, what, do string) {
		if code == plainSecret {
			do += ": `jadekettle secret set LAYER NAME`"
		}
		p.remarks.Add(problem.Problem{Place: at, Code: code, What: what, Do: do})
	}
	for cond, o := range p.conditions.seen {
		if p.Data.Blind() && cond.ReadsRoot("data") {
			continue
		}
		if o.no && !o.yes && !o.unknown && !(cond.ReadsRoot("env") && len(p.Settings.Envs) > 0) {
			say(cond.At(0), "never-holds", "the condition is false on every host", "mend it, or take the "+
				"declaration out")
		}
	}
	for edge, at := range p.dropped {
		say(at, "dropped-edge", fmt.Sprintf("%s would come after %s by itself, and what is written says the other way "+
			"round", edge[0], edge[1]), "see whether that order is meant")
	}
	for at, g := range p.gathered.byFacts {
		say(at, "secret-by-facts",
			fmt.Sprintf("a host gets a secret here by being in the group %s, which its own facts decide", g),
			"name the members, or say trust_facts = true in the group")
	}
	p.sealedByFacts(say)
	for _, name := range value.Keys(p.Units) {
		adviseUnit(p.Units[name], p.Settings.Env, say)
	}
	p.unread(say)
	p.plainSecrets(say)
	p.askedSecrets(say)
	for _, m := range p.Inventory.Unmatched() {
		say(m.Place, "matches-nothing", fmt.Sprintf("no host of this inventory matches %q", m.Text),
			"mend the pattern, or take it out")
	}
	for _, g := range p.Inventory.Widened() {
		say(g.Place, "where-widens", fmt.Sprintf("hosts for which the where of group %s is true become members of "+
			"group %s, which it is "+
			"inside, even if nothing else makes them so", g.Name, g.Inside),
			fmt.Sprintf("ask in the where for what makes a host one of %s "+
				"as well, or take inside out", g.Inside))
	}
	for _, m := range p.Data.Unknown(p.Inventory.HostKeys()) {
		if m.Place.File == "" {
			continue // the layers of a project that names none
		}
		say(m.Place, "layer-of-nobody", fmt.Sprintf("no host has the key %q, so this layer is never read", m.Key),
			problem.Meant(m.Key, p.Inventory.HostKeys(), "give hosts the key, or take the layer out"))
	}
	for at, name := range p.openSecrets {
		say(at, "secret-mode", name+" has a secret in it and no mode; it is made 0600",
			`say who may read it: mode = "0600"`)
	}
}

// sealedByFacts finds sealed layers that a host chooses by its facts.
func (p *adviser) sealedByFacts(say func(value.Place, string, string, string)) {
	for _, name := range p.Data.Names() {
		for _, f := range p.Data.Files(name) {
			if !strings.HasSuffix(f, layers.Sealed) {
				continue
			}
			if why := p.layerByFacts(name); why != "" {
				say(value.Place{File: f, Line: 1, Col: 1}, "secret-by-facts", "a host gets these secrets "+why,
					"seal them in a layer that names hosts, or groups with named members")
			}
		}
	}
}

func (p *adviser) layerByFacts(layer string) string {
	if p.Data.ByFacts(layer) {
		return "by the facts that it tells of itself"
	}
	if g, ok := p.Inventory.Group(layer[strings.LastIndex(layer, "/")+1:]); ok && p.Data.ByGroup(layer) {
		if by := p.Inventory.Untrusted(g); by != nil {
			return "by being in the group " + by.Name + ", which its own facts decide"
		}
	}
	return ""
}

func adviseUnit(u *compile.Unit, env string, say func(value.Place, string, string, string)) {
	reads := u.Reads()
	for _, d := range u.Params {
		if !reads.At("param", d.Name) {
			say(d.Place, "unused-param", fmt.Sprintf("nothing in this manifest uses the param %s", d.Name),
				"use it, or take it out")
		}
	}
	for _, e := range u.Entries {
		if e.Decl == nil {
			continue
		}
		d := e.Decl
		if absent, ok := d.Attr("absent"); ok && absent.Node.Value == true {
			continue
		}
		var without []string
		for _, at := range d.Kind.Attrs {
			given, ok := d.Attr(at.Name)
			if at.Wanted && !ok {
				without = append(without, at.Name)
			}
			if ok && at.Floating != "" && given.Node.Value == at.Floating && strings.HasPrefix(env, "prod") {
				say(given.Node.Place, "newest-in-production", fmt.Sprintf("%s %s is whatever is %s on the day of "+
					"the run",
					d.Kind.Name, d.Name, at.Floating),
					"name the version, or let a param say it per environment")
			}
		}
		if len(without) > 0 {
			say(d.Place, "owner-mode", fmt.Sprintf("%s %s has no %s", d.Kind.Name, d.Name,
				strings.Join(without, " and no ")),
				"say who owns it and who may read it")
		}
	}
}

// unread finds data that nothing reads.
func (p *adviser) unread(say func(value.Place, string, string, string)) {
	for _, name := range p.Data.Names() {
		if !p.Data.Fits(name) {
			say(value.Place{File: p.Data.Files(name)[0], Line: 1, Col: 1}, "unread-file",
				fmt.Sprintf("no layer of the project is called %q", name),
				"the layers are "+strings.Join(p.Settings.Layers, ", "))
		}
	}
	seen := map[string]bool{}
	for _, l := range p.Data.Leaves() {
		at := append([]string{"data"}, l.Path...)
		if p.Reads(at...) {
			continue
		}
		upTo := 2 // the largest table that nothing reads is one piece
		for p.Reads(at[:upTo]...) {
			upTo++
		}
		if name := strings.Join(at[:upTo], "."); !seen[name] {
			seen[name] = true
			say(l.Node.Place, "unread-data", "nothing reads "+name, "take it out, or mend the name where it should "+
				"be read")
		}
	}
}

var secretName = regexp.MustCompile(`(?i)(^|[._-])(password|passwd|passphrase|secret|token|api_?key|private_?key)$`)

// plainSecrets finds values that had better be sealed.
func (p *adviser) plainSecrets(say func(value.Place, string, string, string)) {
	for _, l := range p.Data.Leaves() {
		if !l.Sealed && looksSecret(l.Path[len(l.Path)-1], l.Node) {
			say(l.Node.Place, plainSecret, fmt.Sprintf("data.%s looks like a secret, and stands in plain text",
				strings.Join(l.Path, ".")), "seal it")
		}
	}
	for _, name := range value.Keys(p.Units) {
		u := p.Units[name]
		for _, d := range u.Params {
			if text, ok := d.Default.(string); ok && text != "" &&
				(d.Type == "secret" || secretName.MatchString(d.Name)) {
				say(d.Place, plainSecret, fmt.Sprintf("the param %s has its secret as a default", d.Name),
					"leave the default out, and give the value through sealed data")
			}
		}
		for _, e := range u.Entries {
			if e.Decl == nil {
				continue
			}
			for _, a := range e.Decl.Values {
				if looksSecret(a.Schema.Name, a.Node) {
					say(a.Node.Place, plainSecret, fmt.Sprintf("%s of %s %s stands in plain text", a.Schema.Name,
						e.Decl.Kind.Name,
						e.Decl.Name), "seal it, and write ${data.NAME} here")
				}
			}
		}
	}
}

// askedSecrets finds conditions that look at sealed values: whether a thing is
// declared or left out is shown, and so is one answer about the secret.
func (p *adviser) askedSecrets(say func(value.Place, string, string, string)) {
	var sealed [][]string
	for _, l := range p.Data.Leaves() {
		if l.Sealed {
			sealed = append(sealed, append([]string{"data"}, l.Path...))
		}
	}
	conditions(p.Project, func(cond *expr.Program) {
		for _, read := range cond.Reads() {
			for _, s := range sealed {
				if n := min(len(read), len(s)); n > 1 && slices.Equal(read[:n], s[:n]) && !cond.OnlyAsks(read) {
					say(cond.At(0), "secret-condition",
						fmt.Sprintf("the condition looks at %s, which is sealed, and what it decides is shown",
							strings.Join(read, ".")), "let it ask for a value that is no secret")
					return
				}
			}
		}
	})
}

func looksSecret(name string, n *manifest.Node) bool {
	text, ok := n.Value.(string)
	if !ok || text == "" || manifest.Interpolated(text) {
		return false
	}
	return secretName.MatchString(name) && text != "!" && text != "*" || strings.Contains(text, "PRIVATE KEY-----")
}
