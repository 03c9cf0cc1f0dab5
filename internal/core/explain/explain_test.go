package explain_test

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/compile/compiletest"
	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

const questions = `[param.rate]
type = "duration"
[package.tide-logger]
[dir."/srv/tide"]
if = "facts.memory.total > 1000"
[file."/srv/tide/conf"]
content = "rate ${param.rate} of ${data.unit}\n"
[service.tide-logger]
restart_on = ["file /srv/tide/conf"]
[user."${k.login}"]
for = "k in data.keepers"
if = "k.on"
before = ["group watch"]
groups = ["watch"]
[group.watch]
[use.inner]
params = { depth = "${size(data.keepers)}" }
if = "host.site == 'pier'"
`

func explained(t *testing.T, f *facts.Facts) *explain.Explanation {
	t.Helper()
	fs := compiletest.Tree("manifests/gauge.toml", questions, "manifests/inner.toml",
		"[param.depth]\ntype = \"int\"\n[dir.\"/deep-${param.depth}\"]\n", "manifests/nobody.toml",
		"[dir.\"/nobody\"]\n",
		"data/shared.toml", "unit = \"cm\"\nkeepers = [ { login = \"maren\", on = true }, { login = \"odd\", on = "+
			"false "+
			"} ]\n", "data/host/gauge-01.toml", "unit = \"m\"\n",
		"+hosts.toml", "[group.north.params.gauge]\nrate = \"1m\"\n[group.far]\nmanifests = [\"far\"]\n",
		"manifests/far.toml", "[dir.\"/far\"]\n")
	p, err := compile.Load(fs, kinds.Schemas(), compile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	e, err := explain.Of(p, p.Inventory.Hosts[0], resolve.Known{Facts: f})
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// reported writes an answer in short.
func reported(w explain.Why) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s", w.State, w.Reason)
	for _, way := range w.Ways {
		fmt.Fprintf(&b, " way %s/%s/%s", way.Group, way.Manifest, way.By)
		for _, u := range way.Uses {
			b.WriteString("/" + u.Name)
		}
	}
	for _, l := range w.Loop {
		fmt.Fprintf(&b, " loop %s=%s", l.Name, l.Value)
	}
	for _, c := range w.Conditions {
		fmt.Fprintf(&b, " if %s is %s", c.Text, c.Gives)
		for _, s := range c.Saw {
			fmt.Fprintf(&b, ", saw %s=%s", s.Name, s.Value)
		}
	}
	for _, a := range w.Attributes {
		fmt.Fprintf(&b, " attr %s=%s", a.Name, a.Value)
		for _, s := range a.Saw {
			fmt.Fprintf(&b, ", saw %s=%s at %s", s.Name, s.Value, s.Place)
		}
	}
	for _, e := range w.Waits {
		fmt.Fprintf(&b, " waits %s (%s)", e.Ref, e.Why)
	}
	for _, e := range w.Awaited {
		fmt.Fprintf(&b, " awaited %s (%s)", e.Ref, e.Why)
	}
	for _, e := range w.Dropped {
		fmt.Fprintf(&b, " dropped %s", e.Ref)
	}
	return b.String()
}

func TestWhy(t *testing.T) {
	known, blind := explained(t, &facts.Facts{Memory: facts.Memory{Total: 8 << 30}}), explained(t, nil)
	for _, c := range []struct{ ref, known, blind string }{
		{"service tide-logger", "declared  way all/gauge/by the pattern * attr restart_on=[\"file /srv/tide/conf\"] " +
			"waits file /srv/tide/conf (restart_on) waits package tide-logger (implied)", ""},
		{"file /srv/tide/conf", "declared  way all/gauge/by the pattern * attr content=\"rate 60 of m\\n" +
			"\", saw param.rate=60 at hosts.toml:10:8, saw data.unit=\"m\" at data/host/gauge-01.toml:1:8 waits dir " +
			"/srv/tide (implied) awaited service tide-logger (restart_on)", ""},
		{"dir /srv/tide", "if facts.memory.total > 1000 is true, saw facts.memory.total=8589934592 awaited file " +
			"/srv/tide/conf (implied)",
			"may apply  way all/gauge/by the pattern * if facts.memory.total > 1000 is not known without " +
				"facts, " +
				"saw facts.memory.total=not known without facts"},
		{"user maren", "loop k={ login = \"maren\", on = true } if k.on is true, saw k.on=true", ""},
		{"user odd", "skipped  way all/gauge/by the pattern * loop k={ login = \"odd\", on = false } if k.on is " +
			"false, saw k.on=false", ""},
		{"group watch", "waits user maren (before of user maren)", ""},
		{"user maren", "dropped group watch", ""},
		{"dir /deep-2", "declared  way all/gauge/by the pattern */inner if host.site == 'pier' is true, saw " +
			"host.site=\"pier\"", ""},
		{"dir /far", "not declared it is declared at manifests/far.toml:1:6 of the manifest far, which is assigned " +
			"by the group far; gauge-01 is in none of these", ""},
		{"dir /nobody", "not declared it may be declared at manifests/nobody.toml:1:6 of the manifest nobody, " +
			"which no group assigns to any host", ""},
		{"user mraen", "not declared no manifest of this host declares it; did you mean \"user maren\"?", ""},
	} {
		ref, _ := value.ParseRef(c.ref)
		if got := reported(known.Why(ref)); !strings.Contains(got, c.known) {
			t.Errorf("%s:\n got %s\nwant %s", c.ref, got, c.known)
		}
		if got := reported(blind.Why(ref)); !strings.Contains(got, c.blind) {
			t.Errorf("%s without facts:\n got %s\nwant %s", c.ref, got, c.blind)
		}
	}
	var refs []string
	for _, d := range known.Declared() {
		refs = append(refs, d.Ref.String())
	}
	if got := strings.Join(refs,
		" "); got != "package tide-logger dir /srv/tide file /srv/tide/conf service tide-logger user maren "+
		"group watch "+
		"dir /deep-2 user odd" {
		t.Errorf("declared is %s", got)
	}
	if got := known.DataNames(nil); strings.Join(got, " ") != "keepers unit" {
		t.Errorf("the data has %v", got)
	}
	list, err := known.Param("gauge", "rate")
	var sources []string
	for _, s := range list {
		sources = append(sources, fmt.Sprintf("%s %v %v %v", s.From, s.Value, s.Seen, s.Used))
	}
	const want = "the command line <nil> <nil> false|host gauge-01 <nil> <nil> false|group north 1m 60 true|" +
		"the default <nil> <nil> false"
	if got := strings.Join(sources, "|"); got != want || err != nil {
		t.Errorf("the param comes from %s (%v)", got, err)
	}
}

// TestWhyOfGroupsThatDiffer asks for a param that groups of one depth give: where
// they differ, one inside them must decide, and then it is not an error to ask why.
func TestWhyOfGroupsThatDiffer(t *testing.T) {
	group := func(name, inside, seconds string) string {
		text := "[group." + name + "]\nmembers = [\"*\"]\nparams.gauge.seconds = " + seconds + "\n"
		if inside != "" {
			text += "inside = \"" + inside + "\"\n"
		}
		return text
	}
	for name, c := range map[string]struct{ groups, want string }{
		"nothing decides": {group("a", "", "1") + group("b", "", "2"), "the param gauge.seconds has different " +
			"values in group b and group a, which are at the same depth"},
		"they agree": {group("a", "", "4") + group("b", "", "4"), "4: group b 4 used, group a 4"},
		"one inside decides": {group("a", "", "1") + group("b", "", "2") + group("c", "a", "3"),
			"3: group c 3 used, group b 2, group a 1"},
		"two inside differ": {group("a", "", "1") + group("c", "a", "3") + group("d", "a", "4"),
			"the param gauge.seconds has different values in group d and group c, which are at the same depth"},
	} {
		fs := compiletest.Tree("+hosts.toml", c.groups)
		p, err := compile.Load(fs, kinds.Schemas(), compile.Options{})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var got string
		if made, err := resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: &facts.Facts{}}); err != nil {
			got = err.Error()
		} else {
			got = made.Contents[made.Tasks[0].Content.SHA256].Text
		}
		e, err := explain.Of(p, p.Inventory.Hosts[0], resolve.Known{Facts: &facts.Facts{}})
		var list []resolve.ParamStep
		if e != nil {
			list, err = e.Param("gauge", "seconds")
		}
		if err != nil {
			got += err.Error()
		}
		var said []string
		for _, s := range list {
			if !strings.HasPrefix(s.From, "group ") {
				continue
			}
			text := fmt.Sprint(s.From, " ", s.Value)
			if s.Used {
				text += " used"
			}
			said = append(said, text)
		}
		got += ": " + strings.Join(said, ", ")
		if !strings.Contains(got, c.want) {
			t.Errorf("%s: got %s, want %s", name, got, c.want)
		}
	}
}
