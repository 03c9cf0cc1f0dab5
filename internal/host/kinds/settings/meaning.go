package settings

import (
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// eachSetting goes through what a declaration unsets and sets, each by its way of names from the
// root of the file.
func eachSetting(t plan.Task, text string, one func(text string, way []string, v any, unset bool) (string,
	error)) (string,
	error) {
	var section []string
	if s := t.Attrs.Text("section"); s != "" {
		section = strings.Split(s, ".")
	}
	way := func(key string) []string { return append(section[:len(section):len(section)], key) }
	var err error
	for _, key := range t.Attrs.Texts("unset") {
		if text, err = one(text, way(key), nil, true); err != nil {
			return "", err
		}
	}
	set := t.Attrs.Table("set")
	for _, key := range value.Keys(set) {
		if text, err = one(text, way(key), set[key], false); err != nil {
			return "", err
		}
	}
	return text, nil
}

// meant gives what a file is to say, given what it says.
func meant(before map[string]any, way []string, v any, unset bool) map[string]any {
	out := make(map[string]any, len(before)+1)
	for k, old := range before {
		out[k] = old
	}
	switch {
	case len(way) > 1:
		inner, _ := before[way[0]].(map[string]any)
		if unset && inner == nil {
			return out
		}
		out[way[0]] = meant(inner, way[1:], v, unset)
	case unset:
		delete(out, way[0])
	default:
		out[way[0]] = bareAll(v)
	}
	return out
}

// valueAt gives what is at the end of a way; nil where nothing is.
func valueAt(table map[string]any, way []string) any {
	for _, name := range way[:len(way)-1] {
		table, _ = table[name].(map[string]any)
	}
	return table[way[len(way)-1]]
}

// pruned leaves out tables with nothing in them, which some forms of a file cannot write.
func pruned(table map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range table {
		if inner, ok := v.(map[string]any); ok {
			if inner = pruned(inner); len(inner) == 0 {
				continue
			}
			v = inner
		}
		out[k] = v
	}
	return out
}

// bare is a scalar without its secrecy, in its own type.
func bare(v any) any {
	if s, secret := v.(value.Secret); secret {
		return s.Scalar()
	}
	return v
}

// bareAll is any value without the secrecy of what is in it.
func bareAll(v any) any { return eachLeaf(v, bare) }

// eachLeaf is a value with every scalar in it replaced, however deep.
func eachLeaf(v any, replace func(any) any) any {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i, one := range v {
			out[i] = eachLeaf(one, replace)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, one := range v {
			out[k] = eachLeaf(one, replace)
		}
		return out
	default:
		return replace(v)
	}
}

// plain is a scalar as text, secret or not.
func plain(v any) string {
	text, _ := value.Text(bare(v))
	return text
}

func dots(way []string) string { return strings.Join(way, ".") }

// untouched says that a setting cannot be changed alone.
func untouched(way []string) error {
	return problem.Errorf("%s cannot be changed in this file without touching more of it", dots(way)).
		Remedy("change it by hand, or declare the whole file")
}
