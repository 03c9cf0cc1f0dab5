package user

import (
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

const (
	one = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDHGtBhzgbo2OkA4cFiZ7VSkAMZMWB8Rcz71hTjqBkkG maren"
	two = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIL1gZGUjwVkZyRxu30u5mJHjMNNvU3Q2FBSbWIl8wxCd olga@desk"
)

func TestKeys(t *testing.T) {
	for name, c := range map[string]struct {
		declared  []any
		only      bool
		old, want string
	}{
		"a new file":     {[]any{one}, false, "", one + "\n"},
		"beside another": {[]any{one}, false, two + "\n", two + "\n" + one + "\n"},
		"in the place": {[]any{`from="192.0.2.0/24" ` + one}, false, one + "\n" + two + "\n",
			`from="192.0.2.0/24" ` + one + "\n" + two + "\n"},
		"only this one":     {[]any{one}, true, "# mine\n" + two + "\n" + one + "\n", "# mine\n" + one + "\n"},
		"none at all":       {[]any{}, true, one + "\n" + two, ""},
		"once of two":       {[]any{one}, false, one + "\n" + one + "\n", one + "\n"},
		"with spaces in":    {[]any{`command="echo \"a b\"" ` + two}, true, "", `command="echo \"a b\"" ` + two + "\n"},
		"what is not a key": {[]any{one}, true, "garbage\n", "garbage\n" + one + "\n"},
		"an option before":  {[]any{one}, true, "no-pty " + two + "\n", one + "\n"},
	} {
		task := plan.Task{Attrs: value.Attrs{"keys": c.declared, "only_keys": c.only}}
		if got := wantedKeys(task, c.old); got != c.want || wantedKeys(task, got) != got {
			t.Errorf("%s gives %q, want %q", name, got, c.want)
		}
	}
	for line, want := range map[string]bool{one: true, "no-pty,from=\"a b\" " + one: true, "# " + one: false,
		"ssh-ed25519 AAAA":    false,
		"ssh-rsa " + one[12:]: false, "a b " + one: false, "": false} {
		if got := keyOf(line) != ""; got != want {
			t.Errorf("%q is a key: %v", line, got)
		}
	}
}
