package command

import (
	"errors"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/scripted"
)

// TestWhatAGivenSecretPrints is not shown unless that is declared: it may be a form that no mask knows.
func TestWhatAGivenSecretPrints(t *testing.T) {
	for _, c := range []struct {
		attrs value.Attrs
		shown bool
	}{
		{value.Attrs{"input": value.NewSecret("tide-2024")}, false},
		{value.Attrs{"input": value.NewSecret("tide-2024"), "show_output": true}, true},
		{value.Attrs{"input": "tide-2024"}, true},
		{value.Attrs{"input": "tide-2024", "show_output": false}, false},
	} {
		m := scripted.New(t)
		m.Answers["press"] = machine.Output{Code: 1, Stdout: "4202-edit\n"}
		c.attrs["run"] = []any{"press"}
		err := commands{}.Write(t.Context(), &kind.Env{Machine: m},
			kind.Differing[state]{Task: plan.Task{Attrs: c.attrs}})
		var failed *machine.CommandError
		if !errors.As(err, &failed) {
			t.Fatalf("%v: %v", c.attrs, err)
		}
		if shown := failed.Output.String() != ""; shown != c.shown || shown != (failed.Last == "4202-edit") {
			t.Errorf("%v: it shows %q and %q", c.attrs, failed.Output.String(), failed.Last)
		}
	}
}
