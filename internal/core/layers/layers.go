// Package layers reads the data of a project: one tree of values per host,
// made of layers laid over one another, the general ones first. A layer is
// named by a text such as "site/${host.site}" and is in files of that name
// below data/, in TOML, YAML or JSON, and encrypted with age.
package layers

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Dir is the project's folder of data.
const Dir = "data"

// Encrypted is the ending of a file that is encrypted with age: NAME.toml.age.
const Encrypted = ".age"

// Defaults are the layers of a project that names none.
var Defaults = []string{"shared", "os/${facts.os.id}", "group/${group}", "site/${host.site}", "host/${host.name}"}

// Rule says what a later layer's list does to an earlier one.
type Rule string

// The rules. Without one a list is replaced.
const (
	Replace    Rule = "replace"
	Append     Rule = "append"
	AddMissing Rule = "add_missing"
)

// Rules are the names of the rules.
var Rules = []string{string(Append), string(AddMissing), string(Replace)}

// Config says which layers there are and how lists in them come together.
type Config struct {
	Layers []string
	Places []value.Place   // of each layer's name; may be shorter
	Lists  map[string]Rule // by dotted key
	Env    string          // the environment; empty when there is none, or it does not matter
	// Open decrypts an encrypted file. Nil means that nothing can be.
	Open func(name string, encrypted []byte) ([]byte, error)
	// Blind goes on without encrypted files that Open has no identity for, and
	// makes that a piece of advice.
	Blind bool
}

// NotOpened is the error of an Open that has no identity for a file.
type NotOpened struct{ Err error }

// Error says so.
func (e NotOpened) Error() string { return e.Err.Error() }

// Unwrap gives the reason.
func (e NotOpened) Unwrap() error { return e.Err }

// NotDecrypted is the code of the advice that a file was not opened.
const NotDecrypted = "not-decrypted"

// Data is the data of a project. Files are read when the first host needs
// them, each once.
type Data struct {
	project   fs.FS
	config    Config
	layers    []layer
	names     map[string][]string // the files of each layer name, sorted
	encrypted bool
	blind     atomic.Bool // some file was gone on without
	files     sync.Map    // of func() *file, by path
	merged    sync.Map    // of merged, by the names of the layers that made it
}

type layer struct {
	text    string
	form    *expr.Text
	group   bool           // asked once per group
	facts   bool           // depends on facts
	perHost bool           // another one for every host
	like    *regexp.Regexp // the names that it can give in this environment
	any     *regexp.Regexp // and in any
}

// file is one file, read.
type file struct {
	path     string
	node     *manifest.Node
	values   map[string]any
	problems problem.Problems
	whole    bool
}

// maxFile bounds one file of data, in bytes.
const maxFile = 16 << 20

// scope is what the name of a layer may read.
var scope = expr.Scope{Roots: []string{"host", "facts", "env"}, Locals: []string{"group"}, What: "a layer"}

var nameForm = lazy.Regexp(`^[A-Za-z0-9._-]+$`)

// Load finds the files of a project's layers. They are not read yet.
func Load(project fs.FS, config Config, problems *problem.Problems) *Data {
	d := &Data{project: project, config: config, names: map[string][]string{}}
	for i, text := range config.Layers {
		at := value.Place{}
		if i < len(config.Places) {
			at = config.Places[i]
		}
		if l, err := compile(text, config.Env, at); err != nil {
			problems.AddErr(at, err)
		} else {
			d.layers = append(d.layers, l)
		}
	}
	err := fs.WalkDir(project, Dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		if name, ok := LayerOf(p); ok {
			d.names[name] = append(d.names[name], p)
			d.encrypted = d.encrypted || strings.HasSuffix(p, Encrypted)
		}
		return nil
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		problems.At(value.Place{File: Dir}, err.Error(), "")
	}
	return d
}

// LayerOf gives the layer that a file belongs to; false when it is not a data file.
func LayerOf(file string) (string, bool) {
	name := strings.TrimSuffix(strings.TrimPrefix(file, Dir+"/"), Encrypted)
	ext := path.Ext(name)
	if !slices.Contains(manifest.Extensions, ext) || strings.HasPrefix(path.Base(name), ".") {
		return "", false
	}
	return strings.TrimSuffix(name, ext), true
}

