package sarif

import (
	"encoding/json"
	"strings"
	"testing"

	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

func TestLog(t *testing.T) {
	at := value.Place{File: "data/north pier#1.toml", Line: 3, Col: 2}
	doc, err := json.Marshal(Log("1", []problem.Problem{{Place: at, What: "wrong", Do: "fix it",
		Hosts: []string{"gauge-01"}}},
		[]advice.Piece{{Problem: problem.Problem{Place: at, Code: "unused-file", What: "odd"}, Silenced: true,
			Reason: "meant"}}))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"uri":"data/north%20pier%231.toml"`, `"text":"wrong (for gauge-01); fix it"`,
		`"startColumn":2`, `"justification":"meant"`, `"level":"error"`} {
		if !strings.Contains(string(doc), want) {
			t.Errorf("it lacks %s:\n%s", want, doc)
		}
	}
}
