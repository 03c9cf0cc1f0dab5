package kinds_test

import (
	"slices"
	"strings"
	"testing"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// TestEverySchemaIsWhole holds every kind to what its documentation is made of.
func TestEverySchemaIsWhole(t *testing.T) {
	for _, k := range kinds.All() {
		s := k.Schema()
		if s.About == "" || s.Doc == "" || s.Area == "" || s.Canon == nil {
			t.Errorf("%s does not say what it is", s.Name)
		}
		seen := map[string]bool{}
		for _, name := range s.Names() {
			a, ok := s.Attr(name)
			if !ok || seen[name] || a.Doc == "" || !strings.HasSuffix(a.Doc, ".") {
				t.Errorf("%s.%s is not documented well, or there twice", s.Name, name)
			}
			seen[name] = true
		}
		for _, taken := range schema.Reserved {
			if seen[taken] && taken != "about" && taken != schema.Labels || s.Name == taken {
				t.Errorf("%s uses the reserved word %s", s.Name, taken)
			}
		}
		if found, ok := kinds.Find(s.Name); !ok || found.Schema() != s {
			t.Errorf("%s is not found by its name", s.Name)
		}
	}
}

func TestNamesAreCanonical(t *testing.T) {
	for ref, want := range map[string]string{
		"file /etc//motd":                  "/etc/motd",
		"dir /srv/tide/":                   "/srv/tide",
		"file etc/motd":                    "error",
		"file /etc/../motd":                "error",
		"service tide-logger.service":      "tide-logger",
		"service tide-logger.timer":        "tide-logger.timer",
		"service getty@tty1":               "getty@tty1",
		"service a b":                      "error",
		"package g++":                      "g++",
		"package libc6:arm64":              "libc6:arm64",
		"package Tide":                     "Tide",
		"package tide-":                    "error",
		"package -tide":                    "error",
		"service -tide":                    "error",
		"package x":                        "error",
		"user maren":                       "maren",
		"user two words":                   "error",
		"user:9lives":                      "error",
		"group:" + strings.Repeat("a", 33): "error",
		"tide:x":                           "error",
	} {
		got, err := kinds.Schemas().ParseRef(ref)
		if err != nil {
			got.Name = "error"
		}
		if got.Name != want {
			t.Errorf("%s becomes %q, want %q (%v)", ref, got.Name, want, err)
		}
	}
}

func TestImpliedNeeds(t *testing.T) {
	for _, c := range []struct {
		kind, name, declared, want string
		attrs                      value.Attrs
	}{
		{"file", "/srv/a/b/f", "dir /srv, dir /srv/a", "dir /srv/a", nil},
		{"file", "/srv/a/b/f", "dir /srv, mount /srv/a", "mount /srv/a", nil},
		{"dir", "/srv/a", "dir /srv, mount /srv/a", "dir /srv, mount /srv/a", nil},
		{"file", "/f", "user maren, group maren", "user maren, group maren",
			value.Attrs{"owner": "maren", "group": "maren"}},
		{"file", "/f", "user maren", "user maren", value.Attrs{"group": "maren"}},
		{"user", "maren", "group maren, group keepers, user keepers", "group maren, group keepers",
			value.Attrs{"groups": []any{"keepers"}}},
		{"user", "maren", "user keepers", "user keepers", value.Attrs{"groups": []any{"keepers"}}},
		{"service", "tide", "package tide, file /lib/systemd/system/tide.service",
			"package tide, file /lib/systemd/system/tide.service", nil},
		{"service", "tide@1", "package tide, file /etc/systemd/system/tide@.service",
			"package tide, file /etc/systemd/system/tide@.service", nil},
	} {
		k, _ := kinds.Schemas().Kind(c.kind)
		declared := func(r value.Ref) bool { return slices.Contains(strings.Split(c.declared, ", "), r.String()) }
		in := func(string) []value.Ref { return nil }
		var got []string
		for _, r := range k.Needs(schema.Needer{Ref: value.Ref{Kind: c.kind, Name: c.name}, Attrs: c.attrs,
			Declared: declared, In: in}) {
			if declared(r) {
				got = append(got, r.String())
			}
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s %s with %s needs %v, want %s", c.kind, c.name, c.declared, got, c.want)
		}
	}
}

// TestEveryExampleIsTaken writes each example into a manifest's line and holds
// it to the attribute's own type.
func TestEveryExampleIsTaken(t *testing.T) {
	n := 0
	for _, k := range kinds.All() {
		for _, a := range append(k.Schema().Attrs, schema.Common...) {
			for _, example := range a.Examples {
				var ps problem.Problems
				root, _ := manifest.ParseTOML("example", []byte(a.Name+" = "+example), &ps)
				if err := ps.Err(); err != nil {
					t.Errorf("%s.%s: %v", k.Schema().Name, a.Name, err)
					continue
				}
				if _, err := a.Value(root.Get(a.Name).Plain()); err != nil && !strings.Contains(example, "${") {
					t.Errorf("%s: %v", k.Schema().Name, err)
				}
				n++
			}
		}
	}
	if n < 40 {
		t.Errorf("there are only %d examples", n)
	}
}