func compile(text, env string, at value.Place) (layer, error) {
	l := layer{text: text}
	bare := literal().ReplaceAllString(text, "x")
	if !fs.ValidPath(bare) || bare == "." || strings.Contains(bare, "//") {
		return l, problem.Errorf("the layer %q is not a path inside %s", text, Dir).
			Remedy("write it like \"shared\" or \"site/${host.site}\"")
	}
	var err error
	l.form, err = expr.ParseText(text, func(int) value.Place { return at }, "", scope)
	if err != nil {
		return l, err
	}
	for _, p := range l.form.Programs() {
		l.group = l.group || p.ReadsRoot("group")
		l.facts = l.facts || p.ReadsRoot("facts")
		l.perHost = l.perHost || slices.ContainsFunc(p.Reads(), func(r []string) bool {
			return slices.Equal(r,
				[]string{"host", "name"})
		})
	}
	l.like, l.any = likeness(text), likeness(text)
	if env != "" {
		l.like = likeness(envForm().ReplaceAllLiteralString(text, env))
	}
	return l, nil
}

// likeness matches the names that a layer can give.
func likeness(text string) *regexp.Regexp {
	var like strings.Builder
	for loc := literal().FindStringIndex(text); loc != nil; loc = literal().FindStringIndex(text) {
		like.WriteString(regexp.QuoteMeta(text[:loc[0]]) + `[A-Za-z0-9._-]+`)
		text = text[loc[1]:]
	}
	return regexp.MustCompile("^" + like.String() + regexp.QuoteMeta(text) + "$")
}

// OfEnv says whether a layer of this name belongs to one environment: whether
// a layer that names env gives it there.
func OfEnv(layers []string, name, env string) bool {
	return slices.ContainsFunc(layers, func(l string) bool {
		filled := envForm().ReplaceAllLiteralString(l, env)
		return filled != l && likeness(filled).MatchString(name)
	})
}

var envForm = lazy.Regexp(`\$\{\s*env\s*\}`)

var literal = lazy.Regexp(`\$\{[^}]*\}`)

// View is what decides which layers a host has.
type View struct {
	Vars   *expr.Vars
	Groups []string // outermost first
	Maybe  []string // groups that it may be in, when its facts are known
}

// Tree is the data of one host. Its values are shared between hosts and must
// not be changed.
type Tree struct {
	Values  map[string]any
	Missing [][]string // the paths that depend on facts not known
}

// merged is the outcome of laying some files over one another.
type merged struct {
	values map[string]any
	err    error
}

// For gives the tree of one host.
func (d *Data) For(h View) (Tree, error) {
	var out Tree
	at := merged{values: map[string]any{}}
	key := ""
	for i := range d.layers {
		l := &d.layers[i]
		names, known, err := l.namesFor(h)
		if err != nil {
			return out, err
		}
		if !known || l.group && len(h.Maybe) > 0 {
			out.Missing = append(out.Missing, d.candidates(l, h)...)
		}
		for _, name := range names {
			files := d.names[name]
			if len(files) == 0 {
				continue
			}
			key += "\x00" + name
			if l.perHost {
				at = d.lay(at, files)
				continue
			}
			if have, ok := d.merged.Load(key); ok {
				at = have.(merged)
				continue
			}
			at = d.lay(at, files)
			d.merged.Store(key, at)
		}
	}
	out.Values = at.values
	return out, at.err
}

// namesFor gives the names of a layer for a host: one, one per group, or none
// when the host has no such key. known is false when facts decide.
func (l *layer) namesFor(h View) (names []string, known bool, err error) {
	groups := []string{""}
	if l.group {
		groups = h.Groups
	}
	for _, g := range groups {
		vars := h.Vars
		if l.group {
			vars = vars.With("group", g)
		}
		if l.facts && vars.Facts == nil {
			return nil, false, nil
		}
		var saw []expr.Seen
		lacks := false
		for _, p := range l.form.Programs() {
			saw = append(saw, p.Saw(vars)...)
			lacks = lacks || p.Lacks(vars)
		}
		if lacks {
			continue
		}
		saw = slices.DeleteFunc(saw, func(s expr.Seen) bool { return !s.There })
		v, err := l.form.Eval(vars)
		if err != nil {
			return nil, true, err
		}
		name, ok := v.(string)
		if !ok || name == "" || strings.HasSuffix(name, "/") {
			continue // an empty value, as env without environments
		}
		for _, seen := range saw {
			if text, ok := value.Text(seen.Value); !ok || text != "" && (!nameForm().MatchString(text) || text == "." ||
				text == "..") {
				return nil, true, problem.Errorf("the layer %q cannot use %s, which is %s", l.text, seen.Name,
					shown(seen.Value)).Remedy("use letters, digits, dots, dashes and underscores")
			}
		}
		if !fs.ValidPath(name) {
			return nil, true, problem.Errorf("the layer %q results in %q, which is not a path inside %s",
				l.text, name, Dir).
				Remedy("change the value it is built from")
		}
		names = append(names, name)
	}
	return names, true, nil
}

