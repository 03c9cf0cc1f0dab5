// Package ownkind reads custom kinds: folders kinds/NAME of a project or of
// a source, each with kind.toml, which describes the kind as the built-in ones
// are described, and a program that reads, compares and writes on the host.
package ownkind

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Dir is the folder that the kinds lie in, and File what describes one.
const (
	Dir  = "kinds"
	File = "kind.toml"
)

// Keys are what kind.toml may hold, and AttributeKeys what a table
// [attribute.NAME] in it.
var (
	Keys = []schema.Key{
		{Name: "about", Takes: schema.TakesText, Doc: "A one-line description."},
		{Name: "doc", Takes: schema.TakesText, Doc: "More documentation."},
		{Name: "program", Takes: schema.TakesText, Default: `"program"`,
			Doc: "The program in the directory that runs on the host; it must need nothing else there."},
		{Name: "attribute", Takes: schema.TakesTable, Doc: "Its attributes, by name."},
		{Name: "example", Takes: schema.TakesTable, Doc: "Examples, keyed by what they show; each is TOML text."},
	}
	AttributeKeys = []schema.Key{
		{Name: "type", Takes: schema.TakesText, Default: `"string"`, Choices: value.Keys(types), Doc: "Its type."},
		{Name: "list", Takes: schema.TakesBool, Default: "false", Doc: "Whether it takes a list of that type."},
		{Name: "required", Takes: schema.TakesBool, Default: "false", Doc: "Whether it is required."},
		{Name: "default", Takes: schema.TakesAny, Doc: "The default."},
		{Name: "choices", Takes: schema.TakesList, Doc: "The only values allowed."},
		{Name: "about", Takes: schema.TakesText, Doc: "A description, in a sentence."},
		{Name: "example", Takes: schema.TakesText, Doc: "An example value, as written in TOML."},
	}
)

var types = map[string]schema.Type{"string": schema.Text, "bool": schema.Bool, "int": schema.Int, "mode": schema.Mode,
	"path": schema.Path, "name": schema.Name, "duration": schema.Duration, "secret": schema.Hidden,
	"table": schema.Values}

var nameForm = lazy.Regexp(`^[a-z][a-z0-9_]{1,40}$`)

// Load reads the kinds that lie in folders, such as "" for the project and those
// of its sources. A kind that a built-in one or another has the name of is a
// problem.
func Load(files fs.FS, folders []string, builtIn schema.Kinds, problems *problem.Problems) []*schema.Kind {
	var out []*schema.Kind
	first := map[string]string{}
	for _, folder := range folders {
		dir := path.Join(folder, Dir)
		entries, err := fs.ReadDir(files, dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			at := path.Join(dir, e.Name())
			if !e.IsDir() || strings.HasPrefix(e.Name(), ".") {
				continue
			}
			k := read(files, at, problems)
			if k == nil {
				continue
			}
			if _, taken := builtIn.Kind(k.Name); taken || slices.Contains(schema.Reserved, k.Name) {
				problems.At(value.Place{File: path.Join(at, File)}, fmt.Sprintf("%q is already in use", k.Name),
					"rename the directory")
				continue
			}
			if other := first[k.Name]; other != "" {
				problems.Add(problem.Problem{Place: value.Place{File: path.Join(at, File)},
					What: fmt.Sprintf("the kind %q exists twice", k.Name), Do: "rename one of the directories",
					Also: []value.Place{{File: other}}})
				continue
			}
			first[k.Name] = path.Join(at, File)
			out = append(out, k)
		}
	}
	return out
}

// reader reads one kind.toml.
type reader struct {
	problems *problem.Problems
	kind     *schema.Kind
	wrong    bool
}

func (r *reader) at(p value.Place, what, do string) {
	r.problems.At(p, what, do)
	r.wrong = true
}

func read(files fs.FS, dir string, problems *problem.Problems) *schema.Kind {
	file := path.Join(dir, File)
	r := &reader{problems: problems, kind: &schema.Kind{Name: path.Base(dir), Area: "custom",
		Program: path.Join(dir, "program"), Canon: schema.CanonWords("one of these", "write one line of text")}}
	data, err := fs.ReadFile(files, file)
	if err != nil {
		r.at(value.Place{File: file}, "it cannot be read",
			"create it; `jadekettle kinds new NAME` writes one")
		return nil
	}
	if !nameForm().MatchString(r.kind.Name) {
		r.at(value.Place{File: file}, fmt.Sprintf("invalid kind name: %q", r.kind.Name),
			"name the directory with lower-case letters, digits and underscores")
	}
	root, whole := manifest.ParseTOML(file, data, problems)
	r.read(dir, root)
	if r.kind.About == "" {
		r.at(value.Place{File: file}, "about is missing", "write about = \"...\"")
	}
	if info, err := fs.Stat(files, r.kind.Program); err != nil || !info.Mode().IsRegular() {
		r.at(value.Place{File: file}, "its program "+r.kind.Program+" does not exist", "create it, or set program "+
			"to another file")
	}
	if r.wrong || !whole {
		return nil
	}
	if r.kind.Doc == "" {
		r.kind.Doc = "A custom kind."
	}
	return r.kind
}

func (r *reader) read(dir string, root *manifest.Node) {
	good := root.Decode("a kind", Keys, manifest.Fields{"about": &r.kind.About, "doc": &r.kind.Doc,
		"program": func(n *manifest.Node) error {
			text, _ := n.Value.(string)
			if !fs.ValidPath(text) || strings.Contains(text, "/") {
				return problem.Errorf("program is not a file in the directory").Remedy("write only its name")
			}
			r.kind.Program = path.Join(dir, text)
			return nil
		},
		"attribute": func(n *manifest.Node) {
			for _, a := range n.Keys {
				r.attribute(a)
			}
		},
		"example": func(n *manifest.Node) {
			for _, e := range n.Keys {
				text, ok := e.Node.Value.(string)
				if !ok {
					r.at(e.Place, "an example must be a string with TOML", `write "what it shows" = """[...]"""`)
					continue
				}
				r.kind.Examples = append(r.kind.Examples, schema.Example{About: e.Name, TOML: text})
			}
		}}, r.problems)
	r.wrong = r.wrong || !good
}

func (r *reader) attribute(k manifest.Key) {
	a := schema.Attr{Name: k.Name, Doc: "An attribute of this kind."}
	taken := slices.ContainsFunc(schema.Common, func(c schema.Attr) bool { return c.Name == k.Name })
	if k.Node.Kind != manifest.Table || !nameForm().MatchString(k.Name) || taken {
		r.at(k.Place, fmt.Sprintf("%q is not a valid attribute name", k.Name),
			"write [attribute.NAME] in lower-case letters, with a name that is not common to all kinds")
		return
	}
	var typed, example string
	good := k.Node.Decode("an attribute", AttributeKeys, manifest.Fields{"type": &typed, "list": &a.List,
		"required": &a.Required, "choices": manifest.Some{To: &a.Choices}, "about": &a.Doc, "example": &example,
		"default": func(*manifest.Node) {}}, r.problems)
	r.wrong = r.wrong || !good
	if typed != "" {
		a.Type = types[typed]
	}
	if example != "" {
		a.Examples = []string{example}
	}
	fill := k.Node.Get("default")
	if fill != nil {
		v, err := a.Value(fill.Plain())
		if err != nil {
			r.problems.AddErr(fill.Place, err)
			r.wrong = true
		}
		a.Fill, a.Default = v, value.Shown(v)
	}
	r.kind.Attrs = append(r.kind.Attrs, a)
}
