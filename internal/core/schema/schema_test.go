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
			`error: mode must be a mode such as "0644", not an integer (644); write mode = "0644"`},
		{Attr{Name: "mode", Type: Mode}, "0888",
			`error: mode: invalid mode "0888"; use four octal digits, for example "0644"`},
		{Attr{Name: "running", Type: Bool}, "yes",
			`error: running must be true or false, without quotes, not a string ("yes"); write running = true`},
		{Attr{Name: "uid", Type: Int}, "7", `error: uid must be an integer, without quotes, not a string ("7")`},
		{Attr{Name: "uid", Type: Int}, int64(-1), `error: uid must not be negative`},
		{Attr{Name: "timeout", Type: Duration}, "1d12h", "1d12h"},
		{Attr{Name: "timeout", Type: Duration}, "0s",
			`error: timeout: invalid duration "0s"; use "90s", "10m", "24h" or "7d"`},
		{Attr{Name: "home", Type: Path}, "/srv//tide/./x/", "/srv/tide/x"},
		{Attr{Name: "home", Type: Path}, "srv", `error: home: path must be absolute: "srv"; start it with /`},
		{Attr{Name: "home", Type: Path}, "/srv/../etc",
			`error: home: "/srv/../etc" contains ..; write the path out`},
		{Attr{Name: "groups", Type: Name, List: true}, []any{"a", "b"}, "[a b]"},
		{Attr{Name: "groups", Type: Name, List: true}, "a",
			`error: groups must be a list, not a string; write groups = ["a"]`},
		{Attr{Name: "group", Type: Name}, []any{"a"},
			`error: group must be a single value, not a list; write group = "a"`},
		{Attr{Name: "group", Type: Name}, "a b",
			`error: group: invalid user or group name "a b"; use up to 32 letters, digits, dots, dashes and ` +
				`underscores, starting with a letter or underscore`},
		{Attr{Name: "password", Type: Hidden}, int64(1234),
			`error: password must be a string, not an integer; put it in quotes`},
		{Attr{Name: "password", Type: Hidden}, "0123", value.Hidden},
		{Attr{Name: "version", Type: Version}, 1.5,
			`error: version must be a version, not a number (1.5); write version = "1.5"`},
		{Attr{Name: "version", Type: Version}, "1.5 beta",
			`error: version: invalid version "1.5 beta"; use "newest", or a version as the package manager prints it`},
		{Attr{Name: "copy", Type: Copy}, "../x",
			`error: invalid copy: "../x"; use a path inside the manifest's directory, without a leading slash or ..`},
		{Attr{Name: "level", Choices: []string{"low", "high"}}, "mid", `error: invalid level: "mid"; use low, high`},
		{Attr{Name: "text"}, "a\x00b", `error: text contains a NUL byte; remove it`},
		{Attr{Name: "text"}, nil, `error: text must be a string, not null; write text = "..."`},
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
