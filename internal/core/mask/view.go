package mask

import (
	"html"
	"mime"
	"sort"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// view is a text as it reads once some encoding is undone, and where each of its bytes came from.
// A secret is looked for in what an encoding means, since each can be written in many ways.
type view struct {
	text []byte
	at   []int // of each byte, its offset in the text that was encoded; one more for the end
}

// add appends what was read from an offset.
func (v *view) add(at int, text ...byte) {
	for range text {
		v.at = append(v.at, at)
	}
	v.text = append(v.text, text...)
}

// step reads one unit of an encoding at the beginning of a text: what it means, and its
// length; 0 for none.
type step func(s string) (current []byte, length int)

// decode undoes an encoding. It gives nil where nothing in the text is encoded.
func decode(text string, marks string, read step) *view {
	if !strings.ContainsAny(text, marks) {
		return nil
	}
	v := &view{}
	any := false
	for i := 0; i < len(text); {
		if strings.IndexByte(marks, text[i]) >= 0 {
			if current, n := read(text[i:]); n > 0 {
				v.add(i, current...)
				i, any = i+n, true
				continue
			}
		}
		v.add(i, text[i])
		i++
	}
	v.at = append(v.at, len(text))
	if !any {
		return nil
	}
	return v
}

// over undoes a second encoding below the first.
func (v *view) over(marks string, read step) *view {
	if v == nil {
		return nil
	}
	inner := decode(string(v.text), marks, read)
	if inner == nil {
		return nil
	}
	for i, at := range inner.at {
		inner.at[i] = v.at[at]
	}
	return inner
}

// cut is a part of a text that is hidden.
type cut struct{ from, to int }

// find gives where texts stand in what the view came from, with so many bytes beside them.
func (v *view) find(needles []string, beside int) []cut {
	var out []cut
	text := string(v.text)
	for _, n := range needles {
		for from := 0; n != ""; {
			i := strings.Index(text[from:], n)
			if i < 0 {
				break
			}
			end := min(len(v.text), from+i+len(n)+beside)
			for end < len(v.text) && v.at[end] == v.at[end-1] { // the unit that it ends in goes whole
				end++
			}
			out = append(out, cut{v.at[max(0, from+i-beside)], v.at[end]})
			from += i + len(n)
		}
	}
	return out
}

// hide puts a word in the place of parts of a text, of which some may overlap.
func hide(text, word string, cuts []cut) string {
	if len(cuts) == 0 {
		return text
	}
	sort.Slice(cuts, func(i, j int) bool { return cuts[i].from < cuts[j].from })
	var b strings.Builder
	at := 0
	for _, c := range cuts {
		if c.to <= at {
			continue
		}
		if c.from >= at {
			b.WriteString(text[at:c.from])
			b.WriteString(word)
		}
		at = c.to
	}
	b.WriteString(text[at:])
	return b.String()
}

// squeezed leaves out what encoders put between the characters of one long text, such as a line
// break after each 64 or 76 of base64.
func squeezed(text, without string) *view {
	v := &view{}
	for i := range len(text) {
		if strings.IndexByte(without, text[i]) < 0 {
			v.add(i, text[i])
		}
	}
	v.at = append(v.at, len(text))
	return v
}

func percent(s string) ([]byte, int) {
	if s[0] == '+' {
		return []byte{' '}, 1
	}
	if len(s) < 3 {
		return nil, 0
	}
	b, err := strconv.ParseUint(s[1:3], 16, 8)
	if err != nil {
		return nil, 0
	}
	return []byte{byte(b)}, 3
}

// words reads a run of encoded words of mail (RFC 2047).
func words(s string) ([]byte, int) {
	if !strings.HasPrefix(s, "=?") {
		return nil, 0
	}
	end := 0
	for strings.HasPrefix(s[end:], "=?") {
		parts := strings.SplitN(s[end+2:], "?", 4)
		if len(parts) < 4 || !strings.HasPrefix(parts[3], "=") {
			break
		}
		end += 2 + len(parts[0]) + len(parts[1]) + len(parts[2]) + 3 + 1
		if next := end + len(s[end:]) - len(strings.TrimLeft(s[end:], " \r\n")); strings.HasPrefix(s[next:], "=?") {
			end = next
		}
	}
	text, err := new(mime.WordDecoder).DecodeHeader(s[:end])
	if err != nil || end == 0 {
		return nil, 0
	}
	return []byte(text), end
}

// printable reads quoted-printable (RFC 2045, 6.7) and the Q encoding of mail (RFC 2047).
func printable(s string) ([]byte, int) {
	switch {
	case s[0] == '\r':
		return []byte{'\n'}, map[bool]int{true: 2}[strings.HasPrefix(s, "\r\n")]
	case s[0] == '_':
		return []byte{' '}, 1
	case strings.HasPrefix(s, "=\r\n"):
		return nil, 3
	case strings.HasPrefix(s, "=\n"):
		return nil, 2
	}
	return percent(s)
}

var plainEscapes = map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', 'b': '\b', 'f': '\f', 'v': '\v', 'a': '\a'}

// backslash reads the escapes of JSON, Go, C and JavaScript.
func backslash(s string) ([]byte, int) {
	if len(s) < 2 {
		return nil, 0
	}
	if c, ok := plainEscapes[s[1]]; ok {
		return []byte{c}, 2
	}
	switch c := s[1]; {
	case c == 'x':
		return number(s, 2, 2, false)
	case c == 'u':
		r, n := number(s, 2, 4, true)
		if n == 0 {
			return nil, 0
		}
		if hi, err := strconv.ParseUint(s[2:6], 16, 16); err == nil && utf16.IsSurrogate(rune(hi)) && len(s) >= 12 &&
			s[6:8] == `\u` {
			if lo, err := strconv.ParseUint(s[8:12], 16, 16); err == nil {
				return utf8.AppendRune(nil, utf16.DecodeRune(rune(hi), rune(lo))), 12
			}
		}
		return r, n
	case c == 'U':
		return number(s, 2, 8, true)
	case c >= '0' && c <= '7' && len(s) >= 4:
		if b, err := strconv.ParseUint(s[1:4], 8, 8); err == nil {
			return []byte{byte(b)}, 4
		}
		return nil, 0
	}
	if s[1] >= utf8.RuneSelf || s[1] >= 'a' && s[1] <= 'z' || s[1] >= 'A' && s[1] <= 'Z' {
		return nil, 0
	}
	return []byte{s[1]}, 2
}

// number reads a character by its number in hexadecimal digits.
func number(s string, from, digits int, isRune bool) ([]byte, int) {
	if len(s) < from+digits {
		return nil, 0
	}
	n, err := strconv.ParseUint(s[from:from+digits], 16, 32)
	if err != nil {
		return nil, 0
	}
	if isRune {
		return utf8.AppendRune(nil, rune(n)), from + digits
	}
	return []byte{byte(n)}, from + digits
}

// entity reads the character references of HTML and XML.
func entity(s string) ([]byte, int) {
	end := strings.IndexByte(s[:min(len(s), 12)], ';')
	if end < 0 {
		return nil, 0
	}
	current := html.UnescapeString(s[:end+1])
	if current == s[:end+1] {
		return nil, 0
	}
	return []byte(current), end + 1
}

// doubled reads the quotes of CSV and SQL.
func doubled(s string) ([]byte, int) {
	if len(s) > 1 && s[1] == s[0] {
		return []byte{s[0]}, 2
	}
	return nil, 0
}
