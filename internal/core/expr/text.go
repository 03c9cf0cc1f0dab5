package expr

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"jadekettle/internal/core/problem"
	sh "jadekettle/internal/core/shell"
	"jadekettle/internal/core/value"
)

// Candidate is the placeholder that stays in a check command until the host
// fills it in.
const Candidate = "candidate"

// Text is a text with ${...} in it, compiled.
type Text struct {
	parts []part
	text  string
	lone  bool // one ${...} and nothing else: the value keeps its type
	at    Placer
}

type part struct {
	literal string
	prog    *Program
	offset  int
}

// ParseText compiles a text. Each ${ ends at its matching brace; CEL strings
// and braces in between are skipped; $${ is a literal ${. Where keep is
// Candidate, ${candidate} stays as it is.
func ParseText(s string, at Placer, keep string, scope Scope) (*Text, error) {
	t := &Text{at: at, text: s}
	var ps problem.Problems
	var lit strings.Builder
	for i := 0; i < len(s); {
		switch {
		case strings.HasPrefix(s[i:], "$${"):
			lit.WriteString("${")
			i += 3
		case strings.HasPrefix(s[i:], "${"):
			start := i + 2
			length := matching(s[start:])
			if length < 0 {
				ps.At(at(i), "a ${ is not closed", "write ${expression}, or $${ for the characters themselves")
				return nil, ps.Err()
			}
			body := s[start : start+length]
			i = start + length + 1
			if keep != "" && strings.TrimSpace(body) == keep {
				lit.WriteString("${" + keep + "}")
				continue
			}
			if strings.TrimSpace(body) == "" {
				ps.At(at(start), "${} is empty", "write an expression, such as ${host.name}")
				continue
			}
			prog, err := Compile(body, func(o int) value.Place { return at(start + o) }, scope)
			if err != nil {
				ps.AddErr(at(start), hinted(err))
				continue
			}
			if lit.Len() > 0 {
				t.parts = append(t.parts, part{literal: lit.String()})
				lit.Reset()
			}
			t.parts = append(t.parts, part{prog: prog, offset: start})
		default:
			lit.WriteByte(s[i])
			i++
		}
	}
	if lit.Len() > 0 || len(t.parts) == 0 {
		t.parts = append(t.parts, part{literal: lit.String()})
	}
	t.lone = len(t.parts) == 1 && t.parts[0].prog != nil
	return t, ps.Err()
}

// hinted adds the remedy for a text that was not meant as an expression, such
// as a shell's ${name:-default}.
func hinted(err error) error {
	ps, ok := err.(*problem.Problems)
	if !ok {
		return err
	}
	var out problem.Problems
	for _, p := range ps.List() {
		if p.Do == "" {
			p.Do = "to write the characters ${ themselves, use $${"
		}
		out.Add(p)
	}
	return out.Err()
}

// matching gives the offset of the brace that closes an expression, or -1. A
// comment ends with its line, or else with the brace.
func matching(s string) int {
	depth := 0
	for i := 0; i < len(s); {
		n, what := token(s, i)
		switch {
		case what == aComment && !strings.Contains(s[i:i+n], "\n"):
			n = 2
		case what != aByte:
		case s[i] == '{':
			depth++
		case s[i] == '}' && depth == 0:
			return i
		case s[i] == '}':
			depth--
		case s[i] == '"' || s[i] == '\'':
			return -1 // a text that does not end
		}
		i += n
	}
	return -1
}

// What a token of an expression is, as far as it matters where one ends.
type tokenKind int

const (
	aByte tokenKind = iota // any other
	aText
	aComment
)

// token gives the length of what is there at an offset of an expression: a text
// or a comment whole, and else one byte (CEL specification, "Lexis").
func token(s string, i int) (int, tokenKind) {
	switch {
	case strings.HasPrefix(s[i:], "//"):
		if end := strings.IndexByte(s[i:], '\n'); end >= 0 {
			return end + 1, aComment
		}
		return len(s) - i, aComment
	case s[i] == '"' || s[i] == '\'':
		if end := stringEnd(s[i:], rawBefore(s, i)); end > 0 {
			return end, aText
		}
	}
	return 1, aByte
}

// rawBefore says whether a quote is that of a raw text: r, or r behind b.
func rawBefore(s string, i int) bool {
	if i == 0 || s[i-1] != 'r' && s[i-1] != 'R' {
		return false
	}
	start := i - 1
	if start > 0 && (s[start-1] == 'b' || s[start-1] == 'B') {
		start--
	}
	return !wordBefore(s, start)
}

