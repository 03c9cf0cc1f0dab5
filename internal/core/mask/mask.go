// Package mask keeps secrets out of what is shown: wherever one is in a
// text, in one of the forms in which programs write it, a fixed word takes its
// place.
package mask

import (
	"encoding/ascii85"
	"encoding/base32"
	"encoding/base64"
	"encoding/hex"
	"slices"
	"strings"
	"sync"

	"jadekettle/internal/core/value"
)

// Mask hides the secrets that it was given. The zero Mask hides nothing. It may
// be used by many goroutines.
//
// A secret is hidden as it is, trimmed, and line by line; as shells, Go, C, JSON, JavaScript, HTML,
// XML, CSV, URLs and mail write it, once or twice over; and in base64, base32, hexadecimal and
// ascii85, broken into lines or not, also as a part of something longer.
type Mask struct {
	mu      sync.Mutex
	secrets map[string]bool
	texts   map[string]bool // as they are
	encoded map[string]bool // in alphabets of their own
	grouped map[string]bool // of ascii85, in which what is beside may be of the secret as well
	ready   *ready          // nil while it lags behind
}

// ready is what is looked for, the longest first, in the form in which many texts are gone through.
type ready struct {
	texts, encoded, grouped []string
	replacer                *strings.Replacer // of texts and encoded
}

// shortest is how long a form must be that is not the secret itself: shorter
// ones would hide what everybody writes.
const shortest = 6

// Hide adds a secret. The empty text is none.
func (m *Mask) Hide(secret string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if secret == "" || m.secrets[secret] {
		return
	}
	if m.secrets == nil {
		m.secrets, m.texts, m.encoded, m.grouped = map[string]bool{}, map[string]bool{}, map[string]bool{},
			map[string]bool{}
	}
	m.ready = nil
	m.secrets[secret], m.texts[secret] = true, true
	for _, t := range parts(secret) {
		if len(t) >= shortest {
			m.texts[t] = true
		}
		for _, form := range groups(t) {
			m.grouped[form] = true
		}
		for _, form := range encodings(t) {
			if len(form) >= shortest {
				m.encoded[form] = true
			}
		}
	}
}

// Replace gives a text without the secrets.
func (m *Mask) Replace(text string) string {
	m.mu.Lock()
	if len(m.secrets) == 0 {
		m.mu.Unlock()
		return text
	}
	if m.ready == nil {
		m.ready = &ready{longestFirst(m.texts), longestFirst(m.encoded), longestFirst(m.grouped),
			newReplacer(longestFirst(m.texts, m.encoded))}
	}
	r := m.ready
	m.mu.Unlock()
	text = r.replacer.Replace(text)
	const beside = 5 // characters of one group
	cuts := append(squeezed(text, "\r\n\t :-").find(r.encoded, 0), squeezed(text, "\r\n\t ").find(r.grouped, beside)...)
	text = hide(text, value.Hidden, cuts)
	for _, e := range []struct {
		marks string
		read  step
	}{{"%", percent}, {"%+", percent}, {"=", words}, {"=\r", printable}, {"=_", printable}, {`\`, backslash},
		{"&", entity}, {`"`, doubled}, {"'", doubled},
		{"'", inShell}} {
		v := decode(text, e.marks, e.read)
		if v == nil {
			continue
		}
		cuts := v.find(r.texts, 0)
		if twice := v.over(e.marks, e.read); twice != nil {
			cuts = append(cuts, twice.find(r.texts, 0)...)
		}
		text = hide(text, value.Hidden, cuts)
	}
	return text
}

// inShell reads how a quote is written between quotes of sh.
func inShell(s string) ([]byte, int) {
	if strings.HasPrefix(s, `'\''`) {
		return []byte{'\''}, 4
	}
	return nil, 0
}

// longestFirst lists texts so that one that is part of another leaves nothing of it behind.
func longestFirst(sets ...map[string]bool) []string {
	var list []string
	for _, set := range sets {
		list = append(list, value.Keys(set)...)
	}
	slices.SortStableFunc(list, func(a, b string) int { return len(b) - len(a) })
	return list
}

func newReplacer(list []string) *strings.Replacer {
	pairs := make([]string, 0, 2*len(list))
	for _, f := range list {
		pairs = append(pairs, f, value.Hidden)
	}
	return strings.NewReplacer(pairs...)
}

// parts gives what of a secret is hidden alone: all of it, and each line, trimmed too.
func parts(secret string) []string {
	out := []string{secret, strings.TrimSpace(secret)}
	for line := range strings.Lines(secret) {
		out = append(out, strings.TrimRight(line, "\r\n"), strings.TrimSpace(line))
	}
	return slices.DeleteFunc(out, func(s string) bool { return s == "" })
}

// encodings gives the parts that a text has in common with what encoders make of whatever it
// is in: those whose units are several bytes at each offset.
func encodings(t string) []string {
	var out []string
	if len(t) < shortest {
		return nil
	}
	digits := hex.EncodeToString([]byte(t))
	out = append(out, digits, strings.ToUpper(digits))
	for offset := range 3 {
		part := common(t, offset, 6, base64.RawStdEncoding.EncodeToString)
		out = append(out, part, strings.NewReplacer("+", "-", "/", "_").Replace(part))
	}
	for offset := range 5 {
		part := common(t, offset, 5, base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString)
		out = append(out, part, strings.ToLower(part), common(t, offset, 5,
			base32.HexEncoding.WithPadding(base32.NoPadding).EncodeToString))
	}
	return append(out, base64.StdEncoding.EncodeToString([]byte(t)), base64.URLEncoding.EncodeToString([]byte(t)))
}

// groups gives what ascii85 makes of the whole groups of four bytes in a text, at each offset.
func groups(t string) []string {
	var out []string
	for from := range 4 {
		if len(t) >= from+8 {
			group := t[from : from+(len(t)-from)/4*4]
			to := make([]byte, ascii85.MaxEncodedLen(len(group)))
			out = append(out, string(to[:ascii85.Encode(to, []byte(group))]))
		}
	}
	return out
}

// common gives the characters that depend on the text alone, where it is behind so many bytes
// of a unit, and each character is so many bits.
func common(t string, offset, bits int, encode func([]byte) string) string {
	whole := encode([]byte("\x00\x00\x00\x00"[:offset] + t))
	first := (offset*8 + bits - 1) / bits
	last := (offset*8 + len(t)*8) / bits
	return whole[first:max(first, min(last, len(whole)))]
}
