package text

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

// FactsOf prints the facts of a host below a path.
func FactsOf(w io.Writer, path string, tree any) {
	list := flat(path, tree)
	if len(list) == 1 && list[0][0] == path {
		fmt.Fprintln(w, Line(list[0][1]))
		return
	}
	wide := 0
	for _, l := range list {
		wide = max(wide, len(l[0]))
	}
	for _, l := range list {
		fmt.Fprintf(w, "%-*s  %s\n", wide, l[0], Line(l[1]))
	}
}

// FactsCompared shows the facts in which two hosts differ.
func FactsCompared(w io.Writer, a, b *record.Host) {
	one, two := map[string]string{}, map[string]string{}
	for h, to := range map[*record.Host]map[string]string{a: one, b: two} {
		for _, l := range flat("", h.Facts.Tree()) {
			to[l[0]] = l[1]
		}
	}
	all := maps.Clone(one)
	maps.Copy(all, two)
	rows := [][3]string{{"", a.Name, b.Name}}
	for _, path := range value.Keys(all) {
		if one[path] != two[path] {
			rows = append(rows, [3]string{path, cmp.Or(one[path], "-"), cmp.Or(two[path], "-")})
		}
	}
	if len(rows) == 1 {
		fmt.Fprintln(w, "no facts differ")
		return
	}
	wide, middle := 0, 0
	for _, r := range rows {
		wide, middle = max(wide, len(r[0])), max(middle, len(r[1]))
	}
	middle = min(middle, 48)
	for i, r := range rows {
		line := strings.TrimRight(fmt.Sprintf("%-*s  %-*s  %s", wide, r[0], middle, Line(r[1]), Line(r[2])), " ")
		if i == 0 {
			line = Paint(Loud, line)
		}
		fmt.Fprintln(w, line)
	}
}

// sizes are the facts that are bytes, by their last word.
var sizes = []string{"total", "swap", "size", "free"}

// shownFact writes a leaf as people read it.
func shownFact(path string, v any) string {
	text, _ := value.Text(v)
	n, isInt := v.(int64)
	word := path[strings.LastIndexByte(path, '.')+1:]
	if !isInt || n < 1024 || strings.HasPrefix(path, "own.") || !slices.Contains(sizes, word) {
		return text
	}
	return measure.BytesText(n)
}

// flat lists a tree's leaves with their paths.
func flat(path string, v any) [][2]string {
	join := func(name string) string {
		if path == "" {
			return name
		}
		return path + "." + name
	}
	var out [][2]string
	switch v := v.(type) {
	case map[string]any:
		for _, k := range value.Keys(v) {
			out = append(out, flat(join(k), v[k])...)
		}
	case []any:
		for i, item := range v {
			out = append(out, flat(path+"["+strconv.Itoa(i)+"]", item)...)
		}
	default:
		out = append(out, [2]string{path, shownFact(path, v)})
	}
	return out
}
