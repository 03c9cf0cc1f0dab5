// Package value holds the small vocabulary that every other part of Jade Kettle
// speaks: places in source files, references to declarations, secrets, typed
// attribute values, and the problems that are reported to a person.
//
// Values themselves are plain Go: nil, bool, int64, float64, string, Secret,
// []any and map[string]any, nested as deep as needed. Nothing else occurs.
package value

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Place is a position in a project's file. Line and Col count from 1, Col in
// code points. The zero Place means "no file", and a Place with Line 0 the
// whole file.
type Place struct {
	File string `cbor:"1,keyasint,omitempty" json:"file" doc:"The file, relative to the project; may be empty."`
	Line int    `cbor:"2,keyasint,omitempty" json:"line" doc:"The line, from 1."`
	Col  int    `cbor:"3,keyasint,omitempty" json:"column" doc:"The column in characters, from 1."`
}

// String gives file:line:column, leaving out what is unknown.
func (p Place) String() string {
	switch {
	case p.Line == 0:
		return p.File
	case p.Col == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Col)
}

// Ref names one declaration by two words, its kind and its name, the name in its canonical form.
type Ref struct {
	Kind string `cbor:"1,keyasint"`
	Name string `cbor:"2,keyasint"`
}

// String gives "kind name", as people say it.
func (r Ref) String() string { return r.Kind + " " + r.Name }

// odd begins a name that is not UTF-8, as some files have: JSON holds none, so it is written in base64. No name
// of a thing holds a NUL.
const odd = "\x00"

// MarshalText makes a Ref a JSON string and a JSON map key.
func (r Ref) MarshalText() ([]byte, error) {
	if !utf8.ValidString(r.Name) {
		r.Name = odd + base64.StdEncoding.EncodeToString([]byte(r.Name))
	}
	return []byte(r.String()), nil
}

// UnmarshalText reads what MarshalText wrote.
func (r *Ref) UnmarshalText(text []byte) error {
	got, ok := ParseRef(string(text))
	if !ok {
		return fmt.Errorf("invalid reference: %q", text)
	}
	if in, ok := strings.CutPrefix(got.Name, odd); ok {
		name, err := base64.StdEncoding.DecodeString(in)
		if err != nil {
			return fmt.Errorf("invalid reference %q: %w", text, err)
		}
		got.Name = string(name)
	}
	*r = got
	return nil
}

// ParseRef splits a reference at its first space; no kind holds one. It is
// false for what has no two words.
func ParseRef(s string) (ref Ref, ok bool) {
	kind, name, _ := strings.Cut(s, " ")
	return Ref{kind, name}, kind != "" && name != ""
}

// Hidden is what is shown where a secret is.
const Hidden = "(secret)"

// Secret is a scalar that is never shown. It travels to the host inside the
// plan and is masked wherever it would be printed. Secrets are compared by ==.
type Secret struct {
	text   string
	scalar any // nil for text
}

// NewSecret makes a secret of plain text.
func NewSecret(text string) Secret { return Secret{text: text} }

// SecretOf makes a secret of a scalar, which keeps its type in expressions.
func SecretOf(scalar any) Secret {
	text, _ := Text(scalar)
	if _, isText := scalar.(string); isText {
		scalar = nil
	}
	return Secret{text, scalar}
}

// Reveal gives the secret as text, for handing to the host and for nothing else.
func (s Secret) Reveal() string { return s.text }

// Scalar gives the secret with its type, for expressions.
func (s Secret) Scalar() any {
	if s.scalar == nil {
		return s.text
	}
	return s.scalar
}

// String, GoString and MarshalText keep a secret out of messages, of %#v, and
// of JSON.
func (s Secret) String() string               { return Hidden }
func (s Secret) GoString() string             { return Hidden }
func (s Secret) MarshalText() ([]byte, error) { return []byte(Hidden), nil }

// HoldsSecret says whether a value is a secret, or has one in it.
func HoldsSecret(v any) bool {
	switch v := v.(type) {
	case Secret:
		return true
	case []any:
		return slices.ContainsFunc(v, HoldsSecret)
	case map[string]any:
		for _, item := range v {
			if HoldsSecret(item) {
				return true
			}
		}
	}
	return false
}

// TypeName says what a value is in the words of the manifest language.
func TypeName(v any) string {
	switch v.(type) {
	case nil:
		return "null"
	case bool:
		return "a bool"
	case int64:
		return "an integer"
	case float64:
		return "a number"
	case string:
		return "a string"
	case Secret:
		return "a secret"
	case []any:
		return "a list"
	case map[string]any:
		return "a table"
	}
	return fmt.Sprintf("%T", v)
}

