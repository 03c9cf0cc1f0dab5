package settings

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// editTOML changes the bytes of single values (TOML 1.0) and leaves all others as they are:
// comments, order and white space as well. What comes out is read again: unless it says just what
// was meant, the file is not touched.
func editTOML(t plan.Task, text string) (string, error) {
	return eachSetting(t, text, func(text string, way []string, v any, unset bool) (string, error) {
		before, err := plainTOML(text)
		if err != nil {
			return "", err
		}
		d := parseTOML(text)
		if unset {
			text = d.unset(way)
		} else if text, err = d.set(way, v); err != nil {
			return "", err
		}
		after, err := plainTOML(text)
		if err != nil || !reflect.DeepEqual(pruned(after), pruned(meant(before, way, v, unset))) {
			return "", untouched(way)
		}
		return text, nil
	})
}

// plainTOML gives what a text says, or what is wrong with it.
func plainTOML(text string) (map[string]any, error) {
	b := tomlReader{root: map[string]any{}, made: map[string]maker{}}
	at, under := b.root, ""
	p := unstable.Parser{}
	p.Reset([]byte(text))
	for p.NextExpression() && b.wrong == "" {
		switch e := p.Expression(); e.Kind {
		case unstable.KeyValue:
			b.setValue(at, under, e)
		case unstable.Table, unstable.ArrayTable:
			at, under = b.open(e)
		}
	}
	if err := p.Error(); err != nil && b.wrong == "" {
		b.wrong = strings.TrimPrefix(err.Error(), "toml: ")
	}
	if b.wrong != "" {
		return nil, problem.Errorf("the file is not valid TOML: %s", b.wrong).Remedy(byHand)
	}
	return b.root, nil
}

// tomlReader puts what the parser finds together. What made a table decides what may be added to
// it (TOML 1.0, "Keys" and "Table").
type tomlReader struct {
	root  map[string]any
	made  map[string]maker
	wrong string
}

// maker is what made a table; zero for one that was only named on the way to another.
type maker int

const (
	byHeader maker = 1 + iota
	byDots
	byBraces
)

// open gives the table that a header opens, and a name for it that no other one has.
func (b *tomlReader) open(e *unstable.Node) (map[string]any, string) {
	at, under := b.root, ""
	for it := e.Key(); it.Next(); {
		name := string(it.Node().Data)
		under += "\x00" + name
		last := it.IsLast()
		switch next := at[name].(type) {
		case nil:
			made := map[string]any{}
			if at[name] = made; last && e.Kind == unstable.ArrayTable {
				at[name] = &tomlList{made}
			}
			at = made
		case map[string]any:
			if b.made[under] == byBraces || last && (b.made[under] != 0 || e.Kind == unstable.ArrayTable) {
				b.wrong = name + " is defined twice"
			}
			at = next
		case *tomlList:
			if last && e.Kind == unstable.ArrayTable {
				*next = append(*next, map[string]any{})
			} else if last {
				b.wrong = name + " is defined twice"
			}
			at = (*next)[len(*next)-1].(map[string]any)
			under += fmt.Sprint("\x00", len(*next))
		default:
			b.wrong = name + " is defined twice"
			return map[string]any{}, under
		}
	}
	if e.Kind == unstable.Table {
		b.made[under] = byHeader
	}
	return at, under
}

// tomlList is a list of tables that may get more of them.
type tomlList []any

// tomlTime is a date or a time, in the words in which it is written.
type tomlTime string

// setValue puts a key with its value into a table.
func (b *tomlReader) setValue(at map[string]any, under string, e *unstable.Node) {
	for it := e.Key(); it.Next(); {
		name := string(it.Node().Data)
		under += "\x00" + name
		if it.IsLast() {
			if _, twice := at[name]; twice {
				b.wrong = name + " is defined twice"
			}
			at[name] = b.value(e.Value(), under)
			return
		}
		next, ok := at[name].(map[string]any)
		switch {
		case at[name] == nil:
			next = map[string]any{}
			at[name] = next
		case !ok || b.made[under] != byDots:
			b.wrong = name + " is defined twice"
			return
		}
		b.made[under] = byDots
		at = next
	}
}

