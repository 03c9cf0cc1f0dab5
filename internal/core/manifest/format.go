package manifest

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"jadekettle/internal/core/problem"
)

// Format writes a TOML text canonically and keeps its comments: one space
// around =, keys without needless quotes, one empty line before a table, lists
// that are broken with one item a line. What is in a string stays as it is
// written. The error reports what is wrong with the text.
func Format(name string, text []byte) ([]byte, error) {
	var ps problem.Problems
	ParseTOML(name, text, &ps)
	if err := ps.Err(); err != nil {
		return nil, err
	}
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	f := formatter{in: strings.ReplaceAll(string(text), "\r\n", "\n")}
	f.document()
	return []byte(f.out.String()), nil
}

// maxLine is how wide a list may be before it is broken, in characters.
const maxLine = 100

// formatter goes through a text that is known to be valid TOML 1.0.
type formatter struct {
	in  string
	at  int
	out strings.Builder

	comments []string // whole lines that wait for what they stand above
	gap      bool     // an empty line is before what comes next
	begun    bool
	opened   bool // a header was the last thing written
}

func (f *formatter) document() {
	for f.at < len(f.in) {
		f.spaces()
		switch {
		case f.at >= len(f.in):
		case f.in[f.at] == '\n':
			f.at++
			if f.lineIsBlank() {
				f.blank()
			}
		case f.in[f.at] == '#':
			f.comments = append(f.comments, f.comment())
			f.newline()
		case f.in[f.at] == '[':
			f.header()
		default:
			f.pair()
		}
	}
	f.flush(false)
}

func (f *formatter) spaces() {
	for f.at < len(f.in) && (f.in[f.at] == ' ' || f.in[f.at] == '\t' || strings.HasPrefix(f.in[f.at:], "\r\n")) {
		f.at++
	}
}

// lineIsBlank says whether the line break just read ended an empty line.
func (f *formatter) lineIsBlank() bool {
	before := strings.TrimRight(f.in[:f.at-1], " \t\r")
	return before == "" || strings.HasSuffix(before, "\n")
}

func (f *formatter) newline() {
	f.spaces()
	if f.at < len(f.in) && f.in[f.at] == '\n' {
		f.at++
	}
}

func (f *formatter) blank() {
	if len(f.comments) > 0 {
		f.flush(false)
	}
	f.gap = true
}

func (f *formatter) comment() string {
	end := strings.IndexByte(f.in[f.at:], '\n')
	if end < 0 {
		end = len(f.in) - f.at
	}
	text := strings.TrimRight(f.in[f.at:f.at+end], " \t\r")
	f.at += end
	return text
}

// flush writes the comments that wait, with the empty line before them.
func (f *formatter) flush(table bool) {
	if len(f.comments) == 0 && !table {
		if f.at < len(f.in) {
			f.space()
		}
		return
	}
	if table {
		f.gap = true
		f.opened = false
	}
	f.space()
	for _, c := range f.comments {
		f.out.WriteString(c + "\n")
	}
	if len(f.comments) > 0 {
		f.begun, f.opened = true, false
	}
	f.comments = nil
}

// space writes the empty line that is due.
func (f *formatter) space() {
	if f.gap && f.begun && !f.opened {
		f.out.WriteByte('\n')
	}
	f.gap = false
}

// ending reads the comment behind something, and the end of its line.
func (f *formatter) ending() {
	f.spaces()
	if f.at < len(f.in) && f.in[f.at] == '#' {
		f.out.WriteString("  " + f.comment())
	}
	f.out.WriteByte('\n')
	f.newline()
	f.begun = true
}

func (f *formatter) header() {
	f.flush(true)
	f.at++
	brackets := 1
	if f.in[f.at] == '[' {
		f.at++
		brackets = 2
	}
	f.out.WriteString(strings.Repeat("[", brackets) + f.key() + strings.Repeat("]", brackets))
	f.at += brackets
	f.ending()
	f.opened = true
}

func (f *formatter) pair() {
	f.flush(false)
	key := f.key()
	f.at++ // =
	f.spaces()
	n := f.value()
	line := key + " = "
	f.out.WriteString(line + n.text("", utf8.RuneCountInString(line)))
	f.opened = false
	f.ending()
}

// key reads a dotted key and gives it in its plainest form.
func (f *formatter) key() string {
	var parts []string
	for {
		f.spaces()
		parts = append(parts, f.simpleKey())
		f.spaces()
		if f.in[f.at] != '.' {
			return strings.Join(parts, ".")
		}
		f.at++
	}
}

