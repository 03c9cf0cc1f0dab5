package cli_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/ownkind"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schedule"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/host/kinds"
)

// TestEveryKeyIsRead writes every key that the reference has into its file: whatever else is wrong with it then, it is
// known.
func TestEveryKeyIsRead(t *testing.T) {
	values := map[schema.Takes]string{schema.TakesText: `"x"`, schema.TakesInt: "1", schema.TakesBool: "true",
		schema.TakesList: `["x"]`, schema.TakesTable: "{ }", schema.TakesSize: `"1 MiB"`, schema.TakesCount: "1",
		schema.TakesAny: `"x"`, schema.TakesEither: `"x"`}
	fromRoot := func(read func(*manifest.Node, *problem.Problems)) func(string) error {
		return func(text string) error {
			var ps problem.Problems
			root, _ := manifest.ParseTOML("a.toml", []byte(text), &ps)
			read(root, &ps)
			return ps.Err()
		}
	}
	project := func(name string, read func(fstest.MapFS, *problem.Problems)) func(string) error {
		return func(text string) error {
			var ps problem.Problems
			read(fstest.MapFS{name: {Data: []byte(text)}}, &ps)
			return ps.Err()
		}
	}
	jobs := project(job.File, func(fsys fstest.MapFS, ps *problem.Problems) { job.Load(fsys, ps) })
	set := project(settings.File, func(fsys fstest.MapFS, ps *problem.Problems) { settings.Load(fsys, ps) })
	hosts := project("hosts.toml", func(fsys fstest.MapFS, ps *problem.Problems) {
		inventory.Load(fsys, []string{"hosts.toml"}, "", ps)
	})
	facts := project("facts/a.toml", func(fsys fstest.MapFS, ps *problem.Problems) { manifest.LoadFacts(fsys, ps) })
	own := project("kinds/buoy/kind.toml", func(fsys fstest.MapFS, ps *problem.Problems) {
		ownkind.Load(fsys, []string{""}, kinds.Schemas(), ps)
	})
	rehearsal := project("rehearsal/a.toml", func(fsys fstest.MapFS, ps *problem.Problems) {
		if _, err := rehearse.Load(fsys, nil); err != nil {
			ps.AddErr(problem.Problem{}.Place, errors.New(err.Error()))
		}
	})
	uses := project("manifests/a.toml", func(fsys fstest.MapFS, ps *problem.Problems) {
		manifest.Load(fsys, nil, kinds.Schemas(), ps)
	})
	for _, c := range []struct {
		head string
		keys []schema.Key
		read func(text string) error
	}{
		{"", settings.Keys, set}, {"[env.a]\n", settings.EnvKeys, set}, {"[notify.a]\n", settings.NotifyKeys, set},
		{"[job.a]\n", job.Keys, jobs}, {"[job.a.input.b]\n", job.InputKeys, jobs},
		{"[job.a.schedule]\n", schedule.Keys, jobs}, {"[fact.a]\n", manifest.FactKeys, facts},
		{"[use.a]\n", manifest.UseKeys, uses},
		{"[group.a]\n", inventory.GroupKeys, hosts}, {"[host.a]\n", inventory.HostKeys, hosts},
		{"[host.a.connect]\n", inventory.ConnectKeys, hosts},
		{"[host.a]\n", rehearse.HostKeys, rehearsal}, {"[host.a.expect]\n", rehearse.ExpectKeys, rehearsal},
		{"", ownkind.Keys, own}, {"[attribute.a]\n", ownkind.AttributeKeys, own},
		{"", param.Keys, fromRoot(func(n *manifest.Node, ps *problem.Problems) {
			param.Read(manifest.Key{Name: "a", Node: n}, ps)
		})},
	} {
		for _, k := range c.keys {
			err := c.read(fmt.Sprintf("%s%s = %s\n", c.head, k.Name, values[k.Takes]))
			if err != nil && (strings.Contains(err.Error(), "has no \""+k.Name+"\"") ||
				strings.Contains(err.Error(), "unknown setting")) {
				t.Errorf("%s%s: %v", c.head, k.Name, err)
			}
		}
		own := c.head == "[host.a]\n" && &c.keys[0] == &inventory.HostKeys[0] // which takes keys that people choose
		if err := c.read(c.head + "zebra-crossing = 1\n"); !own && err == nil {
			t.Errorf("%sany key is taken", c.head)
		}
	}
}
