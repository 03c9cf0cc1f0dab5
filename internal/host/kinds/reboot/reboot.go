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
	About: "A reboot, when a change requires it.",
	Doc: "Choose any name. The reboot is required once one of the resources in only_if_changed has changed, " +
		"remains required if that run could not do it, and is settled once the host has been rebooted in any way. " +
		"The run waits for the host to come back and continues with the tasks after it. Several required reboots " +
		"are combined into one.",
	Attrs: []schema.Attr{
		{Name: "only_if_exists", Type: schema.Path,
			Doc:      "A path that exists if a reboot is required; without it, the change did not require one.",
			Examples: []string{`"/run/reboot-required"`}},
		{Name: "timeout", Type: schema.Duration, Default: `"10m"`, Doc: "How long to wait for the host to come back.",
			Examples: []string{`"30m"`}},
	},
	Examples: []schema.Example{
		{About: "A module that only a reboot unloads, and a task after it", TOML: `[kmod.floppy]
kept_out = true

[reboot.modules]
only_if_changed = ["kmod floppy"]

[package.tide-logger]
after = ["reboot modules"]
`},
		{About: "After package updates that require it", TOML: `[package.tide-logger]
version = "newest"

[reboot.packages]
only_if_changed = ["package tide-logger"]
only_if_exists = "/run/reboot-required"
timeout = "30m"
`},
	},
	NoAbsent: "remove the declaration",
	Reboots:  true,
	Canon:    schema.CanonWords("a reboot", "describe it in a word"),
	Check: func(_ string, a value.Attrs) (string, error) {
		if len(a.Texts(schema.OnlyIfChanged)) == 0 {
			return "", problem.Errorf("only_if_changed is required").
				Remedy("name what requires the reboot, such as only_if_changed = [\"kmod floppy\"]")
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

// Read looks up what is pending since the last boot.
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
	for _, d := range env.Store.Pending[t.Ref] {
		if due(d, boot) && !slices.Contains(st.causes, d.Cause.String()) {
			st.causes = append(st.causes, d.Cause.String())
		}
	}
	slices.Sort(st.causes)
	return st, nil
}

func due(d ledger.Pending, boot string) bool { return d.Action == plan.Follow && d.Boot == boot }

// Compare says that it is due.
func (reboots) Compare(t plan.Task, st state) []plan.Change {
	if len(st.causes) == 0 {
		return nil
	}
	c := plan.Change{What: "reboot", Was: "required by change to " + strings.Join(st.causes, ", "), Becomes: "done"}
	if p := t.Attrs.Text("only_if_exists"); p != "" && st.preview {
		c.Becomes = "done if " + p + " exists by then"
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
