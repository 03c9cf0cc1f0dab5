package kind

import (
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
)

// OwnFile captures a kind of which each declaration has a file of its own in a
// folder.
type OwnFile struct {
	Folder string // with a slash at its end
	Fits   func(name string) bool
	// Parse reads a file that holds one declaration and nothing else; false for any
	// other.
	Parse func(text string) (attrs map[string]any, ok bool)
	// Content is the file for what a task declares.
	Content func(t plan.Task) string
	Else    string // what a file holds that Parse does not read, after "it holds"
}

// Signature is the comment, without its sign, of a file that we write: which manifest declares it.
func Signature(t plan.Task) string {
	if t.From == "" {
		return signed + "."
	}
	return signed + " from " + t.From + ". Edit it there: changes made here are replaced."
}

const signed = "Kept by Jade Kettle"

// unsigned leaves the signature out of a file.
func unsigned(text string) string {
	if rest, ok := strings.CutPrefix(text, "# "+signed); ok {
		_, text, _ = strings.Cut(rest, "\n")
	}
	return text
}

// Names lists the files that hold one declaration.
func (o OwnFile) Names(env *Env) []string {
	list, _ := env.Machine.ReadDir(strings.TrimSuffix(o.Folder, "/"))
	var out []string
	for _, name := range list {
		if st, err := env.ReadText(o.Folder + name); err == nil && o.Fits(name) {
			if _, ok := o.Parse(st.Text); ok {
				out = append(out, name)
			}
		}
	}
	return out
}

// Capture declares what such a file holds.
func (o OwnFile) Capture(env *Env, t plan.Task) (plan.Captured, error) {
	st, err := env.ReadText(o.Folder + t.Ref.Name)
	if err != nil {
		return plan.Captured{}, err
	}
	if !st.There {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	attrs, ok := o.Parse(st.Text)
	if !ok {
		return plan.Captured{}, problem.Errorf("it contains %s", o.Else).Remedy("capture the file")
	}
	c := plan.Captured{Attrs: attrs, Files: []string{o.Folder + t.Ref.Name}}
	if unsigned(o.Content(plan.Task{Ref: t.Ref, Attrs: attrs})) != unsigned(st.Text) {
		c.Note = "the file has other comments or white space, which an apply would rewrite"
	}
	return c, nil
}
