package manifest

import (
	"reflect"
	"testing"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
)

func TestDecode(t *testing.T) {
	type gauge struct {
		Name, Site string
		Deep       bool
		Count      int
		Tags, Some []string
		Every      time.Duration
		Room       int64
		Any        any
	}
	keys := []schema.Key{{Name: "name"}, {Name: "site", Choices: []string{"pier", "jetty", "sluice"}}, {Name: "deep"}}
	for text, want := range map[string]string{
		"name = 'a'\nsite = 'pier'\ndeep = true\ncount = 7\ntags = []\nsome = ['x']\nevery = '1d'\nroom = '2 MiB'\n" +
			"any = { a = 1 }\nabout = 7\n": "",
		"room = 5\n":  "",
		"nam = 'a'\n": `g.toml:1:1: unknown key "nam" in a gauge; did you mean "name"?`,
		"x = 1\n": `g.toml:1:1: unknown key "x" in a gauge; available: name, site, deep, about, any, count, every, ` +
			`room, some, tags`,
		"name = 3\n":       "g.toml:1:8: name must be a string, not an integer; put it in quotes",
		"name = ''\n":      "g.toml:1:8: name is empty; set it or remove it",
		"site = 'peir'\n":  `g.toml:1:8: invalid site: "peir"; did you mean "pier"?`,
		"site = 'a'\n":     `g.toml:1:8: invalid site: "a"; use "pier", "jetty" or "sluice"`,
		"deep = 'yes'\n":   "g.toml:1:8: deep must be true or false; write deep = true, without quotes",
		"count = '7'\n":    "g.toml:1:9: count must be an integer from 1 to 9; write count = 7, without quotes",
		"count = 10\n":     "g.toml:1:9: count must be an integer from 1 to 9; write count = 2",
		"count = 7.5\n":    "g.toml:1:9: count must be an integer from 1 to 9; write count = 2",
		"tags = 'a'\n":     `g.toml:1:8: tags must be a list of strings; write tags = ["..."]`,
		"tags = ['a', 3]":  `g.toml:1:14: tags must be a list of strings; write tags = ["..."]`,
		"tags = ['a', '']": `g.toml:1:14: tags must be a list of strings; write tags = ["..."]`,
		"some = []\n":      `g.toml:1:8: some must be a list of strings; write some = ["..."]`,
		"every = 'soon'\n": `g.toml:1:9: every: invalid duration "soon"; use a form such as "90s", "10m", ` +
			`"1h30m" or "7d"`,
		"every = 90\n": `g.toml:1:9: every: invalid duration 90; use a form such as "90s", "10m", "1h30m" or "7d"`,
		"room = -1\n":  `g.toml:1:8: room: invalid size -1; use a form such as "512", "2TB" or "1.5 GiB"`,
		"name = 3\ncount = 0\nsite = 'jetty'\n": "g.toml:1:8: name must be a string, not an integer; " +
			"put it in quotes\ng.toml:2:9: count must be an integer from 1 to 9; write count = 2",
	} {
		var g gauge
		var ps problem.Problems
		root, _ := ParseTOML("g.toml", []byte(text), &ps)
		good := root.Decode("a gauge", keys, Fields{"name": &g.Name, "site": &g.Site, "deep": &g.Deep,
			"count": Number{&g.Count, 1, 9}, "tags": &g.Tags, "some": Some{&g.Some}, "every": &g.Every, "room": &g.Room,
			"any": &g.Any, "about": nil}, &ps)
		got := ""
		if err := ps.Err(); err != nil {
			got = err.Error()
		}
		if got != want || good != (want == "") {
			t.Errorf("%s gives %v\n%s\nwant\n%s", text, good, got, want)
		}
		if whole := (gauge{"a", "pier", true, 7, []string{}, []string{"x"}, 24 * time.Hour, 2 << 20,
			map[string]any{"a": int64(1)}}); g.Name == "a" && !reflect.DeepEqual(g, whole) {
			t.Errorf("it is read as %+v", g)
		}
	}
}
