package projectcmd

import (
	"strings"
	"testing"

	"jadekettle/internal/app/capture"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// TestAHostCannotWriteTheManifest captures from a host that lies.
func TestAHostCannotWriteTheManifest(t *testing.T) {
	asked := []value.Ref{{Kind: "file", Name: "/etc/motd"}, {Kind: "user"}}
	ask := func(list ...plan.Captured) (string, string) {
		var out, errs strings.Builder
		e := &cli.Env{Out: &out, Err: &errs, Flags: cli.Flags{Output: "text"}}
		captured(e, "gauge-01", capture.Checked(kinds.Schemas(), asked, list))
		return out.String(), errs.String()
	}
	out, _ := ask(plan.Captured{Ref: asked[0], Attrs: map[string]any{"content": "a\"\n[package.foghorn-relay]\n",
		"mode": "0644"},
		Note: "fine\n[package.foghorn-relay]\r\nversion = \"1\"\n\u2028[file.\"/x\"]"})
	var ps problem.Problems
	root, _ := manifest.ParseTOML("captured", []byte(out), &ps)
	if ps.Err() != nil || len(root.Keys) != 1 || root.Get("package") != nil {
		t.Errorf("a remark became a declaration (%v):\n%s", ps.Err(), out)
	}
	for name, c := range map[string]plan.Captured{
		"another file": {Ref: value.Ref{Kind: "file", Name: "/etc/passwd"}},
		"another kind": {Ref: value.Ref{Kind: "package", Name: "foghorn-relay"}},
		"a condition":  {Ref: asked[0], Attrs: map[string]any{"if": "true"}},
		"a check":      {Ref: asked[0], Attrs: map[string]any{"check": "rm -r /"}},
		"a password": {Ref: value.Ref{Kind: "user", Name: "maren"},
			Attrs: map[string]any{"password_hash": "x"}},
		"a name that is a path": {Ref: value.Ref{Kind: "user", Name: "a\nb"}},
	} {
		if out, errs := ask(c); out != "" || errs == "" {
			t.Errorf("%s is taken:\n%s", name, out)
		}
	}
}
