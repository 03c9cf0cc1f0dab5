package record_test

import (
	"fmt"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

// A run is the fold of its events: whoever has heard them all knows what happened, be it the screen, a file of the
// history or somebody who follows from another machine.
func ExampleRun_Apply() {
	run := &record.Run{Hosts: []*record.Host{&record.Host{Name: "gauge-01"}}}
	task := record.NewTask(plan.Result{Ref: value.Ref{Kind: "file", Name: "/etc/motd"}, Status: plan.Changed})
	ended := &record.Host{Name: "gauge-01", State: record.Reached, Tasks: []record.Task{task}}
	ended.Settle()
	for _, e := range []record.Event{
		{Host: "gauge-01", Begun: &record.Begun{Tasks: 1}},
		{Host: "gauge-01", Task: &task},
		{Host: "gauge-01", Ended: ended},
	} {
		run.Apply(e)
	}
	fmt.Println(run.Sentence())
	// Output: 1 host: 1 changed
}
