// Package group is the kind of user groups.
package group

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "group",
	Area:  "accounts",
	About: "A group of users.",
	Doc:   "Who is in a group is said by the users. A group that only a directory service knows is recognised and left alone.",
	Attrs: []schema.Attr{
		{Name: "gid", Type: schema.Int, Default: "the next free number", Doc: "Its number.", Examples: []string{"2100"}},
		{Name: "system", Type: schema.Bool, Default: "false", Doc: "When it is made: whether its number comes from the system's range.", Examples: []string{"true"}},
	},
	Examples: []schema.Example{
		{About: "A group of people", TOML: `[group.keepers]
`},
		{About: "A group with a number of its own", TOML: `[group.dialers]
gid = 2100
`},
	},
	Canon: schema.AccountName,
}

// Kind is the kind of groups.
type Kind struct{}

// Schema describes it.
func (Kind) Schema() *schema.Kind { return about }

// Joint says that each is written by itself.
func (Kind) Joint() bool { return false }

type state struct {
	there, local bool
	gid          int
}

// Read looks groups up.
func (Kind) Read(_ context.Context, env *kind.Env, tasks []plan.Task) []kind.Reading {
	out := make([]kind.Reading, len(tasks))
	for i, t := range tasks {
		a, err := env.Accounts()
		if err != nil {
			out[i].Err = err
			continue
		}
		g, ok := a.Group(t.Ref.Name)
		out[i].State = state{ok, g.Local, g.GID}
	}
	return out
}

// Compare says what differs.
func (Kind) Compare(t plan.Task, s any) []plan.Change {
	st := s.(state)
	switch {
	case t.Absent && st.there, !t.Absent && !st.there:
		return []plan.Change{kind.Existence(t.Absent)}
	case t.Absent:
		return nil
	}
	if gid, ok := t.Attrs.Int("gid"); ok && int(gid) != st.gid {
		return []plan.Change{{What: "gid", Before: strconv.Itoa(st.gid), After: strconv.FormatInt(gid, 10)}}
	}
	return nil
}

// Write makes, changes or removes groups.
func (Kind) Write(ctx context.Context, env *kind.Env, work []kind.Work) []error {
	out := make([]error, len(work))
	for i, w := range work {
		st := w.State.(state)
		if st.there && !st.local {
			out[i] = fmt.Errorf("the group %s comes from a directory service; change it there", w.Task.Ref.Name)
			continue
		}
		c := command(w.Task, st)
		res, err := env.Machine.Run(ctx, c)
		if err == nil {
			err = res.Fault(c)
		}
		out[i] = err
	}
	return out
}

func command(t plan.Task, st state) machine.Command {
	var args []string
	switch {
	case t.Absent:
		args = []string{"groupdel"}
	case st.there:
		args = []string{"groupmod"}
	default:
		args = []string{"groupadd"}
		if t.Attrs.Bool("system") {
			args = append(args, "-r")
		}
	}
	if gid, ok := t.Attrs.Int("gid"); ok && !t.Absent {
		args = append(args, "-g", strconv.FormatInt(gid, 10))
	}
	return machine.Command{Args: append(args, t.Ref.Name)}
}

// Names lists the groups that people made: those from id 1000 on, without the
// ones that only hold one user of the same name.
func (Kind) Names(_ context.Context, env *kind.Env) ([]string, error) {
	a, err := env.Accounts()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, g := range a.LocalGroups() {
		if _, own := a.User(g.Name); g.GID >= kind.FirstPerson && g.GID < kind.LastPerson && !own {
			out = append(out, g.Name)
		}
	}
	return out, nil
}

// Capture declares a group with its id.
func (Kind) Capture(_ context.Context, _ *kind.Env, _ plan.Task, s any) (plan.Captured, error) {
	st := s.(state)
	switch {
	case !st.there:
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	case !st.local:
		return plan.Captured{}, errors.New("it comes from a directory service")
	}
	return plan.Captured{Attrs: map[string]any{"gid": int64(st.gid)}}, nil
}
