// Package shell writes words for sh, and takes apart again what it wrote.
package shell

import "strings"

// plain are the characters that sh takes as they are.
const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./=:,@%+"

// Quote writes a text as one word for sh.
func Quote(s string) string {
	if s != "" && strings.Trim(s, plain) == "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// Join writes words as one command line for sh.
func Join(words ...string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = Quote(w)
	}
	return strings.Join(quoted, " ")
}

// Split takes a line apart into words as sh does for simple commands: blanks
// part words, ' and " quote, and a backslash takes the next character as it is
// but for one between single quotes. It knows no more of the shell's language.
func Split(line string) []string {
	var words []string
	var word strings.Builder
	var quote rune
	escaped, in := false, false
	for _, r := range line {
		switch {
		case escaped:
			if quote == '"' && !strings.ContainsRune("$`\"\\", r) {
				word.WriteByte('\\')
			}
			word.WriteRune(r)
			escaped, in = false, true
		case r == '\\' && quote != '\'':
			escaped = true
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '\'' || r == '"'):
			quote, in = r, true
		case quote == 0 && (r == ' ' || r == '\t' || r == '\n'):
			if in {
				words = append(words, word.String())
				word.Reset()
			}
			in = false
		default:
			word.WriteRune(r)
			in = true
		}
	}
	if in {
		words = append(words, word.String())
	}
	return words
}
