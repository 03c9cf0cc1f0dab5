// Package param checks the typed values that a manifest takes: what a manifest declares under [param.NAME], and whether
// a given value matches.
//
//	[param.depth]
//	type = "int"
//	min = 1
//	from = "data.gauge.depth"
//	default = 3
//
// The value comes from the use, the command line, the host or its groups, then from the expression, then from the
// default. It is checked where it is written. Expressions always see it in one form: a duration in whole seconds, a
// size in bytes.
package param

import (
	"fmt"
	"math"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Types are the types of params and what a value of each is.
var Types = []struct{ Name, Doc string }{
	{"string", "a string"},
	{"int", "an integer"},
	{"number", "a number"},
	{"bool", "true or false"},
	{"duration", `a duration such as "90s", "1h30m" or "7d"; expressions see whole seconds`},
	{"bytes", `a size such as "2TB" or "1.5 GiB"; expressions see whole bytes`},
	{"path", "an absolute path"},
	{"address", "an IP address or a host name"},
	{"list", "a list"},
	{"map", "a table"},
	{"secret", "text that is never shown"},
}

// Decl is one param as a manifest declares it.
type Decl struct {
	Name       string
	Type       string
	About      string
	Default    any
	HasDefault bool
	Choices    []any
	Min, Max   any // numbers; sizes and times as text or number; the length of text and lists
	Pattern    *regexp.Regexp
	Place      value.Place
	// From is where the value comes from when nobody gives it: an expression
	// over host, facts, data, input and env, passed over where a step of it is missing.
	// Nil for none.
	From *expr.Program
}

// fromScope is what a param's own from may read.
var fromScope = expr.Scope{Roots: []string{"host", "facts", "data", "input", "env"}, What: "the from of a param"}

// Keys are what a [param.NAME] table may hold.
var Keys = []schema.Key{
	{Name: "type", Takes: schema.TakesText, Default: `"string"`, Doc: "Its type.",
		Choices: typeNames()},
	{Name: "default", Takes: schema.TakesAny, Doc: "The value if none is given, taken literally."},
	{Name: "from", Takes: schema.TakesText,
		Doc: "A CEL expression over host, facts, data, input and env that supplies the value before the default; " +
			"ignored if a step of it is missing."},
	{Name: "choices", Takes: schema.TakesAny, Doc: "The only values allowed."},
	{Name: "min", Takes: schema.TakesAny, Doc: "The minimum value or length."},
	{Name: "max", Takes: schema.TakesAny, Doc: "The maximum value or length."},
	{Name: "pattern", Takes: schema.TakesText, Doc: "A regular expression (RE2) that the whole string must match."},
	{Name: "about", Takes: schema.TakesText, Doc: "A description."},
}

var nameForm = lazy.Regexp(`^[A-Za-z_][A-Za-z0-9_]*$`)

// Read checks one [param.NAME] table.
func Read(k manifest.Key, problems *problem.Problems) (*Decl, bool) {
	d := &Decl{Name: k.Name, Type: "string", Place: k.Place}
	if k.Node.Kind != manifest.Table {
		problems.At(k.Place, fmt.Sprintf("param.%s must be a table", k.Name),
			fmt.Sprintf("write [param.%s] and below it type, default and about", k.Name))
		return nil, false
	}
	if !nameForm().MatchString(k.Name) {
		problems.At(k.Place, fmt.Sprintf("invalid param name: %q", k.Name),
			"use letters, digits and underscores, starting with a letter")
		return nil, false
	}
	fields := manifest.Fields{"type": &d.Type, "about": &d.About, "min": &d.Min, "max": &d.Max,
		"choices": func(n *manifest.Node) error {
			var ok bool
			if d.Choices, ok = n.Plain().([]any); !ok || len(d.Choices) == 0 {
				return problem.Errorf("choices must be a list").Remedy(`write choices = ["...", "..."]`)
			}
			return nil
		},
		"default": func(n *manifest.Node) error {
			d.Default, d.HasDefault = n.Plain(), true
			if text, is := n.Value.(string); is && manifest.Interpolated(text) {
				return problem.Errorf("a default is taken literally; ${ is not evaluated in it").
					Remedy("use from, or write $${ for the characters themselves")
			}
			return nil
		},
		"from": func(n *manifest.Node) (err error) {
			text, _ := n.Value.(string)
			if text == "" {
				return problem.Errorf("from takes an expression as a string").
					Remedy(`write from = "data.gauge.%s"`, k.Name)
			}
			d.From, err = expr.Compile(text, n.At, fromScope)
			return err
		},
		"pattern": func(n *manifest.Node) (err error) {
			text, is := n.Value.(string)
			if d.Pattern, err = regexp.Compile("^(?:" + text + ")$"); err != nil || !is || len(text) > 1000 {
				return problem.Errorf("pattern is not a valid regular expression").
					Remedy("use RE2 syntax; it must match the whole string")
			}
			return nil
		},
	}
	if !k.Node.Decode("a param", Keys, fields, problems) {
		return nil, false
	}
	return d, d.itself(k, problems)
}

func typeNames() []string {
	var out []string
	for _, t := range Types {
		out = append(out, t.Name)
	}
	return out
}

// itself checks the declaration's own values against its type.
func (d *Decl) itself(k manifest.Key, problems *problem.Problems) bool {
	good := true
	at := func(name string) value.Place { return k.Node.Get(name).Place }
	for name, limit := range map[string]any{"min": d.Min, "max": d.Max} {
		if limit == nil {
			continue
		}
		if _, err := d.limit(limit); err != nil {
			problems.AddErr(at(name), fmt.Errorf("%s: %w", name, err))
			good = false
		}
	}
	if !good {
		return false
	}
	for _, c := range d.Choices {
		if _, err := d.typed(c); err != nil {
			problems.AddErr(at("choices"), fmt.Errorf("a choice is not valid: %w", err))
			return false
		}
	}
	if d.HasDefault {
		if _, err := d.Check(d.Default); err != nil {
			problems.AddErr(at("default"), fmt.Errorf("the default is not valid: %w", err))
			return false
		}
	}
	return true
}

// Check holds a value to the declaration and gives it as expressions see it.
// The error says what is wrong with the value, and never shows a secret.
func (d *Decl) Check(v any) (any, error) {
	out, err := d.typed(v)
	if err != nil {
		return nil, err
	}
	if len(d.Choices) > 0 && !slices.ContainsFunc(d.Choices, func(c any) bool {
		c, _ = d.typed(c)
		return value.Equal(c, out)
	}) {
		var list []string
		for _, c := range d.Choices {
			list = append(list, value.Shown(c))
		}
		return nil, problem.Errorf("%s is not one of the choices", shown(v)).
			Remedy("use %s", strings.Join(list, ", "))
	}
	if err := d.within(v, out); err != nil {
		return nil, err
	}
	text, isText := out.(string)
	if s, ok := out.(value.Secret); ok {
		text, isText = s.Reveal(), true
	}
	if d.Pattern != nil && (!isText || !d.Pattern.MatchString(text)) {
		return nil, problem.Errorf("%s does not match the pattern %s", shown(v), d.Pattern).
			Remedy("see its description")
	}
	return out, nil
}

// typed checks the type alone.
func (d *Decl) typed(v any) (any, error) {
	if s, ok := v.(value.Secret); ok && d.Type != "secret" {
		in, err := d.typed(s.Reveal())
		if text, isText := value.Text(in); err == nil && isText && d.Type == "string" {
			return value.NewSecret(text), nil
		}
		return nil, problem.Errorf("expected %s, but the value is a secret", d.wants()).
			Remedy("give the param the type \"secret\"")
	}
	wrong := problem.Errorf("expected %s, not %s", d.wants(), shown(v)).Remedy("%s", d.example())
	switch d.Type {
	case "string":
		if _, ok := v.(string); ok {
			return v, nil
		}
	case "int":
		if _, ok := v.(int64); ok {
			return v, nil
		}
	case "number":
		switch v.(type) {
		case int64, float64:
			return v, nil
		}
	case "bool":
		if _, ok := v.(bool); ok {
			return v, nil
		}
	case "duration":
		if text, ok := v.(string); ok {
			n, err := measure.ParseSeconds(text)
			return n, err
		}
		if n, ok := v.(int64); ok && n >= 0 {
			return n, nil
		}
	case "bytes":
		if text, ok := v.(string); ok {
			n, err := measure.ParseBytes(text)
			return n, err
		}
		if n, ok := v.(int64); ok && n >= 0 {
			return n, nil
		}
	case "path":
		if text, ok := v.(string); ok {
			return schema.CleanPath(text)
		}
	case "address":
		if text, ok := v.(string); ok && address(text) {
			return text, nil
		}
	case "list":
		if _, ok := v.([]any); ok {
			return v, nil
		}
	case "map":
		if _, ok := v.(map[string]any); ok {
			return v, nil
		}
	case "secret":
		switch v := v.(type) {
		case value.Secret:
			return v, nil
		case string:
			return value.NewSecret(v), nil
		}
		return nil, problem.Errorf("expected a string, not %s", value.TypeName(v)).Remedy("put it in quotes")
	}
	return nil, wrong
}

func (d *Decl) wants() string {
	for _, t := range Types {
		if t.Name == d.Type {
			doc, _, _ := strings.Cut(t.Doc, ";")
			return doc
		}
	}
	return d.Type
}

func (d *Decl) example() string {
	switch d.Type {
	case "string", "path", "address":
		return "write it in quotes"
	case "int", "number", "bool":
		return "write it without quotes"
	case "list":
		return "put it in brackets"
	case "map":
		return "write { key = value }"
	}
	return "use that form"
}

var nameOfHost = lazy.Regexp(`^` + nameLabel + `(\.` + nameLabel + `)*$`)

// nameLabel is one part of a host name (RFC 1123, 2.1).
const nameLabel = `[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?`

func address(s string) bool {
	if _, err := netip.ParseAddr(s); err == nil {
		return true
	}
	return len(s) <= 253 && nameOfHost().MatchString(s)
}

func shown(v any) string {
	switch v := v.(type) {
	case string:
		return fmt.Sprintf("%q", v)
	case bool, int64, float64:
		return value.TypeName(v) + " (" + value.Shown(v) + ")"
	}
	return value.TypeName(v)
}

// limit reads a min or max.
func (d *Decl) limit(v any) (float64, error) {
	if d.Type == "duration" || d.Type == "bytes" {
		typed, err := d.typed(v)
		if err != nil {
			return 0, err
		}
		v = typed
	}
	switch n := v.(type) {
	case int64:
		return float64(n), nil
	case float64:
		return n, nil
	}
	return 0, problem.Errorf("a limit must be a number").Remedy("write it without quotes")
}

// within holds a value to min and max: numbers by their size, text and lists
// by their length.
func (d *Decl) within(given, v any) error {
	var size float64
	what := value.Shown(given)
	switch v := v.(type) {
	case int64:
		size = float64(v)
	case float64:
		size = v
	case string:
		size, what = float64(len([]rune(v))), "its length"
	case value.Secret:
		size, what = float64(len([]rune(v.Reveal()))), "its length"
	case []any:
		size, what = float64(len(v)), "its number of items"
	default:
		return nil
	}
	if math.IsNaN(size) {
		return problem.Errorf("%s is not a number that can be compared", what).Remedy("use another")
	}
	if low, err := d.limit(d.Min); d.Min != nil && err == nil && size < low {
		return problem.Errorf("%s is below the minimum of %s", what, number(d.Min)).Remedy("use a larger value")
	}
	if high, err := d.limit(d.Max); d.Max != nil && err == nil && size > high {
		return problem.Errorf("%s is above the maximum of %s", what, number(d.Max)).Remedy("use a smaller value")
	}
	return nil
}

func number(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	s, _ := value.Text(v)
	return s
}

// FromText reads a value as the command line gives it: text as it is,
// anything else as the type wants it.
func (d *Decl) FromText(text string) (any, error) {
	switch d.Type {
	case "int":
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n, nil
		}
	case "number":
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n, nil
		}
		if f, err := strconv.ParseFloat(text, 64); err == nil {
			return f, nil
		}
	case "bool":
		if text == "true" || text == "false" {
			return text == "true", nil
		}
	case "list", "map":
		var ps problem.Problems
		root, _ := manifest.ParseTOML("--param", []byte("v = "+text), &ps)
		if v := root.Get("v"); ps.Err() == nil && v != nil {
			return v.Plain(), nil
		}
		return nil, problem.Errorf("expected %s", d.wants()).
			Remedy("write it as TOML, such as [" + `"a", "b"] or { a = 1 }`)
	case "duration", "bytes":
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n, nil
		}
		return text, nil
	default:
		return text, nil
	}
	return nil, fmt.Errorf("expected %s, not %q", d.wants(), text)
}