// Text writes a scalar as text. The second result is false for null, lists and
// tables, which have no text.
func Text(v any) (string, bool) {
	switch v := v.(type) {
	case bool:
		return strconv.FormatBool(v), true
	case int64:
		return strconv.FormatInt(v, 10), true
	case float64:
		return number(v), true
	case string:
		return v, true
	}
	return "", false
}

// number writes a number without an exponent, unless it is so large or so
// small that nobody could read it (as ECMA-262 does, "Number::toString").
func number(f float64) string {
	if a := math.Abs(f); f == 0 || a >= 1e-6 && a < 1e21 {
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	return strconv.FormatFloat(f, 'g', -1, 64)
}

// FromJSON turns what encoding/json reads with UseNumber into values: whole numbers are
// int64. What holds others is changed in place.
func FromJSON(v any) any {
	switch v := v.(type) {
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return n
		}
		f, _ := v.Float64()
		return f
	case []any:
		for i := range v {
			v[i] = FromJSON(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = FromJSON(v[k])
		}
	}
	return v
}

// Equal says whether two values are the same, secrets by their text.
func Equal(a, b any) bool {
	switch a := a.(type) {
	case []any:
		b, ok := b.([]any)
		if !ok || len(a) != len(b) {
			return false
		}
		for i := range a {
			if !Equal(a[i], b[i]) {
				return false
			}
		}
		return true
	case map[string]any:
		b, ok := b.(map[string]any)
		if !ok || len(a) != len(b) {
			return false
		}
		for k := range a {
			other, there := b[k]
			if !there || !Equal(a[k], other) {
				return false
			}
		}
		return true
	}
	switch b.(type) {
	case []any, map[string]any:
		return false
	}
	return a == b
}

// Keys gives the keys of a table in order.
func Keys[V any](m map[string]V) []string {
	keys := slices.AppendSeq(make([]string, 0, len(m)), maps.Keys(m))
	slices.Sort(keys)
	return keys
}

// Attrs are the evaluated attributes of one declaration. The accessors take
// the zero value for what is not set.
type Attrs map[string]any

// Text gives a text attribute.
func (a Attrs) Text(name string) string { s, _ := a[name].(string); return s }

// Bool gives a bool attribute.
func (a Attrs) Bool(name string) bool { b, _ := a[name].(bool); return b }

// Has says whether the attribute was declared.
func (a Attrs) Has(name string) bool { _, ok := a[name]; return ok }

// Int gives a whole number; ok is false when it is not declared.
func (a Attrs) Int(name string) (n int64, ok bool) { n, ok = a[name].(int64); return }

// Secret gives a secret attribute; ok is false when it is not declared.
func (a Attrs) Secret(name string) (s Secret, ok bool) { s, ok = a[name].(Secret); return }

// Table gives a table of values; nil when it is not declared.
func (a Attrs) Table(name string) map[string]any { t, _ := a[name].(map[string]any); return t }

// Tables gives a list of tables.
func (a Attrs) Tables(name string) []Attrs {
	list, _ := a[name].([]any)
	out := make([]Attrs, 0, len(list))
	for _, v := range list {
		if t, ok := v.(map[string]any); ok {
			out = append(out, t)
		}
	}
	return out
}

// Texts gives a list of texts.
func (a Attrs) Texts(name string) []string {
	list, _ := a[name].([]any)
	out := make([]string, 0, len(list))
	for _, v := range list {
		if s, ok := v.(string); ok {
			out = append(out, s)
		}
	}
	return out
}

// Quote writes a text as a basic string of TOML (TOML 1.0, "String").
func Quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// Shown writes a value in one line for people: what has words of its own, such
// as a secret, in those.
func Shown(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case fmt.Stringer:
		return v.String()
	case string:
		return Quote(v)
	case []any:
		parts := make([]string, len(v))
		for i, item := range v {
			parts[i] = Shown(item)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case map[string]any:
		var parts []string
		for _, k := range Keys(v) {
			parts = append(parts, k+" = "+Shown(v[k]))
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	}
	s, _ := Text(v)
	return s
}

// HasControl says whether a text has control characters: a line break, a carriage return or the
// like, by which it would become several lines, or others, of a file of lines.
func HasControl(s string) bool { return strings.ContainsFunc(s, unicode.IsControl) }
