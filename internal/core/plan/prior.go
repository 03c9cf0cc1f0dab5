package plan

import "jadekettle/internal/core/value"

// Prior is one thing of a host as it was at some time, in the form in which it would be
// declared, so that it can be declared again.
type Prior struct {
	Ref    value.Ref `json:"ref"`
	As     *Last     `json:"as,omitempty"` // nil when Absent or Why says all
	Absent bool      `json:"absent,omitempty"`
	// Secrets are the attributes that nobody is shown, such as the hash of a password.
	Secrets map[string]string `json:"secrets,omitempty"`
	Extras  map[string][]byte `json:"extras,omitempty"` // of a file or a folder: its extended attributes
	Names   int               `json:"names,omitempty"`  // of a file: how many it has, where these are several
	// Veiled says that nobody is shown what it holds.
	Veiled bool   `json:"veiled,omitempty"`
	Why    string `json:"why,omitempty"` // why it cannot be put back; empty when it can
}

// NewPrior gives a thing that is with these attributes, of which those of type
// value.Secret are kept apart.
func NewPrior(ref value.Ref, attrs value.Attrs) Prior {
	s := Prior{Ref: ref, As: &Last{Attrs: value.Attrs{}}}
	for name, v := range attrs {
		secret, ok := v.(value.Secret)
		if !ok {
			s.As.Attrs[name] = v
			continue
		}
		if s.Secrets == nil {
			s.Secrets = map[string]string{}
		}
		s.Secrets[name] = secret.Reveal()
	}
	return s
}

// Missing gives a thing that is not there.
func Missing(ref value.Ref) Prior { return Prior{Ref: ref, Absent: true} }

// Task declares the thing as it was, in the place of a task in a plan.
func (s Prior) Task(id int) Task {
	t := Task{ID: id, Ref: s.Ref, Attrs: value.Attrs{}, Absent: s.Absent}
	if s.As != nil {
		t = s.As.Task(id, s.Ref)
		t.Absent = s.Absent
	}
	t.Extras = s.Extras
	for name, text := range s.Secrets {
		t.Attrs[name] = value.NewSecret(text)
	}
	if t.Content != nil && s.Veiled {
		veiled := *t.Content
		veiled.Secret = true
		t.Content = &veiled
	}
	return t
}
