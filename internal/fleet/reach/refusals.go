package reach

import (
	"errors"
	"io"
	"strings"

	"jadekettle/internal/core/problem"
)

// saying is what a host says when it starts no worker, and what that means.
type saying struct {
	words []string // of which one is in it
	what  func(t Target, said string) error
}

// sayings are looked through in order; the texts are those of sudo(8), doas(1) and of
// the shells, in English, since the scripts set no language for what runs before them.
var sayings = []saying{
	{[]string{"you must have a tty"}, func(t Target, _ string) error {
		return problem.Errorf("sudo on the host requires a terminal (requiretty)").
			Remedy("to disable that for this user, add `Defaults:%s !requiretty` to a file in /etc/sudoers.d",
				t.login())
	}},
	{[]string{"sudo: not found", "sudo: command not found", "doas: not found", "doas: command not found",
		"No such file or directory: sudo", "sudo: inaccessible"}, func(t Target, _ string) error {
		return problem.Errorf("%s was not found on the host, in the PATH of %s", t.Elevate, orLogin(t.User)).
			Remedy("install it, set elevate under [connect] to another method, or log in as root")
	}},
	{[]string{"sudo: sh: command not found", "sudo: " + Starter + ": command not found"},
		func(_ Target, _ string) error {
			return problem.Errorf("sudo cannot find sh in its secure_path").
				Remedy("check `sudo -V | grep secure` as root, and add /bin to secure_path in sudoers")
		}},
	{[]string{"Permission denied", "cannot execute"}, func(_ Target, said string) error {
		return problem.Errorf("the worker is on the host but cannot be run: %s", said).
			Remedy("check whether its directory is mounted with noexec: `findmnt -T DIR`")
	}},
}

// refusal explains what a host means by what it says, where that is known.
func refusal(t Target, said string) error {
	for _, s := range sayings {
		for _, w := range s.words {
			if strings.Contains(said, w) {
				return s.what(t, said)
			}
		}
	}
	return nil
}

// strange says that something else ran than was asked for.
func strange(t Target, err error) error {
	return problem.Errorf("the host ran a different command than requested: %w", err).
		Remedy("check whether sshd_config has a ForceCommand for %s, or its authorized_keys a command=",
			orLogin(t.User))
}

// ErrEarly says that a server took the connection and closed it before anybody could log in, which
// says nothing of whether somebody could.
var ErrEarly = errors.New("closed the connection before a login")

// early says that a host ended a connection before anybody could log in.
func early(err error, t Target) error {
	if !errors.Is(err, io.EOF) && !strings.Contains(err.Error(), "connection reset") &&
		!strings.Contains(err.Error(), "MaxStartups") && !strings.Contains(err.Error(), "Not allowed at this time") {
		return nil
	}
	return problem.Errorf("%s %w", t.hostPort(), ErrEarly).
		Remedy("it may have too many simultaneous logins (see MaxStartups in sshd_config, or lower --parallel), be " +
			"shutting down, or block this address; check its log")
}
