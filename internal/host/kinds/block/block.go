// Package block is the kind of a marked part of a file.
package block

import (
	"context"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

var about = &schema.Kind{
	Name:  "block",
	Area:  "files",
	About: "A delimited block inside a file.",
	Doc: "The block is enclosed in two comments, `# jadekettle NAME: start` and `# jadekettle NAME: end`; the " +
		"rest of the file is left alone. The name is the file's path. If several declarations are for the same " +
		"file, add # and a name you choose, which becomes NAME.",
	Attrs: append([]schema.Attr{
		{Name: "content", Type: schema.Quiet, Required: true, Doc: "The lines between the two comments.",
			Examples: []string{`"Match Group keepers\n    X11Forwarding no\n"`}},
		{Name: "comment", Type: schema.Text, Default: `"#"`,
			Doc:      "What starts a comment in this file and, after a space, what ends it.",
			Examples: []string{`"//"`, `"<!-- -->"`}},
		{Name: "below", Type: schema.Pattern,
			Doc:      "Add a new block after the last line that matches; by default, at the end.",
			Examples: []string{`'^\[gauges\]'`}},
		{Name: "above", Type: schema.Pattern, Doc: "Add a new block before the first line that matches.",
			Examples: []string{`'^Match '`}},
	}, kind.EditAttrs...),
	Examples: []schema.Example{
		{About: "A block in a file that a package installs", TOML: `[block."/etc/profile#tides"]
content = """
TIDES=/srv/tide
export TIDES
"""
create = true
`},
		{About: "A block above a line, in a file with another comment style", TOML: `[block."/etc/tide/chart.xml#pier"]
content = "<station>north-pier</station>"
comment = "<!-- -->"
above = '^</stations>'
create = true

[dir."/etc/tide"]
owner = "root"
mode = "0755"
`},
	},
	Captures: []string{"content"},
	TooMany:  "/etc/profile#tides",
	Canon:    kind.CanonPart,
	Part:     kind.FileOfPart,
	Edit:     kind.Pure(blocks{}),
	Needs:    kind.PartNeeds,
	Check: func(name string, a value.Attrs) (string, error) {
		_, word := kind.PartOf(name)
		begin, end := marks(word, a.Text("comment"))
		for line := range strings.Lines(text(a)) {
			if line = strings.TrimSpace(line); line == begin || line == end {
				return "content", problem.Errorf("the content contains the marker %q", line).
					Remedy("remove the marker from the content")
			}
		}
		if c := a.Text("comment"); a.Has("comment") && (strings.TrimSpace(c) == "" || strings.ContainsAny(c, "\r\n")) {
			return "comment", problem.Errorf("comment is %q, which does not start a comment", c).
				Remedy("use what starts one, such as \"#\", or \"<!-- -->\"")
		}
		if a.Has("below") && a.Has("above") {
			return "below", problem.Errorf("below and above are given together").Remedy("keep one of them")
		}
		return kind.CheckEdit(name, a)
	},
}

// text is the content, secret or not.
func text(a value.Attrs) string {
	if s, secret := a.Secret("content"); secret {
		return s.Reveal()
	}
	return a.Text("content")
}

func marks(word, comment string) (begin, end string) {
	if word == "" {
		word = "block"
	}
	open, shut := kind.CommentMarks(comment)
	return open + " jadekettle " + word + ": start" + shut, open + " jadekettle " + word + ": end" + shut
}

// Kind is the kind of marked parts.
func Kind() kind.Kind { return parts{kind.Edits(blocks{})} }

// parts adds to the editing what can be captured.
type parts struct{ kind.Kind }

// Capture declares the part between the marks of that name, with # for comments.
func (parts) Capture(_ context.Context, env *kind.Env, t plan.Task, _ any) (plan.Captured, error) {
	file, word := kind.PartOf(t.Ref.Name)
	st, err := env.ReadText(file)
	if err != nil {
		return plan.Captured{}, err
	}
	begin, end := marks(word, "")
	l := kind.SplitLines(st.Text).List
	at, last := slices.Index(l, begin), slices.Index(l, end)
	if at < 0 || last < at {
		return plan.Captured{}, problem.Errorf("the markers %q and %q are not in the file", begin, end).
			Remedy("name an existing block, as FILE#NAME")
	}
	text := strings.Join(l[at+1:last], "\n") + "\n"
	return plan.Captured{Attrs: map[string]any{"content": text}}, nil
}

type blocks struct{}

func (blocks) Schema() *schema.Kind { return about }

// Stale says that the file may be one that accounts or services are read from.
func (blocks) Stale() []kind.Topic { return []kind.Topic{kind.TheAccounts, kind.TheServices} }

func (blocks) File(t plan.Task) string { return kind.FileOfPart(t.Ref.Name) }

// Edit puts the part between its marks, or takes it out with them.
func (blocks) Edit(t plan.Task, old string) (string, error) {
	_, word := kind.PartOf(t.Ref.Name)
	begin, end := marks(word, t.Attrs.Text("comment"))
	l := kind.SplitLines(old)
	at, last := slices.Index(l.List, begin), slices.Index(l.List, end)
	switch {
	case at < 0 && last < 0:
	case at < 0 || last < at || slices.Contains(l.List[last+1:], end) || slices.Contains(l.List[at+1:], begin):
		return "", problem.Errorf("the markers %q and %q must each be in the file once, in this order", begin, end).
			Remedy("fix them by hand, or remove both")
	}
	var part []string
	if !t.Absent {
		part = append([]string{begin}, kind.SplitLines(text(t.Attrs)).List...)
		part = append(part, end)
	}
	switch {
	case at >= 0:
		l.List = slices.Replace(l.List, at, last+1, part...)
	case len(part) > 0:
		l.List = slices.Insert(l.List, l.Spot(t.Attrs.Text("below"), t.Attrs.Text("above")), part...)
	}
	return l.String(), nil
}
