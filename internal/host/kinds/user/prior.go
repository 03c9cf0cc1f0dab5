package user

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/accounts"
	"jadekettle/internal/host/kinds/kind"
)

// Prior gives an account as far as a declaration may change it; of one that is to go, all
// of it.
func (users) Prior(_ context.Context, env *kind.Env, t plan.Task, st state) ([]plan.Prior, error) {
	a, err := env.Accounts()
	if err != nil {
		return nil, err
	}
	own := value.Ref{Kind: "group", Name: t.Ref.Name} // which comes and goes with the account
	g, grouped := a.Group(own.Name)
	switch {
	case !st.there && grouped:
		return []plan.Prior{plan.Missing(t.Ref)}, nil
	case !st.there:
		return []plan.Prior{plan.Missing(own), plan.Missing(t.Ref)}, nil
	case !st.user.Local:
		return nil, errors.New("it is managed by a directory service")
	}
	var groups []any
	for _, g := range value.Keys(a.GroupsOf(t.Ref.Name)) {
		groups = append(groups, g)
	}
	attrs := value.Attrs{"uid": int64(st.user.UID), "group": a.GroupName(st.user.GID), "groups": groups,
		"only_groups": true,
		"comment":     st.user.Comment, "home": st.user.Home, "shell": st.user.Shell}
	if st.user.UID < kind.FirstPerson { // whose home nobody makes but what is declared beside it
		attrs["system"] = true
	}
	for _, name := range []string{"home", "shell"} { // which no attribute can empty
		if attrs[name] == "" {
			delete(attrs, name)
		}
	}
	touches := func(names ...string) bool { return t.Absent || slices.ContainsFunc(names, t.Attrs.Has) }
	if st.homeMode != "" {
		attrs["home_mode"] = st.homeMode
	}
	if touches("keys") {
		err = cmp.Or(err, priorKeys(env, t, st, attrs))
	}
	if touches("locked", "expires") {
		err = cmp.Or(err, priorAging(env, t.Ref.Name, attrs))
	}
	if touches("password", "password_hash", "locked") {
		hash, e := shadow(env, t.Ref.Name)
		attrs["password_hash"] = value.NewSecret(cmp.Or(hash, "!"))
		err = cmp.Or(err, e)
	}
	out := []plan.Prior{plan.NewPrior(t.Ref, attrs)}
	if grouped {
		out = slices.Insert(out, 0, plan.NewPrior(own, value.Attrs{"gid": int64(g.GID)}))
	}
	return out, err
}

// priorKeys adds the keys that let somebody in.
func priorKeys(env *kind.Env, t plan.Task, st state, attrs value.Attrs) error {
	if t.Absent { // the file stays with the home
		return nil
	}
	t.Attrs = value.Attrs{"keys": []any{}}
	if err := readKeys(env, t, &st); err != nil {
		return err
	}
	keys := []any{}
	for _, line := range kind.SplitLines(st.keys.Text).List {
		if keyOf(line) != "" {
			keys = append(keys, line)
		}
	}
	attrs["keys"], attrs["only_keys"] = keys, true
	return nil
}

// priorAging adds whether the account is locked, or from when on.
func priorAging(env *kind.Env, name string, attrs value.Attrs) error {
	if accountsKnowNoAging(env) {
		return nil
	}
	a, err := readAging(env, name)
	if attrs["locked"] = a.locked(); !a.locked() {
		attrs["expires"] = a.expires
	}
	return err
}

func accountsKnowNoAging(env *kind.Env) bool {
	by := accounts.Of(env.Machine)
	return by.Refuses("locked") != nil || by.Refuses("expires") != nil
}
