package dnf

import (
	"slices"
	"testing"

	"jadekettle/internal/host/kinds/packages/backend"
)

func TestHeld(t *testing.T) {
	const four = "# Added lock on Mon Nov 23 2026\ntide-logger-0:1.4.2-1.*\ntide-logger-extra-0:1-1.*\n"
	const five = "version = \"1.0\"\n[[packages]]\nname = \"salt-lamp\"\n"
	for name, want := range map[string]bool{"tide-logger": true, "tide-logger-extra": true, "tide": false,
		"salt-lamp": true, "lamp": false} {
		if got := held(four, name) || held(five, name); got != want {
			t.Errorf("%s is held: %t, want %t", name, got, want)
		}
	}
}

func TestSpec(t *testing.T) {
	for _, c := range []struct{ name, version, want string }{
		{"tide-logger", "", "tide-logger"}, {"tide-logger", "1.4-1", "tide-logger-1.4-1"},
		{"tide-logger.noarch", "1:1.4-1", "tide-logger-1:1.4-1.noarch"}, {"python3.11", "3-1", "python3.11-3-1"},
	} {
		if got := spec(backend.Want{Name: c.name, Version: c.version}); got != c.want {
			t.Errorf("%s in %s is %s, want %s", c.name, c.version, got, c.want)
		}
	}
}

func TestErrorLines(t *testing.T) {
	for text, want := range map[string]string{
		"Error: Unable to find a match: ghost\n":                      "Unable to find a match: ghost",
		"warning: x\nError: \n Problem: nothing provides sea\nmore\n": "Problem: nothing provides sea",
		"first\nlast\n": "last",
	} {
		if got := errorLine(text); got != want {
			t.Errorf("of %q it shows %q, want %q", text, got, want)
		}
	}
}

func TestWhatItForesees(t *testing.T) {
	const table = `Dependencies resolved.
================================================================================
 Package               Architecture     Version           Repository       Size
================================================================================
Upgrading:
 tide-logger           noarch           1.5.0-1           tides           6.0 k
     replacing  ebb-logger.noarch 1.0-1
 buoy-tools            noarch           1.1-1             tides           6.0 k
   replacing buoy-tools noarch          1.0-1             tides           6.0 k
   replacing old-buoys noarch           0.9-1             tides           6.0 k
Removing dependent packages:
 a-very-long-name-for-a-package-that-lights-the-buoys-of-the-bay
                       noarch           1.10.0-1          @tides          7
Installing dependencies:
 salt-lamp             noarch           2.0-1             tides           6.0 k

Transaction Summary
================================================================================
Upgrade  1 Package
`
	want := []backend.Effect{{Name: "tide-logger", Arch: "noarch", Was: another, Becomes: "1.5.0-1"},
		{Name: "ebb-logger", Arch: "noarch", Was: "1.0-1"},
		{Name: "buoy-tools", Arch: "noarch", Was: "1.0-1", Becomes: "1.1-1"},
		{Name: "old-buoys", Arch: "noarch", Was: "0.9-1"},
		{Name: "a-very-long-name-for-a-package-that-lights-the-buoys-of-the-bay", Arch: "noarch", Was: "1.10.0-1"},
		{Name: "salt-lamp", Arch: "noarch", Becomes: "2.0-1"}}
	if got := foreseen(table); !slices.Equal(got, want) {
		t.Errorf("got %+v", got)
	}
}
