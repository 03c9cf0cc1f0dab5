// Package user is the kind of user accounts.
package user

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/accounts"
	"jadekettle/internal/host/kinds/accounts/backend"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "user",
	Area:  "accounts",
	Tools: []schema.Tool{{Any: []string{"useradd", "adduser"}, Package: "passwd"}},
	About: "A user account.",
	Doc: "Attributes that are not declared are left unchanged. The host verifies the password against its stored " +
		"hash, so a matching password changes nothing, whatever the hashing scheme; for an account to be locked, " +
		"any password is enough. An account that only a directory service knows is recognized and never created " +
		"locally. A host without useradd uses busybox adduser; it does not support expires and locked.",
	Attrs: []schema.Attr{
		{Name: "uid", Type: schema.ID, Default: "the next free number", Doc: "The user ID.",
			Examples: []string{"2101"}},
		{Name: "group", Type: schema.Name, Default: "a group with the same name", Doc: "The primary group.",
			Examples: []string{`"keepers"`}},
		{Name: "groups", Type: schema.Name, List: true, Doc: "Additional groups it must be in.",
			Examples: []string{`["dialout"]`}},
		{Name: "only_groups", Type: schema.Bool, Default: "false",
			Doc: "Whether it must be in no other groups than these and its primary one.", Examples: []string{"true"}},
		{Name: "home", Type: schema.Path, Default: "/home/NAME", Doc: "The home directory.",
			Examples: []string{`"/srv/tide"`}},
		{Name: "move_home", Type: schema.Bool, Default: "false",
			Doc: "Move the contents of the previous home directory.", Examples: []string{"true"}},
		{Name: "home_mode", Type: schema.Mode, Default: "unchanged", Doc: "The permission bits of the home directory.",
			Examples: []string{`"0750"`}},
		{Name: "keys", Type: schema.Text, List: true,
			Doc:      "Public keys that may log in, as lines for ~/.ssh/authorized_keys, with or without options.",
			Examples: []string{`["${data.keepers.maren.key}"]`}},
		{Name: "only_keys", Type: schema.Bool, Default: "false", Doc: "Whether no other keys may log in.",
			Examples: []string{"true"}},
		{Name: "expires", Type: schema.Text, Default: "unchanged",
			Doc:      "The expiry date of the account (YYYY-MM-DD), or \"never\".",
			Examples: []string{`"2027-05-31"`, `"never"`}},
		{Name: "locked", Type: schema.Bool, Default: "unchanged",
			Doc: "Whether the account is locked for both password and key logins.", Examples: []string{"true"}},
		{Name: "shell", Type: schema.Path, Default: "the system's default", Doc: "The login shell.",
			Examples: []string{`"/bin/bash"`}},
		{Name: "comment", Type: schema.Text, Doc: "The full name or purpose.",
			Examples: []string{`"Keeper of the north pier"`}},
		{Name: "system", Type: schema.Bool, Default: "false",
			Doc: "When created: make it a system account, with an ID from the system range and without a home " +
				"directory.",
			Examples: []string{"true"}},
		{Name: "password", Type: schema.Hidden, Doc: "The password in clear; never shown.",
			Examples: []string{`"${data.keeper_password}"`}},
		{Name: "password_hash", Type: schema.Hidden,
			Doc:      `The crypt(5) hash of the password, or "!" to disable password logins; never shown.`,
			Examples: []string{`"!"`}},
	},
	Examples: []schema.Example{
		{About: "A user in a group that is created first", TOML: `[user.maren]
comment = "Maren, keeper"
groups = ["keepers"]
shell = "/bin/bash"

[group.keepers]
`},
		{About: "A service account", TOML: `[user.tidelog]
system = true
home = "/var/lib/tide"
shell = "/usr/sbin/nologin"
`},
		{About: "A former keeper: no login and no extra rights", TOML: `[user.old-keeper]
groups = []
only_groups = true
keys = []
only_keys = true
locked = true
`},
	},
	Captures: []string{"uid", "group", "groups", "home", "shell", "comment"},
	Canon:    schema.AccountName,
	Needs: func(n schema.Needer) []value.Ref {
		out := []value.Ref{{Kind: "group", Name: n.Ref.Name}} // which becomes its primary group unless another is named
		for _, g := range append([]string{n.Attrs.Text("group")}, n.Attrs.Texts("groups")...) {
			out = append(out, kind.GroupNeeds(n, g)...)
		}
		return out
	},
	Check: func(name string, a value.Attrs) (string, error) {
		if name == "root" && a.Bool("absent") {
			return "absent", problem.Errorf("root cannot be absent").Remedy("lock it: password_hash = \"!\"")
		}
		password, given := a.Secret("password")
		hash, hashGiven := a.Secret("password_hash")
		switch {
		case given && hashGiven:
			return "password_hash", problem.Errorf("password and password_hash cannot be combined").
				Remedy("keep one of them")
		case given && (password.Reveal() == "" || strings.ContainsAny(password.Reveal(), "\n\r")):
			return "password", problem.Errorf("password is empty or contains a line break").Remedy("choose another one")
		case hashGiven && (hash.Reveal() == "" || strings.ContainsAny(hash.Reveal(), ":\n\r")):
			return "password_hash", problem.Errorf("password_hash is not a valid crypt(5) hash").
				Remedy("paste the output of the host's tools")
		case strings.Contains(a.Text("comment"), ":") || value.HasControl(a.Text("comment")):
			return "comment", problem.Errorf("comment contains a colon or a line break, which /etc/passwd does not " +
				"allow").
				Remedy("remove it")
		}
		if a.Bool("only_groups") && !a.Has("groups") {
			return "only_groups", problem.Errorf("only_groups requires groups").
				Remedy("list the groups; groups = [] removes it from all")
		}
		if err := checkKeys(a); err != nil {
			return "keys", err
		}
		return checkAging(a)
	},
}

