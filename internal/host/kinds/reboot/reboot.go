// Package reboot is the kind of reboots that a change makes due.
package reboot

import (
	"context"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "reboot",
	Area:  "system",
	About: "A reboot after a change that wants one.",
	Doc: "Its name is a word of your own. It is due once one of what only_after_change_of names has changed, " +
		"stays due " +
		"when that run could not do it, and is no more due once the host was rebooted by whomever. The run " +
		"waits until " +
		"the host is back and goes on with what is declared after it. Several that are due together are one reboot.",
	Attrs: []schema.Attr{
		{Name: "only_if_exists", Type: schema.Path,
			Doc:      "A path that says that a reboot is wanted: without it the change wanted none.",
			Examples: []string{`"/run/reboot-required"`}},
		{Name: "timeout", Type: schema.Duration, Default: `"10m"`, Doc: "How long the host may take to be back.",
			Examples: []string{`"30m"`}},
	},
	Examples: []schema.Example{
		{About: "A module that is kept out only by a reboot, and what comes after it", TOML: `[kmod.floppy]
kept_out = true

[reboot.modules]
only_after_change_of = ["kmod floppy"]

[package.tide-logger]
after = ["reboot modules"]
`},
		{About: "After new packages, when one of them asks for it", TOML: `[package.tide-logger]
version = "newest"

[reboot.packages]
only_after_change_of = ["package tide-logger"]
only_if_exists = "/run/reboot-required"
timeout = "30m"
`},
	},
	NoAbsent: "take the declaration out",
	Reboots:  true,
	Canon:    schema.CanonWords("a reboot", "say in a word what it is for"),
	Check: func(_ string, a value.Attrs) (string, error) {
		if len(a.Texts(schema.OnlyAfter)) == 0 {
			return "", problem.Errorf("nothing says what the reboot comes after").
				Remedy("name what wants it, such as only_after_change_of = [\"kmod floppy\"]")
		}
		return "", nil
	},
}

// Kind is the kind of reboots.
func Kind() kind.Kind { return kind.Each(reboots{}) }

type reboots struct{}

func (reboots) Schema() *schema.Kind { return about }

type state struct {
	causes  []string // whose changes want it, in this boot
	preview bool
}

// Read looks up what is owed since the last boot.
func (reboots) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	st := state{preview: env.Run.Preview}
	if p := t.Attrs.Text("only_if_exists"); p != "" && !st.preview {
		if there, err := env.Exists(p); err != nil || !there {
			return st, err
		}
	}
	_, boot, err := env.Uptime()
	if err != nil {
		return st, err
	}
	for _, d := range env.Store.Debts[t.Ref] {
		if due(d, boot) && !slices.Contains(st.causes, d.Cause.String()) {
			st.causes = append(st.causes, d.Cause.String())
		}
	}
	slices.Sort(st.causes)
	return st, nil
}

func due(d ledger.Debt, boot string) bool { return d.Action == plan.Follow && d.Boot == boot }

// Compare says that it is due.
func (reboots) Compare(t plan.Task, st state) []plan.Change {
	if len(st.causes) == 0 {
		return nil
	}
	c := plan.Change{What: "reboot", Was: "due after a change of " + strings.Join(st.causes, ", "), Becomes: "done"}
	if p := t.Attrs.Text("only_if_exists"); p != "" && st.preview {
		c.Becomes = "done if " + p + " is there by then"
	}
	return []plan.Change{c}
}

// Write asks for the reboot, which ends everything on the host soon after.
func (reboots) Write(ctx context.Context, env *kind.Env, _ kind.Differing[state]) error {
	args := []string{"reboot"}
	if there, err := env.Exists("/run/systemd/system"); err == nil && there {
		args = []string{"systemctl", "reboot"}
	}
	_, err := machine.Do(ctx, env.Machine, machine.Command{Args: args}, nil)
	return err
}
