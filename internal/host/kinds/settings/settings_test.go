package settings

import (
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

func TestEdit(t *testing.T) {
	const conf = "; tides\nrate=60\n\n[north]\nstation = a\n# depth = 1\nstation = b\n\n[south]\nstation = c\n"
	set := func(form, section string, pairs ...any) value.Attrs {
		table := map[string]any{}
		for i := 0; i < len(pairs); i += 2 {
			table[pairs[i].(string)] = pairs[i+1]
		}
		a := value.Attrs{"format": form, "set": table}
		if section != "" {
			a["section"] = section
		}
		return a
	}
	unset := func(form, section, key string) value.Attrs {
		return value.Attrs{"format": form, "section": section, "unset": []any{key}}
	}
	for name, c := range map[string]struct {
		attrs     value.Attrs
		old, want string
	}{
		"ini top":   {set(ini, "", "rate", int64(30)), conf, strings.Replace(conf, "rate=60", "rate=30", 1)},
		"ini twice": {set(ini, "north", "station", "a"), conf, strings.Replace(conf, "station = b\n", "", 1)},
		"ini by comment": {set(ini, "north", "depth", "2"), conf,
			strings.Replace(conf, "depth = 1\n", "depth = 1\ndepth = 2\n", 1)},
		"ini new":        {set(ini, "south", "x", true), conf, conf + "x = true\n"},
		"ini section":    {set(ini, "east", "x", "y"), conf, conf + "\n[east]\nx = y\n"},
		"ini in between": {set(ini, "north", "x", "y"), conf, strings.Replace(conf, "b\n\n", "b\nx = y\n\n", 1)},
		"ini unset": {unset(ini, "north", "station"), conf, "; tides\nrate=60\n\n[north]\n# depth = 1\n\n" +
			"[south]\nstation = c\n"},
		"ini of nothing": {set(ini, "a", "x", "y"), "", "[a]\nx = y\n"},
		"assigned": {set(assigned, "", "OPTIONS", "-a b"), "export OPTIONS=\"-a\"\n",
			"export OPTIONS=\"-a b\"\n"},
		"assigned, quoted already": {set(assigned, "", "A", "x"), "A='x'\n", "A='x'\n"},
		"assigned new":             {set(assigned, "", "A", "$x y"), "#A=1\nB=2\n", "#A=1\nA=\"\\$x y\"\nB=2\n"},
		"words": {set(words, "", "usedns", "no"), "UseDNS yes\nMatch User x\nUseDNS " +
			"yes\n", "usedns no\nMatch User x\nUseDNS yes\n"},
		"words new": {set(words, "", "Port", int64(2222)), "#Port 22\n# Port numbers are good\nMatch " +
			"all\n", "#Port 22\nPort 2222\n# Port numbers are good\nMatch all\n"},
		"words before a match": {set(words, "", "Banner", "none"), "Match all\n", "Banner none\nMatch all\n"},
		"toml": {set(toml, "a.b", "x", "y\n"), "x = 1\n[a.b]\nx = \"z\" # why\n", "x = 1\n[a.b]\nx = " +
			"\"y\\n\" # why\n"},
		"toml number": {set(toml, "", "rate", int64(3)), "rate = \"3\"\n", "rate = 3\n"},
		"toml list": {set(toml, "", "rate", int64(3)), "rate = [\n1,\n]\n", "error: the value of rate has " +
			"several lines"},
		"json":      {set(json, "", "a", int64(2)), "{\"a\": 1, \"b\": [1, 2]}", "{\"a\": 2, \"b\": [1, 2]}"},
		"json same": {set(json, "", "a", int64(1)), "{ \"a\" : 1 }\n", "{ \"a\" : 1 }\n"},
		"json type": {set(json, "", "a", "1"), "{\"a\": 1}", "{\"a\": \"1\"}"},
		"json new": {set(json, "", "c", "<x>"), "{\n    \"a\": 1\n}\n", "{\n    \"a\": 1,\n    \"c\": " +
			"\"<x>\"\n}\n"},
		"json deep": {set(json, "o.p", "s", true), "{\n  \"a\": 1\n}\n", "{\n  \"a\": 1,\n  \"o\": {\n    " +
			"\"p\": {\n      \"s\": true\n    }\n  }\n}\n"},
		"json of nothing": {set(json, "", "a", "b"), "", "{\n  \"a\": \"b\"\n}\n"},
		"json one line":   {set(json, "o", "b", int64(1)), `{"o": {"a": "}"}}`, `{"o": {"a": "}", "b": 1}}`},
		"json unset":      {unset(json, "o", "a"), `{"o": {"a": 1, "b": 2}, "c": 3}`, `{"o": {"b": 2}, "c": 3}`},
		"json unset last": {unset(json, "o", "b"), `{"o": {"a": 1, "b": 2}}`, `{"o": {"a": 1}}`},
		"json unset all":  {unset(json, "", "a"), "{\n\"a\": 1\n}\n", "{}\n"},
		"json no table":   {set(json, "a.b", "c", "d"), `{"a": 1}`, "error: a is no table in this file"},
		"json wrong":      {set(json, "", "c", "d"), `{"a": 1`, "error: the file is no JSON"},
		"secret":          {set(ini, "", "token", value.NewSecret("s")), "", "token = s\n"},
	} {
		task := plan.Task{Attrs: c.attrs}
		got, err := edit{}.Edit(task, c.old)
		if err != nil {
			got = "error: " + err.Error()
		}
		if got != c.want && (err == nil || !strings.HasPrefix(got, c.want)) {
			t.Errorf("%s\n got %q\nwant %q", name, got, c.want)
		}
		if again, err2 := (edit{}).Edit(task, got); err == nil && (again != got || err2 != nil) {
			t.Errorf("%s gives %q the second time (%v)", name, again, err2)
		}
	}
}