func shown(v any) string {
	if s, ok := value.Text(v); ok {
		return fmt.Sprintf("%q", s)
	}
	return value.TypeName(v)
}

// candidates lists the paths of every value in files that a layer may turn out
// to have, once the facts are known.
func (d *Data) candidates(l *layer, h View) [][]string {
	var out [][]string
	for _, name := range value.Keys(d.names) {
		if !l.like.MatchString(name) {
			continue
		}
		if l.group && !l.facts && !slices.ContainsFunc(h.Maybe, func(g string) bool { return path.Base(name) == g }) {
			continue
		}
		for _, p := range d.names[name] {
			out = append(out, leaves([]string{"data"}, d.read(p).node)...)
		}
	}
	return out
}

func leaves(at []string, n *manifest.Node) [][]string {
	if n.Kind != manifest.Table {
		return [][]string{slices.Clone(at)}
	}
	var out [][]string
	for _, k := range n.Keys {
		out = append(out, leaves(append(at, k.Name), k.Node)...)
	}
	return out
}

// read reads a file, once.
func (d *Data) read(p string) *file {
	f, _ := d.files.LoadOrStore(p, sync.OnceValue(func() *file { return d.readFile(p) }))
	return f.(func() *file)()
}

func (d *Data) readFile(p string) *file {
	f := &file{path: p, node: &manifest.Node{Kind: manifest.Table, Place: value.Place{File: p}}}
	at := value.Place{File: p}
	info, err := fs.Stat(d.project, p)
	if err == nil && info.Size() > maxFile {
		f.problems.At(at, fmt.Sprintf("a data file of %d MiB is too large; the limit is %d MiB", info.Size()>>20,
			maxFile>>20), "split it into layers, or copy it to hosts as a file")
		return f
	}
	text, err := fs.ReadFile(d.project, p)
	if err != nil {
		f.problems.At(at, err.Error(), "")
		return f
	}
	inner, encrypted := strings.CutSuffix(p, Encrypted)
	if encrypted {
		if d.config.Open == nil {
			f.problems.AddErr(at, problem.Errorf("this file is encrypted, and no identity was given to decrypt it").
				Remedy("set [secrets] identities in jadekettle.toml, or use `--identity FILE`"))
			return f
		}
		var closed NotOpened
		if text, err = d.config.Open(p, text); errors.As(err, &closed) && d.config.Blind {
			d.blind.Store(true)
			f.problems.Add(problem.Problem{Place: value.Place{File: p, Line: 1, Col: 1}, Code: NotDecrypted,
				What: problem.From(err).What, Do: "whatever depends on it was not checked; provide an identity " +
					"that can decrypt it"})
			return f
		}
		if err != nil {
			f.problems.AddErr(at, err)
			return f
		}
	}
	var ps problem.Problems
	node, whole := manifest.Parse(inner, text, &ps)
	f.whole = whole
	for _, pr := range ps.List() {
		pr.Place.File = p
		if encrypted {
			pr.Also = nil
			if pr.Code != "" || strings.HasPrefix(pr.What, "not valid") || strings.HasPrefix(pr.What, "text without") {
				pr.What, pr.Do = "the decrypted text is not valid here", "fix it with `jadekettle secret edit LAYER`"
			}
		}
		f.problems.Add(pr)
	}
	place(node, p)
	f.node = node
	f.values, _ = plain(node, encrypted).(map[string]any)
	return f
}

