package systemd

import (
	"testing"
	"time"

	"jadekettle/internal/host/kinds/service/backend"
)

func TestUnitsAreRead(t *testing.T) {
	got := state(values("Id=tide.service\nLoadState=loaded\nActiveState=active\nSubState=running\n" +
		"UnitFileState=enabled\nNeedDaemonReload=yes\nActiveEnterTimestampMonotonic=2500000\nNRestarts=3\n"))
	want := backend.State{There: true, Running: true, Boot: true, Stale: true, Phase: "active (running)",
		Since: 2500 * time.Millisecond, Starts: 3}
	if got != want {
		t.Errorf("got %+v", got)
	}
	if got := state(values("LoadState=loaded\nActiveState=inactive\nType=oneshot\nRemainAfterExit=no\n")); !got.Once {
		t.Errorf("one that ends by itself: %+v", got)
	}
	if got := state(values("LoadState=not-found\n")); got.There {
		t.Errorf("got %+v", got)
	}
}
