// Package backend is what the programs that manage a host's accounts have in
// common for the kinds of users and groups.
package backend

import (
	"context"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// Manager makes, changes and removes the accounts of a host.
type Manager interface {
	// Refuses says why an attribute of a user cannot be had on this host. Nil
	// means that it can.
	Refuses(attr string) error
	MakeUser(ctx context.Context, env *kind.Env, u User) error
	ChangeUser(ctx context.Context, env *kind.Env, u User) error
	RemoveUser(ctx context.Context, env *kind.Env, name string) error
	MakeGroup(ctx context.Context, env *kind.Env, g Group) error
	ChangeGroup(ctx context.Context, env *kind.Env, g Group) error
	RemoveGroup(ctx context.Context, env *kind.Env, name string) error
	// SetPassword stores a password, or what crypt(5) made of one.
	SetPassword(ctx context.Context, env *kind.Env, user string, password value.Secret, hashed bool) error
	// Fits says whether a password is the one whose hash is stored.
	Fits(ctx context.Context, env *kind.Env, user, stored string, password value.Secret) (bool, error)
}

// Do runs one of a manager's programs.
func Do(ctx context.Context, env *kind.Env, stdin string, args ...string) error {
	_, err := machine.Do(ctx, env.Machine, machine.Command{Args: args, Stdin: stdin}, nil)
	return err
}

// User is what an account is to become. Of an account that is there, only what is
// to change is set.
type User struct {
	Task     plan.Task
	System   bool
	OwnGroup bool // to be made with a group of its own name, which is not there yet
	MoveHome bool

	Set map[string]string // of uid, group, home, shell and comment

	Join, Leave []string // groups
	Only        []string // all groups, where Leave is given

	Lock, Open, Unlock bool   // Open takes back a day that has passed, Unlock the mark at the password
	Expires            string // a day, or never; empty leaves it
}

// Name is the account's.
func (u User) Name() string { return u.Task.Ref.Name }

// Group is what a group is to become.
type Group struct {
	Task   plan.Task
	System bool
	GID    string // empty for the next free number
}
