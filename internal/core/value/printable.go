package value

import (
	"fmt"
	"strings"
	"unicode"
)

// Printable makes text from a host safe to show: control characters and
// invisible ones are written as escapes; line breaks and tabs stay.
func Printable(s string) string {
	if !strings.ContainsFunc(s, hostile) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if hostile(r) {
			fmt.Fprintf(&b, "\\u{%x}", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

func hostile(r rune) bool {
	return r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar)
}
