package settings

import (
	"regexp"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

// editLines edits files of which each setting has a line.
func editLines(t plan.Task, text string) (string, error) {
	l := kind.SplitLines(text)
	form, section := t.Attrs.Text("format"), t.Attrs.Text("section")
	set := t.Attrs.Table("set")
	for _, key := range t.Attrs.Texts("unset") {
		from, to, there := span(l.List, form, section)
		if !there {
			continue
		}
		for i := to - 1; i >= from; i-- {
			if k, v, ok := parse(l.List[i], form); ok && same(k, key, form) {
				if err := single(form, key, v); err != nil {
					return "", err
				}
				l.List = slices.Delete(l.List, i, i+1)
			}
		}
	}
	for _, key := range value.Keys(set) {
		if err := put(&l, form, section, key, set[key]); err != nil {
			return "", err
		}
	}
	return l.String(), nil
}

// put gives one setting its value.
func put(l *kind.Lines, form, section, key string, v any) error {
	from, to, there := span(l.List, form, section)
	if !there {
		if len(l.List) > 0 && l.List[len(l.List)-1] != "" {
			l.List = append(l.List, "")
		}
		l.List = append(l.List, "["+section+"]")
		from, to = len(l.List), len(l.List)
	}
	first := -1
	for i := from; i < to; i++ {
		k, old, ok := parse(l.List[i], form)
		if !ok || !same(k, key, form) {
			continue
		}
		if err := single(form, key, old); err != nil {
			return err
		}
		if first >= 0 {
			l.List = slices.Delete(l.List, i, i+1)
			i, to = i-1, to-1
			continue
		}
		first = i
		if !equal(old, v, form) {
			indent := l.List[i][:len(l.List[i])-len(strings.TrimLeft(l.List[i], " \t"))]
			l.List[i] = indent + written(key, v, form, l.List[i])
		}
	}
	if first >= 0 {
		return nil
	}
	at := spot(l.List, from, to, key, form)
	l.List = slices.Insert(l.List, at, written(key, v, form, manner(l.List, at, form)))
	return nil
}

// manner gives a line after which a new one is written: the comment that shows
// it, or else the nearest above that sets something, or any.
func manner(list []string, at int, form string) string {
	if at > 0 {
		above := strings.TrimLeft(list[at-1], "#; \t")
		if _, _, ok := parse(above, form); ok && above != list[at-1] {
			return above
		}
	}
	nearest := slices.Concat(list[at:], list[:at])
	for _, line := range slices.Backward(nearest) {
		if _, _, ok := parse(line, form); ok {
			return strings.TrimPrefix(line, "export ")
		}
	}
	return ""
}

// span gives the lines of a section, without its heading.
func span(list []string, form, section string) (from, to int, there bool) {
	switch form {
	case words:
		for i, line := range list {
			if f := strings.Fields(strings.ToLower(line)); len(f) > 0 && (f[0] == "match" || f[0] == "host") {
				return 0, i, true
			}
		}
		return 0, len(list), true
	case assigned:
		return 0, len(list), true
	}
	at, in := "", section == ""
	for i, line := range list {
		name, heading := headingOf(line, form)
		if !heading {
			continue
		}
		if in {
			return from, i, true
		}
		if at = name; at == section {
			from, in = i+1, true
		}
	}
	return from, len(list), in
}

// headingOf reads a line such as [north], or of TOML [feeds.north].
func headingOf(line, form string) (string, bool) {
	line = strings.TrimSpace(line)
	if !strings.HasPrefix(line, "[") {
		return "", false
	}
	name, _, ok := strings.Cut(line[1:], "]")
	if form == toml {
		name = strings.ReplaceAll(strings.ReplaceAll(name, " ", ""), `"`, "")
	}
	return strings.TrimSpace(name), ok
}

var assignment = regexp.MustCompile(`^(export[ \t]+)?([^=\s][^=]*?)[ \t]*=[ \t]*(.*?)[ \t]*$`)

// parse reads a line that sets something.
func parse(line, form string) (key, v string, ok bool) {
	line = strings.TrimSpace(line)
	if line == "" || strings.IndexByte("#;", line[0]) >= 0 || line[0] == '[' {
		return "", "", false
	}
	if form == words {
		key, v, _ = strings.Cut(strings.ReplaceAll(line, "\t", " "), " ")
		return key, strings.TrimSpace(v), true
	}
	m := assignment.FindStringSubmatch(line)
	if m == nil {
		return "", "", false
	}
	if form == toml {
		m[2] = strings.Trim(m[2], `"'`)
	}
	return m[2], m[3], true
}

// same compares names: those of OpenSSH do not know large letters from small.
func same(a, b, form string) bool { return a == b || form == words && strings.EqualFold(a, b) }

// single refuses to edit a value of TOML that goes over several lines.
func single(form, key, v string) error {
	if form != toml {
		return nil
	}
	open := strings.HasPrefix(v, "[") && strings.Count(v, "[") != strings.Count(v, "]") ||
		strings.HasPrefix(v, "{") && strings.Count(v, "{") != strings.Count(v, "}")
	for _, q := range []string{`"""`, `'''`} {
		open = open || strings.HasPrefix(v, q) && strings.Count(v, q) == 1
	}
	if open {
		return problem.Errorf("the value of %s has several lines", key).Remedy("declare the whole file")
	}
	return nil
}

// equal says whether a value is the one that is wanted, quotes of the shell
// aside.
func equal(old string, v any, form string) bool {
	switch form {
	case toml:
		old, _, _ = cutComment(old)
		return old == literal(v)
	case assigned:
		if old == plain(v) && !strings.ContainsAny(plain(v), " \t") {
			return true
		}
		return old == quoted(plain(v)) || old == "'"+plain(v)+"'" && !strings.Contains(plain(v), "'")
	}
	return old == plain(v)
}

// cutComment parts a value of TOML from a comment behind it.
func cutComment(v string) (val, comment string, ok bool) {
	var quote byte
	for i := 0; i < len(v); i++ {
		switch c := v[i]; {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '#':
			return strings.TrimRight(v[:i], " \t"), v[i:], true
		}
	}
	return v, "", false
}

// literal writes a value as TOML does.
func literal(v any) string {
	if text, isText := bare(v).(string); isText {
		return value.Quote(text)
	}
	text, _ := value.Text(bare(v))
	return text
}

var bareKey = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

// written is the line for a setting, in the manner of the line that was there.
func written(key string, v any, form, was string) string {
	export := ""
	if m := assignment.FindStringSubmatch(strings.TrimSpace(was)); m != nil && form == assigned {
		export = m[1]
	}
	spaced := strings.Contains(was, " =") || was == ""
	equals := "="
	if spaced {
		equals = " = "
	}
	switch form {
	case words:
		return key + " " + plain(v)
	case assigned:
		text := plain(v)
		if strings.ContainsAny(text, " \t") || text == "" {
			text = quoted(text)
		}
		return export + key + "=" + text
	case toml:
		comment := ""
		if m := assignment.FindStringSubmatch(strings.TrimSpace(was)); m != nil {
			if _, c, ok := cutComment(m[3]); ok {
				comment = " " + c
			}
		}
		if !bareKey.MatchString(key) {
			key = value.Quote(key)
		}
		return key + " = " + literal(v) + comment
	}
	return key + equals + plain(v)
}

// quoted puts a value between double quotes, for the shell and what reads such
// files as it does.
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`").Replace(s) + `"`
}

// spot is where a new setting belongs: below a comment that shows it, else at the
// end of its section, before blank lines.
func spot(list []string, from, to int, key, form string) int {
	for i := from; i < to; i++ {
		line := strings.TrimSpace(list[i])
		if line == "" || strings.IndexByte("#;", line[0]) < 0 {
			continue
		}
		if k, _, ok := parse(strings.TrimLeft(line, "#; \t"), form); ok && same(k, key, form) &&
			(form != words || len(strings.Fields(line)) == 2) {
			return i + 1
		}
	}
	at := to
	for at > from && strings.TrimSpace(list[at-1]) == "" {
		at--
	}
	return at
}
