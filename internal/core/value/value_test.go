package value

import (
	"encoding/json"
	"fmt"
	"testing"
)

func TestNearest(t *testing.T) {
	for name, want := range map[string]string{"ownr": "owner", "modee": "mode", "gruop": "group", "x": "", "zzzzzz": "", "owner": "owner", "templaet": "template"} {
		if got := Nearest(name, []string{"owner", "mode", "group", "template"}); got != want {
			t.Errorf("nearest to %q is %q, want %q", name, got, want)
		}
	}
}

func TestSecretsAreNotShown(t *testing.T) {
	s := NewSecret("salt")
	text, err := json.Marshal(map[string]any{"a": s})
	if err != nil {
		t.Fatal(err)
	}
	all := string(text) + fmt.Sprintf("%v %+v %#v %s %q %x", s, s, s, s, s, []any{s}) + fmt.Sprint(map[string]any{"k": s}, []Secret{s}, &s)
	if want := "salt"; len(all) == 0 || contains(all, want) || contains(all, "73616c74") {
		t.Errorf("printed in some way, a secret shows: %s", all)
	}
}

func contains(s, sub string) bool {
	for i := 0; i+len(sub) <= len(s); i++ {
		if s[i:i+len(sub)] == sub {
			return true
		}
	}
	return false
}

func TestPrintable(t *testing.T) {
	for in, want := range map[string]string{
		"plain ä\n\ttext":   "plain ä\n\ttext",
		"\x1b[31mred\x07":   `\u{1b}[31mred\u{7}`,
		"a\u202eb\u200bc\r": `a\u{202e}b\u{200b}c\u{d}`,
		"\xff":              `\u{fffd}`,
	} {
		if got := Printable(in); got != want {
			t.Errorf("%q is shown as %q, want %q", in, got, want)
		}
	}
}

func TestReferences(t *testing.T) {
	for in, want := range map[string]string{"service:tide-logger": "service tide-logger", "file:/etc/a:b": "file /etc/a:b", "service": "", ":x": "", "x:": ""} {
		ref, err := ParseRef(in)
		if got := ref.Kind + " " + ref.Name; err == nil && got != want || (err != nil) != (want == "") {
			t.Errorf("%q is %q, %v", in, got, err)
		}
	}
}

func TestProblemsAreToldOnce(t *testing.T) {
	var ps Problems
	for _, h := range []string{"gauge-01", "gauge-02", "gauge-03"} {
		var own Problems
		own.At(Place{"b.toml", 2, 1}, "wrong", "mend it")
		own.On(h)
		ps.AddErr(Place{}, own.Err())
	}
	ps.At(Place{"a.toml", 9, 9}, "first", "")
	if got, want := ps.Error(), "a.toml:9:9: first\nb.toml:2:1: wrong (for gauge-01 and 2 more); mend it"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}
