package manifest

import (
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// SetKey sets one key of a TOML text and leaves the rest as it is. line is the
// whole "key = value". A table that is not there is added at the end. A value
// that is there must not run over several lines.
func SetKey(name string, text []byte, table []string, key, line string) ([]byte, error) {
	var ps problem.Problems
	root, _ := ParseTOML(name, text, &ps)
	if err := ps.Err(); err != nil {
		return nil, problem.Errorf("%s is not valid TOML", name).Remedy("fix it first")
	}
	lines := strings.SplitAfter(string(text), "\n")
	if n := len(lines); n > 0 && lines[n-1] == "" {
		lines = lines[:n-1]
	} else if n > 0 {
		lines[n-1] += "\n"
	}
	at := root
	for i, step := range table {
		next := at.Get(step)
		if next == nil {
			return verified(name, addTable(lines, at, table, i, line), table, key)
		}
		if next.Kind != Table {
			return nil, problem.Errorf("%s is not a table", strings.Join(table[:i+1], ".")).Remedy("remove it first")
		}
		at = next
	}
	for _, k := range at.Keys {
		if k.Name != key {
			continue
		}
		if k.Node.Kind == Table {
			return nil, problem.Errorf("%s is a table", key).Remedy("name a key in it")
		}
		old := lines[k.Place.Line-1]
		head := string([]rune(old)[:k.Place.Col-1])
		if at.origin == byDots {
			head = string([]rune(old)[:leading(old)])
			line = dotted(table) + "." + line
		}
		lines[k.Place.Line-1] = head + line + trailing(old) + "\n"
		return verified(name, lines, table, key)
	}
	switch {
	case len(table) == 0:
		lines = insert(lines, topEnd(lines), line+"\n")
	case at.origin == byHeader && at.header:
		lines = insert(lines, at.Place.Line, line+"\n")
	case at.origin == byHeader: // only implied by [a.b]
		lines = append(lines, "\n["+dotted(table)+"]\n", line+"\n")
	case at.origin == byDots:
		lines = insert(lines, at.Place.Line, dotted(table)+"."+line+"\n")
	default:
		return nil, problem.Errorf("the table is written in one line").Remedy("write it as [%s] first", dotted(table))
	}
	return verified(name, lines, table, key)
}

func leading(s string) int { return len([]rune(s)) - len([]rune(strings.TrimLeft(s, " \t"))) }

// trailing gives the comment at the end of a line with a simple value.
func trailing(line string) string {
	if m := lastComment().FindString(strings.TrimRight(line, "\r\n")); m != "" {
		return m
	}
	return ""
}

var lastComment = lazy.Regexp(`[ \t]+#[^"'\]}]*$`)

func addTable(lines []string, at *Node, table []string, have int, line string) []string {
	if have > 0 && at.origin == byDots {
		return insert(lines, at.Place.Line, dotted(table)+"."+line+"\n")
	}
	if len(lines) > 0 && strings.TrimSpace(lines[len(lines)-1]) != "" {
		lines = append(lines, "\n")
	}
	return append(lines, "["+dotted(table)+"]\n", line+"\n")
}

func dotted(table []string) string {
	var out []string
	for _, t := range table {
		out = append(out, QuoteKey(t))
	}
	return strings.Join(out, ".")
}

// topEnd gives the number of lines before the first table header, without the
// blank lines and comments that lead up to it.
func topEnd(lines []string) int {
	end := len(lines)
	for i, l := range lines {
		if strings.HasPrefix(strings.TrimSpace(l), "[") {
			end = i
			break
		}
	}
	for end > 0 && (strings.TrimSpace(lines[end-1]) == "" || end < len(lines) && strings.HasPrefix(lines[end-1], "#")) {
		end--
	}
	return end
}

func insert(lines []string, at int, line string) []string {
	out := append([]string{}, lines[:at]...)
	out = append(out, line)
	return append(out, lines[at:]...)
}

// verified reads what came out once more before it is trusted.
func verified(name string, lines []string, table []string, key string) ([]byte, error) {
	out := []byte(strings.Join(lines, ""))
	var ps problem.Problems
	root, _ := ParseTOML(name, out, &ps)
	at := root
	for _, t := range append(append([]string{}, table...), key) {
		if at = at.Get(t); at == nil {
			break
		}
	}
	if ps.Err() != nil || at == nil {
		return nil, problem.Errorf("%s is written in a way that does not allow %s to be set automatically", name, key).
			Remedy("edit it by hand")
	}
	return out, nil
}

var bareKey = lazy.Regexp(`^[A-Za-z0-9_-]+$`)

// QuoteKey writes a key of TOML, quoted where it must be.
func QuoteKey(k string) string {
	if bareKey().MatchString(k) {
		return k
	}
	return value.Quote(k)
}

// Literal writes a value as TOML that reads back as it is: texts of several lines as such, texts with
// quotes in single ones where that reads better.
func Literal(v any) string {
	switch v := v.(type) {
	case string:
		return literalText(v)
	case []any:
		var parts []string
		for _, item := range v {
			parts = append(parts, Literal(item))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case map[string]any:
		var parts []string
		for _, k := range value.Keys(v) {
			parts = append(parts, QuoteKey(k)+" = "+Literal(v[k]))
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	}
	s, _ := value.Text(v)
	return s
}

func literalText(s string) string {
	control := strings.ContainsFunc(s, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0x7f })
	switch {
	case control || strings.Contains(s, `\`):
	case strings.HasSuffix(s, "\n") && len(s) > 1 && !strings.Contains(s, `"""`):
		return "\"\"\"\n" + s + "\"\"\""
	case strings.Contains(s, `"`) && !strings.ContainsAny(s, "'\n"):
		return "'" + s + "'"
	}
	return value.Quote(s)
}
