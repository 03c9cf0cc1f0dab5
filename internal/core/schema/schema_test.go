package schema

import (
	"fmt"
	"testing"

	"jadekettle/internal/core/value"
)

func TestValuesAreCheckedAgainstTheirTypes(t *testing.T) {
	for _, c := range []struct {
		attr Attr
		in   any
		want string
	}{
		{Attr{Name: "mode", Type: Mode}, "644", "0644"},
		{Attr{Name: "mode", Type: Mode}, "4755", "4755"},
		{Attr{Name: "mode", Type: Mode}, int64(644),
			`error: mode needs a mode such as "0644", not a whole number (644); write mode = "0644"`},
		{Attr{Name: "mode", Type: Mode}, "0888",
			`error: mode: "0888" is no mode; write four octal digits, such as "0644"`},
		{Attr{Name: "running", Type: Bool}, "yes",
			`error: running needs true or false, without quotes, not text ("yes"); ` +
				`write running = true`},
		{Attr{Name: "uid", Type: Int}, "7", `error: uid needs a whole number, without quotes, not text ("7")`},
		{Attr{Name: "uid", Type: Int}, int64(-1), `error: uid must not be negative`},
		{Attr{Name: "timeout", Type: Duration}, "1d12h", "1d12h"},
		{Attr{Name: "timeout", Type: Duration}, "0s",
			`error: timeout is "0s", which is no length of time; write "90s", "10m" or "2h"`},
		{Attr{Name: "home", Type: Path}, "/srv//tide/./x/", "/srv/tide/x"},
		{Attr{Name: "home", Type: Path}, "srv", `error: home: "srv" is no absolute path; start it with /`},
		{Attr{Name: "home", Type: Path}, "/srv/../etc",
			`error: home: "/srv/../etc" climbs with ..; write the path out`},
		{Attr{Name: "groups", Type: Name, List: true}, []any{"a", "b"}, "[a b]"},
		{Attr{Name: "groups", Type: Name, List: true}, "a",
			`error: groups takes a list, not text; write groups = ["a"]`},
		{Attr{Name: "group", Type: Name}, []any{"a"}, `error: group takes one value, not a list; write group = "a"`},
		{Attr{Name: "group", Type: Name}, "a b",
			`error: group is "a b", which is no account or group name; use up to 32 letters, digits, dots, ` +
				`dashes and ` +
				`underscores, a letter or underscore first`},
		{Attr{Name: "password", Type: Hidden}, int64(1234),
			`error: password needs text, not a whole number; put it in quotes`},
		{Attr{Name: "password", Type: Hidden}, "0123", value.Hidden},
		{Attr{Name: "version", Type: Version}, 1.5,
			`error: version needs a version, not a number (1.5); write version = "1.5"`},
		{Attr{Name: "version", Type: Version}, "1.5 beta",
			`error: version is "1.5 beta", which is no version; write "newest" or a version as the package ` +
				`manager prints it`},
		{Attr{Name: "copy", Type: Copy}, "../x",
			`error: copy is "../x"; it is a path inside the manifest's folder, with no leading slash and no .. in it`},
		{Attr{Name: "level", Choices: []string{"low", "high"}}, "mid", `error: level is "mid"; it takes low, high`},
		{Attr{Name: "text"}, "a\x00b", `error: text holds a NUL byte; take it out`},
		{Attr{Name: "text"}, nil, `error: text needs text, not null; write text = "..."`},
	} {
		v, err := c.attr.Value(c.in)
		got := fmt.Sprint(v)
		if err != nil {
			got = "error: " + err.Error()
		}
		if got != c.want {
			t.Errorf("%s = %v\n got %s\nwant %s", c.attr.Name, c.in, got, c.want)
		}
	}
}
