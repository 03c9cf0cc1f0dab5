package settings_test

import (
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/settings"
)

func TestLoad(t *testing.T) {
	text := `project = "tide-pier"
requires = ">= 0.1"
[run]
parallel = 8
package_list_age = "7d"
[ssh]
connect_timeout = "5s"
[data]
layers = ["shared", "host/${host.name}"]
[data.lists]
gauge.sensors = "append"
[secrets]
recipients = ["age1x"]
[env.production]
default = true
inventory = ["production.toml"]
[env.test]
about = "the pool in the yard"
`
	var ps problem.Problems
	s := settings.Load(fstest.MapFS{settings.File: {Data: []byte(text)}}, &ps)
	if ps.Err() != nil {
		t.Fatal(ps.Err())
	}
	if s.Project != "tide-pier" || s.Parallel != 8 || s.PackageListAge != 7*24*time.Hour ||
		s.ConnectTimeout != 5*time.Second || len(s.LayerPlaces) != 2 || s.Lists["gauge.sensors"] != "append" ||
		s.Inventory[0] != "hosts.toml" {
		t.Errorf("it reads %+v", s)
	}
	if err := s.Choose(""); err != nil || s.Env != "production" || s.Inventory[0] != "production.toml" {
		t.Errorf("it chooses %s with %v (%v)", s.Env, s.Inventory, err)
	}
	if err := s.Choose("prodction"); err == nil || !strings.Contains(err.Error(), `did you mean "production"?`) {
		t.Errorf("a misspelt environment gives %v", err)
	}
	if len(settings.Keys) < 10 {
		t.Errorf("only %d keys are documented", len(settings.Keys))
	}
}

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{"90s": 90 * time.Second, "1h30m": 90 * time.Minute,
		"7d": 7 * 24 * time.Hour, "0d": 0, "-1s": -1, "soon": -1, "99999d": -1, "": -1} {
		if got, err := settings.ParseDuration(text); (err != nil) != (want < 0) || err == nil && got != want {
			t.Errorf("%q is %v (%v)", text, got, err)
		}
	}
}