// Kind is the kind of users.
func Kind() kind.Kind { return kind.Each(users{}) }

type users struct{}

func (users) Schema() *schema.Kind { return about }

func (users) Stale() []kind.Topic { return []kind.Topic{kind.TheAccounts} }

type state struct {
	there      bool
	user       kind.User
	group      string
	missing    []string // declared groups that it is not in
	beyond     []string // groups that it is in and not declared to be, where only those are
	homeMode   string
	keys       kind.Text
	aging      aging
	hasHash    bool     // a password is stored, locked or not
	left       []string // what stays of a removed account
	password   bool     // whether the declared password or hash is the one that is
	noPassword bool     // none has been set
}

// Read looks a user up, and lets the host verify a declared password.
func (users) Read(ctx context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	a, err := env.Accounts()
	if err != nil {
		return st, err
	}
	uid, _ := t.Attrs.Int("uid")
	if err := env.TakenID(t, "uid", a.UserName(int(uid))); err != nil {
		return st, err
	}
	var noGroup error // the rest is read all the same, for a preview
	if !t.Absent {
		for _, g := range append(t.Attrs.Texts("groups"), t.Attrs.Text("group")) {
			if _, ok := a.Group(g); !ok && g != "" {
				noGroup = kind.NotYet(problem.Errorf("the group %s does not exist on this host", g).
					Remedy("declare it: [group.%s]", g))
			}
		}
	}
	if st.user, st.there = a.User(t.Ref.Name); !st.there || t.Absent {
		st.left = undeclared(env, st)
		return st, noGroup
	}
	st.group = a.GroupName(st.user.GID)
	in := a.GroupsOf(t.Ref.Name)
	for _, g := range t.Attrs.Texts("groups") {
		if !in[g] && g != st.group {
			st.missing = append(st.missing, g)
		}
	}
	if t.Attrs.Bool("only_groups") {
		for _, g := range value.Keys(in) {
			if !slices.Contains(t.Attrs.Texts("groups"), g) && g != st.group {
				st.beyond = append(st.beyond, g)
			}
		}
	}
	err = readPassword(ctx, env, t, &st)
	return st, cmp.Or(err, readRest(env, t, &st), noGroup)
}

