// Package shadow manages accounts by useradd(8), usermod(8) and their like, which
// most systems have.
package shadow

import (
	"context"
	"fmt"
	"strings"

	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/accounts/backend"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// Manager is these programs.
type Manager struct{}

// Refuses nothing.
func (Manager) Refuses(string) error { return nil }

// MakeUser makes an account, with a home unless it is a system's.
func (Manager) MakeUser(ctx context.Context, env *kind.Env, u backend.User) error {
	args := []string{"useradd", kind.Yes(u.System, "-r", "-m")}
	switch _, named := u.Set["group"]; {
	case named:
	case u.OwnGroup:
		args = append(args, "-U")
	default:
		args = append(args, "-g", u.Name())
	}
	args = append(args, settings(u)...)
	if len(u.Join) > 0 {
		args = append(args, "-G", strings.Join(u.Join, ","))
	}
	return backend.Do(ctx, env, "", append(args, u.Name())...)
}

// ChangeUser changes one.
func (Manager) ChangeUser(ctx context.Context, env *kind.Env, u backend.User) error {
	args := append([]string{"usermod"}, settings(u)...)
	if u.MoveHome {
		args = append(args, "-m")
	}
	switch {
	case len(u.Leave) > 0:
		args = append(args, "-G", strings.Join(u.Only, ","))
	case len(u.Join) > 0:
		args = append(args, "-a", "-G", strings.Join(u.Join, ","))
	}
	if len(args) == 1 {
		return nil
	}
	return backend.Do(ctx, env, "", append(args, u.Name())...)
}

// settings are the arguments that useradd and usermod share.
func settings(u backend.User) []string {
	var args []string
	for _, a := range [][2]string{{"uid", "-u"}, {"group", "-g"}, {"home", "-d"}, {"shell", "-s"}, {"comment", "-c"}} {
		if text, ok := u.Set[a[0]]; ok {
			args = append(args, a[1], text)
		}
	}
	if u.Lock {
		args = append(args, "-L", "-e", "1")
	}
	if u.Open {
		args = append(args, "-e", "")
	}
	if u.Unlock {
		args = append(args, "-U")
	}
	switch u.Expires {
	case "":
	case "never":
		args = append(args, "-e", "")
	default:
		args = append(args, "-e", u.Expires)
	}
	return args
}

// RemoveUser removes an account, and leaves its home.
func (Manager) RemoveUser(ctx context.Context, env *kind.Env, name string) error {
	return backend.Do(ctx, env, "", "userdel", name)
}

// MakeGroup makes a group.
func (Manager) MakeGroup(ctx context.Context, env *kind.Env, g backend.Group) error {
	args := []string{"groupadd"}
	if g.System {
		args = append(args, "-r")
	}
	if g.GID != "" {
		args = append(args, "-g", g.GID)
	}
	return backend.Do(ctx, env, "", append(args, g.Task.Ref.Name)...)
}

// ChangeGroup gives a group another number.
func (Manager) ChangeGroup(ctx context.Context, env *kind.Env, g backend.Group) error {
	return backend.Do(ctx, env, "", "groupmod", "-g", g.GID, g.Task.Ref.Name)
}

// RemoveGroup removes a group.
func (Manager) RemoveGroup(ctx context.Context, env *kind.Env, name string) error {
	return backend.Do(ctx, env, "", "groupdel", name)
}

// SetPassword stores a password.
func (Manager) SetPassword(ctx context.Context, env *kind.Env, user string, p value.Secret, hashed bool) error {
	args := []string{"chpasswd"}
	if hashed {
		args = append(args, "-e")
	}
	return backend.Do(ctx, env, user+":"+p.Reveal()+"\n", args...)
}

// Fits asks unix_chkpwd(8), the helper of PAM, which knows every hash that the
// host can store: 0 is right, 7 (PAM_AUTH_ERR) wrong.
func (Manager) Fits(ctx context.Context, env *kind.Env, user, _ string, p value.Secret) (bool, error) {
	c := machine.Command{Args: []string{"unix_chkpwd", user, "nullok"}, Stdin: p.Reveal() + "\x00"}
	out, err := env.Machine.Run(ctx, c)
	if err != nil {
		return false, fmt.Errorf("verify the password: %w", err)
	}
	switch out.Code {
	case 0:
		return true, nil
	case 7:
		return false, nil
	}
	return false, fmt.Errorf("unix_chkpwd cannot verify the password: it exited with status %d", out.Code)
}
