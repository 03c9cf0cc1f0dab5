package packages

import (
	"fmt"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
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
	db := parse([]byte(status), map[string]bool{"tide-logger": true, "foghorn-relay": true, "old-ticker": true, "libtide": true, "missing": true})
	for name, want := range map[string]state{
		"tide-logger":   {version: "1.4.2-1"},
		"foghorn-relay": {half: "half-configured"},
		"old-ticker":    {},
		"libtide":       {version: "2.0"},
		"libtide:i386":  {},
		"libtide:amd64": {version: "2.0"},
		"missing":       {},
		"not-asked-for": {},
	} {
		if got := db[name]; got != want {
			t.Errorf("%s is %+v, want %+v", name, got, want)
		}
	}
}

func TestCompare(t *testing.T) {
	for _, c := range []struct {
		declared string // version, or "absent"
		stands   state
		want     string
	}{
		{"", state{}, "absent -> installed"},
		{"", state{version: "1"}, ""},
		{"", state{half: "unpacked"}, "unpacked -> installed"},
		{"1", state{version: "1"}, ""},
		{"1", state{version: "2"}, "2 -> 1"},
		{"1", state{}, "absent -> 1"},
		{"newest", state{version: "1", candidate: "2"}, "1 -> 2"},
		{"newest", state{version: "2", candidate: "2"}, ""},
		{"newest", state{candidate: "2"}, "absent -> 2"},
		{"newest", state{}, "absent -> newest"}, // in a preview, before any list was read
		{"absent", state{version: "1"}, "1 -> absent"},
		{"absent", state{half: "half-installed"}, "half-installed -> absent"},
		{"absent", state{}, ""},
	} {
		task := plan.Task{Attrs: value.Attrs{"version": c.declared}}
		if c.declared == "absent" {
			task = plan.Task{Absent: true}
		}
		got := ""
		for _, ch := range (Kind{}).Compare(task, c.stands) {
			got += fmt.Sprintf("%s -> %s", ch.Before, ch.After)
		}
		if got != c.want {
			t.Errorf("declared %q, with %+v: %q, want %q", c.declared, c.stands, got, c.want)
		}
	}
}