// readRest reads what only counts where it is declared.
func readRest(env *kind.Env, t plan.Task, st *state) error {
	for _, attr := range []string{"expires", "locked"} {
		if err := accounts.Of(env.Machine).Refuses(attr); err != nil && t.Attrs.Has(attr) {
			return err
		}
	}
	if t.Attrs.Has("locked") || t.Attrs.Has("expires") {
		hash, err := shadow(env, t.Ref.Name)
		if err != nil {
			return err
		}
		st.hasHash = len(strings.Trim(hash, "!*")) > 0
		if st.aging, err = readAging(env, t.Ref.Name); err != nil {
			return err
		}
	}
	if t.Attrs.Has("home_mode") {
		f, info, err := openHome(env, st.user.Home)
		if err != nil {
			return err
		}
		f.Close()
		st.homeMode = fmt.Sprintf("%04o", info.Mode)
	}
	return readKeys(env, t, st)
}

// openHome opens a home, and describes it.
func openHome(env *kind.Env, home string) (machine.File, machine.Info, error) {
	d, name, err := env.Split(home)
	if err != nil {
		return nil, machine.Info{}, err
	}
	defer d.Close()
	f, err := d.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, machine.Info{}, kind.NotYet(problem.Errorf("the home directory %s does not exist", home).
			Remedy("declare it: [dir.%q], with its owner", home))
	}
	if err != nil {
		return nil, machine.Info{}, err
	}
	info, err := f.Info()
	if err == nil && !info.Type.IsDir() {
		err = problem.Errorf("the home %s is not a directory", home).Remedy("move it away by hand")
	}
	if err != nil {
		f.Close()
	}
	return f, info, err
}

// Keeps gives the home, and the file of keys where that is declared.
func (users) Keeps(env *kind.Env, t plan.Task) []string {
	home := t.Attrs.Text("home")
	if home == "" {
		a, err := env.Accounts()
		if err != nil {
			return nil
		}
		u, _ := a.User(t.Ref.Name)
		home = u.Home
	}
	switch {
	case home == "" || home == "/":
		return nil
	case t.Attrs.Has("keys"):
		return []string{home, keysFile(home)}
	}
	return []string{home}
}

// giveHome gives a new account the home that was there before it, such as a file system
// of its own: one of root's in which nothing lies. What is declared of the folder itself
// counts more.
func giveHome(env *kind.Env, name string) error {
	a, err := env.Accounts()
	if err != nil {
		return err
	}
	u, _ := a.User(name)
	if slices.ContainsFunc(env.Tasks, func(t plan.Task) bool { return t.Ref == value.Ref{Kind: "dir", Name: u.Home} }) {
		return nil
	}
	f, info, err := openHome(env, u.Home)
	if errors.Is(err, kind.ErrNotYet) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	names, err := env.Machine.ReadDir(u.Home)
	if err != nil {
		return err
	}
	bare := !slices.ContainsFunc(names, func(n string) bool { return n != "lost+found" })
	if info.UID != 0 || u.UID == 0 || !bare {
		return nil
	}
	if err := f.Chown(u.UID, u.GID); err != nil {
		return fmt.Errorf("change the owner of the home directory %s: %w", u.Home, err)
	}
	return nil
}

// setHomeMode sets the mode of a home that is the user's own.
func setHomeMode(env *kind.Env, name, mode string) error {
	a, err := env.Accounts()
	if err != nil {
		return err
	}
	u, _ := a.User(name)
	f, info, err := openHome(env, u.Home)
	if err != nil {
		return err
	}
	defer f.Close()
	if info.UID != u.UID {
		return problem.Errorf("the home directory %s belongs to %s", u.Home, a.UserName(info.UID)).
			Remedy("declare it: [dir.%q]", u.Home)
	}
	bits, err := schema.ParseMode(mode)
	if err != nil {
		return err
	}
	return f.Chmod(bits)
}

// undeclared are what a removed account leaves behind.
func undeclared(env *kind.Env, st state) []string {
	var out []string
	if !st.there {
		return nil
	}
	for _, p := range []string{st.user.Home, "/var/mail/" + st.user.Name, "/var/spool/cron/crontabs/" + st.user.Name} {
		d, name, err := env.Split(p)
		if err != nil || p == "/" {
			continue
		}
		if _, err := d.Lstat(name); err == nil {
			out = append(out, p)
		}
		d.Close()
	}
	return out
}

