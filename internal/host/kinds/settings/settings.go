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

// The remedies for a file in which a setting cannot be placed.
const (
	byHand   = "fix it by hand, or declare the whole file"
	sections = "name another section, or fix the file by hand"
)

var about = &schema.Kind{
	Name:  "settings",
	Area:  "files",
	About: "Individual settings in a configuration file.",
	Doc: "The name is the file's path and, if several declarations are about one file, # and a name you choose. " +
		"Other settings, comments and the order are left alone. A setting that occurs several times is kept once, " +
		"even if its section occurs several times. A new one goes below the comment that shows it, or at the end " +
		"of its section. The file is read before and after the edit, and an edit that would change the meaning of " +
		"anything else is not made. In a file of keys and values without a sign between them, what follows a Match " +
		"or Host line is left alone, as OpenSSH reads such files.",
	Attrs: append([]schema.Attr{
		{Name: "format", Type: schema.Text, Required: true, Choices: []string{ini, toml, json, yaml, words, assigned},
			Doc: "The format of the file.", Examples: []string{`"ini"`, `"key=value"`}},
		{Name: "section", Type: schema.Text, Default: "none, or the top",
			Doc:      "The section of the settings; in TOML, JSON and YAML, the dotted path of the table.",
			Examples: []string{`"Service"`, `"feeds.north"`}},
		{Name: "set", Type: schema.Nested,
			Doc: "The settings and their values, which may be secret. A list becomes several lines with the same " +
				"name, as in a systemd drop-in; in TOML, JSON and YAML it becomes a list, and tables are allowed too.",
			Examples: []string{`{ rate = 60, station = "north-pier" }`,
				`{ ExecStart = ["", "/usr/sbin/tide-logger -q"] }`}},
		{Name: "unset", Type: schema.Text, List: true, Doc: "Settings to remove.",
			Examples: []string{`["old-feed"]`}},
	}, kind.EditAttrs...),
	Examples: []schema.Example{
		{About: "Two settings in a section, and one to remove", TOML: `[settings."/etc/tide/feeds.ini"]
format = "ini"
section = "north"
set = { rate = 60, station = "north-pier" }
unset = ["old-rate"]
create = true

[dir."/etc/tide"]
owner = "root"
mode = "0755"
`},
		{About: "A value in a table of a JSON file", TOML: `[settings."/etc/chart-press.json#paper"]
format = "json"
section = "output.paper"
set = { size = "A3", colour = true }
create = true
`},
		{About: "Values in a YAML file, with the code as a string", TOML: `[settings."/etc/foghorn.yaml"]
format = "yaml"
section = "relay.horn"
set = { seconds = 4, code = "0117" }
create = true
`},
	},
	NoAbsent: "remove settings with unset",
	Canon:    kind.CanonPart,
	Part:     kind.FileOfPart,
	Edit:     kind.Pure(edit{}),
	Needs:    kind.PartNeeds,
	Check: func(name string, a value.Attrs) (string, error) {
		if !a.Has("set") && !a.Has("unset") {
			return "", problem.Errorf("set or unset is required").Remedy("set at least one of them")
		}
		f := a.Text("format")
		if a.Has("section") && (f == words || f == assigned) {
			return "section", problem.Errorf("files in the format %q have no sections", f).Remedy("remove section")
		}
		section := a.Text("section")
		if strings.ContainsAny(section, "\r\n") || strings.TrimSpace(section) != section || f == ini &&
			strings.Contains(section, "]") {
			return "section", problem.Errorf("%q is not a valid section name", section).
				Remedy("write it as it is in the file")
		}
		set := a.Table("set")
		for _, key := range append(value.Keys(set), a.Texts("unset")...) {
			if key == "" || strings.TrimSpace(key) != key || strings.ContainsAny(key, "\r\n=#[]") ||
				f == words && strings.ContainsAny(key, " \t") || strings.HasPrefix(key, ";") {
				return "set", problem.Errorf("%q is not a valid name of a setting", key).
					Remedy("write it as it is in the file")
			}
		}
		for _, key := range a.Texts("unset") {
			if _, both := set[key]; both {
				return "unset", problem.Errorf("%s is in both set and unset", key).Remedy("keep one of them")
			}
		}
		for _, key := range value.Keys(set) {
			if err := checkLine(f, key, set[key]); err != nil {
				return "set", err
			}
		}
		return kind.CheckEdit(name, a)
	},
}

// checkLine says what a file of lines cannot hold.
func checkLine(form, key string, v any) error {
	if form == json || form == toml || form == yaml {
		return nil
	}
	list, several := v.([]any)
	_, table := v.(map[string]any)
	if table || several && form == assigned {
		return problem.Errorf("%s is %s, which the format %q does not support", key, value.TypeName(v), form).
			Remedy("write it as a string")
	}
	if !several {
		list = []any{v}
	}
	for _, one := range list {
		text, ok := value.Text(bare(one))
		switch {
		case !ok:
			return problem.Errorf("%s contains %s, which a line cannot contain", key, value.TypeName(one)).
				Remedy("write it as a string")
		case strings.ContainsAny(text, "\r\n"):
			return problem.Errorf("the value of %s has several lines", key).Remedy("write it on one line")
		case strings.TrimSpace(text) != text || form != assigned && strings.HasSuffix(text, "\\"):
			return problem.Errorf("the value of %s begins or ends with white space, or ends with a backslash", key).
				Remedy("remove it; this format does not support it")
		}
	}
	return nil
}

// Kind is the kind of settings.
func Kind() kind.Kind { return kind.Edits(edit{}) }

type edit struct{}

func (edit) Schema() *schema.Kind { return about }

// Stale says that the file may be one that services are read from.
func (edit) Stale() []kind.Topic { return []kind.Topic{kind.TheServices} }

func (edit) File(t plan.Task) string { return kind.FileOfPart(t.Ref.Name) }

// Edit sets and unsets. A mark of the byte order at the beginning stays, and lines end as they did.
func (edit) Edit(t plan.Task, text string) (string, error) {
	whole := text
	text, mark := strings.CutPrefix(text, "\ufeff")
	crlf := strings.Contains(text, "\n") && strings.Count(text, "\n") == strings.Count(text, "\r\n")
	if crlf {
		text = strings.ReplaceAll(text, "\r\n", "\n")
	}
	by, ok := editors[t.Attrs.Text("format")]
	if !ok { // nothing is declared: it is only asked whether the file is there
		return whole, nil
	}
	out, err := by(t, text)
	if err != nil {
		return "", err
	}
	if crlf {
		out = strings.ReplaceAll(out, "\n", "\r\n")
	}
	if mark {
		out = "\ufeff" + out
	}
	return out, nil
}

var editors = map[string]func(plan.Task, string) (string, error){json: editJSON, yaml: editYAML, toml: editTOML,
	ini: editLines, words: editLines, assigned: editLines}
