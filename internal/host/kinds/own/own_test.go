package own

import (
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

func TestAnswers(t *testing.T) {
	for _, c := range []struct{ verb, text, want string }{
		{"read", `{"state": {"a": [1, 2]}}`, ""},
		{"read", "{\"state\": null}\n\n", ""},
		{"compare", `{"changes": [{"what": "line", "was": "", "becomes": "x"}]}`, ""},
		{"write", "", ""},
		{"read", "", "the kind's program responds to read with an invalid response: EOF"},
		{"read", "sludge", "the kind's program responds to read with an invalid response: invalid character 's' " +
			"looking for beginning of value"},
		{"read", `{"state": 1} {"state": 2}`, "with more than one JSON object"},
		{"read", `{"stat": 1}`, `unknown field "stat"`},
		{"compare", `{"changes": [{"was": "a"}]}`, "with a change without a name"},
		{"compare", `{"changes": [` + strings.Repeat(`{"what":"x"},`, 1000) + `{"what":"x"}]}`, "with 1001 changes"},
		{"read", strings.Repeat(" ", maxAnswer+1), "with 1048577 bytes"},
	} {
		_, err := Read(c.verb, c.text)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s of %.40q gives %v, want %q", c.verb, c.text, err, c.want)
		}
	}
}

// TestQuestion is what programs are promised: one line, keys in order, secrets
// in it and nowhere else.
func TestQuestion(t *testing.T) {
	task := plan.Task{Ref: value.Ref{Kind: "gauge_offset", Name: "/etc/offset"}, Attrs: value.Attrs{
		"token": value.NewSecret("rip-tide"), "list": []any{"b", "a"}, "n": int64(3),
		"t": map[string]any{"k": value.NewSecret("s")}}}
	got, err := Ask(task, true, map[string]any{"x": 1})
	want := `{"absent":false,"attributes":{"list":["b","a"],"n":3,"t":{"k":"s"},"token":"rip-tide"},"format":1,` +
		`"kind":"gauge_offset","name":"/etc/offset","preview":true,"state":{"x":1}}` + "\n"
	if err != nil || string(got) != want {
		t.Errorf("it asks %s (%v), want %s", got, err, want)
	}
}
