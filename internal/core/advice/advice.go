// Package advice is what lint says of a project that is right: what had better
// be otherwise. Each piece has a code, and a comment in the project can say that
// it is meant.
package advice

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Codes are the pieces of advice that lint gives, and what each is about.
var Codes = []struct{ Code, Doc string }{
	{"owner-mode", "A file or directory is declared without an owner or a mode, so whatever they are on the host " +
		"is kept."},
	{"matches-nothing", "A member pattern of a group matches no host."},
	{"where-widens", "The where condition of a nested group also makes hosts members of the outer group."},
	{"unused-layer", "A data layer is named by a key that no host has."},
	{"secret-mode", "A file that contains a secret has no mode."},
	{"secret-condition", "A condition reads a secret, and its result is visible to everyone."},
	{"plain-secret", "Something that looks like a password or a key is stored in plain text."},
	{"unused-param", "A param is declared but not used in its manifest."},
	{"unused-data", "A data value is never read."},
	{layers.NotDecrypted, "An encrypted file could not be decrypted here, so whatever depends on it was not checked."},
	{"unused-file", "A data file belongs to no layer of the project."},
	{"never-true", "A condition is false on every host, whatever the host's facts."},
	{"newest-in-production",
		"Production packages should be pinned to a version, not declared as newest."},
	{"order-conflict", "An automatic ordering contradicts a declared one and was dropped."},
	{"secret-by-facts", "A host gets a secret because of its own facts, which it reports itself; trust_facts = " +
		"true allows this."},
	{"yaml-word", "An unquoted YAML word that other parsers read as true or false."},
	{"yaml-number", "A YAML value with a leading zero or colons that other parsers read as a different number."},
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
	type checked struct {
		*resolve.Traced
		err error
	}
	resolve.Each(p.Inventory.Hosts, func(h *inventory.Host) checked {
		traced, err := resolve.Check(p, h, known)
		return checked{traced, err}
	}, func(h *inventory.Host, c checked) {
		w.host(c.Traced)
		var found problem.Problems
		found.AddErr(h.Place, c.err)
		found.On(h.Name)
		ps.AddErr(h.Place, found.Err())
	})
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

// plainSecret is the advice on what had better be encrypted.
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
			say(cond.At(0), "never-true", "the condition is false on every host", "fix the condition, or remove "+
				"the declaration")
		}
	}
	for edge, at := range p.dropped {
		say(at, "order-conflict", fmt.Sprintf("%s would automatically come after %s, but the declared order says the "+
			"opposite", edge[0], edge[1]), "check that the declared order is intended")
	}
	for at, g := range p.gathered.byFacts {
		say(at, "secret-by-facts",
			fmt.Sprintf("a host gets a secret here by being in the group %s, and its own facts decide its "+
				"membership", g),
			"list the members, or set trust_facts = true in the group")
	}
	p.encryptedByFacts(say)
	for _, name := range value.Keys(p.Units) {
		adviseUnit(p.Units[name], p.Settings.Env, say)
	}
	p.unread(say)
	p.plainSecrets(say)
	p.askedSecrets(say)
	for _, m := range p.Inventory.Unmatched() {
		say(m.Place, "matches-nothing", fmt.Sprintf("no host in this inventory matches %q", m.Text),
			"fix the pattern, or remove it")
	}
	for _, g := range p.Inventory.Widened() {
		say(g.Place, "where-widens", fmt.Sprintf("hosts that match the where condition of group %s also become "+
			"members of group %s, which contains it, even if nothing else makes them members", g.Name, g.Inside),
			fmt.Sprintf("add the condition for membership in %s to the where condition, or remove inside", g.Inside))
	}
	for _, m := range p.Data.Unknown(p.Inventory.HostKeys()) {
		if m.Place.File == "" {
			continue // the layers of a project that names none
		}
		say(m.Place, "unused-layer", fmt.Sprintf("no host has the key %q, so this layer is never read", m.Key),
			problem.Meant(m.Key, p.Inventory.HostKeys(), "give hosts the key, or remove the layer"))
	}
	for at, name := range p.openSecrets {
		say(at, "secret-mode", name+" contains a secret but has no mode; 0600 is used",
			`state who may read it, for example mode = "0600"`)
	}
}

// encryptedByFacts finds encrypted layers that a host chooses by its facts.
func (p *adviser) encryptedByFacts(say func(value.Place, string, string, string)) {
	for _, name := range p.Data.Names() {
		for _, f := range p.Data.Files(name) {
			if !strings.HasSuffix(f, layers.Encrypted) {
				continue
			}
			if why := p.layerByFacts(name); why != "" {
				say(value.Place{File: f, Line: 1, Col: 1}, "secret-by-facts", "a host gets these secrets "+why,
					"encrypt them in a layer that names hosts, or groups with named members")
			}
		}
	}
}

