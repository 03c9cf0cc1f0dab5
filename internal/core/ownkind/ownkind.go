// Package ownkind reads kinds of one's own: folders kinds/NAME of a project or of
// a source, each with kind.toml, which describes the kind as the built-in ones
// are described, and a program that reads, compares and writes on the host.
package ownkind

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

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
		{Name: "about", Takes: schema.TakesText, Doc: "What it declares, in one line."},
		{Name: "doc", Takes: schema.TakesText, Doc: "More of it."},
		{Name: "program", Takes: schema.TakesText, Default: `"program"`,
			Doc: "The file in the folder that answers on the host; it must run there without more."},
		{Name: "attribute", Takes: schema.TakesTable, Doc: "Its attributes, by name."},
		{Name: "example", Takes: schema.TakesTable, Doc: "Examples, by what they are for: each a text of TOML."},
	}
	AttributeKeys = []schema.Key{
		{Name: "type", Takes: schema.TakesText, Default: `"text"`, Choices: value.Keys(types), Doc: "What it takes."},
		{Name: "list", Takes: schema.TakesBool, Default: "false", Doc: "Whether it takes a list of that."},
		{Name: "required", Takes: schema.TakesBool, Default: "false", Doc: "Whether it must be declared."},
		{Name: "default", Takes: schema.TakesAny, Doc: "What holds where it is not declared."},
		{Name: "choices", Takes: schema.TakesList, Doc: "The only values allowed."},
		{Name: "about", Takes: schema.TakesText, Doc: "What it is for, in a sentence."},
		{Name: "example", Takes: schema.TakesText, Doc: "A value as it is written in TOML."},
	}
)

var types = map[string]schema.Type{"text": schema.Text, "bool": schema.Bool, "int": schema.Int, "mode": schema.Mode,
	"path": schema.Path, "name": schema.Name, "duration": schema.Duration, "secret": schema.Hidden,
	"table": schema.Values}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9_]{1,40}$`)

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
				problems.At(value.Place{File: path.Join(at, File)}, fmt.Sprintf("%q is taken already", k.Name),
					"rename the folder")
				continue
			}
			if other := first[k.Name]; other != "" {
				problems.Add(problem.Problem{Place: value.Place{File: path.Join(at, File)},
					What: fmt.Sprintf("the kind %q is there twice", k.Name), Do: "rename one of the folders",
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
	r := &reader{problems: problems, kind: &schema.Kind{Name: path.Base(dir), Area: "of your own",
		Program: path.Join(dir, "program"), Canon: schema.CanonWords("one of these", "write one line of text")}}
	data, err := fs.ReadFile(files, file)
	if err != nil {
		r.at(value.Place{File: file}, "it cannot be read",
			"write what describes the kind; `jadekettle kinds new NAME` "+
				"makes one")
		return nil
	}
	if !nameForm.MatchString(r.kind.Name) {
		r.at(value.Place{File: file}, fmt.Sprintf("%q is no name of a kind", r.kind.Name),
			"call the folder in small letters, digits and underscores")
	}
	root, whole := manifest.ParseTOML(file, data, problems)
	for _, k := range root.Keys {
		r.key(dir, k)
	}
	if r.kind.About == "" {
		r.at(value.Place{File: file}, "it does not say what the kind declares", "write about = \"...\"")
	}
	if info, err := fs.Stat(files, r.kind.Program); err != nil || !info.Mode().IsRegular() {
		r.at(value.Place{File: file}, "its program "+r.kind.Program+" is not there", "write it, or name another "+
			"with program")
	}
	if r.wrong || !whole {
		return nil
	}
	if r.kind.Doc == "" {
		r.kind.Doc = "A kind of your own."
	}
	return r.kind
}

func (r *reader) key(dir string, k manifest.Key) {
	text, isText := k.Node.Value.(string)
	switch k.Name {
	case "about", "doc", "program":
		if !isText || text == "" {
			r.at(k.Node.Place, k.Name+" takes text", "write it in quotes")
			return
		}
		switch k.Name {
		case "about":
			r.kind.About = text
		case "doc":
			r.kind.Doc = text
		default:
			if !fs.ValidPath(text) || strings.Contains(text, "/") {
				r.at(k.Node.Place, "program is no file of the folder", "write its name alone")
			}
			r.kind.Program = path.Join(dir, text)
		}
	case "attribute":
		for _, a := range k.Node.Keys {
			r.attribute(a)
		}
	case "example":
		for _, e := range k.Node.Keys {
			text, ok := e.Node.Value.(string)
			if !ok {
				r.at(e.Place, "an example is a text of TOML", `write "what it is for" = """[...]"""`)
				continue
			}
			r.kind.Examples = append(r.kind.Examples, schema.Example{About: e.Name, TOML: text})
		}
	default:
		r.at(k.Place, fmt.Sprintf("a kind has no %q", k.Name), problem.Meant(k.Name, schema.KeyNames(Keys),
			"it has "+strings.Join(schema.KeyNames(Keys), ", ")))
	}
}

func (r *reader) attribute(k manifest.Key) {
	a := schema.Attr{Name: k.Name, Doc: "An attribute of this kind."}
	taken := slices.ContainsFunc(schema.Common, func(c schema.Attr) bool { return c.Name == k.Name })
	if k.Node.Kind != manifest.Table || !nameForm.MatchString(k.Name) || taken {
		r.at(k.Place, fmt.Sprintf("%q is no attribute of its own", k.Name),
			"write [attribute.NAME], in small letters, with a name that not every kind has")
		return
	}
	var fill *manifest.Node
	for _, o := range k.Node.Keys {
		v := o.Node.Plain()
		ok := true
		switch o.Name {
		case "type":
			text, _ := v.(string)
			if a.Type, ok = types[text]; !ok {
				r.at(o.Node.Place, fmt.Sprintf("there is no type %q", text),
					"there are "+strings.Join(value.Keys(types), ", "))
				ok = true
			}
		case "list":
			a.List, ok = v.(bool)
		case "required":
			a.Required, ok = v.(bool)
		case "choices":
			list, _ := v.([]any)
			a.Choices = (value.Attrs{"": list}).Texts("")
			ok = len(a.Choices) == len(list) && len(list) > 0
		case "about":
			a.Doc, ok = v.(string)
		case "example":
			var text string
			text, ok = v.(string)
			a.Examples = []string{text}
		case "default":
			fill = o.Node
		default:
			r.at(o.Place, fmt.Sprintf("an attribute has no %q", o.Name), problem.Meant(o.Name,
				schema.KeyNames(AttributeKeys), "it has "+strings.Join(schema.KeyNames(AttributeKeys), ", ")))
		}
		if !ok {
			r.at(o.Node.Place, o.Name+" is not as it must be", "`jadekettle kinds new NAME` shows the form")
		}
	}
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
