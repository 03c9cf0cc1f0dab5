package mask

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"strings"
	"testing"
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
				t.Errorf("%s: what stands around is gone: %q", name, got)
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
