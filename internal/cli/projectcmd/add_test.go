package projectcmd

import (
	"strings"
	"testing"

	"jadekettle/internal/app/edit"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/host/kinds"
)

// TestAnswers takes what is typed into the form for what it is.
func TestAnswers(t *testing.T) {
	for _, c := range []struct{ kind, attr, typed, want string }{
		{"user", "uid", "2101", "uid = 2101"},
		{"user", "uid", "many", `uid must be an integer, not "many"`},
		{"user", "uid", "-1", "uid must not be negative"},
		{"user", "uid", "${host.number}", `uid = "${host.number}"`},
		{"user", "uid", "  ", "skipped"},
		{"user", "groups", "keepers, watch", `groups = ["keepers", "watch"]`},
		{"user", "groups", "two words", `groups: invalid user or group name "two words"`},
		{"user", "system", "true", "system = true"},
		{"user", "system", "", "skipped"},
		{"user", "comment", `the "first" keeper`, `comment = 'the "first" keeper'`},
		{"user", "comment", `it's "so"`, `comment = "it's \"so\""`},
		{"user", "password", "ebb", "password does not belong on a command line"},
		{"user", "password", "${data.keeper}", `password = "${data.keeper}"`},
		{"file", "mode", "644", `mode = "644"`},
		{"file", "mode", "rw", `mode: invalid mode "rw"`},
		{"file", "content", "a\tb", `content = "a\tb"`},
		{"service", "restart_on", "file /etc/a", `restart_on = ["file /etc/a"]`},
		{"package", "version", "newest", `version = "newest"`},
	} {
		k, _ := kinds.Schemas().Kind(c.kind)
		at, _ := k.Attr(c.attr)
		e := &edit.Entry{Kind: k}
		got := "skipped"
		if v, given := answer(at, c.typed); given {
			if err := e.Set(at, v); err != nil {
				got = cli.Bare(err).Error()
			} else {
				got = c.attr + " = " + manifest.Literal(e.Attrs[c.attr])
			}
		}
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%s.%s answered %q gives %s, want %s", c.kind, c.attr, c.typed, got, c.want)
		}
	}
}
