package apt

import (
	"slices"
	"testing"

	"jadekettle/internal/host/kinds/packages/backend"
)

const status = `Package: tide-logger
Status: install ok installed
Priority: optional
Architecture: amd64
Version: 1.4.2-1
Description: logs the tide
 Status: this line belongs to the description

Package: foghorn-relay
Status: install ok half-configured
Architecture: amd64
Version: 0.9.1-2

Package: old-ticker
Status: deinstall ok config-files
Architecture: all
Version: 0.3-1

Package: libtide
Status: install ok installed
Architecture: amd64
Version: 2.0

Package: libtide
Status: deinstall ok config-files
Architecture: i386
Version: 1.9

Package: not-asked-for
Status: install ok installed
Version: 1`

func TestTheDatabaseIsRead(t *testing.T) {
	db := parse([]byte(status), map[string]bool{"tide-logger": true, "foghorn-relay": true, "old-ticker": true,
		"libtide": true, "missing": true})
	for name, want := range map[string]backend.State{
		"tide-logger":   {Version: "1.4.2-1"},
		"foghorn-relay": {Half: "half-configured"},
		"old-ticker":    {Remains: true},
		"libtide":       {Version: "2.0"},
		"libtide:i386":  {Remains: true},
		"libtide:amd64": {Version: "2.0"},
		"missing":       {},
		"not-asked-for": {},
	} {
		if got := db[name]; got != want {
			t.Errorf("%s is %+v, want %+v", name, got, want)
		}
	}
}

const policy = `tide-logger:
  Installed: 1.4.2-1
  Candidate: 1.5.0-1
  Version table:
     1.5.0-1 500
        500 file:/srv/repo ./ Packages
 *** 1.4.2-1 500
        500 file:/srv/repo ./ Packages
        100 /var/lib/dpkg/status
mail-transport-agent:
  Installed: (none)
  Candidate: (none)
  Version table:
`

func TestOffers(t *testing.T) {
	got := offers(policy)
	if o := got["tide-logger"]; o.Newest != "1.5.0-1" || !slices.Equal(o.Versions, []string{"1.5.0-1", "1.4.2-1"}) {
		t.Errorf("it is %+v", o)
	}
	if o := got["mail-transport-agent"]; o.Newest != "" || len(o.Versions) > 0 {
		t.Errorf("what is only a name for others is offered: %+v", o)
	}
}

func TestNames(t *testing.T) {
	for name, good := range map[string]bool{"g++": true, "libc6:arm64": true, "Tide": false, "x": false,
		"e.+": true, "-o": false} {
		if err := (Manager{}).CheckName(name); (err == nil) != good {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestWhatItForesees(t *testing.T) {
	const text = "Remv git [1:2.39.5-0+deb12u2] [git:amd64 ]\nPurg git-man [1:2.39.5]\n" +
		"Inst tide-logger [1.4.2-1] (1.5.0-1 saltmarsh [all])\nInst buoy-tools:amd64 (1.1-1 saltmarsh [amd64]) []\n" +
		"Conf buoy-tools (1.1-1 saltmarsh [amd64])\n"
	want := []backend.Effect{{Name: "git", Was: "1:2.39.5-0+deb12u2"}, {Name: "git-man", Was: "1:2.39.5"},
		{Name: "tide-logger", Was: "1.4.2-1", Becomes: "1.5.0-1"}, {Name: "buoy-tools:amd64", Becomes: "1.1-1"}}
	if got := foreseen(text); !slices.Equal(got, want) {
		t.Errorf("got %+v", got)
	}
}