// place sets the file of every place below a node.
func place(n *manifest.Node, file string) {
	n.Place.File = file
	for _, item := range n.Items {
		place(item, file)
	}
	for i := range n.Keys {
		n.Keys[i].Place.File = file
		place(n.Keys[i].Node, file)
	}
}

// plain gives a node as a value; in an encrypted file every leaf is a secret.
func plain(n *manifest.Node, encrypted bool) any {
	switch n.Kind {
	case manifest.Table:
		out := make(map[string]any, len(n.Keys))
		for _, k := range n.Keys {
			out[k.Name] = plain(k.Node, encrypted)
		}
		return out
	case manifest.List:
		out := make([]any, len(n.Items))
		for i, item := range n.Items {
			out[i] = plain(item, encrypted)
		}
		return out
	}
	if _, ok := value.Text(n.Value); encrypted && ok {
		return value.SecretOf(n.Value)
	}
	return n.Value
}

// lay lays the files of one layer over what is there.
func (d *Data) lay(under merged, files []string) merged {
	var ps problem.Problems
	ps.AddErr(value.Place{}, under.err)
	over := map[string]any{}
	var first []*file
	for _, p := range files {
		f := d.read(p)
		for _, pr := range f.problems.List() {
			if pr.Code == "" {
				ps.Add(pr)
			}
		}
		for _, other := range first {
			twice("", other.node, f.node, &ps)
		}
		first = append(first, f)
		over = d.merge(nil, over, f.values, f, &ps, true)
	}
	out := merged{values: under.values}
	if ps.Err() == nil || under.err == nil {
		out.values = d.merge(nil, under.values, over, first[len(first)-1], &ps, false)
	}
	out.err = ps.Err()
	return out
}

// twice reports what two files of one layer both set.
func twice(at string, a, b *manifest.Node, ps *problem.Problems) {
	for _, k := range b.Keys {
		have := a.Get(k.Name)
		if have == nil {
			continue
		}
		if have.Kind == manifest.Table && k.Node.Kind == manifest.Table {
			twice(at+k.Name+".", have, k.Node, ps)
			continue
		}
		ps.Add(problem.Problem{Place: k.Place,
			What: fmt.Sprintf("%s%s is set in two files of the same layer; first at %s", at,
				k.Name, have.Place), Do: "keep one of them", Also: []value.Place{have.Place}})
	}
}

// merge lays one tree over another: tables key by key, lists by their rule,
// the rest replaced. joining says that both belong to one layer.
func (d *Data) merge(at []string, under, over map[string]any, f *file, ps *problem.Problems,
	joining bool) map[string]any {
	if len(under) == 0 && len(d.config.Lists) == 0 {
		return over
	}
	out := make(map[string]any, len(under)+len(over))
	for k, v := range under {
		out[k] = v
	}
	for _, k := range value.Keys(over) {
		v, here := over[k], append(at[:len(at):len(at)], k)
		below, there := out[k]
		if rule, ok := d.config.Lists[strings.Join(here, ".")]; ok && !joining {
			list, err := together(rule, below, v)
			if err != nil {
				ps.AddErr(d.placeOf(f, here), fmt.Errorf("%s: %w", strings.Join(here, "."), err))
			}
			out[k] = list
			continue
		}
		a, ok1 := below.(map[string]any)
		b, ok2 := v.(map[string]any)
		switch {
		case ok1 && ok2:
			out[k] = d.merge(here, a, b, f, ps, joining)
		case there && ok1 != ok2 && below != nil && v != nil && !joining:
			d.clash(here, ok2, f, ps)
		case ok2 && !joining:
			out[k] = d.merge(here, nil, b, f, ps, joining)
		default:
			out[k] = v
		}
	}
	return out
}

