package app

import (
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/reach"
)

// Passwords is what a call says of passwords for hosts. They never stand on a
// command line, here or on a host, nor in an environment there.
type Passwords struct {
	For     []string // login or elevate
	File    string   // a file to take it from
	Command string   // a command that prints it
}

// passwords are those of a call, once they are settled.
type passwords struct {
	once             sync.Once
	login, elevation *reach.Password
	err              error
}

// settle settles the passwords of a call, once. Whoever is asked is asked now, and
// not in the middle of a run.
func (c *Caller) settle(p Passwords) (login, elevation *reach.Password, err error) {
	s := &c.secrets
	s.once.Do(func() { s.login, s.elevation, s.err = p.settle(c) })
	return s.login, s.elevation, s.err
}

func (p Passwords) settle(c *Caller) (login, elevation *reach.Password, err error) {
	for _, what := range p.For {
		if what != "login" && what != "elevate" {
			return nil, nil, problem.Errorf("invalid --ask %q", what).Remedy("use login or elevate")
		}
	}
	given := p.File != "" || p.Command != ""
	switch {
	case p.File != "" && p.Command != "":
		return nil, nil, problem.Errorf("--password-file and --password-command cannot be combined").
			Remedy("use only one of them")
	case given && len(p.For) == 0:
		p.For = []string{"elevate"}
	case len(p.For) == 0:
		return nil, nil, nil
	case !given && c.Ask == nil:
		return nil, nil, problem.Errorf("entering a password needs a terminal").
			Remedy("use --password-file or --password-command")
	}
	var first value.Secret
	for i, what := range slices.Compact(p.For) {
		if i == 0 || !given {
			if first, err = p.read(c, what); err != nil {
				return nil, nil, err
			}
		}
		secret := first
		one := &reach.Password{Ask: func() (value.Secret, error) { return secret, nil }}
		if what == "login" {
			login = one
		} else {
			elevation = one
		}
	}
	return login, elevation, nil
}

// maxPassword bounds what is read for a password, in bytes.
const maxPassword = 4 << 10

// read takes a password from where the call says.
func (p Passwords) read(c *Caller, what string) (value.Secret, error) {
	var text []byte
	var err error
	switch {
	case p.Command != "":
		cmd := exec.Command("sh", "-c", p.Command)
		cmd.Stderr, cmd.Stdin = os.Stderr, os.Stdin
		if text, err = cmd.Output(); err != nil {
			return value.Secret{}, problem.Errorf("the password command failed: %w", err).
				Remedy("run it on its own to see why")
		}
	case p.File != "":
		f, err := os.Open(p.File)
		if err != nil {
			return value.Secret{}, problem.Errorf("the password file cannot be read: %w", err).
				Remedy("check that it exists")
		}
		defer f.Close()
		if info, err := f.Stat(); err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o077 != 0 {
			return value.Secret{}, problem.Errorf("%s is readable by other users", p.File).
				Remedy("run: chmod 600 %s", p.File)
		}
		if text, err = io.ReadAll(io.LimitReader(f, maxPassword)); err != nil {
			return value.Secret{}, err
		}
	default:
		words := map[string]string{"login": "Login password: ", "elevate": "Password for sudo: "}
		if text, err = c.Ask.Secret(words[what]); err != nil {
			return value.Secret{}, err
		}
	}
	secret := strings.TrimRight(string(text), "\r\n")
	if secret == "" || strings.ContainsAny(secret, "\r\n\x00") || len(text) >= maxPassword {
		return value.Secret{}, problem.Errorf("the password is empty, too long, or has several lines").
			Remedy("use a single line")
	}
	return value.NewSecret(secret), nil
}
