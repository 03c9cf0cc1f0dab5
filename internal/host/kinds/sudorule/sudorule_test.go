package sudorule

import (
	"encoding/json"
	"reflect"
	"testing"

	"jadekettle/internal/core/plan"
)

// TestRulesAreReadBack reads files by hand, and leaves those to their files that say
// more than one plain rule.
func TestRulesAreReadBack(t *testing.T) {
	for text, want := range map[string]string{
		"maren ALL=(ALL) NOPASSWD: /bin/true\n": `{"commands":["/bin/true"],"password":false,` +
			`"run_as":["ALL"],"who":["maren"]}`,
		"# ours\n\n%keepers,ottokar ALL = (tidelog, root) /bin/a, /bin/b -x\n": `{"commands":["/bin/a","/bin/b -x"],` +
			`"run_as":["tidelog","root"],"who":["%keepers","ottokar"]}`,
		"maren ALL=/bin/tide\\, now\\=1\n":     `{"commands":["/bin/tide, now=1"],"who":["maren"]}`,
		"root ALL=(ALL:ALL) ALL\n":             `{"commands":["ALL"],"run_as":["ALL"],"who":["root"]}`,
		"maren ALL=(root:adm) /bin/true\n":     "",
		"maren gauge-01=(ALL) ALL\n":           "",
		"maren ALL=(ALL) NOEXEC: /bin/vi\n":    "",
		"maren ALL=(ALL) true\n":               "",
		"a ALL=(ALL) ALL\nb ALL=(ALL) ALL\n":   "",
		"Defaults:maren !requiretty\n":         "",
		"#include /etc/sudoers.more\n":         "",
		"maren ALL=(ALL) /bin/a, \\\n":         "",
		"a ALL=(b) /bin/a : c ALL=(ALL) ALL\n": "",
		"a ALL=(b) /bin/a x=y\n":               "",
		"":                                     "",
	} {
		attrs, ok := parsed(text)
		got := ""
		if ok {
			data, err := json.Marshal(attrs)
			if err != nil {
				t.Fatal(err)
			}
			got = string(data)
		}
		if got != want {
			t.Errorf("%q is read as %s, want %s", text, got, want)
		}
		if again, _ := parsed(content(plan.Task{Attrs: attrs})); ok && len(again) < len(attrs) {
			t.Errorf("%q, written again, is read as %v", text, again)
		}
	}
}

// FuzzRules holds whatever is in a file of rules: what is read of it says, once
// it is written, the same again, so that no capture gives anybody more than they had.
func FuzzRules(f *testing.F) {
	for _, text := range []string{"maren ALL=(ALL) NOPASSWD: /bin/true\n", "%a,b ALL = (x, y) /bin/a\\,b, /bin/c\n",
		"maren ALL=/bin/tide\\=\\:\n", "#1000 ALL=ALL\n", "\"a b\" ALL=ALL\n", "a\\ b ALL=(ALL) !/bin/sh\n",
		"a ALL=(b) sha256:x /bin/a\n", "a ALL=(b) /bin/a \\\n", "+net ALL=ALL\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		attrs, ok := parsed(text)
		if !ok {
			return
		}
		if attrs["run_as"] == nil {
			attrs["run_as"] = []any{"root"} // which sudo means where nothing is said
		}
		written := content(plan.Task{Attrs: attrs})
		again, ok := parsed(written)
		if !ok || !reflect.DeepEqual(attrs, again) {
			t.Errorf("%q is read as %v, written as %q, and that read as %v, %v", text, attrs, written, again, ok)
		}
	})
}