// together brings two lists together. Instead of a list the later layer may
// write { remove = [...], add = [...] }.
func together(rule Rule, under, over any) (any, error) {
	below, isList := under.([]any)
	if under != nil && !isList {
		return under, problem.Errorf("[data.lists] names it, but it is not a list").
			Remedy("remove it from the settings, or make it a list")
	}
	add, isList := over.([]any)
	out := slices.Clone(below)
	if change, ok := over.(map[string]any); ok {
		for _, k := range value.Keys(change) {
			list, ok := change[k].([]any)
			switch {
			case !ok || k != "remove" && k != "add":
				return under, problem.Errorf("a list can only be changed with remove and add, each a list; %s is not",
					k).
					Remedy("write { remove = [\"...\"], add = [\"...\"] }")
			case k == "add":
				add = list
				continue
			}
			for _, gone := range list {
				if !slices.ContainsFunc(out, func(v any) bool { return value.Equal(v, gone) }) {
					return under, problem.Errorf("remove names %s, which no lower layer has added", shown(gone)).
						Remedy("delete it")
				}
				out = slices.DeleteFunc(out, func(v any) bool { return value.Equal(v, gone) })
			}
		}
	} else if !isList {
		return under, problem.Errorf("it is %s, but [data.lists] says it is a list", value.TypeName(over)).
			Remedy("put it in brackets")
	} else if rule == Replace {
		return over, nil
	}
	if out == nil {
		out = []any{}
	}
	for _, v := range add {
		if rule == AddMissing && slices.ContainsFunc(out, func(have any) bool { return value.Equal(have, v) }) {
			continue
		}
		out = append(out, v)
	}
	return out, nil
}

// placeOf finds where a path is set in a file, or in another of its layer.
func (d *Data) placeOf(f *file, at []string) value.Place {
	name, _ := LayerOf(f.path)
	for _, p := range d.names[name] {
		if n := find(d.read(p).node, at); n != nil {
			return n.Place
		}
	}
	return value.Place{File: f.path}
}

func find(n *manifest.Node, at []string) *manifest.Node {
	for _, name := range at {
		if n == nil || n.Kind != manifest.Table {
			return nil
		}
		n = n.Get(name)
	}
	return n
}

// clash reports a table over something that is none, or the other way round,
// with the nearest other file in which it is so.
func (d *Data) clash(at []string, table bool, f *file, ps *problem.Problems) {
	p := problem.Problem{Place: d.placeOf(f, at), Do: "use the same type in both"}
	where := ""
	for _, l := range d.layers {
		for _, name := range value.Keys(d.names) {
			if !l.like.MatchString(name) {
				continue
			}
			for _, other := range d.names[name] {
				if n := find(d.read(other).node, at); n != nil && where == "" && (n.Kind == manifest.Table) != table {
					where = ", at " + n.Place.String()
					p.Also = []value.Place{n.Place}
				}
			}
		}
	}
	p.What = fmt.Sprintf("data.%s is a table in one layer but not in another%s", strings.Join(at, "."), where)
	ps.Add(p)
}

// Names lists the names of layers that have files, such as host/gauge-01.
func (d *Data) Names() []string { return value.Keys(d.names) }

// Encrypted says whether any file is encrypted.
func (d *Data) Encrypted() bool { return d.encrypted }

// Blind says whether an encrypted file was gone on without.
func (d *Data) Blind() bool { return d.blind.Load() }

// Files lists the files of a layer.
func (d *Data) Files(name string) []string { return slices.Clone(d.names[name]) }

// Fits says whether any layer of the project can have this name, in whatever
// environment.
func (d *Data) Fits(name string) bool {
	return slices.ContainsFunc(d.layers, func(l layer) bool { return l.any.MatchString(name) })
}

// here lists the names of layers that this environment can have.
func (d *Data) here() []string {
	return slices.DeleteFunc(value.Keys(d.names), func(name string) bool {
		return !slices.ContainsFunc(d.layers, func(l layer) bool { return l.like.MatchString(name) })
	})
}

// Key is a key of hosts by which a layer is named.
type Key struct {
	Key   string
	Place value.Place
}

// Unknown lists the keys by which layers are named that are not among the keys
// of any host.
func (d *Data) Unknown(keys []string) []Key {
	var out []Key
	for _, l := range d.layers {
		for _, p := range l.form.Programs() {
			for _, path := range p.Reads() {
				if len(path) > 1 && path[0] == "host" && !slices.Contains(keys, path[1]) {
					out = append(out, Key{path[1], p.At(0)})
				}
			}
		}
	}
	return out
}

// ByFacts says whether a layer that facts decide can have this name.
func (d *Data) ByFacts(name string) bool {
	return slices.ContainsFunc(d.layers, func(l layer) bool { return l.facts && l.like.MatchString(name) })
}

