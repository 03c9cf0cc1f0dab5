package apk

import (
	"slices"
	"testing"

	"jadekettle/internal/host/kinds/packages/backend"
)

func TestWhatItForesees(t *testing.T) {
	const text = "(1/3) Purging salt-lamp (2.0-r0)\n(2/3) Upgrading tide-logger (1.4.2-r0 -> 1.5.0-r0)\n" +
		"(3/3) Installing buoy-tools (1.1-r0)\nOK: 9 MiB in 21 packages\n"
	want := []backend.Effect{{Name: "salt-lamp", Was: "2.0-r0"}, {Name: "tide-logger", Was: "1.4.2-r0",
		Becomes: "1.5.0-r0"},
		{Name: "buoy-tools", Becomes: "1.1-r0"}}
	if got := foreseen(text); !slices.Equal(got, want) {
		t.Errorf("got %+v", got)
	}
}
