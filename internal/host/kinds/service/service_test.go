package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/ledger"
)

func TestUnitsAreRead(t *testing.T) {
	got := parse("Id=tide.service\nLoadState=loaded\nActiveState=active\nSubState=running\nUnitFileState=enabled\nNeedDaemonReload=yes\nActiveEnterTimestampMonotonic=2500000\nNRestarts=3\n")
	want := unit{load: "loaded", active: "active", sub: "running", file: "enabled", reload: true, since: 2500 * time.Millisecond, restarts: 3}
	if got != want {
		t.Errorf("got %+v", got)
	}
}

func TestCompare(t *testing.T) {
	up := unit{load: "loaded", active: "active", file: "enabled"}
	down := unit{load: "loaded", active: "inactive", file: "disabled"}
	crashed := unit{load: "loaded", active: "failed", file: "enabled"}
	stale := up
	stale.reload = true
	restart := ledger.Debt{Action: "restart", Cause: value.Ref{Kind: "file", Name: "/a"}}
	reload := ledger.Debt{Action: "reload", Cause: value.Ref{Kind: "file", Name: "/b"}}
	yes := value.Attrs{"running": true, "boot": true}
	no := value.Attrs{"running": false, "boot": false}
	for name, c := range map[string]struct {
		declared value.Attrs
		stands   state
		want     string
	}{
		"as it should be":      {yes, state{unit: up}, ""},
		"down":                 {yes, state{unit: down}, "running: no -> yes, boot: no -> yes"},
		"crashed":              {yes, state{unit: crashed}, "running: failed -> yes"},
		"to be stopped":        {no, state{unit: up}, "running: yes -> no, boot: yes -> no"},
		"nothing declared":     {nil, state{unit: down}, ""},
		"a restart is due":     {yes, state{up, []ledger.Debt{restart}}, "restart: due since file:/a changed -> done"},
		"a reload is due":      {yes, state{up, []ledger.Debt{reload}}, "reload: due since file:/b changed -> done"},
		"both are due":         {yes, state{up, []ledger.Debt{reload, restart, restart}}, "restart: due since file:/b, file:/a changed -> done"},
		"due while down":       {yes, state{down, []ledger.Debt{restart}}, "running: no -> yes, boot: no -> yes"},
		"due while to be down": {no, state{up, []ledger.Debt{restart}}, "running: yes -> no, boot: yes -> no"},
		"a unit that cannot load": {yes, state{unit: unit{load: "bad-setting", active: "active", file: "enabled"}},
			"unit file: not loaded, for a reason that `systemctl status .service` tells -> loaded"},
		"the unit file is newer": {yes, state{unit: stale}, "unit file: changed since it was loaded -> loaded"},
		"optional and not there": {yes, state{unit: unit{load: "not-found"}}, ""},
	} {
		var got []string
		for _, ch := range (Kind{}).Compare(plan.Task{Attrs: c.declared}, c.stands) {
			got = append(got, fmt.Sprintf("%s: %s -> %s", ch.What, ch.Before, ch.After))
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s: %v, want %s", name, got, c.want)
		}
	}
}

func TestWhatCannotBe(t *testing.T) {
	for name, c := range map[string]struct {
		attrs value.Attrs
		unit  unit
		want  string
	}{
		"there is no unit":            {value.Attrs{"running": true}, unit{load: "not-found"}, "there is no unit tide.service"},
		"none, and that is fine":      {value.Attrs{"running": true, "optional": true}, unit{load: "not-found"}, ""},
		"masked":                      {value.Attrs{"running": true}, unit{load: "masked"}, "is masked"},
		"masked, and to be down":      {value.Attrs{"running": false}, unit{load: "masked"}, ""},
		"static, and to be at boot":   {value.Attrs{"boot": true}, unit{load: "loaded", file: "static"}, "no [Install] section"},
		"static, and not to be there": {value.Attrs{"boot": false}, unit{load: "loaded", file: "static"}, ""},
	} {
		err := problem(plan.Task{Ref: value.Ref{Kind: "service", Name: "tide"}, Attrs: c.attrs}, state{unit: c.unit})
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}
