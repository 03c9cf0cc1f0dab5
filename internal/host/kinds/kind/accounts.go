package kind

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/machine"
)

// User is one account.
type User struct {
	Name    string
	UID     int
	GID     int
	Comment string
	Home    string
	Shell   string
	Local   bool // in the host's own files, not only in a directory service
}

// Group is one group.
type Group struct {
	Name    string
	GID     int
	Members []string
	Local   bool
}

// Accounts are a host's own users and groups, and those of a directory service
// that were asked for.
type Accounts struct {
	users  map[string]User
	groups map[string]Group
	byUID  map[int]string
	byGID  map[int]string
	asked  map[string]bool
	m      machine.Machine
}

// Accounts reads /etc/passwd and /etc/group, once until something is written.
func (e *Env) Accounts() (*Accounts, error) {
	return Cached(e, TheAccounts, func() (*Accounts, error) {
		a := &Accounts{users: map[string]User{}, groups: map[string]Group{}, byUID: map[int]string{},
			byGID: map[int]string{}, asked: map[string]bool{}, m: e.Machine}
		passwd, err := machine.ReadFile(e.Machine, "/etc/passwd")
		if err != nil {
			return nil, err
		}
		group, err := machine.ReadFile(e.Machine, "/etc/group")
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(string(passwd)) {
			a.addUser(line, true)
		}
		for line := range strings.Lines(string(group)) {
			a.addGroup(line, true)
		}
		return a, nil
	})
}

func (a *Accounts) addUser(line string, local bool) {
	f := strings.Split(strings.TrimSuffix(line, "\n"), ":")
	if len(f) < 7 {
		return
	}
	uid, err1 := strconv.Atoi(f[2])
	gid, err2 := strconv.Atoi(f[3])
	if err1 != nil || err2 != nil {
		return
	}
	if _, there := a.users[f[0]]; !there {
		a.users[f[0]] = User{f[0], uid, gid, f[4], f[5], f[6], local}
	}
	if _, there := a.byUID[uid]; !there {
		a.byUID[uid] = f[0]
	}
}

func (a *Accounts) addGroup(line string, local bool) {
	f := strings.Split(strings.TrimSuffix(line, "\n"), ":")
	if len(f) < 4 {
		return
	}
	gid, err := strconv.Atoi(f[2])
	if err != nil {
		return
	}
	members := strings.FieldsFunc(f[3], func(r rune) bool { return r == ',' })
	if _, there := a.groups[f[0]]; !there {
		a.groups[f[0]] = Group{f[0], gid, members, local}
	}
	if _, there := a.byGID[gid]; !there {
		a.byGID[gid] = f[0]
	}
}

// ask looks an account up where the host's own configuration says accounts
// come from, which may be a directory service.
func (a *Accounts) ask(database, key string) {
	if a.asked[database+key] || !a.m.Look("getent") {
		return
	}
	a.asked[database+key] = true
	out, err := a.m.Run(context.Background(), machine.Command{Args: []string{"getent", database, key}})
	if err != nil || out.Code != 0 {
		return
	}
	line, _, _ := strings.Cut(out.Stdout, "\n")
	if database == "passwd" {
		a.addUser(line, false)
		return
	}
	a.addGroup(line, false)
}

// User finds a user.
func (a *Accounts) User(name string) (User, bool) {
	if _, ok := a.users[name]; !ok {
		a.ask("passwd", name)
	}
	u, ok := a.users[name]
	return u, ok
}

// Group finds a group.
func (a *Accounts) Group(name string) (Group, bool) {
	if _, ok := a.groups[name]; !ok {
		a.ask("group", name)
	}
	g, ok := a.groups[name]
	return g, ok
}

// TakenID says why an account or a group cannot have the id that is declared for it: another has it, and nothing in the
// plan takes it from there. attr is uid or gid, and holder who has the id now; its number where that is nobody.
func (e *Env) TakenID(t plan.Task, attr, holder string) error {
	id, declared := t.Attrs.Int(attr)
	if !declared || t.Absent || holder == t.Ref.Name || holder == strconv.FormatInt(id, 10) {
		return nil
	}
	if e.Run.Preview && slices.ContainsFunc(e.Tasks, func(o plan.Task) bool {
		other, moves := o.Attrs.Int(attr)
		return o.Ref == value.Ref{Kind: t.Ref.Kind, Name: holder} && (o.Absent || moves && other != id)
	}) {
		return nil
	}
	return problem.Errorf("the %s %d is already used by the %s %s", attr, id, t.Ref.Kind, holder).
		Remedy("change one of them")
}

// UserName gives the name of a user id, or the number.
func (a *Accounts) UserName(uid int) string {
	if n, ok := a.byUID[uid]; ok {
		return n
	}
	return strconv.Itoa(uid)
}

// GroupName gives the name of a group id, or the number.
func (a *Accounts) GroupName(gid int) string {
	if n, ok := a.byGID[gid]; ok {
		return n
	}
	return strconv.Itoa(gid)
}

// GroupsOf lists the groups that name a user as a member.
func (a *Accounts) GroupsOf(user string) map[string]bool {
	out := map[string]bool{}
	for _, g := range a.groups {
		for _, m := range g.Members {
			if m == user {
				out[g.Name] = true
			}
		}
	}
	return out
}

// Rights are those of a user, for a command that runs with them.
func (e *Env) Rights(user string) (*machine.Rights, error) {
	a, err := e.Accounts()
	if err != nil {
		return nil, err
	}
	u, ok := a.User(user)
	if !ok {
		return nil, NotYet(problem.Errorf("the user %s does not exist on this host", user).
			Remedy("declare it: [user.%s]", user))
	}
	if me := e.Machine.UID(); me != 0 && me != u.UID {
		return nil, problem.Errorf("only root can run commands as %s", user).Remedy("set elevate under [connect]")
	}
	r := &machine.Rights{Name: u.Name, UID: u.UID, GID: u.GID, Home: u.Home, Groups: []int{u.GID}}
	for name := range a.GroupsOf(user) {
		if g, ok := a.Group(name); ok {
			r.Groups = append(r.Groups, g.GID)
		}
	}
	slices.Sort(r.Groups)
	return r, nil
}

// FirstPerson and LastPerson bound the ids of accounts that are people's, as
// login.defs(5) has them by default.
const (
	FirstPerson = 1000
	LastPerson  = 60000
)

// LocalUsers lists the host's own users by name.
func (a *Accounts) LocalUsers() []User {
	var out []User
	for _, name := range value.Keys(a.users) {
		if a.users[name].Local {
			out = append(out, a.users[name])
		}
	}
	return out
}

// LocalGroups lists the host's own groups by name.
func (a *Accounts) LocalGroups() []Group {
	var out []Group
	for _, name := range value.Keys(a.groups) {
		if a.groups[name].Local {
			out = append(out, a.groups[name])
		}
	}
	return out
}