func readPassword(ctx context.Context, env *kind.Env, t plan.Task, st *state) error {
	password, plain := t.Attrs.Secret("password")
	hash, hashed := t.Attrs.Secret("password_hash")
	if !plain && !hashed {
		return nil
	}
	stored, err := shadow(env, t.Ref.Name)
	if err != nil {
		return err
	}
	behind, barred := strings.CutPrefix(stored, "!")
	if barred && strings.Trim(behind, "!*") != "" && t.Attrs.Bool("locked") {
		// Nothing verifies a password behind the mark, and nobody gets in by it.
		st.password = plain || behind == strings.TrimPrefix(hash.Reveal(), "!")
		return nil
	}
	st.noPassword = stored == "" || strings.HasPrefix(stored, "!") || strings.HasPrefix(stored, "*")
	switch {
	case hashed:
		st.password = stored == hash.Reveal()
	case !st.noPassword:
		st.password, err = accounts.Of(env.Machine).Fits(ctx, env, t.Ref.Name, stored, password)
	}
	return err
}

// shadow gives what is stored of a password: in /etc/shadow, or, on a host that
// has none, in /etc/passwd.
func shadow(env *kind.Env, name string) (string, error) {
	data, err := machine.ReadFile(env.Machine, "/etc/shadow")
	if errors.Is(err, fs.ErrNotExist) {
		data, err = machine.ReadFile(env.Machine, "/etc/passwd")
	}
	if err != nil {
		return "", fmt.Errorf("compare a password: %w", err)
	}
	for line := range strings.Lines(string(data)) {
		if rest, ok := strings.CutPrefix(line, name+":"); ok {
			hash, _, _ := strings.Cut(rest, ":")
			return hash, nil
		}
	}
	return "", nil
}

// Compare says what differs.
func (users) Compare(t plan.Task, st state) []plan.Change {
	switch {
	case t.Absent && st.there:
		out := []plan.Change{kind.Existence(true)}
		if len(st.left) > 0 {
			out = append(out, plan.Change{What: "left behind", Becomes: strings.Join(st.left, ", ")})
		}
		return out
	case t.Absent:
		return nil
	case !st.there:
		return kind.Made(t, "uid", "group", "groups", "home", "shell", "comment", "system", "password", "password_hash",
			"home_mode", "keys", "expires", "locked")
	}
	var out []plan.Change
	if uid, ok := t.Attrs.Int("uid"); ok && int(uid) != st.user.UID {
		out = append(out, plan.Change{What: "uid", Was: strconv.Itoa(st.user.UID), Becomes: strconv.FormatInt(uid, 10)})
	}
	for _, c := range []plan.Change{
		{What: "group", Was: st.group},
		{What: "home", Was: st.user.Home},
		{What: "shell", Was: st.user.Shell},
		{What: "comment", Was: st.user.Comment},
	} {
		if c.Becomes = t.Attrs.Text(c.What); t.Attrs.Has(c.What) && c.Becomes != c.Was {
			out = append(out, c)
		}
	}
	if len(st.missing) > 0 {
		out = append(out, plan.Change{What: "groups", Was: "not in " + strings.Join(st.missing, ", "), Becomes: "in " +
			strings.Join(st.missing, ", ")})
	}
	if len(st.beyond) > 0 {
		out = append(out, plan.Change{What: "groups", Was: "in " + strings.Join(st.beyond, ", "), Becomes: "not in " +
			strings.Join(st.beyond, ", ")})
	}
	if want := t.Attrs.Text("home_mode"); want != "" && want != st.homeMode {
		out = append(out, plan.Change{What: "home_mode", Was: st.homeMode, Becomes: want})
	}
	out = append(out, compareAging(t, st)...)
	out = append(out, compareKeys(t, st)...)
	for _, name := range []string{"password", "password_hash"} {
		if t.Attrs.Has(name) && !st.password {
			out = append(out, plan.Change{What: name, Was: kind.Yes(st.noPassword, "none", "another"),
				Becomes: "as declared"})
		}
	}
	return out
}

