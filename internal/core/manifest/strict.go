package manifest

import (
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
)

// strict reports what the parser takes and TOML 1.0 does not: line breaks and a
// last comma in inline tables, and the escapes \x and \e. All of it is of a later
// TOML, which other readers of these files need not know.
func (s *text) strict(problems *problem.Problems) {
	var open []byte // the brackets around
	comma := -1     // the last thing was a comma, here
	for i := 0; i < len(s.data); i++ {
		c := s.data[i]
		inline := len(open) > 0 && open[len(open)-1] == '{'
		switch c {
		case '#':
			for i+1 < len(s.data) && s.data[i+1] != '\n' {
				i++
			}
			continue
		case '"', '\'':
			i = s.quoted(i, problems) - 1
		case '{', '[':
			open = append(open, c)
		case '}', ']':
			if inline && c == '}' && comma >= 0 {
				problems.At(s.place(comma), "an inline table ends with a comma",
					"remove the comma, or write a table with a header")
			}
			if len(open) > 0 {
				open = open[:len(open)-1]
			}
		case '\n':
			if inline {
				problems.At(s.place(i), "an inline table spans several lines",
					"write it on one line, or as a table with a header")
				return
			}
			if len(open) == 0 {
				comma = -1
			}
			continue
		case ' ', '\t', '\r':
			continue
		case ',':
			comma = i
			continue
		}
		comma = -1
	}
}

// text passes over a text and gives the offset behind it.
func (s *text) quoted(from int, problems *problem.Problems) int {
	quote := string(s.data[from])
	if strings.HasPrefix(string(s.data[from:min(from+3, len(s.data))]), quote+quote+quote) {
		quote = quote + quote + quote
	}
	long := len(quote) == 3
	for i := from + len(quote); i < len(s.data); i++ {
		switch {
		case s.data[i] == '\n' && !long:
			return i // which the parser has reported
		case s.data[i] == '\\' && quote[0] == '"':
			if i++; i < len(s.data) && (s.data[i] == 'x' || s.data[i] == 'e') {
				problems.At(s.place(i-1), `unknown escape \`+string(s.data[i]), `use \u and four hexadecimal digits`)
			}
		case strings.HasPrefix(string(s.data[i:min(i+len(quote), len(s.data))]), quote):
			end := i + len(quote)
			// up to two quotes more belong to the text
			for long && end < len(s.data) && s.data[end] == quote[0] && end < i+5 {
				end++
			}
			return end
		}
	}
	return len(s.data)
}

var (
	dateForm = lazy.Regexp(`^[0-9]{4}-[0-9]{2}-[0-9]{2}$`)
	timeForm = lazy.Regexp(`^[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]+)?$`)
	zoneForm = lazy.Regexp(`^(.*?)([Zz]|[+-](?:[01][0-9]|2[0-3]):[0-5][0-9])$`)
)

// isTime says whether a text is a date, a time or both as TOML has them (RFC
// 3339, "Internet Date/Time Format").
func isTime(s string) bool {
	if len(s) > 10 && (s[10] == 'T' || s[10] == 't' || s[10] == ' ') {
		rest := s[11:]
		if m := zoneForm().FindStringSubmatch(rest); m != nil {
			rest = m[1]
		}
		return isDate(s[:10]) && isClock(rest)
	}
	return isDate(s) || isClock(s)
}

func isDate(s string) bool {
	_, err := time.Parse("2006-01-02", s)
	return err == nil && dateForm().MatchString(s)
}

func isClock(s string) bool {
	at, _, _ := strings.Cut(s, ".")
	_, err := time.Parse("15:04:05", at)
	return timeForm().MatchString(s) && (err == nil || strings.HasSuffix(at, ":60") &&
		isClock(strings.TrimSuffix(at, "60")+"59"))
}
