package zypper

import (
	"fmt"
	"slices"
	"testing"

	"jadekettle/internal/host/kinds/packages/backend"
)

// The answer is zypper 1.14's to `zypper --xmlout search --details`.
func TestOffers(t *testing.T) {
	got, err := offers(`<?xml version='1.0'?>
<stream>
<message type="info">Loading repository data...</message>
<search-result version="0.0">
<solvable-list>
<solvable status="installed" name="tide-logger" kind="package" edition="1.4.2-1" arch="noarch" repository="tides"/>
<solvable status="other-version" name="tide-logger" kind="package" edition="1.10.0-1" arch="noarch" repository="tides"/>
<solvable status="other-version" name="tide-logger" kind="package" edition="1.9.0-1" arch="noarch"
	repository="more &amp; more"/>
<solvable status="installed" name="by-hand" kind="package" edition="1-1" arch="noarch" repository="(System Packages)"/>
</solvable-list>
</search-result>
</stream>`)
	if err != nil {
		t.Fatal(err)
	}
	if o := got["tide-logger"]; o.Newest != "1.10.0-1" || fmt.Sprint(o.Versions) != "[1.10.0-1 1.9.0-1 1.4.2-1]" {
		t.Errorf("it offers %+v", o)
	}
	if o := got["tide-logger.noarch"]; o.Newest != "1.10.0-1" {
		t.Errorf("with its architecture it offers %+v", o)
	}
	if o, there := got["by-hand"]; there {
		t.Errorf("what no repository has is offered: %+v", o)
	}
	if _, err := offers("<stream>cut"); err == nil {
		t.Error("half an answer is taken")
	}
}

func TestWhatItForesees(t *testing.T) {
	const xml = `<stream><install-summary packages-to-change="3"><to-remove>
<solvable type="package" name="salt-lamp" edition="2.0-1" arch="noarch" summary="made up">
<description>made up</description></solvable></to-remove><to-upgrade>
<solvable type="package" name="tide-logger" edition="1.5.0-1" arch="noarch" edition-old="1.4.2-1" arch-old="noarch"/>
</to-upgrade><to-install><solvable type="pattern" name="base" edition="1"/>
<solvable type="package" name="buoy-tools" edition="1.1-1" arch="noarch"/></to-install></install-summary></stream>`
	want := []backend.Effect{{Name: "salt-lamp", Arch: "noarch", Was: "2.0-1"},
		{Name: "tide-logger", Arch: "noarch", Was: "1.4.2-1", Becomes: "1.5.0-1"},
		{Name: "buoy-tools", Arch: "noarch", Becomes: "1.1-1"}}
	if got := foreseen(xml); !slices.Equal(got, want) {
		t.Errorf("got %+v", got)
	}
}
