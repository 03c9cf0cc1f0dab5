package manifest

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Dir is the project's folder of manifests.
const Dir = "manifests"

// Manifest is one manifest of a project, checked in shape.
type Manifest struct {
	Name  string // as groups name it
	File  string
	Dir   string // the folder that its sources are read from
	About string
	// Source is the source that it came from; empty for the project's own.
	Source string
	Params []Key // the [param.NAME] tables
	// TrustFacts says that facts of other hosts count here which another controller wrote into a shared history.
	TrustFacts bool
	Facts      []Fact
	Entries    []Entry
}

// Entry is a declaration or the use of another manifest, one of the two.
type Entry struct {
	Decl *Decl
	Use  *Use
}

// Place gives where the entry is.
func (e Entry) Place() value.Place {
	if e.Use != nil {
		return e.Use.Place
	}
	return e.Decl.Place
}

// Use pulls another manifest in: [use.NAME].
type Use struct {
	Name      string
	Place     value.Place
	Manifest  string
	At        value.Place // of the manifest's name
	Params    []Key
	If, For   *Node  // nil when not given
	OnRemoval string // of all in it; empty when not given
}

// Decl is one declaration as written.
type Decl struct {
	Kind  *schema.Kind
	Name  string
	Place value.Place
	Attrs []Attr // in the order written
}

// Attr is one attribute as written.
type Attr struct {
	Schema schema.Attr
	Place  value.Place // of its name
	Node   *Node
}

// Attr looks an attribute up by name.
func (d *Decl) Attr(name string) (Attr, bool) {
	for _, a := range d.Attrs {
		if a.Schema.Name == name {
			return a, true
		}
	}
	return Attr{}, false
}

// Load reads every manifest of a project: manifests/NAME.toml, or
// manifests/NAME/manifest.toml with its sources beside it; and those of its
// sources, by name with the folder of each, as SOURCE/NAME. whole is false when
// one could not be read to its end.
func Load(project fs.FS, sources map[string]string, schemas schema.Kinds,
	problems *problem.Problems) (all map[string]*Manifest, whole bool) {
	all = map[string]*Manifest{}
	whole = loadFrom(project, Dir, "", all, schemas, problems)
	for _, name := range value.Keys(sources) {
		whole = loadFrom(project, path.Join(sources[name], Dir), name, all, schemas, problems) && whole
	}
	return all, whole
}

func loadFrom(project fs.FS, dir, source string, all map[string]*Manifest, schemas schema.Kinds,
	problems *problem.Problems) (whole bool) {
	whole = true
	entries, err := fs.ReadDir(project, dir)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			problems.At(value.Place{File: dir}, err.Error(), "")
		}
		return true
	}
	for _, e := range entries {
		m := &Manifest{Source: source}
		switch {
		case strings.HasPrefix(e.Name(), "."):
			continue
		case e.IsDir():
			m.Name, m.Dir = e.Name(), path.Join(dir, e.Name())
			m.File = path.Join(m.Dir, "manifest.toml")
			if _, err := fs.Stat(project, m.File); errors.Is(err, fs.ErrNotExist) {
				continue // a folder of sources for the manifests beside it
			}
		case path.Ext(e.Name()) == ".toml":
			m.Name, m.Dir = strings.TrimSuffix(e.Name(), ".toml"), dir
			m.File = path.Join(dir, e.Name())
		default:
			continue
		}
		m.Name = path.Join(source, m.Name)
		if first := all[m.Name]; first != nil {
			problems.Add(problem.Problem{Place: value.Place{File: m.File},
				What: fmt.Sprintf("the manifest %q exists twice, here and as %s", m.Name, first.File),
				Do:   "rename one of them", Also: []value.Place{{File: first.File}}})
			continue
		}
		data, err := fs.ReadFile(project, m.File)
		if err != nil {
			problems.At(value.Place{File: m.File}, err.Error(), "")
			continue
		}
		root, ok := ParseTOML(m.File, data, problems)
		whole = whole && ok
		m.read(root, schemas, problems)
		all[m.Name] = m
	}
	return whole
}

const declarationForm = `write a declaration as a table [kind.name], such as [service.tide-logger]`

func (m *Manifest) read(root *Node, schemas schema.Kinds, problems *problem.Problems) {
	for _, k := range root.Keys {
		if k.Name == "about" {
			m.About, _ = k.Node.Value.(string)
			if k.Node.Kind != Scalar || m.About == "" {
				problems.At(k.Node.Place, "about must be a string", "write what the manifest is for, in quotes")
			}
			continue
		}
		if k.Name == "trust_facts" {
			yes, ok := k.Node.Value.(bool)
			if m.TrustFacts = yes; !ok {
				problems.At(k.Node.Place, "trust_facts must be true or false", "write trust_facts = true")
			}
			continue
		}
		if k.Name == "param" || k.Name == "use" || k.Name == "fact" {
			m.tables(k, problems)
			continue
		}
		kind, ok := schemas.Kind(k.Name)
		if !ok {
			what := fmt.Sprintf("unknown kind %q", k.Name)
			if slices.Contains(schema.Reserved, k.Name) {
				what = fmt.Sprintf("%q is a reserved word, not a kind", k.Name)
			}
			problems.At(k.Place, what, problem.Meant(k.Name, append(schemas.Names(), "about", "trust_facts"),
				"available: "+strings.Join(schemas.Names(), ", ")))
			continue
		}
		if k.Node.Kind != Table {
			problems.At(k.Place, fmt.Sprintf("%s = ... is not a declaration", k.Name), declarationForm)
			continue
		}
		for _, d := range k.Node.Keys {
			if d.Node.Kind != Table {
				problems.At(d.Place, fmt.Sprintf("expected the name of a declaration, not %q", d.Name),
					declarationForm)
				continue
			}
			m.Entries = append(m.Entries, Entry{Decl: declaration(kind, d, problems)})
		}
	}
	// Tables of one kind that are written apart come together in the tree;
	// the order that counts is the one in the file.
	slices.SortStableFunc(m.Entries, func(a, b Entry) int {
		p, q := a.Place(), b.Place()
		if p.Line != q.Line {
			return p.Line - q.Line
		}
		return p.Col - q.Col
	})
}