// ByGroup says whether a layer that is asked once per group can have this name.
func (d *Data) ByGroup(name string) bool {
	return slices.ContainsFunc(d.layers, func(l layer) bool { return l.group && l.like.MatchString(name) })
}

// ReadAll reads every file that this environment can use, and gives what is
// wrong in them and what is worth a word of advice.
func (d *Data) ReadAll() *problem.Problems {
	var ps problem.Problems
	for _, name := range d.here() {
		for _, p := range d.names[name] {
			ps.AddErr(value.Place{}, d.read(p).problems.Err())
		}
	}
	return &ps
}

// Leaf is one value in a file of data.
type Leaf struct {
	Path      []string
	Node      *manifest.Node
	Encrypted bool
}

// Leaves lists every value of every file that this environment can use.
func (d *Data) Leaves() []Leaf {
	var out []Leaf
	for _, name := range d.here() {
		for _, p := range d.names[name] {
			f := d.read(p)
			for _, at := range leaves(nil, f.node) {
				if len(at) > 0 {
					out = append(out, Leaf{at, find(f.node, at), strings.HasSuffix(p, Encrypted)})
				}
			}
		}
	}
	return out
}

// Step is what one layer says of a value.
type Step struct {
	Layer string      `json:"layer" doc:"The layer, as the settings write it."`
	Name  string      `json:"name" doc:"The name of its file for this host."` // empty when facts or keys are missing
	Place value.Place `json:"place" doc:"Where it sets something."`
	Says  bool        `json:"says" doc:"Whether it sets the value."`
	Value any         `json:"value" doc:"The value it sets."`
	Used  bool        `json:"used" doc:"Whether this is part of the final value."`
	Note  string      `json:"note" doc:"Why it is not used, or how it is merged."`

	cuts bool // it has a null in the way to the value
}

// Explain shows, layer by layer, where a host's value at a path comes from.
func (d *Data) Explain(h View, at []string) ([]Step, error) {
	var out []Step
	for i := range d.layers {
		l := &d.layers[i]
		names, known, err := l.namesFor(h)
		switch {
		case err != nil:
			return nil, err
		case !known:
			out = append(out, Step{Layer: l.text, Note: "its facts are unknown"})
			continue
		case len(names) == 0:
			out = append(out, Step{Layer: l.text, Note: "the host has no such key"})
			continue
		}
		for _, name := range names {
			out = append(out, d.step(l, name, at)...)
		}
	}
	d.use(out, at)
	return out, nil
}

func (d *Data) step(l *layer, name string, at []string) []Step {
	if len(d.names[name]) == 0 {
		return []Step{{Layer: l.text, Name: name, Note: "no file"}}
	}
	var out []Step
	for _, p := range d.names[name] {
		f := d.read(p)
		if n := find(f.node, at); n != nil {
			out = append(out, Step{Layer: l.text, Name: name, Place: n.Place, Value: plain(n, strings.HasSuffix(p,
				Encrypted)), Says: true})
			continue
		}
		step := Step{Layer: l.text, Name: name, Place: value.Place{File: p}, Note: "does not set it"}
		for i := len(at) - 1; i > 0; i-- {
			if n := find(f.node, at[:i]); n != nil && n.Kind != manifest.Table {
				step.Note, step.Place, step.cuts = strings.Join(at[:i], ".")+" is not a table there", n.Place, true
			}
		}
		out = append(out, step)
	}
	return out
}

// use marks the steps that the outcome is made of.
func (d *Data) use(steps []Step, at []string) {
	rule := d.config.Lists[strings.Join(at, ".")]
	over := ""
	for i := len(steps) - 1; i >= 0; i-- {
		s := &steps[i]
		if s.cuts && over == "" {
			over = s.Name
		}
		if !s.Says {
			continue
		}
		_, table := s.Value.(map[string]any)
		if over != "" {
			s.Note = "replaced by " + over
			continue
		}
		s.Used = true
		switch {
		case table && rule != "":
			s.Note = "changes the list"
		case rule == Append || rule == AddMissing:
			s.Note = strings.ReplaceAll(string(rule), "_", " ")
		case table:
			s.Note = "merged key by key"
		default:
			over = s.Name
		}
	}
}
