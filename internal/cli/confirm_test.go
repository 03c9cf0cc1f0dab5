package cli

import (
	"strings"
	"testing"
)

func TestApplyAsks(t *testing.T) {
	for answer, want := range map[string]bool{"y\n": true, "yes\n": true, "\n": false, "": false, "n\n": false,
		"maybe\n": false} {
		var errs strings.Builder
		e := &Env{In: strings.NewReader(answer), Err: &errs}
		if got := e.AgreeOn("Apply to", "", nil); got != want {
			t.Errorf("%q means %v", answer, got)
		}
		if !strings.Contains(errs.String(), "Apply to 0 hosts") {
			t.Errorf("it asks %q", errs.String())
		}
	}
}
