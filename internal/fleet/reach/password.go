package reach

import (
	"cmp"
	"errors"
	"io"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/core/shell"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Password is one that a person gave once for all hosts that take it. It is tried
// on one host first; only when that takes it, on others, since a wrong one tried
// everywhere would lock an account.
type Password struct {
	// Ask gives it, and is called once, when a host wants it.
	Ask func() (value.Secret, error)

	mu      sync.Mutex
	asked   bool
	secret  value.Secret
	err     error
	taken   bool   // by some host
	refused string // the host that did not take it
}

// verdict is what a host made of a password.
type verdict int

const (
	unknown verdict = iota // it did not come to that
	taken
	refused
)

// use gives the password to try on a host, and waits while another host tries it
// first. done, which must be called, reports how that went.
func (p *Password) use(host string) (secret value.Secret, done func(verdict), err error) {
	p.mu.Lock()
	if !p.asked {
		p.asked = true
		p.secret, p.err = p.Ask()
	}
	switch {
	case p.err != nil:
		err = p.err
	case p.refused != "" && !p.taken:
		err = problem.Errorf("the password was rejected by %s, so it is not tried here", p.refused).
			Remedy("run again with the correct password")
	}
	if err != nil || p.taken {
		p.mu.Unlock()
		return p.secret, func(verdict) {}, err
	}
	var once sync.Once
	return p.secret, func(v verdict) { // the others wait for this
		once.Do(func() {
			if p.taken = v == taken; v == refused {
				p.refused = host
			}
			p.mu.Unlock()
		})
	}, nil
}

// errWrongPassword says that a host did not take the password.
var errWrongPassword = errors.New("the password is wrong")

// answering answers sudo's question for a password, which comes on the standard
// error with a mark in it, once. What else is said there is kept.
type answering struct {
	mark  string
	in    io.Writer
	to    io.Writer
	ask   func() (value.Secret, func(verdict), error)
	wrong func(error) // why it cannot go on

	held string

	mu    sync.Mutex
	done  func(verdict)
	ended bool // nobody waits for it any more
}

// judge reports what came of the answer, once.
func (a *answering) judge(v verdict, last bool) (answered bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.ended = a.ended || last
	if a.done == nil {
		return false
	}
	a.done(v)
	return true
}

// keep notes an answer that is on its way.
func (a *answering) keep(done func(verdict)) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.done = done; a.ended {
		done(unknown)
	}
}

func (a *answering) Write(p []byte) (int, error) {
	a.held += string(p)
	for {
		before, after, ok := strings.Cut(a.held, a.mark)
		if !ok {
			break
		}
		io.WriteString(a.to, before)
		a.held = after
		if a.judge(refused, false) { // it asks again, so the first answer was wrong
			a.wrong(errWrongPassword)
			continue
		}
		secret, done, err := a.ask()
		a.keep(done)
		if err != nil {
			a.wrong(err)
			continue
		}
		io.WriteString(a.in, secret.Reveal()+"\n")
	}
	if keep := len(a.mark); len(a.held) > keep { // the mark may be cut in two
		io.WriteString(a.to, a.held[:len(a.held)-keep])
		a.held = a.held[len(a.held)-keep:]
	}
	return len(p), nil
}

// passwordOf gives what sudo on this host is given when it asks; nil when there is
// none. What the call says comes before what the inventory does.
func (d *Dialer) passwordOf(t Target) *Password { return cmp.Or(d.Elevation, t.Password) }

// asks says whether sudo on this host may ask for a password that we have.
func (t Target) asks(d *Dialer) bool { return t.Elevate == "sudo" && d.passwordOf(t) != nil }

// waits says whether nothing may be sent until the script has spoken: sudo, or a
// shell that reads ahead, would take it for its own.
func (t Target) waits(d *Dialer) bool { return t.asks(d) || t.Command != "" }

// Mark is what sudo asks for a password with in the session of a nonce.
func Mark(nonce string) string { return "jadekettle " + nonce + " asks" }

// elevation is how one command becomes root's.
type elevation struct {
	d      *Dialer
	t      Target
	tr     transport
	mark   string
	answer *answering

	mu     sync.Mutex
	failed error
}

func (d *Dialer) elevation(tr transport, t Target, nonce string) *elevation {
	return &elevation{d: d, t: t, tr: tr, mark: Mark(nonce)}
}

// command makes the one command line that is sent: the script is an argument of
// sh, so nothing is read from the standard input but what the script reads, and
// before that the password, where sudo asks for it.
func (e *elevation) command(s script, args ...string) string {
	by := ""
	switch {
	case e.t.asks(e.d):
		by = `sudo -S -p "` + e.mark + `" --`
	case e.t.Elevate == "sudo":
		by = "sudo -n --"
	case e.t.Elevate == "doas":
		by = "doas -n --"
	default:
		return shell.Join(append([]string{"sh", "-c", s.text, "jadekettle"}, args...)...)
	}
	return shell.Join(append([]string{"sh", "-c", elevated(by), "jadekettle", s.name, s.text}, args...)...)
}

// listen answers the question for a password, where there may be one.
func (e *elevation) listen(in, keep io.Writer) io.Writer {
	if !e.t.asks(e.d) {
		return keep
	}
	e.answer = &answering{mark: e.mark, in: in, to: keep,
		ask: func() (value.Secret, func(verdict), error) { return e.d.passwordOf(e.t).use(e.t.Name) },
		wrong: func(err error) {
			e.mu.Lock()
			defer e.mu.Unlock()
			if e.failed == nil {
				e.failed = err
				go e.tr.close() // which ends the wait for the worker
			}
		}}
	return e.answer
}

// over says that an answer has come, or that none will. It gives what is wrong
// with the password.
func (e *elevation) over(runs bool) error {
	if e.answer != nil {
		v := unknown
		if runs {
			v = taken
		}
		e.answer.judge(v, true)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	switch {
	case errors.Is(e.failed, errWrongPassword):
		return problem.Errorf("sudo rejected the password of %s", orLogin(e.t.User)).
			Remedy("run again with the correct password")
	}
	return e.failed
}

// passwordLimit is how long a host may take to start a worker where it may wait for
// another one to try the password first.
const passwordLimit = 5 * time.Minute
