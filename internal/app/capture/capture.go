// Package capture generates declarations from what a host reports. A host may report anything, so this is checked
// against what was asked for, and none of it becomes an expression or another declaration.
//
// The capture of a whole host is verified before it is printed: a preview of it on that host must show no difference.
// What cannot be declared appears as a comment that says why.
package capture

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/visible"
)

// Check holds a captured declaration to what was asked for, and to its kind:
// only attributes that the kind captures come from a host into a manifest. It gives the attributes as
// a manifest has them, what would be an expression escaped, and makes the name canonical.
func Check(schemas schema.Kinds, asked []value.Ref, c *plan.Captured) (value.Attrs, error) {
	if !slices.ContainsFunc(asked, func(r value.Ref) bool {
		return r.Kind == c.Ref.Kind &&
			(r.Name == "" || r.Name == c.Ref.Name)
	}) {
		return nil, errors.New("it was not requested")
	}
	kind, ok := schemas.Kind(c.Ref.Kind)
	if !ok {
		return nil, fmt.Errorf("unknown kind %q", c.Ref.Kind)
	}
	name, err := kind.Canon(c.Ref.Name)
	if err != nil {
		return nil, err
	}
	if !isPlain(name) || !isPlain(c.Attrs) {
		return nil, errors.New("a manifest cannot express it")
	}
	c.Ref.Name = name
	out := value.Attrs{}
	for _, k := range value.Keys(c.Attrs) {
		at, ok := kind.Attr(k)
		if !ok || !slices.Contains(kind.Captures, k) && k != "absent" {
			return nil, fmt.Errorf("%s is not an attribute that can be captured of a %s", k, kind.Name)
		}
		v, err := at.Value(c.Attrs[k])
		if err != nil {
			return nil, err
		}
		out[k] = literal(v)
	}
	return out, nil
}

// Text writes one declaration as TOML, attributes in the order of the kind's
// schema. The note comes before it, as a comment.
func Text(k *schema.Kind, name string, attrs value.Attrs, note string) string {
	var b strings.Builder
	for line := range strings.Lines(note) {
		fmt.Fprintf(&b, "# %s\n", visible.Line(strings.TrimRight(line, "\r\n")))
	}
	fmt.Fprintf(&b, "[%s.%s]\n", k.Name, manifest.QuoteKey(name))
	for _, at := range slices.Concat(k.Attrs, schema.Common) {
		if v, ok := attrs[at.Name]; ok {
			fmt.Fprintf(&b, "%s = %s\n", at.Name, manifest.Literal(v))
		}
	}
	return b.String()
}

// isPlain says whether a value is made of texts in UTF-8, finite numbers, lists and tables.
func isPlain(v any) bool {
	switch v := v.(type) {
	case nil, bool, int64:
		return true
	case float64:
		return !math.IsNaN(v) && !math.IsInf(v, 0)
	case string:
		return utf8.ValidString(v)
	case []any:
		return !slices.ContainsFunc(v, func(item any) bool { return !isPlain(item) })
	case map[string]any:
		for name, item := range v {
			if !isPlain(name) || !isPlain(item) {
				return false
			}
		}
		return true
	}
	return false
}

// Literal escapes what an expression would be.
func Literal(s string) string { return strings.ReplaceAll(s, "${", "$${") }

// literal escapes what would be an expression in a value.
func literal(v any) any {
	switch v := v.(type) {
	case string:
		return Literal(v)
	case []any:
		out := make([]any, len(v))
		for i, item := range v {
			out[i] = literal(item)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, item := range v {
			out[name] = literal(item)
		}
		return out
	}
	return v
}
