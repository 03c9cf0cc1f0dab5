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
	About: "Single lines of a file that stay or go, the rest of it left alone.",
	Doc: "The name is the file's path and, where several declarations are about one file, # and a word of your " +
		"own. A " +
		"line that stands already stays where it is. Otherwise it takes the place of the first line that over finds, " +
		"and further ones go; found nowhere, it is added below or above the line of another pattern, or at the end.",
	Attrs: append([]schema.Attr{
		{Name: "put", Type: schema.Table, List: true, Doc: "The lines that must be there.",
			Examples: []string{`[{ text = "PermitRootLogin no", over = '^#?PermitRootLogin\b' }]`},
			Fields: []schema.Attr{
				{Name: "text", Type: schema.Text, Required: true, Doc: "The line.", Examples: []string{`"UseDNS no"`}},
				{Name: "over", Type: schema.Pattern, Doc: "Finds the line whose place it takes.",
					Examples: []string{`'^#?UseDNS\b'`}},
				{Name: "below", Type: schema.Pattern, Doc: "Else it is added behind the last line that this finds.",
					Examples: []string{`'^\[gauges\]'`}},
				{Name: "above", Type: schema.Pattern, Doc: "Else it is added before the first line that this finds.",
					Examples: []string{`'^Match '`}},
			}},
		{Name: "take_out", Type: schema.Pattern, List: true, Doc: "Every line that one of these finds must not be " +
			"there.",
			Examples: []string{`['^tide-feed\b']`}},
	}, kind.EditAttrs...),
	Examples: []schema.Example{
		{About: "A setting of a file that a package brings, checked before it is put in place",
			TOML: `[lines."/etc/login.defs"]
put = [{ text = "UMASK 027", over = '^#?\s*UMASK\b' }]
check = "test -s ${candidate}"
make = true
`},
		{About: "A line above another, and one that must go, by a second declaration for the file",
			TOML: `[lines."/etc/hosts.allow#feeds"]
put = [{ text = "tide-feed: 192.0.2.0/255.255.255.0", above = '^ALL\b' }]
take_out = ['^old-feed:']
make = true
`},
	},
	NoAbsent: "take lines out with take_out",
	Canon:    kind.CanonPart,
	Part:     kind.FileOfPart,
	Edit:     kind.Pure(lines{}),
	Needs:    kind.PartNeeds,
	Check: func(name string, a value.Attrs) (string, error) {
		if !a.Has("put") && !a.Has("take_out") {
			return "", problem.Errorf("neither put nor take_out is given").Remedy("say which lines stay or go")
		}
		for _, p := range a.Tables("put") {
			switch text := p.Text("text"); {
			case strings.ContainsAny(text, "\r\n"):
				return "put", problem.Errorf("the text %s has several lines", value.Shown(text)).
					Remedy("give each line by itself, or declare a block")
			case p.Has("below") && p.Has("above"):
				return "put", problem.Errorf("below and above are given together").Remedy("keep one of them")
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
	puts := t.Attrs.Tables("put")
	for _, pattern := range t.Attrs.Texts("take_out") {
		re := regexp.MustCompile(pattern)
		l.List = slices.DeleteFunc(l.List, func(line string) bool {
			return re.MatchString(line) && !slices.ContainsFunc(puts,
				func(p value.Attrs) bool { return p.Text("text") == line })
		})
	}
	for _, p := range puts {
		putLine(&l, p)
	}
	return l.String(), nil
}

func putLine(l *kind.Lines, p value.Attrs) {
	text := p.Text("text")
	stands := slices.Contains(l.List, text)
	if over := p.Text("over"); over != "" {
		re := regexp.MustCompile(over)
		l.List = slices.DeleteFunc(l.List, func(line string) bool {
			if line == text || !re.MatchString(line) {
				return false
			}
			if !stands { // the first one is kept, to be written over
				stands = true
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
	if !stands {
		l.List = slices.Insert(l.List, l.Spot(p.Text("below"), p.Text("above")), text)
	}
}
