package service

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/service/backend"
	"jadekettle/internal/host/kinds/service/systemd"
	"jadekettle/internal/host/ledger"
)

func TestCompare(t *testing.T) {
	up := backend.State{There: true, Running: true, Boot: true}
	down := backend.State{There: true}
	crashed := backend.State{There: true, Failed: true, Boot: true}
	stale, broken := up, up
	stale.Stale, broken.Broken = true, true
	restart := ledger.Pending{Action: "restart", Cause: value.Ref{Kind: "file", Name: "/a"}}
	reload := ledger.Pending{Action: "reload", Cause: value.Ref{Kind: "file", Name: "/b"}}
	yes := value.Attrs{"running": true, "at_boot": true}
	no := value.Attrs{"running": false, "at_boot": false}
	for name, c := range map[string]struct {
		declared value.Attrs
		current  state
		want     string
	}{
		"as it should be":  {yes, state{State: up}, ""},
		"down":             {yes, state{State: down}, "running: no -> yes, at_boot: no -> yes"},
		"crashed":          {yes, state{State: crashed}, "running: failed -> yes"},
		"to be stopped":    {no, state{State: up}, "running: yes -> no, at_boot: yes -> no"},
		"nothing declared": {nil, state{State: down}, ""},
		"a restart is due": {yes, state{up, nil, []ledger.Pending{restart}}, "restart: required since file /a " +
			"changed -> done"},
		"a reload is due": {yes, state{up, nil, []ledger.Pending{reload}}, "reload: required since file /b changed " +
			"-> done"},
		"both are due": {yes, state{up, nil, []ledger.Pending{reload, restart, restart}},
			"restart: required since file /b, file /a changed -> done"},
		"due while down": {yes, state{down, nil, []ledger.Pending{restart}}, "running: no -> yes, at_boot: " +
			"no -> yes"},
		"due while to be down": {no, state{up, nil, []ledger.Pending{restart}},
			"running: yes -> no, at_boot: yes -> no"},
		"a unit that cannot load": {yes, state{State: broken},
			"definition: not loaded; for the reason, see `systemctl status .service` -> loaded"},
		"the unit file is newer": {yes, state{State: stale}, "definition: changed since it was loaded -> loaded"},
		"optional and not there": {yes, state{}, ""},
	} {
		c.current.by = systemd.Manager{}
		var got []string
		for _, ch := range (services{}).Compare(plan.Task{Attrs: c.declared}, c.current) {
			got = append(got, fmt.Sprintf("%s: %s -> %s", ch.What, ch.Was, ch.Becomes))
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s: %v, want %s", name, got, c.want)
		}
	}
}

func TestWhatCannotBe(t *testing.T) {
	for name, c := range map[string]struct {
		attrs value.Attrs
		state backend.State
		want  string
	}{
		"no such unit":           {value.Attrs{"running": true}, backend.State{}, "host"},
		"none, and that is fine": {value.Attrs{"running": true, "optional": true}, backend.State{}, ""},
		"masked": {value.Attrs{"running": true}, backend.State{There: true, Barred: true},
			"masked"},
		"masked, and to be down": {value.Attrs{"running": false}, backend.State{There: true, Barred: true}, ""},
		"once, and to be running": {value.Attrs{"running": true}, backend.State{There: true, Once: true},
			"never stays running"},
		"once, and at work": {value.Attrs{"running": true},
			backend.State{There: true, Once: true, Running: true}, ""},
		"once, and another by now": {value.Attrs{"running": true},
			backend.State{There: true, Once: true, Stale: true}, ""},
		"to be masked by its own file": {value.Attrs{"masked": true}, backend.State{There: true,
			Unmasked: "its own file is /etc/systemd/system/tide.service"}, "cannot be masked: its own file is"},
		"static, and to be at boot": {value.Attrs{"at_boot": true}, backend.State{There: true,
			BootFixed: "has no [Install] section"}, "no [Install] section"},
		"static, and not to be there": {value.Attrs{"at_boot": false}, backend.State{There: true,
			BootFixed: "has no [Install] section"}, ""},
	} {
		err := obstacle(plan.Task{Ref: value.Ref{Kind: "service", Name: "tide"}, Attrs: c.attrs},
			state{State: c.state, by: systemd.Manager{}})
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}
