package kinds_test

import (
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// TestRemovalTouchesOnlyWhatWasDeclared: what was never declared of a thing that cannot be absent stays.
func TestRemovalTouchesOnlyWhatWasDeclared(t *testing.T) {
	for _, c := range []struct {
		kind       string
		last, want value.Attrs
	}{
		{"service", value.Attrs{"restart_on": []any{"file /etc/a"}}, value.Attrs{}},
		{"service", value.Attrs{"running": true}, value.Attrs{"running": false}},
		{"service", nil, value.Attrs{"running": false, "at_boot": false}},
		{"kmod", value.Attrs{"kept_out": true}, value.Attrs{"kept_out": false}},
		{"kmod", value.Attrs{"loaded": true, "options": "numdummies=2"}, value.Attrs{"loaded": false, "options": ""}},
	} {
		var e plan.Entry
		if c.last != nil {
			e.Last = &plan.Last{Attrs: c.last}
		}
		got, err := kinds.Removal(1, value.Ref{Kind: c.kind, Name: "a"}, e)
		if err != nil || !value.Equal(map[string]any(got.Attrs), map[string]any(c.want)) {
			t.Errorf("a %s declared with %v is removed with %v, want %v (%v)", c.kind, c.last, got.Attrs, c.want, err)
		}
	}
}