// Write makes, changes or removes an account.
func (users) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	st := w.State
	if st.there && !st.user.Local {
		return problem.Errorf("the account %s is managed by a directory service", w.Task.Ref.Name).
			Remedy("change it there")
	}
	name := w.Task.Ref.Name
	by := accounts.Of(env.Machine)
	if w.Task.Absent {
		return by.RemoveUser(ctx, env, name)
	}
	a, err := env.Accounts()
	if err != nil {
		return err
	}
	_, own := a.Group(name)
	u := account(w, st, !own)
	if st.there {
		err = by.ChangeUser(ctx, env, u)
	} else {
		err = by.MakeUser(ctx, env, u)
	}
	if err != nil {
		return err
	}
	for _, attr := range []string{"password", "password_hash"} {
		if p, ok := w.Task.Attrs.Secret(attr); ok && (!st.there || w.Differs(attr)) {
			if err := by.SetPassword(ctx, env, name, p, attr == "password_hash"); err != nil {
				return err
			}
		}
	}
	opened := !st.there || w.Differs("password") || w.Differs("password_hash")
	if opened && w.Task.Attrs.Bool("locked") { // only now, since a new password opens it again
		if err := by.ChangeUser(ctx, env, backend.User{Task: w.Task, Lock: true}); err != nil {
			return err
		}
	}
	env.Forget(kind.TheAccounts)
	if !st.there && !w.Task.Attrs.Bool("system") {
		if err := giveHome(env, name); err != nil {
			return err
		}
	}
	if mode := w.Task.Attrs.Text("home_mode"); mode != "" && (!st.there || w.Differs("home_mode")) {
		if err := setHomeMode(env, name, mode); err != nil {
			return err
		}
	}
	if len(w.Task.Attrs.Texts("keys")) > 0 && !st.there || w.Differs("keys") {
		return writeKeys(ctx, env, w.Task)
	}
	return nil
}

// account gives what is to become of an account; ownGroup says that there is no
// group of its name yet.
func account(w kind.Differing[state], st state, ownGroup bool) backend.User {
	a := w.Task.Attrs
	u := backend.User{Task: w.Task, System: a.Bool("system"), OwnGroup: ownGroup, Set: map[string]string{},
		MoveHome: w.Differs("home") && a.Bool("move_home") && st.there, Join: st.missing, Leave: st.beyond,
		Only: a.Texts("groups")}
	if !st.there {
		u.Join = a.Texts("groups")
	}
	for _, attr := range []string{"uid", "group", "home", "shell", "comment"} {
		if a.Has(attr) && (!st.there || w.Differs(attr)) {
			u.Set[attr] = a.Text(attr)
		}
	}
	if uid, ok := a.Int("uid"); ok && u.Set["uid"] == "" && (!st.there || w.Differs("uid")) {
		u.Set["uid"] = strconv.FormatInt(uid, 10)
	}
	aged(w, &u)
	return u
}

// Names lists the accounts of people: those from id 1000 on.
func (users) Names(_ context.Context, env *kind.Env) ([]string, error) {
	a, err := env.Accounts()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, u := range a.LocalUsers() {
		if u.UID >= kind.FirstPerson && u.UID < kind.LastPerson {
			out = append(out, u.Name)
		}
	}
	return out, nil
}

// Capture declares an account, without its password.
func (users) Capture(_ context.Context, env *kind.Env, t plan.Task, st state) (plan.Captured, error) {
	switch {
	case !st.there:
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	case !st.user.Local:
		return plan.Captured{}, errors.New("it is managed by a directory service")
	}
	a, err := env.Accounts()
	if err != nil {
		return plan.Captured{}, err
	}
	c := plan.Captured{Attrs: map[string]any{"uid": int64(st.user.UID), "group": st.group, "home": st.user.Home,
		"shell": st.user.Shell, "comment": st.user.Comment}}
	for _, name := range []string{"home", "shell", "comment"} {
		if c.Attrs[name] == "" {
			delete(c.Attrs, name)
		}
	}
	if groups := value.Keys(a.GroupsOf(t.Ref.Name)); len(groups) > 0 {
		c.Attrs["groups"] = groups
	}
	if hash, err := shadow(env, t.Ref.Name); err == nil && hash != "" && !strings.HasPrefix(hash, "!") &&
		!strings.HasPrefix(hash, "*") {
		c.Note = "it has a password, which is not shown"
	}
	return c, nil
}
