package admit

import (
	"context"
	"fmt"

	"jadekettle/internal/app"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/fleet/reach"
)

// Answer is what came of looking at a host's key.
type Answer string

// The answers.
const (
	Known     Answer = "known already"
	Accepted  Answer = "accepted"
	Declined  Answer = "declined"    // by who was asked
	Changed   Answer = "changed"     // it is not the key that is known
	Unreached Answer = "not reached" // with the error that says why
)

// Trust is one call that trusts the keys of hosts.
type Trust struct {
	Dialer       *reach.Dialer
	Ask          app.Asker // nil where there is nobody to ask
	Replace, Yes bool
}

// Host looks at one host's key, and accepts it when that is wanted. An error is one of writing it down.
func (t *Trust) Host(ctx context.Context, target reach.Target) (a Answer, fingerprint string, why, err error) {
	k, why := t.Dialer.Key(ctx, target)
	switch {
	case why != nil:
		return Unreached, "", why, nil
	case k.Known:
		return Known, k.Fingerprint, nil, nil
	case k.Changed && !t.Replace:
		return Changed, k.Fingerprint, nil, nil
	case !t.Yes && (t.Ask == nil || !t.Ask.Agree(fmt.Sprintf("%s  %s\n`ssh-keygen -lf "+
		"/etc/ssh/ssh_host_%s_key.pub` on the host must print the same. Accept?", target.Name,
		k.Fingerprint, k.Type()))):
		return Declined, k.Fingerprint, nil, nil
	}
	if err := t.Dialer.Trust(k); err != nil {
		return Declined, k.Fingerprint, nil, fmt.Errorf("write the known hosts: %w", err)
	}
	return Accepted, k.Fingerprint, nil, nil
}

// Unasked says whether a host's key is known already, where nobody can be asked about it.
func Unasked(ctx context.Context, d *reach.Dialer, target reach.Target) (bool, error) {
	if k, err := d.Key(ctx, target); err == nil && k.Known {
		return true, nil
	}
	return false, problem.Errorf("the host key of %s is unknown, and confirming it needs a terminal",
		target.Name).
		Remedy("use --yes if you know its fingerprint, or run `jadekettle hosts trust %s` first", target.Name)
}