func (b *tomlReader) value(n *unstable.Node, under string) any {
	text := string(n.Data)
	digits := strings.ReplaceAll(text, "_", "")
	switch n.Kind {
	case unstable.String:
		return text
	case unstable.Bool:
		return text == "true"
	case unstable.Integer:
		if i, err := strconv.ParseInt(digits, 0, 64); err == nil {
			return i
		}
		b.wrong = text + " does not fit 64 bits"
		return nil
	case unstable.Float:
		f, _ := strconv.ParseFloat(strings.TrimPrefix(digits, "+"), 64)
		if math.IsNaN(f) || strings.HasSuffix(digits, "nan") {
			return tomlTime("nan") // which equals nothing, itself neither
		}
		return f
	case unstable.Array:
		out := []any{}
		for it := n.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment {
				out = append(out, b.value(it.Node(), under))
			}
		}
		return out
	case unstable.InlineTable:
		out := map[string]any{}
		b.made[under] = byBraces
		for it := n.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				b.setValue(out, under, it.Node())
			}
		}
		return out
	}
	return tomlTime(text)
}

// tomlTable is a header with the entries below it; the first one of a file is the top, without a
// header.
type tomlTable struct {
	path    []string
	list    bool // [[...]], or a table in one
	from    int  // where the header's line begins
	body    int  // behind that line
	to      int  // where the next header's line begins
	entries []tomlEntry
}

// tomlEntry is a key with its value: offsets of the key, of the value and behind it.
type tomlEntry struct {
	path         []string // from the root of the document
	at, from, to int
	inline       bool
	members      []tomlEntry // of an inline table
}

type tomlDoc struct {
	text   string
	tables []tomlTable
}

// parseTOML finds the places of all keys and values of a text that is valid TOML.
func parseTOML(text string) *tomlDoc {
	d := &tomlDoc{text: text, tables: []tomlTable{{to: len(text)}}}
	p := unstable.Parser{}
	p.Reset([]byte(text))
	var lists [][]string
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind == unstable.KeyValue {
			t := &d.tables[len(d.tables)-1]
			t.entries = append(t.entries, d.entry(t.path, e))
			continue
		}
		if e.Kind != unstable.Table && e.Kind != unstable.ArrayTable {
			continue
		}
		var t tomlTable
		at := 0
		for it := e.Key(); it.Next(); {
			t.path = append(t.path, string(it.Node().Data))
			at = int(it.Node().Raw.Offset)
		}
		if e.Kind == unstable.ArrayTable {
			lists = append(lists, t.path)
		}
		t.list = slices.ContainsFunc(lists, func(l []string) bool { return begins(t.path, l) })
		t.from = strings.LastIndexByte(text[:at], '\n') + 1
		t.body, t.to = lineEnd(text, at), len(text)
		d.tables[len(d.tables)-1].to = t.from
		d.tables = append(d.tables, t)
	}
	return d
}

// entry reads a key with its value; what is in braces has entries of its own.
func (d *tomlDoc) entry(under []string, e *unstable.Node) tomlEntry {
	out := tomlEntry{path: slices.Clone(under), at: -1}
	end := 0
	for it := e.Key(); it.Next(); {
		raw := it.Node().Raw
		if out.at < 0 {
			out.at = int(raw.Offset)
		}
		end = int(raw.Offset + raw.Length)
		out.path = append(out.path, string(it.Node().Data))
	}
	out.from = end + len(d.text[end:]) - len(strings.TrimLeft(d.text[end:], " \t="))
	out.to = skipTOML(d.text, out.from)
	if v := e.Value(); v.Kind == unstable.InlineTable {
		out.inline = true
		for it := v.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				out.members = append(out.members, d.entry(out.path, it.Node()))
			}
		}
	}
	return out
}

// skipTOML gives the offset behind the value that begins at one.
func skipTOML(text string, i int) int {
	switch {
	case strings.HasPrefix(text[i:], `"""`), strings.HasPrefix(text[i:], `'''`):
		quote, escapes := text[i:i+3], text[i] == '"'
		for i += 3; i < len(text) && !strings.HasPrefix(text[i:], quote); i++ {
			if escapes && text[i] == '\\' {
				i++
			}
		}
		for i += 3; i < len(text) && text[i] == quote[0]; i++ { // up to two more belong to the text
		}
		return i
	case text[i] == '"' || text[i] == '\'':
		quote := text[i]
		for i++; text[i] != quote; i++ {
			if quote == '"' && text[i] == '\\' {
				i++
			}
		}
		return i + 1
	case text[i] == '[' || text[i] == '{':
		for depth := 0; ; i++ {
			switch text[i] {
			case '"', '\'':
				i = skipTOML(text, i) - 1
			case '#':
				i = lineEnd(text, i) - 1
			case '[', '{':
				depth++
			case ']', '}':
				if depth--; depth == 0 {
					return i + 1
				}
			}
		}
	}
	end := i
	for end < len(text) && strings.IndexByte(",]}#\r\n", text[end]) < 0 {
		end++
	}
	return i + len(strings.TrimRight(text[i:end], " \t")) // a date may have a space in it
}

