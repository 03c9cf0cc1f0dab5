// Package group is the kind of user groups.
package group

import (
	"context"
	"errors"
	"strconv"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds/accounts"
	"jadekettle/internal/host/kinds/accounts/backend"
	"jadekettle/internal/host/kinds/kind"
)

var about = &schema.Kind{
	Name:  "group",
	Area:  "accounts",
	Tools: []schema.Tool{{Any: []string{"groupadd", "addgroup"}, Package: "passwd"}},
	About: "A group of users.",
	Doc:   "Membership is declared in users. A group that only a directory service knows is recognized and left alone.",
	Attrs: []schema.Attr{
		{Name: "gid", Type: schema.ID, Default: "the next free number", Doc: "The group ID.",
			Examples: []string{"2100"}},
		{Name: "system", Type: schema.Bool, Default: "false",
			Doc: "When created: use an ID from the system range.", Examples: []string{"true"}},
	},
	Examples: []schema.Example{
		{About: "A group of people", TOML: `[group.keepers]
`},
		{About: "A group with a fixed ID", TOML: `[group.dialers]
gid = 2100
`},
	},
	Captures: []string{"gid"},
	Canon:    schema.AccountName,
}

// Kind is the kind of groups.
func Kind() kind.Kind { return kind.Each(groups{}) }

type groups struct{}

func (groups) Schema() *schema.Kind { return about }

func (groups) Stale() []kind.Topic { return []kind.Topic{kind.TheAccounts} }

type state struct {
	there, local bool
	gid          int
}

// Read looks a group up.
func (groups) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	a, err := env.Accounts()
	if err != nil {
		return state{}, err
	}
	g, ok := a.Group(t.Ref.Name)
	gid, _ := t.Attrs.Int("gid")
	return state{ok, g.Local, g.GID}, env.TakenID(t, "gid", a.GroupName(int(gid)))
}

// Compare says what differs.
func (groups) Compare(t plan.Task, st state) []plan.Change {
	switch {
	case t.Absent && st.there:
		return []plan.Change{kind.Existence(true)}
	case t.Absent:
		return nil
	case !st.there:
		return kind.Made(t, "gid", "system")
	}
	if gid, ok := t.Attrs.Int("gid"); ok && int(gid) != st.gid {
		return []plan.Change{{What: "gid", Was: strconv.Itoa(st.gid), Becomes: strconv.FormatInt(gid, 10)}}
	}
	return nil
}

// Write makes, changes or removes a group.
func (groups) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	if w.State.there && !w.State.local {
		return problem.Errorf("the group %s is managed by a directory service", w.Task.Ref.Name).
			Remedy("change it there")
	}
	by := accounts.Of(env.Machine)
	g := backend.Group{Task: w.Task, System: w.Task.Attrs.Bool("system")}
	if gid, ok := w.Task.Attrs.Int("gid"); ok {
		g.GID = strconv.FormatInt(gid, 10)
	}
	switch {
	case w.Task.Absent:
		return by.RemoveGroup(ctx, env, w.Task.Ref.Name)
	case w.State.there:
		return by.ChangeGroup(ctx, env, g)
	}
	return by.MakeGroup(ctx, env, g)
}

// Names lists the groups that people made: those from id 1000 on, without the
// ones that only hold one user of the same name.
func (groups) Names(_ context.Context, env *kind.Env) ([]string, error) {
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
func (groups) Capture(_ context.Context, _ *kind.Env, _ plan.Task, st state) (plan.Captured, error) {
	switch {
	case !st.there:
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	case !st.local:
		return plan.Captured{}, errors.New("it is managed by a directory service")
	}
	return plan.Captured{Attrs: map[string]any{"gid": int64(st.gid)}}, nil
}