func (f *formatter) simpleKey() string {
	if c := f.in[f.at]; c == '"' || c == '\'' {
		raw := f.quoted()
		if c == '\'' {
			return QuoteKey(raw[1 : len(raw)-1])
		}
		if !strings.Contains(raw, `\`) {
			return QuoteKey(raw[1 : len(raw)-1])
		}
		return raw
	}
	start := f.at
	for f.at < len(f.in) && strings.IndexByte(" \t.=]", f.in[f.at]) < 0 {
		f.at++
	}
	return f.in[start:f.at]
}

// quoted reads a string of any of the four sorts, as it is written.
func (f *formatter) quoted() string {
	start, quote := f.at, f.in[f.at:f.at+1]
	if strings.HasPrefix(f.in[f.at:], strings.Repeat(quote, 3)) {
		quote = strings.Repeat(quote, 3)
	}
	f.at += len(quote)
	for {
		switch {
		case quote[0] == '"' && f.in[f.at] == '\\':
			f.at += 2
		case strings.HasPrefix(f.in[f.at:], quote):
			f.at += len(quote)
			// Up to two quotes may stand right before the three that end a text.
			for extra := 0; len(quote) == 3 && extra < 2 && f.at < len(f.in) && f.in[f.at] == quote[0]; extra++ {
				f.at++
			}
			return f.in[start:f.at]
		default:
			f.at++
		}
	}
}

// item is a value with the comments around it in a list.
type item struct {
	raw    string // of a scalar
	open   string // "[" or "{"
	items  []item
	keys   []string
	above  []string // comments on lines of their own
	behind string   // the comment on the same line
	broken bool     // written over several lines
	below  []string // of a list: comments before its end
}

func (f *formatter) value() item {
	switch f.in[f.at] {
	case '"', '\'':
		return item{raw: f.quoted()}
	case '[':
		return f.list()
	case '{':
		return f.table()
	}
	start := f.at
	for f.at < len(f.in) && strings.IndexByte(",]}#\n", f.in[f.at]) < 0 {
		f.at++
	}
	return item{raw: strings.TrimRight(f.in[start:f.at], " \t")}
}

func (f *formatter) list() item {
	out := item{open: "["}
	f.at++
	var above []string
	fresh := false // a line break came since the last item
	for {
		f.spaces()
		switch c := f.in[f.at]; c {
		case '\n':
			f.at++
			out.broken, fresh = true, true
		case '#':
			text := f.comment()
			out.broken = true
			if n := len(out.items); n > 0 && !fresh && len(above) == 0 && out.items[n-1].behind == "" {
				out.items[n-1].behind = text
				continue
			}
			above = append(above, text)
		case ',':
			f.at++
		case ']':
			f.at++
			out.below = above
			return out
		default:
			n := f.value()
			n.above, above, fresh = above, nil, false
			out.items = append(out.items, n)
		}
	}
}

func (f *formatter) table() item {
	out := item{open: "{"}
	f.at++
	for {
		f.spaces()
		switch f.in[f.at] {
		case ',', '\n':
			f.at++
		case '}':
			f.at++
			return out
		default:
			out.keys = append(out.keys, f.key())
			f.at++
			f.spaces()
			out.items = append(out.items, f.value())
		}
	}
}

// text writes a value; column is where it begins.
func (n item) text(indent string, column int) string {
	switch n.open {
	case "":
		return n.raw
	case "{":
		if len(n.items) == 0 {
			return "{}"
		}
		var parts []string
		for i, v := range n.items {
			parts = append(parts, n.keys[i]+" = "+v.text(indent, column+len(n.keys[i])+3))
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	}
	if !n.breaks() {
		var parts []string
		for _, v := range n.items {
			parts = append(parts, v.text(indent, column))
		}
		line := "[" + strings.Join(parts, ", ") + "]"
		if column+utf8.RuneCountInString(line) <= maxLine || len(n.items) == 0 || strings.Contains(line, "\n") {
			return line
		}
	}
	var b strings.Builder
	b.WriteString("[\n")
	inner := indent + "  "
	for _, v := range n.items {
		for _, c := range v.above {
			b.WriteString(inner + c + "\n")
		}
		b.WriteString(inner + v.text(inner, len(inner)) + ",")
		if v.behind != "" {
			b.WriteString("  " + v.behind)
		}
		b.WriteByte('\n')
	}
	for _, c := range n.below {
		b.WriteString(inner + c + "\n")
	}
	b.WriteString(indent + "]")
	return b.String()
}

// breaks says whether a list is written over several lines: when it was, and
// holds something.
func (n item) breaks() bool {
	return n.broken && (len(n.items) > 0 || len(n.below) > 0)
}
