package layers

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

func host() View {
	return View{Vars: &expr.Vars{Host: map[string]any{"name": "gauge-01", "site": "pier"},
		Facts: map[string]any{"os": map[string]any{"id": "debian"}}}, Groups: []string{"all", "gauge"}}
}

func TestExplain(t *testing.T) {
	files := fstest.MapFS{
		"data/shared.toml":        {Data: []byte("a = 1\nt.x = 1\nlist = [1]\n")},
		"data/group/gauge.toml":   {Data: []byte("a = 2\nt.y = 2\nlist = [2]\n")},
		"data/host/gauge-01.toml": {Data: []byte("a = 3\n")},
		"data/.hidden.toml":       {Data: []byte("a = ")},
		"data/notes.md":           {Data: []byte("a = ")},
	}
	var ps problem.Problems
	d := Load(files, Config{Layers: Defaults, Lists: map[string]Rule{"list": Append}}, &ps)
	for path, want := range map[string]string{
		"a": "shared 1 no replaced by host/gauge-01|os/debian - no no file|group/all - no no file|group/gauge 2 no " +
			"replaced by host/gauge-01|site/pier - no no file|host/gauge-01 3 yes ",
		"t": "shared map[x:1] yes merged key by key|os/debian - no no file|group/all - no no file|group/gauge " +
			"map[y:2] yes merged key by key|site/pier - no no file|host/gauge-01 - no does not set it",
		"t.x": "shared 1 yes |os/debian - no no file|group/all - no no file|group/gauge - no does not set " +
			"it|site/pier - no no file|host/gauge-01 - no does not set it",
		"list": "shared [1] yes append|os/debian - no no file|group/all - no no file|group/gauge [2] yes " +
			"append|site/pier - no no file|host/gauge-01 - no does not set it",
	} {
		steps, err := d.Explain(host(), strings.Split(path, "."))
		var got []string
		for _, s := range steps {
			said, used := "-", "no"
			if s.Says {
				said = sprint(s.Value)
			}
			if s.Used {
				used = "yes"
			}
			got = append(got, strings.Join([]string{s.Name, said, used, s.Note}, " "))
		}
		if strings.Join(got, "|") != want || err != nil {
			t.Errorf("%s:\n got %s (%v)\nwant %s", path, strings.Join(got, "|"), err, want)
		}
	}
	if !OfEnv([]string{"shared", "env/${env}/${host.site}"}, "env/production/pier", "production") ||
		OfEnv([]string{"env/${env}"}, "env/test", "production") || OfEnv([]string{"shared"}, "shared", "test") {
		t.Error("it is wrong about the layers of an environment")
	}
}

// FuzzLayers holds that whatever two files say, a host gets a tree or an error
// with a place, and that later layers win.
func FuzzLayers(f *testing.F) {
	f.Add("a: 1\nb: {c: 2}\n", "b: {c: 3}\nlist: [x]\n")
	f.Add("list: [x]\n", "list: {remove: [x], add: [y]}\n")
	f.Add("list: 1\n", "list: [1]\n")
	f.Add("a: {b: 1}\n", "a: 2\n")
	f.Fuzz(func(t *testing.T, under, over string) {
		files := fstest.MapFS{"data/shared.yaml": {Data: []byte(under)},
			"data/host/gauge-01.yaml": {Data: []byte(over)}}
		var ps problem.Problems
		d := Load(files, Config{Layers: Defaults, Lists: map[string]Rule{"list": AddMissing}}, &ps)
		tree, err := d.For(host())
		if err != nil {
			if !strings.Contains(err.Error(), "data/") {
				t.Fatalf("the error has no place: %v", err)
			}
			return
		}
		alone := d.read("data/host/gauge-01.yaml").values
		for k, v := range alone {
			switch v.(type) {
			case map[string]any, []any:
			default:
				if k != "list" && !value.Equal(tree.Values[k], v) {
					t.Fatalf("%q over %q gives %v for %s", over, under, tree.Values[k], k)
				}
			}
		}
	})
}

func sprint(v any) string { return fmt.Sprint(v) }

// TestExplainShowsWhatCounts holds that just those steps count as used which
// the outcome is made of.
func TestExplainShowsWhatCounts(t *testing.T) {
	for name, c := range map[string]struct {
		under, between, over string
		path, want           string // the outcome, then what is used
	}{
		"a null over a table":       {"a: {b: 1}", "x: 1", "a: null", "a.b", "-"},
		"a null over what is in it": {"a: {b: {c: 1}}", "a: {b: null}", "a: {d: 1}", "a.b.c", "-"},
		"a table over a null":       {"a: {b: 1}", "a: null", "a: {b: 2}", "a.b", "2 host"},
		"another key over a null":   {"a: {b: 1}", "a: null", "a: {c: 2}", "a.b", "-"},
		"a null that is asked for":  {"a: {b: 1}", "x: 1", "a: null", "a", "null host"},
		"nothing in the way":        {"a: {b: 1}", "a: {c: 1}", "a: {d: 1}", "a.b", "1 shared"},
		"the last of three":         {"a: 1", "a: 2", "a: 3", "a", "3 host"},
		"a table made of three": {"a: {b: 1}", "a: {c: 1}", "a: {d: 1}", "a", "{b: 1, c: 1, d: 1} shared " +
			"group host"},
		"a table after a null was cut": {"a: {b: 1}", "a: null", "a: {c: 2}", "a", "{c: 2} group host"},
	} {
		files := fstest.MapFS{"data/shared.yaml": {Data: []byte(c.under)},
			"data/group/gauge.yaml":   {Data: []byte(c.between)},
			"data/host/gauge-01.yaml": {Data: []byte(c.over)}}
		var ps problem.Problems
		d := Load(files, Config{Layers: Defaults}, &ps)
		tree, err := d.For(host())
		if err = errors.Join(ps.Err(), err); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		at := strings.Split(c.path, ".")
		var v any = tree.Values
		there := true
		for _, k := range at {
			m, _ := v.(map[string]any)
			v, there = m[k]
		}
		got := "-"
		if there {
			got = sprint(v)
			if v == nil {
				got = "null"
			}
		}
		steps, err := d.Explain(host(), at)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range steps {
			if s.Used {
				layer, _, _ := strings.Cut(s.Name, "/")
				got += " " + layer
			}
		}
		want := strings.NewReplacer("{", "map[", "}", "]", ": ", ":", ",", "").Replace(c.want)
		if got != want {
			t.Errorf("%s: %s gives %q, want %q", name, c.path, got, want)
		}
	}
}
