package mask

import (
	"encoding/ascii85"
	"encoding/base32"
	"encoding/base64"
	"encoding/csv"
	"encoding/gob"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"encoding/xml"
	"fmt"
	"html"
	"io"
	"mime"
	"mime/quotedprintable"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"text/template"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// TestNoFormIsLeft puts secrets into texts as programs write them.
func TestNoFormIsLeft(t *testing.T) {
	secrets := []string{"tide", "tide-2024!", "it's \"salt\" & <water>", "line one is long\nline two is " +
		"longer\n", "ä-ünïcode-ß"}
	var m Mask
	for _, s := range secrets {
		m.Hide(s)
	}
	for _, s := range secrets {
		quoted, _ := json.Marshal(s)
		for name, form := range map[string]string{
			"plain": s, "json": string(quoted), "base64": base64.StdEncoding.EncodeToString([]byte(s)),
			"url":  url.QueryEscape(s),
			"path": url.PathEscape(s), "hex": hex.EncodeToString([]byte(s)), "sh": strings.ReplaceAll(s, "'", `'\''`),
			"in base64": base64.StdEncoding.EncodeToString([]byte("keeper:" + s + "@pier")),
		} {
			got := m.Replace("before " + form + " after")
			if !strings.HasPrefix(got, "before ") || !strings.HasSuffix(got, " after") {
				t.Errorf("%s: what is around is gone: %q", name, got)
			}
			if len(s) >= 6 && (strings.Contains(got, s) || strings.Contains(got, form)) {
				t.Errorf("%s of %q is left: %q", name, s, got)
			}
		}
		for line := range strings.Lines(s) {
			if got := m.Replace("see " + line); strings.Contains(got, strings.TrimSpace(line)) {
				t.Errorf("a line is left: %q", got)
			}
		}
	}
	if got := m.Replace("the password is tide-2024!"); got != "the password is (secret)" {
		t.Errorf("a shorter secret spoils a longer one: %q", got)
	}
}

func TestNothingIsHiddenByNothing(t *testing.T) {
	var m Mask
	m.Hide("")
	if got := m.Replace("as it is"); got != "as it is" {
		t.Errorf("it is %q", got)
	}
	m.Hide("x\ny")
	if got := m.Replace("a fox, a year"); got != "a fox, a year" {
		t.Errorf("lines of one letter are hidden: %q", got)
	}
}

// encoders are those of the standard library that write a text as text.
var encoders = map[string]func(s string) string{
	"base64":         func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"base64 of URLs": func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) },
	"base64 in lines": func(s string) string {
		out := base64.StdEncoding.EncodeToString([]byte("keeper:" + s + strings.Repeat("x", 90)))
		for i := 16; i < len(out); i += 17 {
			out = out[:i] + "\r\n" + out[i:]
		}
		return out
	},
	"pem": func(s string) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: "TIDE", Bytes: []byte("more: " + s)}))
	},
	"base32":      func(s string) string { return base32.StdEncoding.EncodeToString([]byte("a" + s + "bc")) },
	"hex":         func(s string) string { return hex.EncodeToString([]byte(s)) },
	"hex, apart":  func(s string) string { return fmt.Sprintf("% X", s) },
	"hex, colons": func(s string) string { return strings.ReplaceAll(fmt.Sprintf("% x", s), " ", ":") },
	"ascii85": func(s string) string {
		to := make([]byte, ascii85.MaxEncodedLen(len(s)+3))
		return string(to[:ascii85.Encode(to, []byte("abc"+s))])
	},
	"json": func(s string) string { out, _ := json.Marshal(s); return string(out) },
	"json in json": func(s string) string {
		out, _ := json.Marshal(s)
		out, _ = json.Marshal(string(out))
		return string(out)
	},
	"json, slashes": func(s string) string {
		out, _ := json.Marshal(s)
		return strings.ReplaceAll(string(out),
			"/", `\/`)
	},
	"json, uppercase": func(s string) string { return strings.ReplaceAll(ascii(s), `\u00e`, `\u00E`) },
	"go":              strconv.Quote,
	"go, ascii":       strconv.QuoteToASCII,
	"html":            html.EscapeString,
	"xml": func(s string) string {
		var b strings.Builder
		xml.EscapeText(&b,
			[]byte(s))
		return b.String()
	},
	"javascript":      template.JSEscapeString,
	"query":           url.QueryEscape,
	"path":            url.PathEscape,
	"path, lowercase": func(s string) string { return lowerHex(url.PathEscape(s)) },
	"path, slashes":   func(s string) string { return strings.ReplaceAll(lowerHex(url.PathEscape(s)), "%2f", "/") },
	"url": func(s string) string {
		return (&url.URL{Scheme: "https", Host: "example.org", Path: "/" + s, User: url.UserPassword("a", s)}).String()
	},
	"csv": func(s string) string {
		var b strings.Builder
		w := csv.NewWriter(&b)
		w.Write([]string{s, "x"})
		w.Flush()
		return b.String()
	},
	"printable": func(s string) string {
		var b strings.Builder
		w := quotedprintable.NewWriter(&b)
		io.WriteString(w, s)
		w.Close()
		return b.String()
	},
	"mail":         func(s string) string { return mime.QEncoding.Encode("utf-8", s) },
	"mail, base64": func(s string) string { return mime.BEncoding.Encode("utf-8", s) },
	"gob":          func(s string) string { var b strings.Builder; gob.NewEncoder(&b).Encode(s); return b.String() },
	"sh":           func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" },
}

var hexPair = regexp.MustCompile("%[0-9A-F]{2}")

func lowerHex(s string) string { return hexPair.ReplaceAllStringFunc(s, strings.ToLower) }

// ascii writes JSON without a character above ASCII.
func ascii(s string) string {
	var b strings.Builder
	for _, u := range utf16.Encode([]rune(s)) {
		if u < 0x80 && u >= ' ' && u != '"' && u != '\\' {
			b.WriteRune(rune(u))
		} else {
			fmt.Fprintf(&b, `\u%04x`, u)
		}
	}
	return b.String()
}

// FuzzNoEncodingShowsASecret holds every encoder to it: of the one text only the place is left that
// the secret was at.
func FuzzNoEncodingShowsASecret(f *testing.F) {
	for _, s := range []string{"tide-2024!", "it's \"salt\" & <water>", "ä-ünïcode-ß/+ %41 =3D", `a\b/c_d e`,
		"two\nlines of it", "x/y?z=1&w=%2f",
		"🌊 high water", strings.Repeat("long ", 30)} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if len(s) < 8 || len(s) > 300 || !utf8.ValidString(s) ||
			strings.ContainsFunc(s, func(r rune) bool {
				return r != '\n' && !unicode.IsPrint(r) ||
					r == utf8.RuneError
			}) ||
			strings.TrimSpace(s) != s || strings.Trim(s, "(secrt) ") == "" {
			t.Skip()
		}
		var m Mask
		m.Hide(s)
		other := strings.Repeat("0", len(s))
		for name, encode := range encoders {
			if name == "ascii85" && len(s) < 12 { // of which no two groups are whole
				continue
			}
			form := encode(s)
			got := m.Replace("before " + form + " after")
			bare := strings.ReplaceAll(got, "(secret)", "\x00") // whose own signs may stand beside those that are left
			if strings.Contains(bare, s) || got == "before "+form+" after" && form != encode(other) {
				t.Errorf("%s of %q is left: %q", name, s, got)
			}
		}
	})
}
