package reach_test

import (
	"context"
	"fmt"
	"os"

	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/host/machine/folder"
)

// A dialer makes one connection to a host and starts a worker there, which is sent along where the host has none yet.
// Here a simulated host says who it is and reports its facts.
func ExampleDialer_Open() {
	dir, _ := os.MkdirTemp("", "pier")
	defer os.RemoveAll(dir)
	hosts, err := sim.New(dir)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer hosts.Close()
	h, err := hosts.Add(folder.Spec{Name: "gauge-01"})
	if err != nil {
		fmt.Println(err)
		return
	}
	first, _ := wire.Frame(wire.Message{Start: &wire.Start{Format: wire.Format, OnlyFacts: true}})
	d := &reach.Dialer{KnownHosts: hosts.KnownHosts(), User: "keeper"}
	defer d.Close()
	s, err := d.Open(context.Background(), reach.Target{Name: "gauge-01", Address: h.Addr.IP.String(),
		Port: h.Addr.Port, Key: hosts.Key()}, first)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer s.Close()
	for c := wire.NewConn(s, s); ; {
		m, err := c.Receive()
		if err != nil {
			fmt.Println(err)
			return
		}
		if m.Facts != nil {
			fmt.Println(m.Facts.Hostname, m.Facts.OS.ID)
			return
		}
	}
	// Output: gauge-01 debian
}
