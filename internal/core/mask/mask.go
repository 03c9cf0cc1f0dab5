// Package mask keeps secrets out of what is shown: wherever one stands in a
// text, in one of the forms in which programs write it, a fixed word takes its
// place.
package mask

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"html"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"jadekettle/internal/core/value"
)

// Mask hides the secrets that it was told. The zero Mask hides nothing. It may
// be used by many goroutines.
type Mask struct {
	mu       sync.Mutex
	forms    map[string]bool
	replacer *strings.Replacer // nil while it lags behind the forms
}

// shortest is how long a form must be that is not the secret itself: shorter
// ones would hide what everybody writes.
const shortest = 6

// Hide adds a secret. The empty text is none.
func (m *Mask) Hide(secret string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if secret == "" || m.forms[secret] {
		return
	}
	if m.forms == nil {
		m.forms = map[string]bool{}
	}
	m.replacer = nil
	m.forms[secret] = true
	for _, form := range forms(secret) {
		if len(form) >= shortest {
			m.forms[form] = true
		}
	}
}

// Replace gives a text without the secrets.
func (m *Mask) Replace(text string) string {
	m.mu.Lock()
	if m.replacer == nil {
		m.replacer = newReplacer(m.forms)
	}
	r := m.replacer
	m.mu.Unlock()
	return r.Replace(text)
}

// newReplacer takes the longest first, so that one secret that is part of
// another leaves nothing of it behind.
func newReplacer(forms map[string]bool) *strings.Replacer {
	list := value.Keys(forms)
	slices.SortStableFunc(list, func(a, b string) int { return len(b) - len(a) })
	pairs := make([]string, 0, 2*len(list))
	for _, f := range list {
		pairs = append(pairs, f, value.Hidden)
	}
	return strings.NewReplacer(pairs...)
}

// forms gives how programs write a text, besides as it is: trimmed, line by
// line, and each of these quoted and encoded.
func forms(secret string) []string {
	texts := []string{secret, strings.TrimSpace(secret)}
	for line := range strings.Lines(secret) {
		texts = append(texts, strings.TrimRight(line, "\r\n"), strings.TrimSpace(line))
	}
	var out []string
	for _, t := range texts {
		if t == "" {
			continue
		}
		out = append(out, t, strings.ReplaceAll(t, "'", `'\''`), unquoted(strconv.Quote(t)),
			unquoted(strconv.QuoteToASCII(t)),
			url.QueryEscape(t), url.PathEscape(t), html.EscapeString(t), hex.EncodeToString([]byte(t)),
			strings.ToUpper(hex.EncodeToString([]byte(t))))
		if doc, err := json.Marshal(t); err == nil {
			out = append(out, unquoted(string(doc)))
		}
		out = append(out, inBase64(t)...)
	}
	return out
}

func unquoted(s string) string { return s[1 : len(s)-1] }

// inBase64 gives the parts that a text has in common with the base64 of
// whatever it stands in, at each of the three offsets, in both alphabets.
func inBase64(t string) []string {
	if len(t) < shortest {
		return nil
	}
	var out []string
	for offset := range 3 {
		whole := base64.RawStdEncoding.EncodeToString([]byte("\x00\x00"[:offset] + t))
		first := (offset*8 + 5) / 6       // characters that depend on what stands before
		last := (offset*8 + len(t)*8) / 6 // and on what follows
		part := whole[first:max(first, min(last, len(whole)))]
		out = append(out, part, strings.NewReplacer("+", "-", "/", "_").Replace(part))
	}
	return append(out, base64.StdEncoding.EncodeToString([]byte(t)), base64.URLEncoding.EncodeToString([]byte(t)))
}
