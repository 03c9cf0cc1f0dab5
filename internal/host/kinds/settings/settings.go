// Package settings is the kind of single settings in a configuration file that
// others write as well.
package settings

import (
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

// The forms of files.
const (
	ini      = "ini"
	toml     = "toml"
	json     = "json"
	yaml     = "yaml"
	words    = "key value"
	assigned = "key=value"
)

var about = &schema.Kind{
	Name:  "settings",
	Area:  "files",
	About: "Single settings of a configuration file, its other settings, comments and order left alone.",
	Doc: "The name is the file's path and, where several declarations are about one file, # and a word of your own. A " +
		"setting that is there several times is kept once. A new one stands below the comment that shows it, or at the " +
		"end of its section. In a file of keys and values without a sign between them, what follows a Match or Host " +
		"line is left alone, as OpenSSH reads such files.",
	Attrs: append([]schema.Attr{
		{Name: "format", Type: schema.Text, Required: true, Choices: []string{ini, toml, json, yaml, words, assigned},
			Doc: "The form of the file.", Examples: []string{`"ini"`, `"key=value"`}},
		{Name: "section", Type: schema.Text, Default: "none, or the top",
			Doc:      "The section that they stand in; of TOML, JSON and YAML the way to the table, with dots.",
			Examples: []string{`"Service"`, `"feeds.north"`}},
		{Name: "set", Type: schema.Values, Doc: "What must be set, and to what; this may be secret.",
			Examples: []string{`{ rate = 60, station = "north-pier" }`}},
		{Name: "unset", Type: schema.Text, List: true, Doc: "What must not be set.", Examples: []string{`["old-feed"]`}},
	}, kind.EditAttrs...),
	Examples: []schema.Example{
		{About: "Two settings of a section, and one that must go", TOML: `[settings."/etc/tide/feeds.ini"]
format = "ini"
section = "north"
set = { rate = 60, station = "north-pier" }
unset = ["old-rate"]
make = true

[dir."/etc/tide"]
owner = "root"
mode = "0755"
`},
		{About: "A value in a table of a JSON file", TOML: `[settings."/etc/chart-press.json#paper"]
format = "json"
section = "output.paper"
set = { size = "A3", colour = true }
make = true
`},
		{About: "Values of a YAML file, the code among them a text", TOML: `[settings."/etc/foghorn.yaml"]
format = "yaml"
section = "relay.horn"
set = { seconds = 4, code = "0117" }
make = true
`},
	},
	NoAbsent: "take settings out with unset",
	Canon:    kind.CanonPart,
	Part:     kind.FileOfPart,
	Edit:     kind.Pure(edit{}),
	Needs:    kind.PartNeeds,
	Check: func(name string, a value.Attrs) (string, error) {
		if !a.Has("set") && !a.Has("unset") {
			return "", problem.Errorf("neither set nor unset is given").Remedy("say which settings stay or go")
		}
		f := a.Text("format")
		if a.Has("section") && (f == words || f == assigned) {
			return "section", problem.Errorf("files of the form %q have no sections", f).Remedy("take section out")
		}
		set := a.Table("set")
		for _, key := range append(value.Keys(set), a.Texts("unset")...) {
			if key == "" || strings.ContainsAny(key, "\r\n=#[]") || f == words && strings.ContainsAny(key, " \t") {
				return "set", problem.Errorf("%q is no name of a setting", key).Remedy("write it as it stands in the file")
			}
		}
		for _, key := range a.Texts("unset") {
			if _, both := set[key]; both {
				return "unset", problem.Errorf("%s is to be set and not to be set", key).Remedy("keep one of them")
			}
		}
		for _, key := range value.Keys(set) {
			if text := plain(set[key]); f != json && f != toml && f != yaml && strings.ContainsAny(text, "\r\n") {
				return "set", problem.Errorf("the value of %s has several lines", key).Remedy("write it in one")
			}
		}
		return kind.CheckEdit(name, a)
	},
}

// plain is a value as text, secret or not.
func plain(v any) string {
	if s, secret := v.(value.Secret); secret {
		return s.Reveal()
	}
	text, _ := value.Text(v)
	return text
}

// bare is a value without its secrecy, in its own type.
func bare(v any) any {
	if s, secret := v.(value.Secret); secret {
		return s.Scalar()
	}
	return v
}

// Kind is the kind of settings.
func Kind() kind.Kind { return kind.Edits(edit{}) }

type edit struct{}

func (edit) Schema() *schema.Kind { return about }

// Stale says that the file may be one that services are read from.
func (edit) Stale() []kind.Topic { return []kind.Topic{kind.TheServices} }

func (edit) File(t plan.Task) string { return kind.FileOfPart(t.Ref.Name) }

// Edit sets and unsets.
func (edit) Edit(t plan.Task, text string) (string, error) {
	switch t.Attrs.Text("format") {
	case json:
		return editJSON(t, text)
	case yaml:
		return editYAML(t, text)
	}
	return editLines(t, text)
}