func wordBefore(s string, i int) bool {
	if i == 0 {
		return false
	}
	c := s[i-1]
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// stringEnd gives the length of the CEL string that s begins with, or -1
// (CEL specification, "String and Bytes Values").
func stringEnd(s string, raw bool) int {
	quote := s[:1]
	if three := strings.Repeat(quote, 3); strings.HasPrefix(s, three) {
		if end := endOf(s, three, raw); end > 0 {
			return end
		}
		return 2 // three quotes that nothing ends are an empty text and a quote
	}
	return endOf(s, quote, raw)
}

// endOf gives the length of the text between such quotes that s begins with.
func endOf(s, quote string, raw bool) int {
	for i := len(quote); i < len(s); i++ {
		switch {
		case s[i] == '\\' && !raw:
			i++
		case strings.HasPrefix(s[i:], quote):
			return i + len(quote)
		}
	}
	return -1
}

// Eval gives the text's value for one host: that of a lone ${...} with its
// type, text otherwise, Unknown{} when a part depends on facts not known.
func (t *Text) Eval(vars *Vars) (any, error) {
	if t.lone {
		return t.parts[0].prog.Eval(vars)
	}
	if len(t.parts) == 1 {
		return t.parts[0].literal, nil
	}
	var b strings.Builder
	unknown, secret := false, false
	for _, p := range t.parts {
		if p.prog == nil {
			b.WriteString(p.literal)
			continue
		}
		v, err := p.prog.Eval(vars)
		if err != nil {
			return nil, err
		}
		if _, ok := v.(Unknown); ok {
			unknown = true
			continue
		}
		if hidden, ok := v.(value.Secret); ok {
			secret = true
			b.WriteString(hidden.Reveal())
			continue
		}
		s, ok := value.Text(v)
		if !ok {
			return nil, problem.Problem{Place: t.at(p.offset), What: fmt.Sprintf("${%s} returns %s, which cannot "+
				"be written as text",
				p.prog.text, value.TypeName(v)),
				Do: "use a string, a number or a bool inside a string"}
		}
		b.WriteString(s)
	}
	switch {
	case unknown:
		return Unknown{}, nil
	case secret:
		return value.NewSecret(b.String()), nil
	}
	return b.String(), nil
}

// firstPlaceholder is the first character that replaces an expression while a text is split: of
// the second private use area, whose characters nobody writes.
const firstPlaceholder = 0x100000

// Words splits the text into words as sh does for a simple command, each ${...} a part of one word
// whatever it gives. shell is the first character outside of quotes, or $ and ` anywhere but in
// single ones, that means more to a shell than itself; 0 where there is none.
func (t *Text) Words() (words []*Text, shell byte) {
	var line strings.Builder
	for i, p := range t.parts {
		if p.prog != nil {
			line.WriteRune(rune(firstPlaceholder + i))
			continue
		}
		line.WriteString(p.literal)
	}
	if shell = meansMore(line.String()); shell != 0 {
		return nil, shell
	}
	for _, word := range sh.Split(line.String()) {
		out := &Text{at: t.at, text: t.text}
		literal := func(s string) {
			if s != "" {
				out.parts = append(out.parts, part{literal: s})
			}
		}
		at := 0
		for i, r := range word {
			if n := int(r) - firstPlaceholder; n >= 0 && n < len(t.parts) {
				literal(word[at:i])
				out.parts = append(out.parts, t.parts[n])
				at = i + utf8.RuneLen(r)
			}
		}
		literal(word[at:])
		if len(out.parts) == 0 { // a word of nothing, in quotes
			out.parts = []part{{}}
		}
		out.lone = len(out.parts) == 1 && out.parts[0].prog != nil
		words = append(words, out)
	}
	return words, 0
}

// meansMore finds a character that means more to a shell than itself.
func meansMore(line string) byte {
	quote := byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case c == '\\' && quote != '\'':
			i++
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '\'' || c == '"'):
			quote = c
		case quote != '\'' && strings.IndexByte("$`", c) >= 0, quote == 0 && strings.IndexByte("|&;<>()*?~\n", c) >= 0:
			return c
		}
	}
	return 0
}

// Programs lists the expressions in the text.
func (t *Text) Programs() []*Program {
	var out []*Program
	for _, p := range t.parts {
		if p.prog != nil {
			out = append(out, p.prog)
		}
	}
	return out
}

// ReadsFact says whether any part reads the fact at a top-level name.
func (t *Text) ReadsFact(name string) bool {
	for _, p := range t.parts {
		if p.prog != nil && p.prog.ReadsFact(name) {
			return true
		}
	}
	return false
}

// String gives the text as it was written.
func (t *Text) String() string { return t.text }
