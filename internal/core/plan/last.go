package plan

import (
	"bytes"
	"encoding/json"
	"slices"

	"jadekettle/internal/core/value"
)

// Last is a declaration as it was last applied, in the form in which a host remembers it:
// without what is secret.
type Last struct {
	Attrs   value.Attrs `json:"attrs,omitempty"`
	Content *Content    `json:"content,omitempty"`
	Tree    []Leaf      `json:"tree,omitempty"`
	Program string      `json:"program,omitempty"` // of a custom kind, by hash
	// Secret says that something of it is not here.
	Secret bool `json:"secret,omitempty"`
}

// LastOf gives what is remembered of a task.
func LastOf(t Task) *Last {
	l := &Last{}
	for name, v := range t.Attrs {
		if value.HoldsSecret(v) {
			l.Secret = true
			continue
		}
		if l.Attrs == nil {
			l.Attrs = value.Attrs{}
		}
		l.Attrs[name] = v
	}
	if t.Content != nil && !t.Content.Secret {
		c := *t.Content
		l.Content = &c
	}
	l.Secret = l.Secret || t.Content != nil && t.Content.Secret
	l.Tree = t.Tree
	if t.Program != nil {
		l.Program = t.Program.SHA256
	}
	return l
}

// Same says whether both are of one declaration, as far as they say.
func (l *Last) Same(o *Last) bool {
	same := func(a, b *Content) bool { return a == nil && b == nil || a != nil && b != nil && *a == *b }
	return l != nil && o != nil && value.Equal(map[string]any(l.Attrs), map[string]any(o.Attrs)) &&
		same(l.Content, o.Content) &&
		slices.Equal(l.Tree, o.Tree) && l.Program == o.Program && l.Secret == o.Secret
}

// Task is the declaration again, in the place of one in a plan.
func (l *Last) Task(id int, ref value.Ref) Task {
	t := Task{ID: id, Ref: ref, Attrs: value.Attrs{}, Content: l.Content, Tree: l.Tree}
	for name, v := range l.Attrs {
		t.Attrs[name] = v
	}
	return t
}

// UnmarshalJSON reads whole numbers as attributes have them.
func (l *Last) UnmarshalJSON(data []byte) error {
	type plain Last
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	if err := d.Decode((*plain)(l)); err != nil {
		return err
	}
	for name, v := range l.Attrs {
		l.Attrs[name] = value.FromJSON(v)
	}
	return nil
}

// Undeclared is what is managed on a host and declared no more.
type Undeclared struct {
	Ref value.Ref `cbor:"1,keyasint"`
	// Changes are what taking it away would do, where that was looked at.
	Changes []Change `cbor:"2,keyasint,omitempty"`
	Why     string   `cbor:"3,keyasint,omitempty"` // why it cannot be taken away
	// Stays says that it is let go of as it is, since what is in it is not ours: this is the
	// last that is heard of it.
	Stays bool `cbor:"4,keyasint,omitempty"`
}
