package differ_test

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/differ"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

func task(ref string, attrs value.Attrs) plan.Task {
	r, _ := value.ParseRef(ref)
	return plan.Task{Ref: r, Attrs: attrs}
}

// TestPlans says what differs between two plans, and keeps secrets out of it.
func TestPlans(t *testing.T) {
	base := func() *plan.Plan {
		conf, unit := task("file /etc/tide", value.Attrs{"mode": "0644"}),
			task("service tide", value.Attrs{"running": true})
		conf.Content = &plan.Content{SHA256: "a", Size: 3}
		unit.ID, unit.Needs = 1, []int{0}
		conf.Triggers = []plan.Pending{{Service: unit.Ref, Action: plan.Restart}}
		maren := task("user maren", value.Attrs{"password": value.NewSecret("salt & water"), "groups": []any{"divers"}})
		maren.ID = 2
		return &plan.Plan{Tasks: []plan.Task{conf, unit, maren}}
	}
	for name, c := range map[string]struct {
		change func(p *plan.Plan)
		want   string
	}{
		"nothing": {func(*plan.Plan) {}, ""},
		"a mode": {func(p *plan.Plan) { p.Tasks[0].Attrs["mode"] = "0600" }, "file /etc/tide differs: mode 0644 " +
			"-> 0600"},
		"a content": {func(p *plan.Plan) { p.Tasks[0].Content.SHA256 = "b" }, "file /etc/tide differs: content 3 " +
			"bytes -> 3 bytes"},
		"absent": {func(p *plan.Plan) { p.Tasks[1].Absent = true }, "service tide differs: absent no -> yes"},
		"an edge": {func(p *plan.Plan) { p.Tasks[1].Needs = nil },
			"service tide differs: needs file /etc/tide -> none"},
		"a restart": {func(p *plan.Plan) { p.Tasks[0].Triggers = nil },
			"file /etc/tide differs: triggers restart of service tide -> none"},
		"a password": {func(p *plan.Plan) { p.Tasks[2].Attrs["password"] = value.NewSecret("fresh") },
			"user maren differs: password (secret) -> another one"},
		"a list": {func(p *plan.Plan) { p.Tasks[2].Attrs["groups"] = []any{} }, "user maren differs: groups " +
			"[\"divers\"] -> []"},
		"tries": {func(p *plan.Plan) { p.Tasks[1].Tries = plan.Tries{More: 2, Every: 1e9, Limit: 6e10} },
			"service tide differs: tries 1 -> 3, 1s apart, each within 1m0s"},
		"what becomes of it": {func(p *plan.Plan) { p.Tasks[1].OnRemoval = "remove" }, "service tide differs: " +
			"on_removal keep -> remove"},
		"one less and one more": {func(p *plan.Plan) { p.Tasks[2] = task("group divers", nil); p.Tasks[2].ID = 2 },
			"group divers new; user maren gone"},
	} {
		later := base()
		c.change(later)
		var got []string
		for _, d := range differ.Plans(base(), later) {
			line := d.Ref.String() + " " + string(d.How)
			for _, ch := range d.Changes {
				line += fmt.Sprintf(": %s %s -> %s", ch.What, ch.Was, ch.Becomes)
			}
			got = append(got, line)
		}
		if text := strings.Join(got, "; "); text != c.want || strings.Contains(text, "salt & water") ||
			strings.Contains(text, "fresh") {
			t.Errorf("%s: %s\n want %s", name, text, c.want)
		}
	}
}