// lineEnd gives the offset behind the line that an offset is in.
func lineEnd(text string, i int) int {
	if n := strings.IndexByte(text[i:], '\n'); n >= 0 {
		return i + n + 1
	}
	return len(text)
}

// begins says whether a way of names begins with another one.
func begins(way, with []string) bool {
	return len(way) >= len(with) && slices.Equal(way[:len(with)], with)
}

// entryAt gives the entry of a way, or the last one on the way to it: a table in braces, or something
// that is not a table.
func entryAt(entries []tomlEntry, way []string) *tomlEntry {
	for i := range entries {
		e := &entries[i]
		switch {
		case !begins(way, e.path):
			continue
		case len(e.path) == len(way):
			return e
		case e.inline:
			if inner := entryAt(e.members, way); inner != nil {
				return inner
			}
		}
		return e
	}
	return nil
}

func (d *tomlDoc) set(way []string, v any) (string, error) {
	for i := range d.tables {
		t := &d.tables[i]
		if t.list {
			if begins(way, t.path) {
				return "", problem.Errorf("%s is a list of tables in this file", dots(t.path)).
					Remedy("declare the whole file, or its lines")
			}
			continue
		}
		e := entryAt(t.entries, way)
		switch {
		case e == nil:
			continue
		case len(e.path) == len(way):
			return d.replace(e, v), nil
		case e.inline:
			return d.intoBraces(e, way, v), nil
		}
		return "", problem.Errorf("%s is not a table in this file", dots(e.path)).Remedy(sections)
	}
	if d.isTable(way) {
		if now, err := plainTOML(d.text); err == nil && reflect.DeepEqual(valueAt(now, way), bareAll(v)) {
			return d.text, nil
		}
		return "", problem.Errorf("%s is a table in this file", dots(way)).Remedy("set values in it with section = %q",
			dots(way))
	}
	return d.add(way, v), nil
}

// isTable says whether a way leads to a table that headers or dotted keys made.
func (d *tomlDoc) isTable(way []string) bool {
	return slices.ContainsFunc(d.tables, func(t tomlTable) bool {
		return begins(t.path, way) || slices.ContainsFunc(t.entries,
			func(e tomlEntry) bool { return begins(e.path, way) })
	})
}

// replace gives an entry another value, unless it has it.
func (d *tomlDoc) replace(e *tomlEntry, v any) string {
	if now, err := plainTOML("x = " + d.text[e.from:e.to] + "\n"); err == nil &&
		reflect.DeepEqual(now["x"], bareAll(v)) {
		return d.text
	}
	return d.text[:e.from] + literal(v) + d.text[e.to:]
}

// intoBraces adds to a table that is written in braces.
func (d *tomlDoc) intoBraces(e *tomlEntry, way []string, v any) string {
	more := keys(way[len(e.path):]) + " = " + literal(v)
	if n := len(e.members); n > 0 {
		end := e.members[n-1].to
		return d.text[:end] + ", " + more + d.text[end:]
	}
	return d.text[:e.from] + "{ " + more + " }" + d.text[e.to:]
}

// add writes a setting that the file does not have: into the table that it belongs to, as a dotted
// key beside others of its table, or below a new header.
func (d *tomlDoc) add(way []string, v any) string {
	into, deepest := -1, 0
	for i, t := range d.tables {
		if t.list {
			continue
		}
		if slices.Equal(t.path, way[:len(way)-1]) {
			return d.insert(i, t.path, way, v)
		}
		for _, e := range t.entries { // what dotted keys made must be gone on with in their table
			n := 0
			for n < min(len(e.path), len(way))-1 && e.path[n] == way[n] {
				n++
			}
			if n > len(t.path) && n > deepest {
				into, deepest = i, n
			}
		}
	}
	if into >= 0 {
		return d.insert(into, d.tables[into].path, way, v)
	}
	out := strings.TrimRight(d.text, "\n")
	if out != "" {
		out += "\n\n"
	}
	return out + "[" + keys(way[:len(way)-1]) + "]\n" + keys(way[len(way)-1:]) + " = " + literal(v) + "\n"
}