func (p *adviser) layerByFacts(layer string) string {
	if p.Data.ByFacts(layer) {
		return "by the facts that it reports about itself"
	}
	if g, ok := p.Inventory.Group(layer[strings.LastIndex(layer, "/")+1:]); ok && p.Data.ByGroup(layer) {
		if by := p.Inventory.Untrusted(g); by != nil {
			return "by being in the group " + by.Name + ", which its own facts determine"
		}
	}
	return ""
}

func adviseUnit(u *compile.Unit, env string, say func(value.Place, string, string, string)) {
	reads := u.Reads()
	for _, d := range u.Params {
		if !reads.At("param", d.Name) {
			say(d.Place, "unused-param", fmt.Sprintf("the param %s is not used in this manifest", d.Name),
				"use it or remove it")
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
				say(given.Node.Place, "newest-in-production", fmt.Sprintf("%s %s is not pinned, so each run may "+
					"install another version", d.Kind.Name, d.Name),
					"pin a version, or set it per environment with a param")
			}
		}
		if len(without) > 0 {
			say(d.Place, "owner-mode", fmt.Sprintf("no %[3]s is set for %[1]s %[2]s", d.Kind.Name, d.Name,
				strings.Join(without, " and no ")),
				"set its owner and mode")
		}
	}
}

// unread finds data that nothing reads.
func (p *adviser) unread(say func(value.Place, string, string, string)) {
	for _, name := range p.Data.Names() {
		if !p.Data.Fits(name) {
			say(value.Place{File: p.Data.Files(name)[0], Line: 1, Col: 1}, "unused-file",
				fmt.Sprintf("%q is not a layer of this project", name),
				"available layers: "+strings.Join(p.Settings.Layers, ", "))
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
			say(l.Node.Place, "unused-data", "nothing reads "+name, "remove it, or correct the name where it is read")
		}
	}
}

var secretName = lazy.Regexp(`(?i)(^|[._-])(password|passwd|passphrase|secret|token|api_?key|private_?key)$`)

// plainSecrets finds values that had better be encrypted.
func (p *adviser) plainSecrets(say func(value.Place, string, string, string)) {
	for _, l := range p.Data.Leaves() {
		if !l.Encrypted && looksSecret(l.Path[len(l.Path)-1], l.Node) {
			say(l.Node.Place, plainSecret, fmt.Sprintf("data.%s looks like a secret and is stored in plain text",
				strings.Join(l.Path, ".")), "encrypt it")
		}
	}
	for _, name := range value.Keys(p.Units) {
		u := p.Units[name]
		for _, d := range u.Params {
			if text, ok := d.Default.(string); ok && text != "" &&
				(d.Type == "secret" || secretName().MatchString(d.Name)) {
				say(d.Place, plainSecret, fmt.Sprintf("the default of the param %s is a secret in plain text", d.Name),
					"remove the default and supply the value from encrypted data")
			}
		}
		for _, e := range u.Entries {
			if e.Decl == nil {
				continue
			}
			for _, a := range e.Decl.Values {
				if looksSecret(a.Schema.Name, a.Node) {
					say(a.Node.Place, plainSecret, fmt.Sprintf("%s of %s %s is stored in plain text", a.Schema.Name,
						e.Decl.Kind.Name,
						e.Decl.Name), "encrypt it and use ${data.NAME} here")
				}
			}
		}
	}
}

// askedSecrets finds conditions that look at encrypted values: whether a thing is
// declared or skipped is shown, which is an answer about the secret.
func (p *adviser) askedSecrets(say func(value.Place, string, string, string)) {
	var encrypted [][]string
	for _, l := range p.Data.Leaves() {
		if l.Encrypted {
			encrypted = append(encrypted, append([]string{"data"}, l.Path...))
		}
	}
	conditions(p.Project, func(cond *expr.Program) {
		for _, read := range cond.Reads() {
			for _, s := range encrypted {
				if n := min(len(read), len(s)); n > 1 && slices.Equal(read[:n], s[:n]) && !cond.OnlyAsks(read) {
					say(cond.At(0), "secret-condition",
						fmt.Sprintf("the condition reads %s, which is encrypted, but its result is shown",
							strings.Join(read, ".")), "use a value that is not secret")
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
	return secretName().MatchString(name) && text != "!" && text != "*" || strings.Contains(text, "PRIVATE KEY-----")
}
