package lines

import (
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

func TestEdit(t *testing.T) {
	const conf = "# tides\n#rate 60\nport 4190\nrate 30\nrate 20\n\nMatch x\nend\n"
	put := func(text, over, below, above string) value.Attrs {
		p := map[string]any{"line": text}
		for k, v := range map[string]string{"replaces": over, "below": below, "above": above} {
			if v != "" {
				p[k] = v
			}
		}
		return value.Attrs{"add": []any{p}}
	}
	for name, c := range map[string]struct {
		attrs     value.Attrs
		old, want string
	}{
		"present":        {put("port 4190", "^port", "", ""), conf, conf},
		"over one":       {put("port 1", "^port", "", ""), "a\nport 2\nb\n", "a\nport 1\nb\n"},
		"over several":   {put("rate 10", "^#?rate", "", ""), conf, "# tides\nrate 10\nport 4190\n\nMatch x\nend\n"},
		"one is present": {put("rate 30", "^#?rate", "", ""), conf, "# tides\nport 4190\nrate 30\n\nMatch x\nend\n"},
		"found nowhere":  {put("x", "^y", "", ""), "a\n", "a\nx\n"},
		"below": {put("x", "", "^rate", ""), conf, "# tides\n#rate 60\nport 4190\nrate 30\nrate 20\nx\n\nMatch " +
			"x\nend\n"},
		"above":         {put("x", "", "", "^Match"), "a\nMatch\n", "a\nx\nMatch\n"},
		"above nothing": {put("x", "", "", "^Match"), "a\n", "a\nx\n"},
		"empty":         {put("x", "", "", ""), "", "x\n"},
		"no last end":   {put("x", "", "", ""), "a", "a\nx\n"},
		"other ends":    {put("x", "", "", ""), "a\r\n", "a\r\nx\r\n"},
		"taken out": {value.Attrs{"remove": []any{"^rate"}}, conf, "# tides\n#rate 60\nport 4190\n\nMatch x\n" +
			"end\n"},
		"out, but put": {value.Attrs{"remove": []any{"^a"},
			"add": []any{map[string]any{"line": "ab"}}}, "aa\nab\n", "ab\n"},
		"all taken out":  {value.Attrs{"remove": []any{"."}}, "a\n", ""},
		"blank lines in": {put("x", "", "", ""), "a\n\n", "a\n\nx\n"},
	} {
		task := plan.Task{Attrs: c.attrs}
		got, err := lines{}.Edit(task, c.old)
		if err != nil || got != c.want {
			t.Errorf("%s gives %q (%v), want %q", name, got, err, c.want)
		}
		if again, _ := (lines{}).Edit(task, got); again != got {
			t.Errorf("%s gives %q the second time", name, again)
		}
	}
}