// insert puts a line into a table: below the comment that shows the key, or else behind its last
// entry.
func (d *tomlDoc) insert(i int, under, way []string, v any) string {
	t := d.tables[i]
	key := keys(way[len(under):])
	line := key + " = " + literal(v) + "\n"
	at := t.body
	if n := len(t.entries); n > 0 {
		at = lineEnd(d.text, t.entries[n-1].to)
	} else if i == 0 {
		at = topEnd(d.text, t.to)
	}
	for from := t.body; from < t.to; from = lineEnd(d.text, from) {
		shown := strings.TrimLeft(d.text[from:lineEnd(d.text, from)], " \t")
		rest, comment := strings.CutPrefix(shown, "#")
		name, _, sets := strings.Cut(rest, "=")
		if comment && sets && strings.TrimSpace(name) == key && !t.inside(from) {
			at = lineEnd(d.text, from)
		}
	}
	if at > 0 && d.text[at-1] != '\n' {
		line = "\n" + line
	}
	return d.text[:at] + line + d.text[at:]
}

// inside says whether an offset is in the value of an entry, such as a text of several lines.
func (t tomlTable) inside(at int) bool {
	return slices.ContainsFunc(t.entries, func(e tomlEntry) bool { return e.from <= at && at < e.to })
}

// topEnd is where the first entry of a file belongs whose first header is at an offset: before
// the comment of that.
func topEnd(text string, to int) int {
	for to > 0 {
		begin := strings.LastIndexByte(text[:to-1], '\n') + 1
		if !strings.HasPrefix(strings.TrimLeft(text[begin:to], " \t"), "#") || to == len(text) {
			break
		}
		to = begin
	}
	return to
}

// unset takes an entry out, or a whole table with all below it.
func (d *tomlDoc) unset(way []string) string {
	type span struct{ from, to int }
	var out []span
	for _, t := range d.tables {
		if t.list && !begins(t.path, way) {
			continue
		}
		if len(t.path) > 0 && begins(t.path, way) {
			end := t.body
			if n := len(t.entries); n > 0 {
				end = lineEnd(d.text, t.entries[n-1].to)
			}
			out = append(out, span{t.from, end})
			continue
		}
		for i, e := range t.entries {
			if begins(e.path, way) {
				out = append(out, span{strings.LastIndexByte(d.text[:e.at], '\n') + 1, lineEnd(d.text, e.to)})
			} else if from, to := inBraces(&t.entries[i], way); to > 0 {
				out = append(out, span{from, to})
			}
		}
	}
	text := d.text
	for _, s := range slices.Backward(out) {
		text = text[:s.from] + text[s.to:]
	}
	return text
}

// inBraces gives what goes of a table in braces with a member of it: the comma as well.
func inBraces(e *tomlEntry, way []string) (from, to int) {
	for i, m := range e.members {
		if from, to := inBraces(&e.members[i], way); to > 0 {
			return from, to
		}
		switch {
		case !begins(m.path, way):
		case i > 0:
			return e.members[i-1].to, m.to
		case len(e.members) > 1:
			return m.at, e.members[1].at
		default:
			return m.at, m.to
		}
	}
	return 0, 0
}

// keys writes names as a key, with dots between them.
func keys(names []string) string {
	var out []string
	for _, n := range names {
		if !bareKey().MatchString(n) {
			n = value.Quote(n)
		}
		out = append(out, n)
	}
	return strings.Join(out, ".")
}

// literal writes a value as TOML does.
func literal(v any) string {
	switch v := bare(v).(type) {
	case string:
		return value.Quote(v)
	case float64:
		return floatTOML(v)
	case []any:
		var out []string
		for _, one := range v {
			out = append(out, literal(one))
		}
		return "[" + strings.Join(out, ", ") + "]"
	case map[string]any:
		var out []string
		for _, name := range value.Keys(v) {
			out = append(out, keys([]string{name})+" = "+literal(v[name]))
		}
		return "{ " + strings.Join(out, ", ") + " }"
	default:
		text, _ := value.Text(v)
		return text
	}
}

func floatTOML(f float64) string {
	switch {
	case math.IsInf(f, 1):
		return "inf"
	case math.IsInf(f, -1):
		return "-inf"
	case math.IsNaN(f):
		return "nan"
	}
	text := strconv.FormatFloat(f, 'g', -1, 64)
	if !strings.ContainsAny(text, ".e") {
		text += ".0"
	}
	return text
}
