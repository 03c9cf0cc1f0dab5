package resolve

import (
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"sync"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Codes are the pieces of advice that lint gives, and what each is about.
var Codes = []struct{ Code, Doc string }{
	{"owner-mode", "A file or a folder is declared without an owner or a mode, so these stay as they happen to be."},
	{"matches-nothing", "A pattern of a group's members matches no host."},
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

// Advice is one piece of advice. A silenced one carries the reason.
type Advice struct {
	problem.Problem
	Silenced bool
	Reason   string
}

// Advice gives what lint advises, in the order of files and lines. It is known
// after Check.
func (p *Project) Advice() []Advice {
	var out []Advice
	files := map[string]map[int][]mark{}
	for _, pr := range p.advice.List() {
		a := Advice{Problem: pr}
		a.Reason, a.Silenced = p.meant(files, pr.Place, pr.Code)
		out = append(out, a)
	}
	return out
}

// meant gives the reason by which a mark says that something is meant. files
// keeps the marks of each file that was looked at.
func (p *Project) meant(files map[string]map[int][]mark, at value.Place, code string) (reason string, marked bool) {
	if _, read := files[at.File]; !read {
		files[at.File] = p.marks(at.File)
	}
	for _, m := range slices.Concat(files[at.File][at.Line], files[at.File][wholeFile]) {
		if m.code == code {
			return m.reason, true
		}
	}
	return "", false
}

// mark is a comment that silences a piece of advice:
//
//	# jadekettle meant CODE: reason
//	# jadekettle meant CODE in this file: reason
//
// It counts for its own line, and when it stands alone for the next line that
// is no comment; above the header of a table, for all of the table.
type mark struct{ code, reason string }

const wholeFile = -1

var markForm = regexp.MustCompile(`#\s*jadekettle meant ([a-z-]+)( in this file)?:\s*(\S.*?)\s*$`)

func (p *Project) marks(file string) map[int][]mark {
	out := map[int][]mark{}
	data, err := fs.ReadFile(p.files, file)
	if err != nil {
		return out
	}
	var waiting, table []mark
	for i, line := range strings.Split(string(data), "\n") {
		text := strings.TrimSpace(line)
		if m := markForm.FindStringSubmatch(text); m != nil {
			switch {
			case m[2] != "":
				out[wholeFile] = append(out[wholeFile], mark{m[1], m[3]})
			case strings.HasPrefix(text, "#"):
				waiting = append(waiting, mark{m[1], m[3]})
			default:
				out[i+1] = append(out[i+1], mark{m[1], m[3]})
			}
		}
		if text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		if strings.HasPrefix(text, "[") {
			table = waiting
		} else {
			out[i+1] = append(out[i+1], table...)
		}
		out[i+1] = append(out[i+1], waiting...)
		waiting = nil
	}
	return out
}

// tally gathers over all hosts what advice is given from.
type tally struct {
	mu         sync.Mutex
	conditions map[*expr.Program]*outcomes
	dropped    map[[2]string]value.Place // from and to
	byFacts    map[value.Place]string    // declarations with secrets, and the group

	openSecrets map[value.Place]string // contents with secrets and without a mode
}

type outcomes struct{ yes, no, unknown bool }

func newTally() *tally {
	return &tally{conditions: map[*expr.Program]*outcomes{}, dropped: map[[2]string]value.Place{},
		byFacts: map[value.Place]string{}, openSecrets: map[value.Place]string{}}
}

func (w *tally) condition(p *expr.Program, yes, known bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	o := w.conditions[p]
	if o == nil {
		o = &outcomes{}
		w.conditions[p] = o
	}
	switch {
	case !known:
		o.unknown = true
	case yes:
		o.yes = true
	default:
		o.no = true
	}
}

// Outcome is one condition of the project and what it gave while it was
// watched.
type Outcome struct {
	Text        string
	Place       value.Place
	True, False bool
	Meant       string // the reason why it need not have been both
}

// OneSided is the code by which a condition is marked that is never both true
// and false in a rehearsal.
const OneSided = "one-sided"

// Tally makes every Plan from now on remember what its conditions gave.
func (p *Project) Tally() { p.tally = newTally() }

// Outcomes tells of every condition of the project, in the order of files and
// lines, what it gave since Tally was called.
func (p *Project) Outcomes() []Outcome {
	var out []Outcome
	files := map[string]map[int][]mark{}
	add := func(c *expr.Program) {
		if c == nil {
			return
		}
		o := Outcome{Text: c.Text(), Place: c.At(0)}
		if seen := p.tally.conditions[c]; seen != nil {
			o.True, o.False = seen.yes, seen.no
		}
		o.Meant, _ = p.meant(files, o.Place, OneSided)
		out = append(out, o)
	}
	for _, name := range value.Keys(p.units) {
		for _, e := range p.units[name].entries {
			if e.decl != nil {
				add(e.decl.cond)
			} else {
				add(e.use.cond)
			}
		}
	}
	return out
}

// host takes up what one host shows.
func (w *tally) host(r *resolver) {
	for _, d := range r.dropped {
		w.dropped[[2]string{d[0].task.Ref.String(), d[1].task.Ref.String()}] = d[0].decl.Place
	}
	for _, it := range r.items {
		if c := it.task.Content; c != nil && c.Secret && !slices.ContainsFunc(it.kind.Attrs,
			func(a schema.Attr) bool { return a.Type == schema.Mode && it.task.Attrs.Has(a.Name) }) {
			w.openSecrets[it.decl.Place] = it.task.Ref.String()
		}
	}
	for _, g := range r.maybe { // the host is in it only if its facts say so
		by := r.project.Inventory.Untrusted(g)
		if by == nil {
			continue
		}
		for _, it := range r.items {
			if slices.ContainsFunc(it.contexts, func(c *context) bool { return c.group == g }) && it.readsSecret() {
				w.byFacts[it.decl.Place] = by.Name
			}
		}
		for _, given := range g.Params {
			if r.vars.Touches(readsOf(r.project.given[given.Node].texts)) {
				w.byFacts[given.Node.Place] = by.Name
			}
		}
	}
}

func (it *item) readsSecret() bool {
	for _, v := range it.task.Attrs {
		if expr.HoldsSecret(v) {
			return true
		}
	}
	if len(it.task.Masks) > 0 {
		return true
	}
	return slices.ContainsFunc(it.decl.attrs, func(a attr) bool { return it.vars.Touches(a.reads()) })
}

// reads lists the paths that an attribute reads.
func (a *attr) reads() [][]string {
	out := readsOf(a.texts)
	if a.template != nil {
		out = append(out, a.template.Reads()...)
	}
	return out
}

// readsOf lists the paths that the expressions in texts read.
func readsOf(texts []*expr.Text) [][]string {
	var out [][]string
	for _, t := range texts {
		for _, p := range t.Programs() {
			out = append(out, p.Reads()...)
		}
	}
	return out
}

// plainSecret is the advice on what had better be sealed.
const plainSecret = "plain-secret"

func (p *Project) advise(w *tally) {
	say := func(at value.Place, code, what, do string) {
		found := problem.Problem{Place: at, Code: code, What: what, Do: do}
		if code == plainSecret {
			found.Way = problem.SealSecret
		}
		p.advice.Add(found)
	}
	for cond, o := range w.conditions {
		if p.Data.Blind() && cond.ReadsRoot("data") {
			continue
		}
		if o.no && !o.yes && !o.unknown && !(cond.ReadsRoot("env") && len(p.Settings.Envs) > 0) {
			say(cond.At(0), "never-holds", "the condition is false on every host", "mend it, or take the declaration out")
		}
	}
	for edge, at := range w.dropped {
		say(at, "dropped-edge", fmt.Sprintf("%s would come after %s by itself, and what is written says the other way round", edge[0], edge[1]), "see whether that order is meant")
	}
	for at, g := range w.byFacts {
		say(at, "secret-by-facts",
			fmt.Sprintf("a host gets a secret here by being in the group %s, which its own facts decide", g),
			"name the members, or say trust_facts = true in the group")
	}
	p.sealedByFacts(say)
	for _, name := range value.Keys(p.units) {
		p.units[name].advise(p.Settings.Env, say)
	}
	p.unread(say)
	p.plainSecrets(say)
	p.askedSecrets(say)
	for _, m := range p.Inventory.Unmatched() {
		say(m.Place, "matches-nothing", fmt.Sprintf("no host of this inventory matches %q", m.Text),
			"mend the pattern, or take it out")
	}
	for _, m := range p.Data.Unknown(p.Inventory.HostKeys()) {
		if m.Place.File == "" {
			continue // the layers of a project that names none
		}
		say(m.Place, "layer-of-nobody", fmt.Sprintf("no host has the key %q, so this layer is never read", m.Key),
			problem.Meant(m.Key, p.Inventory.HostKeys(), "give hosts the key, or take the layer out"))
	}
	for at, name := range w.openSecrets {
		say(at, "secret-mode", name+" has a secret in it and no mode; it is made 0600", `say who may read it: mode = "0600"`)
	}
}

// sealedByFacts finds sealed layers that a host chooses by its facts.
func (p *Project) sealedByFacts(say func(value.Place, string, string, string)) {
	for _, name := range p.Data.Names() {
		for _, f := range p.Data.Files(name) {
			if !strings.HasSuffix(f, layers.Sealed) {
				continue
			}
			if why := p.byFacts(name); why != "" {
				say(value.Place{File: f, Line: 1, Col: 1}, "secret-by-facts", "a host gets these secrets "+why,
					"seal them in a layer that names hosts, or groups with named members")
			}
		}
	}
}

func (p *Project) byFacts(layer string) string {
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

func (u *unit) advise(env string, say func(value.Place, string, string, string)) {
	reads := u.reads()
	for _, d := range u.params {
		if !slices.ContainsFunc(reads, func(r []string) bool { return r[0] == "param" && (len(r) == 1 || r[1] == d.Name) }) {
			say(d.Place, "unused-param", fmt.Sprintf("nothing in this manifest uses the param %s", d.Name),
				"use it, or take it out")
		}
	}
	for _, e := range u.entries {
		if e.decl == nil {
			continue
		}
		d := e.decl
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
				say(given.Node.Place, "newest-in-production", fmt.Sprintf("%s %s is whatever is %s on the day of the run",
					d.Kind.Name, d.Name, at.Floating),
					"name the version, or let a param say it per environment")
			}
		}
		if len(without) > 0 {
			say(d.Place, "owner-mode", fmt.Sprintf("%s %s has no %s", d.Kind.Name, d.Name, strings.Join(without, " and no ")),
				"say who owns it and who may read it")
		}
	}
}

// reads lists every path that a manifest's expressions and templates read.
func (u *unit) reads() [][]string {
	var out [][]string
	program := func(p *expr.Program) {
		if p != nil {
			out = append(out, p.Reads()...)
		}
	}
	loop := func(list []clause) {
		for _, c := range list {
			program(c.list)
		}
	}
	for _, e := range u.entries {
		if e.use != nil {
			program(e.use.cond)
			loop(e.use.loop)
			for _, p := range e.use.params {
				out = append(out, readsOf(p.eval.texts)...)
			}
			continue
		}
		d := e.decl
		program(d.cond)
		loop(d.loop)
		if d.name != nil {
			out = append(out, readsOf([]*expr.Text{d.name})...)
		}
		for i := range d.attrs {
			a := &d.attrs[i]
			out = append(out, a.reads()...)
			if a.Schema.Type == schema.Template && a.template == nil {
				out = append(out, []string{"data"}, []string{"param"}) // which one, only a host tells
			}
		}
	}
	return out
}

// unread finds data that nothing reads.
func (p *Project) unread(say func(value.Place, string, string, string)) {
	var reads [][]string
	for _, u := range p.units {
		reads = append(reads, u.reads()...)
		for _, d := range u.params {
			if d.From != nil {
				reads = append(reads, d.From.Reads()...)
			}
		}
	}
	for _, e := range p.given {
		reads = append(reads, readsOf(e.texts)...)
	}
	for _, name := range p.Data.Names() {
		if !p.Data.Fits(name) {
			say(value.Place{File: p.Data.Files(name)[0], Line: 1, Col: 1}, "unread-file",
				fmt.Sprintf("no layer of the project is called %q", name), "the layers are "+strings.Join(p.Settings.Layers, ", "))
		}
	}
	seen := map[string]bool{}
	for _, l := range p.Data.Leaves() {
		at := append([]string{"data"}, l.Path...)
		name := strings.Join(at, ".")
		read := slices.ContainsFunc(reads, func(r []string) bool {
			n := min(len(r), len(at))
			return slices.Equal(r[:n], at[:n])
		})
		if !read && !seen[name] {
			seen[name] = true
			say(l.Node.Place, "unread-data", "nothing reads "+name, "take it out, or mend the name where it should be read")
		}
	}
}

var secretName = regexp.MustCompile(`(?i)(^|[._-])(password|passwd|passphrase|secret|token|api_?key|private_?key)$`)

// plainSecrets finds values that had better be sealed.
func (p *Project) plainSecrets(say func(value.Place, string, string, string)) {
	for _, l := range p.Data.Leaves() {
		if !l.Sealed && looksSecret(l.Path[len(l.Path)-1], l.Node) {
			say(l.Node.Place, plainSecret, fmt.Sprintf("data.%s looks like a secret, and stands in plain text",
				strings.Join(l.Path, ".")), "seal it")
		}
	}
	for _, name := range value.Keys(p.units) {
		u := p.units[name]
		for _, d := range u.params {
			if text, ok := d.Default.(string); ok && text != "" && (d.Type == "secret" || secretName.MatchString(d.Name)) {
				say(d.Place, plainSecret, fmt.Sprintf("the param %s has its secret as a default", d.Name),
					"leave the default out, and give the value through sealed data")
			}
		}
		for _, e := range u.entries {
			if e.decl == nil {
				continue
			}
			for _, a := range e.decl.attrs {
				if looksSecret(a.Schema.Name, a.Node) {
					say(a.Node.Place, plainSecret, fmt.Sprintf("%s of %s %s stands in plain text", a.Schema.Name, e.decl.Kind.Name,
						e.decl.Name), "seal it, and write ${data.NAME} here")
				}
			}
		}
	}
}

// askedSecrets finds conditions that look at sealed values: whether a thing is
// declared or left out is shown, and so is one answer about the secret.
func (p *Project) askedSecrets(say func(value.Place, string, string, string)) {
	var sealed [][]string
	for _, l := range p.Data.Leaves() {
		if l.Sealed {
			sealed = append(sealed, append([]string{"data"}, l.Path...))
		}
	}
	ask := func(cond *expr.Program) {
		if cond == nil {
			return
		}
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
	}
	for _, name := range value.Keys(p.units) {
		for _, e := range p.units[name].entries {
			if e.decl != nil {
				ask(e.decl.cond)
			} else {
				ask(e.use.cond)
			}
		}
	}
}

func looksSecret(name string, n *manifest.Node) bool {
	text, ok := n.Value.(string)
	if !ok || text == "" || manifest.Interpolated(text) {
		return false
	}
	return secretName.MatchString(name) && text != "!" && text != "*" || strings.Contains(text, "PRIVATE KEY-----")
}
