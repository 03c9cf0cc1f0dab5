package cli

import (
	"bytes"
	"regexp"
	"strings"
	"testing"

	"jadekettle/internal/core/problem"
)

// TestRemediesAreCallsThatExist asks for the help of each call that a remedy
// names, so that none outlives its command or flag.
func TestRemediesAreCallsThatExist(t *testing.T) {
	flag := regexp.MustCompile(`--[a-z]+`)
	for way, w := range ways {
		words := strings.Fields(w.call)
		var args []string
		if words[0] == "jadekettle" {
			for _, word := range words[1:] {
				if word == strings.ToLower(word) && !strings.HasPrefix(word, "-") {
					args = append(args, word)
				}
			}
		} else {
			args = []string{"preview"} // a flag that goes with every round
		}
		var out, errs bytes.Buffer
		a := &App{In: strings.NewReader(""), Out: &out, Err: &errs, Width: 100, Getenv: func(string) string { return "" }}
		if code := a.Run(t.Context(), append(args, "--help")); code != 0 {
			t.Errorf("%v: %s ends with %d: %s", way, w.call, code, errs.String())
		}
		for _, f := range flag.FindAllString(w.call, -1) {
			if !strings.Contains(out.String(), f) {
				t.Errorf("%v: %s has no %s", way, strings.Join(args, " "), f)
			}
		}
		if len(args) > 0 && words[0] == "jadekettle" && !strings.Contains(out.String(), strings.Join(args, " ")) {
			t.Errorf("%v: there is no command %v:\n%s", way, args, out.String())
		}
	}
}

func TestRemediesInWords(t *testing.T) {
	for _, c := range []struct {
		p    problem.Problem
		want string
	}{
		{problem.Problem{Do: "write it"}, "write it"},
		{problem.Problem{}, ""},
		{problem.Problem{Way: problem.ListHosts}, "`jadekettle hosts` lists them"},
		{problem.Problem{Way: problem.ShowHost, Args: []string{"gauge-01"}},
			"`jadekettle hosts show gauge-01` tells what applies to it"},
		{problem.Problem{Way: problem.ShowHost}, "`jadekettle hosts show HOST` tells what applies to it"},
		{problem.Problem{Do: "give it", Way: problem.GiveParam, Args: []string{"gauge.rate"}},
			"give it: `--param gauge.rate=VALUE`"},
		{problem.Problem{Way: problem.SealSecret, Args: []string{"shared", "a b; c"}},
			"seal it with `jadekettle secret set shared 'a b; c'`"},
	} {
		list := worded([]problem.Problem{c.p})
		if list[0].Do != c.want || list[0].Way != "" {
			t.Errorf("%+v becomes %q, want %q", c.p, list[0].Do, c.want)
		}
	}
}
