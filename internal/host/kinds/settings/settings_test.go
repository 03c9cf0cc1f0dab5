package settings

import (
	"slices"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
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
		"toml list":   {set(toml, "", "rate", int64(3)), "rate = [\n1, # ]\n]\nb = 1\n", "rate = 3\nb = 1\n"},
		"toml dotted": {set(toml, "feeds", "rate", int64(3)), "feeds.rate = 1 # slow\nx = 2\n",
			"feeds.rate = 3 # slow\nx = 2\n"},
		"toml beside a dotted one": {set(toml, "feeds", "depth", int64(3)), "feeds.rate = 1\nx = 2\n",
			"feeds.rate = 1\nx = 2\nfeeds.depth = 3\n"},
		"toml in braces": {set(toml, "feeds", "rate", int64(3)), "feeds = { rate = 1, x = [1] }\n",
			"feeds = { rate = 3, x = [1] }\n"},
		"toml into braces": {set(toml, "feeds.a", "rate", int64(3)), "feeds = { x = [1] } # a\n",
			"feeds = { x = [1], a.rate = 3 } # a\n"},
		"toml into empty ones": {set(toml, "feeds", "rate", int64(3)), "feeds = {}\n", "feeds = { rate = 3 }\n"},
		"toml quoted heading": {set(toml, "feeds.a b", "rate", int64(3)), "[feeds.\"a b\"]\nrate = 1\n",
			"[feeds.\"a b\"]\nrate = 3\n"},
		"toml quoted new": {set(toml, "feeds.a b", "rate", int64(3)), "x = 1\n",
			"x = 1\n\n[feeds.\"a b\"]\nrate = 3\n"},
		"toml list of tables": {set(toml, "feed", "rate", int64(3)), "[[feed]]\nrate = 1\n[[feed]]\nrate = 2\n",
			"error: feed is a list of tables in this file"},
		"toml behind one": {set(toml, "sea", "rate", int64(3)), "[[feed]]\nrate = 1\n[sea]\nrate = 2\n",
			"[[feed]]\nrate = 1\n[sea]\nrate = 3\n"},
		"toml in a text": {set(toml, "", "rate", int64(3)), "about = \"\"\"\nrate = 1\n[x]\n\"\"\"\nrate = 2\n",
			"about = \"\"\"\nrate = 1\n[x]\n\"\"\"\nrate = 3\n"},
		"toml several lines": {set(toml, "", "about", "short"), "about = \"\"\"\na = \\\"1\n\"\"\" # b\nc = 1\n",
			"about = \"short\" # b\nc = 1\n"},
		"toml same otherwise": {set(toml, "", "rate", int64(60)), "rate = 0x3C\n", "rate = 0x3C\n"},
		"toml float":          {set(toml, "", "rate", 2.0), "rate = 2\n", "rate = 2.0\n"},
		"toml top first":      {set(toml, "", "x", "y"), "# sea\n[sea]\na = 1\n", "x = \"y\"\n# sea\n[sea]\na = 1\n"},
		"toml a list set":     {set(toml, "", "ports", []any{int64(1), "b"}), "ports = [2]\n", "ports = [1, \"b\"]\n"},
		"toml the same list": {set(toml, "", "ports", []any{int64(1), int64(2)}), "ports = [\n  1,\n  2,\n]\n",
			"ports = [\n  1,\n  2,\n]\n"},
		"toml a table set":      {set(toml, "", "at", map[string]any{"lat": 1.5}), "", "at = { lat = 1.5 }\n"},
		"toml no table":         {set(toml, "a.b", "c", "d"), "a = 1\n", "error: a is not a table in this file"},
		"toml a table there":    {set(toml, "", "a", "d"), "[a.b]\nx = 1\n", "error: a is a table in this file"},
		"toml over a sub-table": {set(toml, "a", "x", "d"), "[a.b]\ny = 1\n", "[a.b]\ny = 1\n\n[a]\nx = \"d\"\n"},
		"toml unset":            {unset(toml, "a", "b"), "[a]\nb = [\n1,\n] # no\nc = 1\n", "[a]\nc = 1\n"},
		"toml unset in braces":  {unset(toml, "a", "b"), "a = { b = 1, c = 2 }\n", "a = { c = 2 }\n"},
		"toml unset last":       {unset(toml, "a", "c"), "a = { b = 1, c = 2 }\n", "a = { b = 1 }\n"},
		"toml unset a table": {unset(toml, "", "a"), "x = 1\n[a]\nb = 1\n[a.c]\nd = 1\n[e]\nf = 1\n",
			"x = 1\n[e]\nf = 1\n"},
		"toml wrong": {set(toml, "", "a", "b"), "a = \n", "error: the file is not valid TOML"},
		"words with a sign": {set(words, "", "PermitRootLogin", "no"),
			"PermitRootLogin=yes\nPermitRootLogin prohibit-password\n", "PermitRootLogin=no\n"},
		"words, quoted": {set(words, "", "Banner", "none"), "Banner \"none\"\n", "Banner \"none\"\n"},
		"words, several": {set(words, "", "Port", []any{int64(22), int64(2222)}), "Port 22\n",
			"Port 22\nPort 2222\n"},
		"ini equal parts":  {set(ini, "a", "x", "1"), "[a]\nx=2\n[b]\nx=3\n[a]\nx=4\n", "[a]\nx=1\n[b]\nx=3\n[a]\n"},
		"ini unset bare":   {unset(ini, "a", "quiet"), "[a]\nquiet\nx = 1\n", "[a]\nx = 1\n"},
		"ini with a colon": {set(ini, "a", "x", "1"), "[a]\nx: 2\n", "[a]\nx: 1\n"},
		"ini drop-in": {set(ini, "Service", "ExecStart", []any{"", "/bin/a -b"}), "[Service]\nNice=5\n",
			"[Service]\nNice=5\nExecStart=\nExecStart=/bin/a -b\n"},
		"ini drop-in again": {set(ini, "Service", "ExecStart", []any{"", "/bin/a -b"}), "[Service]\nExecStart=\n" +
			"ExecStart=/bin/c\nExecStart=/bin/d\n", "[Service]\nExecStart=\nExecStart=/bin/a -b\n"},
		"ini going on": {set(ini, "a", "x", "1"), "[a]\nx = b \\\n  c\ny = 2\n", "[a]\nx = 1\ny = 2\n"},
		"ini moved in": {unset(ini, "a", "x"), "[a]\nx =\n  b\n  c\ny = 2\n", "[a]\ny = 2\n"},
		"ini in doubt": {set(ini, "a", "x", "1"), "[a]\nx = 2\n  y = 3\n",
			"error: line 3 either belongs to x or is a separate setting"},
		"ini all moved in": {set(ini, "user", "name", "maren"), "[user]\n\tname = x\n\temail = y\n",
			"[user]\n\tname = maren\n\temail = y\n"},
		"assigned over lines": {set(assigned, "", "A", "x"), "A=\"b\nB=1\"\nB=2\n", "A=x\nB=2\n"},
		"bom and crlf":        {set(ini, "a", "x", "1"), "\ufeff[a]\r\nx = 2\r\n", "\ufeff[a]\r\nx = 1\r\n"},
		"bom and crlf, json": {set(json, "", "x", "1"), "\ufeff{\r\n  \"a\": 1\r\n}\r\n",
			"\ufeff{\r\n  \"a\": 1,\r\n  \"x\": \"1\"\r\n}\r\n"},
		"bom and crlf, yaml": {set(yaml, "", "x", "1"), "\ufeffa: 1\r\n", "\ufeffa: 1\r\nx: \"1\"\r\n"},
		"bom and crlf, toml": {set(toml, "", "x", "1"), "\ufeffa = 1\r\n", "\ufeffa = 1\r\nx = \"1\"\r\n"},
		"each line its end":  {set(ini, "", "x", "1"), "a = 1\r\nb = 2\nx = 3\n", "a = 1\r\nb = 2\nx = 1\n"},
		"an open last line":  {set(ini, "", "a", "1"), "a = 1\nb = 2", "a = 1\nb = 2"},
		"json twice":         {unset(json, "", "a"), `{"a": 1, "b": 2, "a": 3}`, `{"b": 2}`},
		"json a list":        {set(json, "", "a", []any{int64(1), "b"}), `{"a": [1]}`, `{"a": [1,"b"]}`},
		"json the same list": {set(json, "", "a", []any{int64(1), "b"}), `{"a": [ 1 , "b" ]}`, `{"a": [ 1 , "b" ]}`},
		"yaml a list":        {set(yaml, "", "a", []any{int64(1), "b"}), "a:\n- 1\nc: 2\n", "a: [1,\"b\"]\nc: 2\n"},
		"yaml the same list": {set(yaml, "", "a", []any{int64(1), "b"}), "a:\n- 1\n- b\n", "a:\n- 1\n- b\n"},
		"json":               {set(json, "", "a", int64(2)), "{\"a\": 1, \"b\": [1, 2]}", "{\"a\": 2, \"b\": [1, 2]}"},
		"json same":          {set(json, "", "a", int64(1)), "{ \"a\" : 1 }\n", "{ \"a\" : 1 }\n"},
		"json type":          {set(json, "", "a", "1"), "{\"a\": 1}", "{\"a\": \"1\"}"},
		"json new": {set(json, "", "c", "<x>"), "{\n    \"a\": 1\n}\n", "{\n    \"a\": 1,\n    \"c\": " +
			"\"<x>\"\n}\n"},
		"json deep": {set(json, "o.p", "s", true), "{\n  \"a\": 1\n}\n", "{\n  \"a\": 1,\n  \"o\": {\n    " +
			"\"p\": {\n      \"s\": true\n    }\n  }\n}\n"},
		"json of nothing": {set(json, "", "a", "b"), "", "{\n  \"a\": \"b\"\n}\n"},
		"json one line":   {set(json, "o", "b", int64(1)), `{"o": {"a": "}"}}`, `{"o": {"a": "}", "b": 1}}`},
		"json unset":      {unset(json, "o", "a"), `{"o": {"a": 1, "b": 2}, "c": 3}`, `{"o": {"b": 2}, "c": 3}`},
		"json unset last": {unset(json, "o", "b"), `{"o": {"a": 1, "b": 2}}`, `{"o": {"a": 1}}`},
		"json unset all":  {unset(json, "", "a"), "{\n\"a\": 1\n}\n", "{}\n"},
		"json no table":   {set(json, "a.b", "c", "d"), `{"a": 1}`, "error: a is not a table in this file"},
		"json wrong":      {set(json, "", "c", "d"), `{"a": 1`, "error: the file is not valid JSON"},
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

// FuzzEdit holds every form to its word: what comes out is as declared, and stays so.
func FuzzEdit(f *testing.F) {
	for _, form := range []string{ini, toml, json, yaml, words, assigned} {
		for _, text := range []string{"", "a = 1\n", "[a]\nb = \"x\" # y\n", "a = { b = 1 }\n", "[[a]]\nb = 1\n",
			`{"a": {"b": [1]}}`,
			"a:\n  b: 1\n", "a b\nMatch x\na c\n", "a=\"x\ny\"\r\n", "\ufeffx: 1\r\n", "a = '''\nb\n'''\n",
			"x = \\\n  y\n"} {
			f.Add(form, text, "a", "b", "v")
		}
	}
	f.Fuzz(func(t *testing.T, form, text, section, key, val string) {
		a := value.Attrs{"format": form, "set": map[string]any{key: val}}
		if section != "" {
			a["section"] = section
		}
		// Each by itself: two halves of a character make a text when they are joined.
		if editors[form] == nil || slices.ContainsFunc([]string{text, section, key, val}, func(s string) bool {
			return !kind.IsText(s)
		}) {
			return
		}
		if _, err := about.Check("/etc/tide", a); err != nil {
			return
		}
		task := plan.Task{Attrs: a}
		out, err := edit{}.Edit(task, text)
		if err != nil {
			return
		}
		if again, err := (edit{}).Edit(task, out); err != nil || again != out {
			t.Fatalf("%s: %q becomes %q, and then %q (%v)", form, text, out, again, err)
		}
		delete(a, "set")
		a["unset"] = []any{key}
		less, err := edit{}.Edit(task, out)
		if err != nil {
			return
		}
		if again, err := (edit{}).Edit(task, less); err != nil || again != less {
			t.Fatalf("%s: without, %q becomes %q, and then %q (%v)", form, out, less, again, err)
		}
	})
}
