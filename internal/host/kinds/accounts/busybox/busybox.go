// Package busybox manages accounts by busybox's adduser, addgroup, deluser and
// delgroup. What these cannot change, a home or a shell, is written into
// /etc/passwd and /etc/group, passwd(5) and group(5).
package busybox

import (
	"context"
	"fmt"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/accounts/backend"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// Manager is these programs.
type Manager struct{}

// Refuses what nothing on such a host heeds: the last day of an account, by which
// a key would be kept out as well.
func (Manager) Refuses(attr string) error {
	switch attr {
	case "expires":
		return problem.Errorf("accounts on this host do not support an expiry date").Remedy("remove expires")
	case "locked":
		return problem.Errorf("accounts on this host cannot be locked against key logins").
			Remedy("write password_hash = \"!\", keys = [] and only_keys = true")
	}
	return nil
}

// MakeUser makes an account, with a home unless it is a system's.
func (Manager) MakeUser(ctx context.Context, env *kind.Env, u backend.User) error {
	group := u.Name()
	if g, ok := u.Set["group"]; ok {
		group = g
	} else if u.OwnGroup {
		if err := (Manager{}).MakeGroup(ctx, env, backend.Group{Task: u.Task, System: u.System}); err != nil {
			return err
		}
	}
	// Without a comment it would write one of its own.
	args := []string{"adduser", "-D", "-g", u.Set["comment"], "-G", group}
	if u.System {
		args = append(args, "-S", "-H")
	}
	for _, a := range [][2]string{{"uid", "-u"}, {"home", "-h"}, {"shell", "-s"}} {
		if text, ok := u.Set[a[0]]; ok {
			args = append(args, a[1], text)
		}
	}
	if err := backend.Do(ctx, env, "", append(args, u.Name())...); err != nil {
		return err
	}
	return join(ctx, env, u)
}

func join(ctx context.Context, env *kind.Env, u backend.User) error {
	for _, g := range u.Join {
		if err := backend.Do(ctx, env, "", "addgroup", u.Name(), g); err != nil {
			return err
		}
	}
	return nil
}

// columns are those of passwd(5), counted from 0.
var columns = map[string]int{"group": 3, "comment": 4, "home": 5, "shell": 6}

// ChangeUser changes an account.
func (Manager) ChangeUser(ctx context.Context, env *kind.Env, u backend.User) error {
	if _, ok := u.Set["uid"]; ok {
		return problem.Errorf("no program on this host can change the ID of an account and its files").
			Remedy("change both by hand, or declare it absent once")
	}
	if err := join(ctx, env, u); err != nil {
		return err
	}
	for _, g := range u.Leave {
		if err := backend.Do(ctx, env, "", "delgroup", u.Name(), g); err != nil {
			return err
		}
	}
	if len(u.Set) == 0 {
		return nil
	}
	a, err := env.Accounts()
	if err != nil {
		return err
	}
	was, _ := a.User(u.Name())
	if to, ok := u.Set["home"]; ok && u.MoveHome {
		if err := backend.Do(ctx, env, "", "mv", "-n", was.Home, to); err != nil {
			return err
		}
	}
	return rewrite(ctx, env, u.Task, "/etc/passwd", func(row []string) error {
		for attr, text := range u.Set {
			if attr == "group" {
				g, ok := a.Group(text)
				if !ok {
					return problem.Errorf("the group %s does not exist on this host", text).
						Remedy("declare it: [group.%s]", text)
				}
				text = fmt.Sprint(g.GID)
			}
			if i, ok := columns[attr]; ok && i < len(row) {
				row[i] = text
			}
		}
		return nil
	})
}

// rewrite changes the line of the task's account in a file.
func rewrite(ctx context.Context, env *kind.Env, t plan.Task, file string, change func(row []string) error) error {
	st, err := env.ReadText(file)
	if err != nil {
		return err
	}
	lines := strings.Split(st.Text, "\n")
	for i, line := range lines {
		row := strings.Split(line, ":")
		if row[0] != t.Ref.Name {
			continue
		}
		if err := change(row); err != nil {
			return err
		}
		lines[i] = strings.Join(row, ":")
	}
	return env.PutText(ctx, t, st, strings.Join(lines, "\n"))
}

// RemoveUser removes an account, and leaves its home.
func (Manager) RemoveUser(ctx context.Context, env *kind.Env, name string) error {
	return backend.Do(ctx, env, "", "deluser", name)
}

// MakeGroup makes a group.
func (Manager) MakeGroup(ctx context.Context, env *kind.Env, g backend.Group) error {
	args := []string{"addgroup"}
	if g.System {
		args = append(args, "-S")
	}
	if g.GID != "" {
		args = append(args, "-g", g.GID)
	}
	return backend.Do(ctx, env, "", append(args, g.Task.Ref.Name)...)
}

// ChangeGroup gives a group another number.
func (Manager) ChangeGroup(ctx context.Context, env *kind.Env, g backend.Group) error {
	return rewrite(ctx, env, g.Task, "/etc/group", func(row []string) error {
		if len(row) > 2 {
			row[2] = g.GID
		}
		return nil
	})
}

// RemoveGroup removes a group.
func (Manager) RemoveGroup(ctx context.Context, env *kind.Env, name string) error {
	return backend.Do(ctx, env, "", "delgroup", name)
}

// SetPassword stores a password.
func (Manager) SetPassword(ctx context.Context, env *kind.Env, user string, p value.Secret, hashed bool) error {
	args := []string{"chpasswd", "-c", "sha512"}
	if hashed {
		args = []string{"chpasswd", "-e"}
	}
	return backend.Do(ctx, env, user+":"+p.Reveal()+"\n", args...)
}

// methods are the hashes that cryptpw makes, by the marks that crypt(5) gives
// them.
var methods = map[string]string{"1": "md5", "5": "sha256", "6": "sha512"}

// Fits has the host's cryptpw make a hash of the password with the salt that is
// stored. One that it cannot make so, as the old one of DES, is taken for another:
// it is stored again then, as one that can be verified.
func (Manager) Fits(ctx context.Context, env *kind.Env, _, stored string, p value.Secret) (bool, error) {
	f := strings.Split(stored, "$")
	if len(f) != 4 || f[0] != "" || methods[f[1]] == "" {
		return false, nil
	}
	c := machine.Command{Args: []string{"cryptpw", "-P", "0", "-m", methods[f[1]], "-S", f[2]},
		Stdin: p.Reveal() + "\n"}
	out, err := machine.Do(ctx, env.Machine, c, nil)
	if err != nil {
		return false, fmt.Errorf("verify the password: %w", err)
	}
	return strings.TrimSpace(out.Stdout) == stored, nil
}
