package job

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

func load(t *testing.T, text string) ([]*Job, error) {
	t.Helper()
	var ps problem.Problems
	jobs := Load(fstest.MapFS{File: {Data: []byte(text)}}, &ps)
	return jobs, ps.Err()
}

const night = `[job.night]
about = "Bring the gauges up to date"
targets = ["${input.gauges}", "@chart"]
except = ["gauge-05"]
first = 1
stop_after = "10%"
[job.night.input.pier]
choices = "data.piers"
[job.night.input.gauges]
type = "list"
default = ["gauge-01"]
[job.night.input.depth]
type = "int"
default = 3
max = 9
[job.night.input.token]
secret = true
only_if = "input.depth > 5"
min = 8
`

func asked(t *testing.T) *Values {
	t.Helper()
	jobs, err := load(t, night)
	if err != nil {
		t.Fatal(err)
	}
	return &Values{Job: jobs[0], Setting: Setting{Data: map[string]any{"piers": []any{"north", "south"}},
		Hosts:  []string{"gauge-01"},
		Groups: map[string][]string{"gauge": {"gauge-01"}}}}
}

func TestInputs(t *testing.T) {
	text := func(v string) Given { return Given{Value: v, Text: true} }
	for name, c := range map[string]struct {
		given map[string]Given
		want  string // parts of the error, with bars between; empty for none
	}{
		"all":  {map[string]Given{"pier": text("north")}, ""},
		"none": {nil, `no value for the input pier; expected a string, one of "north", "south"`},
		"wrong ones": {map[string]Given{"pier": text("east"), "depth": text("12"), "gauges": text("gauge-01")},
			`"east" is not one of the choices; use "north", "south"|12 is above the maximum of 9|the value of ` +
				`gauges: expected a list`},
		"a wrong type": {map[string]Given{"pier": text("north"), "depth": text("deep")}, `expected an integer`},
		"unknown": {map[string]Given{"pier": text("north"), "peer": text("x")},
			`has no input named "peer"; did you mean "pier"?`},
		"not asked": {map[string]Given{"pier": text("north"), "token": {Value: "rip-tide-7781"}},
			"does not use the input token with"},
		"a secret in view": {map[string]Given{"pier": text("north"), "depth": text("7"),
			"token": text("rip-tide-7781")}, "token is a secret"},
		"a secret missing": {map[string]Given{"pier": text("north"), "depth": text("7")},
			"no value for the input token; expected a string, at least 8 characters"},
		"a short secret": {map[string]Given{"pier": text("north"), "depth": text("7"), "token": {Value: "rip-tid"}},
			"the value of token is not valid"},
		"a secret": {map[string]Given{"pier": text("north"), "depth": text("7"),
			"token": {Value: "rip-tide-7781"}}, ""},
	} {
		a := asked(t)
		err := a.Accept(c.given)
		if (err == nil) != (c.want == "") {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for _, part := range strings.Split(c.want, "|") {
			if err != nil && !strings.Contains(err.Error(), part) {
				t.Errorf("%s: %q is not in %v", name, part, err)
			}
		}
		if err != nil && strings.Contains(err.Error(), "rip-tid") {
			t.Errorf("%s: the secret is reported: %v", name, err)
		}
		if token, given := a.Input["token"]; given && err == nil {
			if _, secret := token.(value.Secret); !secret || a.Shown()["token"] != "(secret)" {
				t.Errorf("%s: the secret is %#v, shown as %s", name, token, a.Shown()["token"])
			}
		}
	}
	a := asked(t)
	if err := a.Accept(map[string]Given{"pier": text("north"), "gauges": text(`["gauge-02", ` +
		`"gauge-03"]`)}); err != nil {
		t.Fatal(err)
	}
	where, err := Words(a.Job.Targets, a.Vars())
	if strings.Join(where, " ") != "gauge-02 gauge-03 @chart" || err != nil {
		t.Errorf("its targets are %v (%v)", where, err)
	}
	if r := a.Job.Rollout; r.First != "1" || r.StopAfter.String() != "10%" {
		t.Errorf("it goes over hosts by %+v", r)
	}
	empty := asked(t)
	empty.Setting.Data["piers"] = []any{}
	if err := empty.Accept(nil); err == nil || !strings.Contains(err.Error(), "the input pier has no choices") {
		t.Errorf("without choices: %v", err)
	}
}

func TestNoJobs(t *testing.T) {
	for text, want := range map[string]string{
		"[job.night]\n":                         "has no targets",
		"[job.night]\ntargets = \"gauge-01\"\n": "must be a list of strings",
		"[job.night]\ntargets = [\"*\"]\naction = " +
			"\"undo\"": "invalid action: \"undo\"",
		"[job.night]\ntargets = [\"*\"]\ntargts = 1": `did you mean "targets"?`,
		"[job.\"night tide\"]\ntargets = [\"*\"]":    "is not a valid job",
		"[jobs.night]\n": "write [job.NAME]",
		"[job.night]\ntargets = [\"*\"]\naction = " +
			"\"exec\"": "has no command",
		"[job.night]\ntargets = [\"*\"]\ncommand = " +
			"[\"uptime\"]": "which only exec uses",
		"[job.night]\ntargets = [\"*\"]\naction = \"preview\"\nbatch = 3": "which only apply uses",
		"[job.night]\ntargets = [\"*\"]\nrevision = \"main\"":             "no source",
		"[job.night]\ntargets = [\"${host.name}\"]":                       "host",
		"[job.night]\ntargets = [\"*\"]\nschedule = { every = \"1h\" }\n" +
			"input.depth = { type = \"int\" }": "input depth has no default",
		"[job.night]\ntargets = [\"*\"]\nschedule = { cron = \"soon\" }":                   "invalid cron schedule",
		"[job.night]\ntargets = [\"*\"]\ninput.token = { secret = true, default = \"x\" }": "has a default",
		"[job.night]\ntargets = [\"*\"]\ninput.token = { secret = true, type = \"list\" }": "is a list",
		"[job.night]\ntargets = [\"*\"]\ninput.depth = { typ = \"int\" }":                  `did you mean "type"?`,
		"[job.night]\ntargets = [\"*\"]\ninput.depth = { only_if = \"facts.x\" }":          "facts",
	} {
		if _, err := load(t, text); err == nil || !strings.Contains(err.Error(), want) ||
			!strings.Contains(err.Error(), "jobs.toml:") {
			t.Errorf("%s gives %v", text, err)
		}
	}
	if jobs, err := load(t, ""); len(jobs) > 0 || err != nil {
		t.Errorf("no jobs are %v (%v)", jobs, err)
	}
	jobs, _ := load(t, night)
	if _, err := Find(jobs, "nigth"); err == nil || !strings.Contains(err.Error(), `did you mean "night"?`) {
		t.Errorf("a misspelt name gives %v", err)
	}
}

func FuzzLoad(f *testing.F) {
	f.Add(night)
	f.Fuzz(func(_ *testing.T, text string) {
		var ps problem.Problems
		for _, j := range Load(fstest.MapFS{File: {Data: []byte(text)}}, &ps) {
			a := &Values{Job: j}
			a.Accept(nil)
		}
	})
}

// TestAnInputIsOneArgument of a command in one line, whatever it says, and no shell sees it.
func TestAnInputIsOneArgument(t *testing.T) {
	command := func(words string) ([]*Job, error) {
		return load(t, "[job.look]\naction = \"exec\"\ntargets = [\"*\"]\ncommand = ["+words+"]\ninput.path = {}\n")
	}
	vars := &expr.Vars{Input: map[string]any{"path": "/x; rm -rf /etc $(id) `id`\nid"}}
	for line, want := range map[string][]string{
		`"ls -l 'a b' /srv/${input.path}/x"`: {"ls", "-l", "a b",
			"/srv/" + vars.Input["path"].(string) + "/x"},
		`"${input.path}"`:                      {vars.Input["path"].(string)},
		`"uptime"`:                             {"uptime"},
		`"echo \"${input.path}\" '$HOME | x'"`: {"echo", vars.Input["path"].(string), "$HOME | x"},
		`"sh", "-c", "ls \"$1\" | wc", "sh", "${input.path}"`: {"sh", "-c", "ls \"$1\" | wc", "sh",
			vars.Input["path"].(string)},
	} {
		jobs, err := command(line)
		if err != nil {
			t.Errorf("%s: %v", line, err)
			continue
		}
		if got, err := Words(jobs[0].Command, vars); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s is %q (%v), want %q", line, got, err, want)
		}
	}
	for _, line := range []string{"df | tail", "a; b", "a && b", "ls *", "echo $HOME", "echo \\\"$HOME\\\"",
		"ls > x", "(a)"} {
		if _, err := command(`"` + line + `"`); err == nil || !strings.Contains(err.Error(), "needs a shell") {
			t.Errorf("%s: %v", line, err)
		}
	}
}

// FuzzInputs: whatever is answered, it is refused or of the type that is asked for.
func FuzzInputs(f *testing.F) {
	f.Add("north", "7", "gauge-01", true)
	f.Add("", "9999999999999999999999", "*", false)
	f.Add("${data.piers}", "-0", "\x00", true)
	f.Fuzz(func(t *testing.T, pier, depth, gauges string, text bool) {
		a := asked(t)
		given := map[string]Given{"pier": {Value: pier, Text: text}, "depth": {Value: depth, Text: text},
			"gauges": {Value: []any{gauges}, Text: false}}
		if a.Accept(given) != nil {
			return
		}
		for name, v := range a.Input {
			switch v.(type) {
			case string, int64, bool, []any, value.Secret:
			default:
				t.Errorf("%s is %T", name, v)
			}
		}
		a.Shown()
	})
}
