package checkout

import (
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
	fake "jadekettle/internal/host/machine/scripted"
)

// TestNoNameTakesThePlaceOfAnother: whoever may push names tags and branches as they like.
func TestNoNameTakesThePlaceOfAnother(t *testing.T) {
	good, evil := strings.Repeat("a1", 20), strings.Repeat("e5", 20)
	const tag, branch = "\trefs/tags/", "\trefs/heads/"
	for rev, c := range map[string]struct{ refs, want string }{
		"main": {good + branch + "main\n", good},
		"v1":   {evil + tag + "v1\n" + good + tag + "v1^{}\n", good},
		"pier": {good + branch + "pier\n" + evil + tag + "pier\n", "pier is both a branch and a tag in " +
			"the repository"},
		"refs/heads/pier": {good + branch + "pier\n", good},
		"refs/tags/v1":    {evil + tag + "v1\n" + good + tag + "v1^{}\n", good},
		"a1a1a1a1": {evil + tag + "a1a1a1a1\n", "a1a1a1a1 is a branch or tag in the repository, but looks " +
			"like the start of a commit"},
		"HEAD": {good + "\tHEAD\n" + evil + tag + "HEAD\n" + evil + branch + "HEAD\n", good},
		"gone": {"", "the repository does not have a branch or tag gone"},
		good:   {evil + tag + good + "\n", good},
	} {
		m := fake.New(t, "/srv/")
		m.Programs = []string{"git"}
		task := plan.Task{Ref: value.Ref{Kind: "checkout", Name: "/srv/pages"},
			Attrs: value.Attrs{"url": "https://git.example.org/pages", "revision": rev}}
		env := &kind.Env{Machine: m}
		one := func() (state, error) { return checkouts{}.Read(t.Context(), env, task) }
		one()
		for _, call := range m.Calls {
			if strings.Contains(call, "ls-remote") {
				m.Answers[call] = machine.Output{Stdout: c.refs}
			}
		}
		st, err := one()
		if err != nil {
			st.want = err.Error()
		}
		if !strings.Contains(st.want, c.want) {
			t.Errorf("%s is %s, want %s", rev, st.want, c.want)
		}
	}
}
