package settings

import (
	"strings"
	"testing"
	"unicode/utf8"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

const foghorn = `# The horn of the pier
relay:
  # how long
  seconds: 4 # not more
  names:
  - north
  - south
  note: |
    # not a comment
    at dusk

log: {level: info}
last: "1"
`

func TestYAML(t *testing.T) {
	for _, c := range []struct {
		text    string
		section string
		set     value.Attrs
		unset   []any
		want    string // instead of what is in was; or an error
		was     string
	}{
		{text: "", set: value.Attrs{"a": int64(1)}, want: "a: 1\n"},
		{text: "", section: "a.b", set: value.Attrs{"c": "0117", "d": true}, want: "a:\n  b:\n    c: \"0117\"\n    " +
			"d: true\n"},
		{text: "# only this\n", set: value.Attrs{"a": "x"}, want: "# only this\na: x\n"},
		{text: "{}\n", set: value.Attrs{"a": "x"}, want: "a: x\n"},
		{text: "a: {}\r\r!", section: "a", unset: []any{"b"}, want: "error: some lines of the file do not end with " +
			"a plain newline"},
		{text: "# tide\u2028a: 1\n", set: value.Attrs{"a": int64(2)},
			want: "error: some lines of the file do not end with a plain newline"},
		{text: "# why\n{}\n", set: value.Attrs{"a": "x"}, want: "# why\na: x\n"},
		{text: foghorn, section: "relay", set: value.Attrs{"seconds": int64(4)}},
		{text: foghorn, section: "relay", set: value.Attrs{"seconds": int64(5)}, was: "seconds: 4 #",
			want: "seconds: 5 #"},
		{text: foghorn, section: "relay", set: value.Attrs{"seconds": "4"}, was: "seconds: 4 #",
			want: `seconds: "4" #`},
		{text: foghorn, set: value.Attrs{"last": "1"}},
		{text: foghorn, set: value.Attrs{"last": int64(1)}, was: `last: "1"`, want: "last: 1"},
		{text: foghorn, section: "relay", set: value.Attrs{"names": "none"}, was: "names:\n  - north\n  - south\n",
			want: "names: none\n"},
		{text: foghorn, section: "relay", set: value.Attrs{"note": "dawn"}, was: "note: |\n    # not a comment\n   " +
			" at dusk\n",
			want: "note: dawn\n"},
		{text: foghorn, section: "relay", set: value.Attrs{"fresh": "a: b"}, was: "    at dusk\n",
			want: "    at dusk\n  fresh: 'a: b'\n"},
		{text: foghorn, section: "relay.power", set: value.Attrs{"watts": 2.5}, was: "    at dusk\n",
			want: "    at dusk\n  power:\n    watts: 2.5\n"},
		{text: foghorn, section: "relay", unset: []any{"names", "gone"},
			was: "  names:\n  - north\n  - south\n", want: ""},
		{text: foghorn, section: "no.where", unset: []any{"gone"}},
		{text: "a:\n  b: 1\nc: 2\n", section: "a", unset: []any{"b"}, want: "a: {}\nc: 2\n"},
		{text: "a: {}\nc: 2\n", section: "a", set: value.Attrs{"b": int64(1)}, want: "a:\n  b: 1\nc: 2\n"},
		{text: "a:\nc: 2\n", section: "a", set: value.Attrs{"b": int64(1)}, want: "a:\n  b: 1\nc: 2\n"},
		{text: "a: x", set: value.Attrs{"b": "two\nlines"}, want: "a: x\nb: \"two\\nlines\"\n"},
		{text: foghorn, section: "log", set: value.Attrs{"level": "debug"},
			want: "error: the table of level is written on one line in this file"},
		{text: foghorn, section: "relay.seconds", set: value.Attrs{"a": "b"}, want: "error: relay.seconds is not a " +
			"table in this file"},
		{text: "- a\n", set: value.Attrs{"a": "b"}, want: "error: the file is not a table as a whole"},
		{text: "a: 1\n---\nb: 2\n", set: value.Attrs{"a": "b"}, want: "error: the file contains several documents"},
		{text: "a: &x 1\nb: *x\n", set: value.Attrs{"b": "c"},
			want: "error: b is shared with other places of this file"},
		{text: "a: [\n", set: value.Attrs{"a": "b"}, want: "error: the file is not valid YAML"},
	} {
		task := plan.Task{Attrs: value.Attrs{"format": yaml, "section": c.section, "unset": c.unset,
			"set": map[string]any(c.set)}}
		got, err := edit{}.Edit(task, c.text)
		want := c.want
		switch {
		case c.was != "":
			want = strings.Replace(c.text, c.was, c.want, 1)
		case c.want == "":
			want = c.text
		}
		if err != nil {
			got = "error: " + problem.From(err).What
		}
		if got != want && !(strings.HasPrefix(want, "error") && strings.HasPrefix(got, want)) {
			t.Errorf("%v in %q\n got %q\nwant %q", c.set, c.section, got, want)
			continue
		}
		if again, _ := (edit{}).Edit(task, got); err == nil && again != got {
			t.Errorf("%v in %q, again:\n got %q\nwant %q", c.set, c.section, again, got)
		}
	}
}

// FuzzYAML sets a value in whatever is there: nothing else may change, and
// again nothing changes at all.
func FuzzYAML(f *testing.F) {
	f.Add(foghorn, "relay", "seconds")
	f.Add("a:\n- b: 1\n  c: 2\n", "", "a")
	f.Fuzz(func(t *testing.T, text, section, key string) {
		task := plan.Task{Attrs: value.Attrs{"format": yaml, "section": section, "set": map[string]any{key: "ebb"}}}
		if _, err := about.Check("/etc/x", task.Attrs); err != nil || !utf8.ValidString(text) ||
			!utf8.ValidString(section) || !utf8.ValidString(key) {
			return // which no manifest can say
		}
		got, err := edit{}.Edit(task, text)
		if err != nil {
			return
		}
		if again, err := (edit{}).Edit(task, got); err != nil || again != got {
			t.Errorf("again %q: %v", again, err)
		}
	})
}
