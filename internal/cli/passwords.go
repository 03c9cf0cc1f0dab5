package cli

import (
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/reach"
)

// passwords is what a call says of passwords for hosts. They never stand on a
// command line, here or on a host, nor in an environment there.
type passwords struct {
	ask     []string
	file    string
	command string

	once             sync.Once
	login, elevation *reach.Password
	err              error
}

// passwordFlags adds the flags to a command that contacts hosts.
func (a *App) passwordFlags(c *cobra.Command) {
	c.Flags().StringSliceVar(&a.passwords.ask, "ask", nil,
		"ask once for the password of `WHAT`, login or elevate, for all hosts that take it; may be repeated")
	c.Flags().StringVar(&a.passwords.file, "password-file", "",
		"take the password for elevate, or for what --ask names, from a `FILE`; /dev/fd/3 is a file descriptor")
	c.Flags().StringVar(&a.passwords.command, "password-command", "",
		"take it from what a `COMMAND` prints")
	c.RegisterFlagCompletionFunc("ask", cobra.FixedCompletions([]string{"login", "elevate"}, noFiles))
}

// give settles the passwords of a call, once. Whoever is asked is asked now, and
// not in the middle of a run.
func (p *passwords) give(a *App) (login, elevation *reach.Password, err error) {
	p.once.Do(func() { p.err = p.settle(a) })
	return p.login, p.elevation, p.err
}

func (p *passwords) settle(a *App) error {
	for _, what := range p.ask {
		if what != "login" && what != "elevate" {
			return problem.Errorf("--ask is %q", what).Remedy("it takes login or elevate")
		}
	}
	given := p.file != "" || p.command != ""
	switch {
	case p.file != "" && p.command != "":
		return problem.Errorf("--password-file and --password-command are given together").Remedy("keep one of them")
	case given && len(p.ask) == 0:
		p.ask = []string{"elevate"}
	case len(p.ask) == 0:
		return nil
	case !given && !a.Terminal:
		return problem.Errorf("there is no terminal to ask for a password on").
			Remedy("give it with --password-file or --password-command")
	}
	var first value.Secret
	for i, what := range slices.Compact(p.ask) {
		if i == 0 || !given {
			var err error
			if first, err = p.read(a, what); err != nil {
				return err
			}
		}
		secret := first
		one := &reach.Password{Ask: func() (value.Secret, error) { return secret, nil }}
		if what == "login" {
			p.login = one
		} else {
			p.elevation = one
		}
	}
	return nil
}

// maxPassword bounds what is read for a password, in bytes.
const maxPassword = 4 << 10

// read takes a password from where the call says.
func (p *passwords) read(a *App, what string) (value.Secret, error) {
	var text []byte
	var err error
	switch {
	case p.command != "":
		cmd := exec.Command("sh", "-c", p.command)
		cmd.Stderr, cmd.Stdin = a.Err, os.Stdin
		if text, err = cmd.Output(); err != nil {
			return value.Secret{}, problem.Errorf("the password command failed: %w", err).Remedy("run it by itself")
		}
	case p.file != "":
		f, err := os.Open(p.file)
		if err != nil {
			return value.Secret{}, problem.Errorf("the password file cannot be read: %w", err).Remedy("see that it is there")
		}
		defer f.Close()
		if info, err := f.Stat(); err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o077 != 0 {
			return value.Secret{}, problem.Errorf("others than you may read %s", p.file).Remedy("chmod 600 %s", p.file)
		}
		if text, err = io.ReadAll(io.LimitReader(f, maxPassword)); err != nil {
			return value.Secret{}, err
		}
	default:
		words := map[string]string{"login": "Password to log in with: ", "elevate": "Password for sudo: "}
		if text, err = a.password(words[what]); err != nil {
			return value.Secret{}, err
		}
	}
	secret := strings.TrimRight(string(text), "\r\n")
	if secret == "" || strings.ContainsAny(secret, "\r\n\x00") || len(text) >= maxPassword {
		return value.Secret{}, problem.Errorf("the password is empty, too long, or has several lines").
			Remedy("give it in one line")
	}
	return value.NewSecret(secret), nil
}