// tables reads what is below [param], [fact] and [use].
func (m *Manifest) tables(k Key, problems *problem.Problems) {
	if k.Node.Kind != Table {
		problems.At(k.Place, fmt.Sprintf("%s must be a table", k.Name), fmt.Sprintf("write [%s.NAME]", k.Name))
		return
	}
	switch k.Name {
	case "param":
		m.Params = k.Node.Keys
		return
	case "fact":
		m.Facts = readFacts(k.Node, problems)
		return
	}
	for _, u := range k.Node.Keys {
		if use := readUse(u, problems); use != nil {
			m.Entries = append(m.Entries, Entry{Use: use})
		}
	}
}

// UseKeys are what a [use.NAME] table may hold.
var UseKeys = []schema.Key{
	{Name: "manifest", Takes: schema.TakesText, Doc: "The manifest; by default, the name of the use."},
	{Name: "params", Takes: schema.TakesTable, Doc: "Values for its params."},
	{Name: "if", Takes: schema.TakesText, Doc: "A CEL condition."},
	{Name: "for", Takes: schema.TakesEither, Doc: "A loop, or a list of nested loops."},
	{Name: schema.OnRemoval, Takes: schema.TakesText, Choices: []string{schema.Keep, schema.Remove}, Default: `"keep"`,
		Doc: "What happens to everything it declares once that is no longer declared."},
	{Name: "about", Takes: schema.TakesText, Doc: "A description."},
}

func readUse(k Key, problems *problem.Problems) *Use {
	if k.Node.Kind != Table {
		problems.At(k.Place, fmt.Sprintf("use.%s must be a table", k.Name),
			fmt.Sprintf("write [use.%s] and below it manifest and params", k.Name))
		return nil
	}
	u := &Use{Name: k.Name, Place: k.Place, Manifest: k.Name, At: k.Place}
	condition := ""
	k.Node.Decode("a use", UseKeys, Fields{"manifest": &u.Manifest, "if": &condition, schema.OnRemoval: &u.OnRemoval,
		"for": func(n *Node) { u.For = n },
		"params": func(n *Node) error {
			u.Params = n.Keys
			return n.table("params", "write [use."+k.Name+".params] and the values below it")
		},
		"about": nil}, problems)
	if n := k.Node.Get("manifest"); n != nil {
		u.At = n.Place
	}
	if condition != "" {
		u.If = k.Node.Get("if")
	}
	return u
}

func declaration(kind *schema.Kind, k Key, problems *problem.Problems) *Decl {
	d := &Decl{Kind: kind, Name: k.Name, Place: k.Place}
	if !Interpolated(k.Name) {
		name, err := kind.Canon(k.Name)
		if err != nil {
			problems.AddErr(k.Place, fmt.Errorf("%s: %w", kind.Name, err))
		} else {
			d.Name = name
		}
	}
	for _, a := range k.Node.Keys {
		sch, ok := kind.Attr(a.Name)
		switch {
		case a.Node.Kind == Table && !ok && strings.ContainsAny(k.Name, "abcdefghijklmnopqrstuvwxyz") && a.Node.header:
			problems.At(a.Place, fmt.Sprintf("[%s.%s.%s] is nested too deeply", kind.Name, k.Name, a.Name),
				fmt.Sprintf(`quote a name that contains dots: [%s."%s.%s"]`, kind.Name, k.Name, a.Name))
			continue
		case !ok:
			problems.At(a.Place, fmt.Sprintf("unknown attribute %[2]q for %[1]s", kind.Name, a.Name),
				problem.Meant(a.Name, kind.Names(), "available: "+strings.Join(kind.Names(), ", ")))
			continue
		case a.Name == "absent" && kind.NoAbsent != "":
			problems.At(a.Place, fmt.Sprintf("a %s cannot be declared absent", kind.Name), kind.NoAbsent)
			continue
		}
		if a.Node.literal(a.Name) {
			if _, err := sch.Value(a.Node.Plain()); err != nil {
				problems.AddErr(a.Node.Place, err)
				continue
			}
		}
		d.Attrs = append(d.Attrs, Attr{sch, a.Place, a.Node})
	}
	return d
}

// literal says whether a value holds no ${...}, so that it can be checked
// before a host is known. The condition is CEL already; about and labels are
// words.
func (n *Node) literal(attr string) bool {
	if attr == "about" || attr == schema.If || attr == schema.For || attr == schema.Labels {
		return true
	}
	switch n.Kind {
	case List:
		for _, item := range n.Items {
			if !item.literal("") {
				return false
			}
		}
	case Scalar:
		s, ok := n.Value.(string)
		return !ok || !Interpolated(s)
	}
	return true
}

// Interpolated says whether a text may hold ${...}; $${ counts too, since it
// has to be unescaped.
func Interpolated(s string) bool { return strings.Contains(s, "${") }
