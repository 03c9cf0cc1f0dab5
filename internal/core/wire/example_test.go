package wire_test

import (
	"bytes"
	"fmt"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
)

// Both sides speak messages over any reader and writer. A secret stays one on
// the way.
func ExampleConn() {
	var line bytes.Buffer
	controller := wire.NewConn(nil, &line)
	task := plan.Task{Ref: value.Ref{Kind: "user", Name: "maren"},
		Attrs: value.Attrs{"password": value.NewSecret("salt")}}
	if err := controller.Send(wire.Message{Plan: &wire.Plan{Tasks: []plan.Task{task}, Last: true}}); err != nil {
		fmt.Println(err)
	}
	worker := wire.NewConn(&line, nil)
	m, err := worker.Receive()
	if err != nil {
		fmt.Println(err)
		return
	}
	got := m.Plan.Tasks[0]
	secret, _ := got.Attrs.Secret("password")
	fmt.Println(got.Ref, got.Attrs, secret.Reveal() == "salt")
	// Output:
	// user maren map[password:(secret)] true
}
