package block

import (
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

func TestEdit(t *testing.T) {
	const marked = "a\n# jadekettle pier: start\nold\n# jadekettle pier: end\nz\n"
	ours := value.Attrs{"content": "one\ntwo"}
	for name, c := range map[string]struct {
		attrs     value.Attrs
		old, want string
	}{
		"in its place": {ours, marked, "a\n# jadekettle pier: start\none\ntwo\n# jadekettle pier: end\nz\n"},
		"at the end":   {ours, "a\n", "a\n# jadekettle pier: start\none\ntwo\n# jadekettle pier: end\n"},
		"above": {value.Attrs{"content": "x", "above": "^a", "comment": "/* */"}, "a\n",
			"/* jadekettle pier: start */\nx\n/* jadekettle pier: end */\na\n"},
		"gone":         {value.Attrs{"absent": true}, marked, "a\nz\n"},
		"gone already": {value.Attrs{"absent": true}, "a\n", "a\n"},
		"half a mark": {ours, "# jadekettle pier: start\na\n",
			`error: the markers "# jadekettle pier: start" and "# jadekettle pier: end" must each be in the file ` +
				`once, in this order`},
		"turned round": {ours, "# jadekettle pier: end\n# jadekettle pier: start\n",
			`error: the markers "# jadekettle pier: start" and "# jadekettle pier: end" must each be in the file ` +
				`once, in this order`},
		"twice": {ours, marked + marked,
			`error: the markers "# jadekettle pier: start" and "# jadekettle pier: end" must each be in the file ` +
				`once, in this order`},
		"another's": {value.Attrs{"content": ""}, "# jadekettle x: start\n", "# jadekettle x: start\n# jadekettle " +
			"pier: start\n# jadekettle pier: end\n"},
		"of a secret": {value.Attrs{"content": value.NewSecret("s")}, "", "# jadekettle pier: start\ns\n# jadekettle " +
			"pier: end\n"},
		"other ends": {value.Attrs{"content": "x\n"}, "a\r\n", "a\r\n# jadekettle pier: start\r\nx\r\n# jadekettle " +
			"pier: end\r\n"},
	} {
		task := plan.Task{Ref: value.Ref{Kind: "block", Name: "/f#pier"}, Attrs: c.attrs,
			Absent: c.attrs.Bool("absent")}
		got, err := blocks{}.Edit(task, c.old)
		if err != nil {
			got = "error: " + err.Error()
		}
		if got != c.want && (err == nil || !strings.HasPrefix(got, c.want)) {
			t.Errorf("%s gives %q, want %q", name, got, c.want)
		}
		if again, err2 := (blocks{}).Edit(task, got); err == nil && (again != got || err2 != nil) {
			t.Errorf("%s gives %q the second time", name, again)
		}
	}
}
