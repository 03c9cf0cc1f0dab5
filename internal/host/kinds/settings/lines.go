package settings

import (
	"slices"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

// setting is one setting of a file of which each has a line, or several: where it goes on is noted
// by a backslash, by quotes, or by how far its lines are moved in.
type setting struct {
	section    string
	key, value string
	from, to   int // its lines
	doubtful   int // a line of it that may be a setting of its own, counted from 1; 0 where there is none
}

// elsewhere is the section of what follows a Match or Host line of OpenSSH.
const elsewhere = "\x00"

// settings reads all of a file.
func settings(list []string, form string) []setting {
	var out []setting
	section := ""
	for i := 0; i < len(list); i++ {
		if name, heading := headingOf(list[i], form); heading {
			section = name
			continue
		}
		if form == words && conditional(list[i]) {
			section = elsewhere
		}
		key, v, ok := parse(list[i], form)
		if !ok {
			continue
		}
		s := setting{section: section, key: key, value: v, from: i, to: i + 1}
		s.goOn(list, form)
		out, i = append(out, s), s.to-1
	}
	return out
}

func conditional(line string) bool {
	f := strings.Fields(strings.ToLower(line))
	return len(f) > 0 && (f[0] == "match" || f[0] == "host")
}

// goOn adds the lines in which a setting goes on.
func (s *setting) goOn(list []string, form string) {
	if form == words {
		return
	}
	margin := indentOf(list[s.from])
	for s.to < len(list) {
		line, last := list[s.to], list[s.to-1]
		switch in := indentOf(line); {
		case strings.HasSuffix(last, `\`) && !strings.HasSuffix(last, `\\`):
		case form == assigned && openQuote(s.value):
		case form == ini && len(in) > len(margin) && strings.HasPrefix(in, margin) && strings.TrimSpace(line) != "" &&
			strings.IndexByte("#;[", strings.TrimSpace(line)[0]) < 0:
			if _, _, sets := strings.Cut(line, "="); sets && s.doubtful == 0 {
				s.doubtful = s.to + 1
			}
		default:
			return
		}
		s.value += "\n" + strings.TrimSpace(line)
		s.to++
	}
}

// openQuote says whether a value of the shell's form ends within quotes.
func openQuote(v string) bool {
	var quote byte
	for i := 0; i < len(v); i++ {
		switch c := v[i]; {
		case c == '\\' && quote != '\'':
			i++
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case c == quote:
			quote = 0
		}
	}
	return quote != 0
}

func indentOf(line string) string { return line[:len(line)-len(strings.TrimLeft(line, " \t"))] }

// editLines edits files of which each setting has a line. What comes out is read again, and says
// what is meant and of all else what it said.
func editLines(t plan.Task, text string) (string, error) {
	l := kind.SplitLines(text)
	form, section := t.Attrs.Text("format"), t.Attrs.Text("section")
	before := settings(l.List, form)
	meant := map[string][]string{}
	for _, key := range t.Attrs.Texts("unset") {
		meant[key] = nil
		if err := setLines(&l, form, section, key, nil); err != nil {
			return "", err
		}
	}
	set := t.Attrs.Table("set")
	for _, key := range value.Keys(set) {
		meant[key] = texts(set[key])
		if err := setLines(&l, form, section, key, meant[key]); err != nil {
			return "", err
		}
	}
	after := settings(l.List, form)
	for _, key := range value.Keys(meant) {
		ours := func(s setting) bool { return s.section == section && same(s.key, key, form) }
		have := slices.DeleteFunc(slices.Clone(after), func(s setting) bool { return !ours(s) })
		if !slices.EqualFunc(have, meant[key], func(s setting, v string) bool { return equal(s.value, v, form) }) {
			return "", untouched([]string{key})
		}
		before, after = slices.DeleteFunc(before, ours), slices.DeleteFunc(after, ours)
	}
	if !slices.EqualFunc(before, after, func(a, b setting) bool {
		return a.section == b.section && a.key == b.key && a.value == b.value
	}) {
		return "", untouched(value.Keys(meant))
	}
	return l.String(), nil
}

// texts gives the values that a setting is to have: one, or a line for each of a list.
func texts(v any) []string {
	list, several := v.([]any)
	if !several {
		return []string{plain(v)}
	}
	var out []string
	for _, one := range list {
		out = append(out, plain(one))
	}
	return out
}

// setLines gives one setting its values; none take it out.
func setLines(l *kind.Lines, form, section, key string, vals []string) error {
	all := settings(l.List, form)
	ours := slices.DeleteFunc(all, func(s setting) bool { return s.section != section || !same(s.key, key, form) })
	if slices.EqualFunc(ours, vals, func(s setting, v string) bool { return equal(s.value, v, form) }) {
		return nil
	}
	if len(ours) == 0 {
		at := place(l, form, section, key)
		was := manner(l.List, at, form)
		var lines []string
		for _, v := range vals {
			lines = append(lines, written(key, v, form, was))
		}
		l.List = slices.Insert(l.List, at, lines...)
		return nil
	}
	for i, s := range slices.Backward(ours) {
		var lines []string
		switch {
		case i < len(vals) && equal(s.value, vals[i], form):
			lines = slices.Clone(l.List[s.from:s.to])
		case s.doubtful > 0:
			return problem.Errorf("line %d either belongs to %s or is a separate setting", s.doubtful, s.key).
				Remedy("indent it like the others, or declare the whole file")
		case i < len(vals):
			lines = []string{indentOf(l.List[s.from]) + written(key, vals[i], form, l.List[s.from])}
		}
		if i == len(ours)-1 {
			for _, v := range vals[min(len(ours), len(vals)):] {
				lines = append(lines, indentOf(l.List[s.from])+written(key, v, form, l.List[s.from]))
			}
		}
		l.List = slices.Replace(l.List, s.from, s.to, lines...)
	}
	return nil
}

// place is the line where a new setting belongs, in the first part of its section, which is made
// where there is none.
func place(l *kind.Lines, form, section, key string) int {
	from, to, there := span(l.List, form, section)
	if !there {
		if len(l.List) > 0 && l.List[len(l.List)-1] != "" {
			l.List = append(l.List, "")
		}
		l.List = append(l.List, "["+section+"]")
		from, to = len(l.List), len(l.List)
	}
	return spot(l.List, from, to, key, form)
}

// manner gives a line after which a new one is written: the comment that shows
// it, or else the nearest above that sets something, or any.
func manner(list []string, at int, form string) string {
	if at > 0 {
		above := strings.TrimLeft(list[at-1], "#; \t")
		if _, _, ok := parse(above, form); ok && above != list[at-1] && separator(above, form) != "" {
			return above
		}
	}
	nearest := slices.Concat(list[at:], list[:at])
	for _, line := range slices.Backward(nearest) {
		if _, _, ok := parse(line, form); ok && separator(line, form) != "" {
			return strings.TrimPrefix(line, "export ")
		}
	}
	return ""
}

// span gives the lines of the first part of a section, without its heading.
func span(list []string, form, section string) (from, to int, there bool) {
	if form == words || form == assigned {
		i := slices.IndexFunc(list, func(line string) bool { return form == words && conditional(line) })
		if i < 0 {
			i = len(list)
		}
		return 0, i, true
	}
	in := section == ""
	for i, line := range list {
		name, heading := headingOf(line, form)
		switch {
		case !heading:
		case in:
			return from, i, true
		case name == section:
			from, in = i+1, true
		}
	}
	return from, len(list), in
}

// headingOf reads a line such as [north].
func headingOf(line, form string) (string, bool) {
	line = strings.TrimSpace(line)
	if form != ini || !strings.HasPrefix(line, "[") {
		return "", false
	}
	name, _, ok := strings.Cut(line[1:], "]")
	return strings.TrimSpace(name), ok
}

// What a line looks like that sets something: in the forms with a sign the key may stand alone.
var (
	assignment = lazy.Regexp(`^(export[ \t]+)?([^=\s][^=]*?)([ \t]*=[ \t]*)(.*?)[ \t]*$`)
	colon      = lazy.Regexp(`^()([^=:\s][^=:]*?)([ \t]*:(?:[ \t]+|$))(.*?)[ \t]*$`)
	worded     = lazy.Regexp(`^()([^=\s]+)([ \t]*=[ \t]*|[ \t]+|$)(.*?)[ \t]*$`)
)

// apart splits a line into what it is exported by, key, sign and value; nil for what sets nothing.
func apart(line, form string) []string {
	line = strings.TrimSpace(line)
	switch {
	case line == "" || strings.IndexByte("#;", line[0]) >= 0 || form != words && line[0] == '[':
		return nil
	case form == words:
		return worded().FindStringSubmatch(line)
	}
	if m := assignment().FindStringSubmatch(line); m != nil {
		return m
	}
	if m := colon().FindStringSubmatch(line); m != nil && form == ini {
		return m
	}
	if form == ini {
		return []string{line, "", line, "", ""}
	}
	return nil
}

// parse reads a line that sets something.
func parse(line, form string) (key, v string, ok bool) {
	m := apart(line, form)
	if m == nil {
		return "", "", false
	}
	return m[2], m[4], true
}

func separator(line, form string) string {
	if m := apart(line, form); m != nil {
		return m[3]
	}
	return ""
}

// same compares names: those of OpenSSH do not know large letters from small.
func same(a, b, form string) bool { return a == b || form == words && strings.EqualFold(a, b) }

// equal says whether a value is the one that is wanted, quotes of the shell
// aside.
func equal(old, v, form string) bool {
	switch form {
	case assigned:
		if old == v && !strings.ContainsAny(v, " \t") {
			return true
		}
		return old == quoted(v) || old == "'"+v+"'" && !strings.Contains(v, "'")
	case words:
		return old == v || old == `"`+v+`"`
	}
	return old == v
}

var bareKey = lazy.Regexp(`^[A-Za-z0-9_-]+$`)

// written is the line for a setting, in the manner of the line that was there.
func written(key, v, form, was string) string {
	export, sign := "", ""
	if m := apart(was, form); m != nil {
		export, sign = m[1], m[3]
	}
	switch {
	case form == words:
		if strings.TrimSpace(sign) == "" {
			sign = " "
		}
		return key + sign + v
	case form == assigned:
		if strings.ContainsAny(v, " \t") || v == "" {
			v = quoted(v)
		}
		return export + key + "=" + v
	case sign == "":
		sign = " = "
	case strings.TrimSpace(sign) == ":":
		sign = ": "
	case strings.HasPrefix(sign, " "), strings.HasPrefix(sign, "\t"):
		sign = " = "
	default:
		sign = "="
	}
	return strings.TrimRight(key+sign+v, " ")
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
		shown := strings.TrimLeft(line, "#; \t")
		if k, _, ok := parse(shown, form); ok && same(k, key, form) && separator(shown, form) != "" &&
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
