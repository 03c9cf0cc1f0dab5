package manifest

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Fields maps each key of a table to the field that receives its value. The type of the field determines what the key
// takes:
//
//	*string         text, one of the key's choices if it has any
//	*bool           true or false
//	Number          a whole number within bounds
//	*[]string       a list of strings
//	Some            a list of at least one string
//	*time.Duration  a duration
//	*int64          a size, as text or in bytes
//	*any            anything
//	func(*Node) error, func(*Node), func(*Node, *problem.Problems)
//	                anything else; an error without a place gets that of the value
//
// A nil field accepts a key that only people read, such as about.
type Fields map[string]any

// Number is a field for a whole number from Min to Max.
type Number struct {
	To       *int
	Min, Max int
}

// Some is a field for a list of at least one text.
type Some struct{ To *[]string }

// Decode reads a table that people write. what names the table in messages, such as "a job"; keys document it. Decode
// reports whether the table was valid; anything that is wrong is added to problems.
func (n *Node) Decode(what string, keys []schema.Key, into Fields, problems *problem.Problems) (good bool) {
	before := problems.Len()
	for _, k := range n.Keys {
		to, known := into[k.Name]
		if !known {
			names := into.names(keys)
			problems.At(k.Place, fmt.Sprintf("unknown key %[2]q in %[1]s", what, k.Name),
				problem.Meant(k.Name, names, "available: "+strings.Join(names, ", ")))
			continue
		}
		switch to := to.(type) {
		case func(*Node):
			to(k.Node)
		case func(*Node, *problem.Problems):
			to(k.Node, problems)
		case func(*Node) error:
			problems.AddErr(k.Node.Place, to(k.Node))
		default:
			i := slices.IndexFunc(keys, func(of schema.Key) bool { return of.Name == k.Name })
			of := schema.Key{Name: k.Name}
			if i >= 0 {
				of = keys[i]
			}
			problems.AddErr(k.Node.misfit(), Assign(of, k.Node.Plain(), to))
		}
	}
	return problems.Len() == before
}

// names lists the keys that a table may have, documented ones first and in that order.
func (f Fields) names(keys []schema.Key) []string {
	var out []string
	for _, k := range keys {
		if _, has := f[k.Name]; has {
			out = append(out, k.Name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(f)) {
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Assign stores a value in a field of Fields. The error says what the key takes.
func Assign(k schema.Key, v any, to any) error {
	switch to := to.(type) {
	case nil:
	case *any:
		*to = v
	case *string:
		return assignText(k, v, to)
	case *bool:
		is, ok := v.(bool)
		if *to = is; !ok {
			return problem.Errorf("%s must be true or false", k.Name).
				Remedy("write %s = true, without quotes", last(k.Name))
		}
	case Number:
		n, ok := v.(int64)
		if !ok || n < int64(to.Min) || n > int64(to.Max) {
			wrong := problem.Errorf("%s must be an integer from %d to %d", k.Name, to.Min, to.Max)
			text, _ := v.(string)
			if n, err := strconv.Atoi(text); err == nil && n >= to.Min && n <= to.Max {
				return wrong.Remedy("write %s = %d, without quotes", last(k.Name), n)
			}
			return wrong.Remedy("write %s = %d", last(k.Name), max(to.Min, min(to.Max, 2)))
		}
		*to.To = int(n)
	case *[]string:
		return assignTexts(k, v, to, false)
	case Some:
		return assignTexts(k, v, to.To, true)
	case *time.Duration:
		text, ok := v.(string)
		if !ok {
			return problem.Errorf("%s: invalid duration %s", k.Name, value.Shown(v)).Remedy(measure.DurationForms)
		}
		d, err := measure.ParseDuration(text)
		if err != nil {
			return fmt.Errorf("%s: %w", k.Name, err)
		}
		*to = d
	case *int64:
		if n, ok := v.(int64); ok && n >= 0 {
			*to = n
			return nil
		}
		text, ok := v.(string)
		if !ok {
			return problem.Errorf("%s: invalid size %s", k.Name, value.Shown(v)).Remedy(measure.SizeForms)
		}
		n, err := measure.ParseBytes(text)
		if err != nil {
			return fmt.Errorf("%s: %w", k.Name, err)
		}
		*to = n
	default:
		panic(fmt.Sprintf("%s is decoded into a %T, which is not supported", k.Name, to))
	}
	return nil
}

func assignText(k schema.Key, v any, to *string) error {
	text, ok := v.(string)
	switch {
	case !ok:
		return problem.Errorf("%s must be a string, not %s", k.Name, value.TypeName(v)).Remedy("put it in quotes")
	case text == "" && !slices.Contains(k.Choices, ""):
		return problem.Errorf("%s is empty", k.Name).Remedy("set it or remove it")
	case len(k.Choices) > 0 && !slices.Contains(k.Choices, text):
		return problem.Errorf("invalid %s: %q", k.Name, text).Meant(text, k.Choices, "use "+quoted(k.Choices))
	}
	*to = text
	return nil
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fmt.Sprintf("%q", s)
	}
	return problem.OneOf(out)
}

// last is the last part of a dotted key.
func last(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }

func assignTexts(k schema.Key, v any, to *[]string, some bool) error {
	list, ok := v.([]any)
	ok = ok && !(some && len(list) == 0)
	out := []string{}
	for _, item := range list {
		text, isText := item.(string)
		ok = ok && isText && text != ""
		out = append(out, text)
	}
	if !ok {
		return problem.Errorf("%s must be a list of strings", k.Name).Remedy(`write %s = ["..."]`, last(k.Name))
	}
	*to = out
	return nil
}

// misfit is the place to point at when a value does not fit: in a list, the first item that is not a string.
func (n *Node) misfit() value.Place {
	for _, item := range n.Items {
		if text, ok := item.Value.(string); !ok || text == "" {
			return item.Place
		}
	}
	return n.Place
}

// Under returns a table with this value under a key.
func (n *Node) Under(key string) *Node {
	return &Node{Kind: Table, Place: n.Place, Keys: []Key{{Name: key, Place: n.Place, Node: n}}}
}

// Texts returns the items of a list of strings. If it is not one, that is added to problems and there are none.
func (n *Node) Texts(name string, problems *problem.Problems) []*Node {
	var list []string
	if err := assignTexts(schema.Key{Name: name}, n.Plain(), &list, false); err != nil {
		problems.AddErr(n.misfit(), err)
		return nil
	}
	return n.Items
}

// Tables returns the keys of a table whose values are tables, such as [job.NAME]. Any other is added to problems, with
// what to write instead.
func (n *Node) Tables(problems *problem.Problems, what, write string) []Key {
	var out []Key
	for _, k := range n.Keys {
		if k.Node.Kind != Table {
			problems.At(k.Place, fmt.Sprintf("%s is not a valid %s", k.Name, what), write)
			continue
		}
		out = append(out, k)
	}
	return out
}

// table is the error if a value is not a table.
func (n *Node) table(name, write string) error {
	if n.Kind != Table {
		return problem.Errorf("%s must be a table", name).Remedy("%s", write)
	}
	return nil
}
