package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestPasswordsOfACall settles what a call says of passwords, before any host is
// contacted.
func TestPasswordsOfACall(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string, mode os.FileMode) string {
		p := filepath.Join(dir, name)
		if err := os.WriteFile(p, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		return p
	}
	right := file("right", "ebb-and-flow\r\n", 0o600)
	for name, c := range map[string]struct {
		p                Passwords
		login, elevation bool
		want             string
	}{
		"none":   {p: Passwords{}},
		"a file": {p: Passwords{File: right}, elevation: true},
		"a file for both": {p: Passwords{File: right, For: []string{"login", "elevate"}}, login: true,
			elevation: true},
		"a command":         {p: Passwords{Command: "echo ebb-and-flow"}, elevation: true},
		"a command failed":  {p: Passwords{Command: "exit 3"}, want: "the password command failed: exit status 3"},
		"both":              {p: Passwords{Command: "x", File: "y"}, want: "cannot be combined"},
		"asked for another": {p: Passwords{For: []string{"root"}}, want: `invalid --ask "root"; use login or elevate`},
		"nobody to ask": {p: Passwords{For: []string{"login"}}, want: "entering a password needs a " +
			"terminal"},
		"open to all":  {p: Passwords{File: file("open", "x\n", 0o644)}, want: "is readable by other users"},
		"not there":    {p: Passwords{File: filepath.Join(dir, "no")}, want: "the password file cannot be read"},
		"empty":        {p: Passwords{File: file("empty", "\n", 0o600)}, want: "the password is empty"},
		"two lines":    {p: Passwords{File: file("two", "a\nb\n", 0o600)}, want: "has several lines"},
		"far too long": {p: Passwords{File: file("long", strings.Repeat("a", 5000), 0o600)}, want: "too long"},
	} {
		login, elevation, err := c.p.settle(&Caller{})
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s gives %v, want %q", name, err, c.want)
			continue
		}
		if (login != nil) != c.login || (elevation != nil) != c.elevation {
			t.Errorf("%s gives %v and %v", name, login != nil, elevation != nil)
		}
		if c.elevation {
			if secret, err := elevation.Ask(); err != nil || secret.Reveal() != "ebb-and-flow" {
				t.Errorf("%s gives %d bytes (%v)", name, len(secret.Reveal()), err)
			}
		}
	}
}
