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
		return problem.Errorf("sudo on the host wants a terminal (requiretty)").
			Remedy("let it do without for this account, by the line `Defaults:%s !requiretty` in a file of "+
				"/etc/sudoers.d",
				t.login())
	}},
	{[]string{"sudo: not found", "sudo: command not found", "doas: not found", "doas: command not found",
		"No such file or directory: sudo", "sudo: inaccessible"}, func(t Target, _ string) error {
		return problem.Errorf("there is no %s on the host, in the folders of PATH of %s", t.Elevate, orLogin(t.User)).
			Remedy("install it, or set elevate under [connect] to another way to be root, or log in as root")
	}},
	{[]string{"sudo: sh: command not found", "sudo: " + Starter + ": command not found"},
		func(_ Target, _ string) error {
			return problem.Errorf("sudo finds no sh: the folders of its secure_path do not hold it").
				Remedy("see `sudo -V | grep secure` as root, and add /bin to secure_path in sudoers")
		}},
	{[]string{"Permission denied", "cannot execute"}, func(_ Target, said string) error {
		return problem.Errorf("the worker lies on the host and may not be run: %s", said).
			Remedy("see whether its folder is mounted with noexec: `findmnt -T` and the folder")
	}},
}

// refusal tells what a host means by what it says, where that is known.
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
	return problem.Errorf("the host ran something else than it was asked to: %w", err).
		Remedy("see whether sshd_config has a ForceCommand for %s, or its authorized_keys a command=", orLogin(t.User))
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
		Remedy("it may have too many logins at a time (MaxStartups of sshd_config; --parallel asks for fewer), be " +
			"going down, or bar this address; its log says which")
}
