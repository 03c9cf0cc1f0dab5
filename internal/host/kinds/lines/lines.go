// Package lines is the kind of single lines in a file that others write as well.
package lines

import (
	"regexp"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

var about = &schema.Kind{
	Name:  "lines",
	Area:  "files",
	About: "Individual lines in a file.",
	Doc: "The name is the file's path; if several declarations are for the same file, add # and a name you " +
		"choose. An existing line stays where it is. Otherwise the line replaces the first match of replaces, and " +
		"further matches are removed; if nothing matches, it is added below or above the match of another pattern, " +
		"or at the end. The rest of the file is left alone.",
	Attrs: append([]schema.Attr{
		{Name: "add", Type: schema.Table, List: true, Doc: "The lines that must be in the file.",
			Examples: []string{`[{ line = "PermitRootLogin no", replaces = '^#?PermitRootLogin\b' }]`},
			Fields: []schema.Attr{
				{Name: "line", Type: schema.Text, Required: true, Doc: "The line.", Examples: []string{`"UseDNS no"`}},
				{Name: "replaces", Type: schema.Pattern, Doc: "Replace the line that matches.",
					Examples: []string{`'^#?UseDNS\b'`}},
				{Name: "below", Type: schema.Pattern, Doc: "Otherwise, add it after the last line that matches.",
					Examples: []string{`'^\[gauges\]'`}},
				{Name: "above", Type: schema.Pattern, Doc: "Otherwise, add it before the first line that matches.",
					Examples: []string{`'^Match '`}},
			}},
		{Name: "remove", Type: schema.Pattern, List: true, Doc: "Remove every line that matches one of these.",
			Examples: []string{`['^tide-feed\b']`}},
	}, kind.EditAttrs...),
	Examples: []schema.Example{
		{About: "A setting in a file that a package installs, checked before it is put in place",
			TOML: `[lines."/etc/login.defs"]
add = [{ line = "UMASK 027", replaces = '^#?\s*UMASK\b' }]
check = "test -s ${candidate}"
create = true
`},
		{About: "A line above another and one to remove, as a second declaration for the file",
			TOML: `[lines."/etc/hosts.allow#feeds"]
add = [{ line = "tide-feed: 192.0.2.0/255.255.255.0", above = '^ALL\b' }]
remove = ['^old-feed:']
create = true
`},
	},
	NoAbsent: "remove lines with remove",
	Canon:    kind.CanonPart,
	Part:     kind.FileOfPart,
	Edit:     kind.Pure(lines{}),
	Needs:    kind.PartNeeds,
	Check: func(name string, a value.Attrs) (string, error) {
		if !a.Has("add") && !a.Has("remove") {
			return "", problem.Errorf("add or remove is required").Remedy("set at least one of them")
		}
		for _, p := range a.Tables("add") {
			switch text := p.Text("line"); {
			case strings.ContainsAny(text, "\r\n"):
				return "add", problem.Errorf("the line %s has a line break", value.Shown(text)).
					Remedy("add each line separately, or declare a block")
			case p.Has("below") && p.Has("above"):
				return "add", problem.Errorf("below and above cannot be combined").Remedy("keep one of them")
			}
		}
		return kind.CheckEdit(name, a)
	},
}

// Kind is the kind of lines.
func Kind() kind.Kind { return kind.Edits(lines{}) }

type lines struct{}

func (lines) Schema() *schema.Kind { return about }

// Stale says that the file may be one that accounts or services are read from.
func (lines) Stale() []kind.Topic { return []kind.Topic{kind.TheAccounts, kind.TheServices} }

func (lines) File(t plan.Task) string { return kind.FileOfPart(t.Ref.Name) }

// Edit puts lines in and takes lines out.
func (lines) Edit(t plan.Task, text string) (string, error) {
	l := kind.SplitLines(text)
	puts := t.Attrs.Tables("add")
	for _, pattern := range t.Attrs.Texts("remove") {
		re := regexp.MustCompile(pattern)
		l.List = slices.DeleteFunc(l.List, func(line string) bool {
			return re.MatchString(line) && !slices.ContainsFunc(puts,
				func(p value.Attrs) bool { return p.Text("line") == line })
		})
	}
	for _, p := range puts {
		putLine(&l, p)
	}
	return l.String(), nil
}

func putLine(l *kind.Lines, p value.Attrs) {
	text := p.Text("line")
	current := slices.Contains(l.List, text)
	if over := p.Text("replaces"); over != "" {
		re := regexp.MustCompile(over)
		l.List = slices.DeleteFunc(l.List, func(line string) bool {
			if line == text || !re.MatchString(line) {
				return false
			}
			if !current { // the first one is kept, to be written over
				current = true
				return false
			}
			return true
		})
		if i := slices.IndexFunc(l.List, func(line string) bool {
			return line != text &&
				re.MatchString(line)
		}); i >= 0 {
			l.List[i] = text
		}
	}
	if !current {
		l.List = slices.Insert(l.List, l.Spot(p.Text("below"), p.Text("above")), text)
	}
}
