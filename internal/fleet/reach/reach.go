// Package reach opens a session with a worker on a host, over SSH or on this machine, sending the worker first if the
// host does not have it.
//
// One command line runs on the host, in whatever shell the account has. It identifies the machine, and either starts
// the worker of the right build or reports which build it needs. Then the worker is sent over the same connection,
// stored under its checksum and started. From then on, both sides speak package wire over the session's pipes. Anything
// the host prints before the worker's first word is limited in size, and shown if the worker does not start.
package reach

import (
	"bufio"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/reach/workers"
	"jadekettle/internal/host/machine"
)

// Target is one host as it is to be reached.
type Target struct {
	Name    string
	Address string
	Port    int    // 22 when 0
	User    string // who runs this program when empty
	Key     string // path of a private key; the agent and the usual files when empty
	Elevate string // "sudo", "doas", or empty
	Local   bool   // this machine, without SSH
	Jump    string // jump hosts on the way, [USER@]HOST[:PORT] with commas between them

	// Password is for sudo on this host, when the call gives none. May be nil.
	Password *Password

	// Command, run here by sh, gives a shell on the host, in the place of SSH.
	Command string

	// Fresh asks for a connection of its own, also where one is kept: to see whether there can be one.
	Fresh bool

	also        string // a private key that is tried last, when none is named
	certificate string // a file, by the user's OpenSSH settings
	proxy       string // a command that gives the connection, by the user's OpenSSH settings
}

// Dialer holds what is the same for all hosts.
type Dialer struct {
	KnownHosts string        // path of the known_hosts file
	Timeout    time.Duration // for connecting, each host
	Home       string        // where the usual keys lie, in .ssh
	AgentAddr  string        // SSH_AUTH_SOCK
	User       string        // who runs this program
	Login      *Password     // to log in with where no key is taken; may be nil
	Elevation  *Password     // that sudo asks for; may be nil
	// Passphrase gives that of a private key, which is asked once for each. May be
	// nil.
	Passphrase func(key string) (value.Secret, error)
	// Gate gives a jump host, by the name or address that a host's way has, as the
	// inventory says it is reached. May be nil.
	Gate   func(name string) (Target, bool)
	Kept   *Kept    // connections that stay; may be nil
	opened sync.Map // keys that had one, by path: of func() (ssh.Signer, error)

	mu    sync.Mutex
	read  *known            // the known_hosts file
	begun map[string]*begun // connections, by host, that nobody has asked for yet
	gates gates
}

// begun is a connection on its way.
type begun struct {
	done chan struct{}
	tr   transport
	err  error
}

// Begin begins to connect to a host that Open will be called for, while there
// are other things to do.
func (d *Dialer) Begin(ctx context.Context, t Target) {
	if t.Local || t.Command != "" {
		return
	}
	b := &begun{done: make(chan struct{})}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.begun == nil {
		d.begun = map[string]*begun{}
	}
	if d.begun[t.Name] != nil {
		return
	}
	d.begun[t.Name] = b
	go func() {
		defer close(b.done)
		b.tr, b.err = d.dial(ctx, t)
	}()
}

// Close ends the connections that were begun and not asked for.
func (d *Dialer) Close() {
	d.closeGates()
	d.mu.Lock()
	defer d.mu.Unlock()
	for name, b := range d.begun {
		delete(d.begun, name)
		go func() {
			if <-b.done; b.tr != nil {
				b.tr.close()
			}
		}()
	}
}

// Session is a worker that has said that it is ready.
type Session struct {
	io.Reader
	io.Writer
	in   io.Closer
	tr   transport
	errs *machine.Keep
}

// Close ends the session and its connection.
func (s *Session) Close() {
	s.in.Close()
	s.tr.close()
}

// Abort cuts the connection, which ends reads and writes that wait for it. It
// may be called while they do.
func (s *Session) Abort() { s.tr.close() }

// Errors gives what the worker wrote on its standard error, for a message.
func (s *Session) Errors() string { return lastLine(s.errs.String()) }

// ErrUnsafe is wrapped by errors that say a host was reached, and nothing is started on it for safety.
var ErrUnsafe = errors.New("refusing to run the worker")

// ErrBound is wrapped by errors that say a host sent more than it may.
var ErrBound = errors.New("the host sends too much data")

// transport runs commands on a host over one connection.
type transport interface {
	// start runs a command. listen, which may be nil, gives what takes its standard
	// error, for its input and for what keeps that.
	start(command string, listen func(in, keep io.Writer) io.Writer) (*process, error)
	// ready says that the worker is.
	ready()
	close()
}

// process is a command that runs.
type process struct {
	in   io.WriteCloser
	out  io.Reader
	errs *machine.Keep
	wait func() error
}

// end ends a command that waits for no more. It may be nil.
func (p *process) end() {
	if p != nil {
		p.in.Close()
	}
}

// errand is a worker that is to be started, over as many connections as it takes:
// some servers end one with its last command, or before.
type errand struct {
	Target
	first    []byte
	reported atomic.Bool // a worker can be sent what it is to do
	need     string      // the type of machine that a worker is to be sent for
	sent     bool        // it has been sent
	again    bool        // the one on the host does not run
}

// cutError says that a connection ended after it had got an errand further.
type cutError struct{ error }

func (e cutError) Unwrap() error { return e.error }

// Open connects to a host and starts its worker. first is what the worker receives
// first; it is sent along at once, which saves a round trip.
func (d *Dialer) Open(ctx context.Context, t Target, first []byte) (*Session, error) {
	e := &errand{Target: t, first: first}
	for connections := 1; ; connections++ {
		s, err := d.open(ctx, e)
		var cut cutError
		if !errors.As(err, &cut) || connections == 3 {
			return s, err
		}
	}
}

func (d *Dialer) open(ctx context.Context, e *errand) (*Session, error) {
	tr, err := d.connect(ctx, e.Target)
	if err != nil {
		return nil, err
	}
	over := make(chan struct{})
	go func() {
		select {
		case <-over:
			return
		case <-ctx.Done():
		}
		if e.reported.Load() { // it may be at work: it should hear that it is to stop
			select {
			case <-over:
				return
			case <-time.After(stopLimit):
			}
		}
		tr.close()
	}()
	s, err := d.launch(tr, e)
	close(over)
	if err != nil {
		tr.close()
		return nil, cmp.Or(ctx.Err(), err)
	}
	tr.ready()
	return s, nil
}

func (d *Dialer) connect(ctx context.Context, t Target) (transport, error) {
	if t.Local || t.Command != "" {
		return &local{through: t.Command, env: []string{"JADEKETTLE_HOST=" + t.Name,
			"JADEKETTLE_ADDRESS=" + t.Address}}, nil
	}
	d.mu.Lock()
	b := d.begun[t.Name]
	delete(d.begun, t.Name)
	d.mu.Unlock()
	if b == nil {
		return d.dial(ctx, t)
	}
	select {
	case <-b.done:
		if b.err != nil {
			return nil, b.err // which must not be a transport that is nil
		}
		return b.tr, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// How long a host may take to start a worker that it has, to take one that it
// has not, and to start one when the run is stopped meanwhile.
const (
	startLimit  = time.Minute
	uploadLimit = 10 * time.Minute
	stopLimit   = 5 * time.Second
)

// launch starts the worker, and sends it first when it is not there.
func (d *Dialer) launch(tr transport, e *errand) (*Session, error) {
	limit := startLimit
	if e.asks(d) {
		limit = passwordLimit
	}
	late := time.AfterFunc(limit, tr.close)
	defer late.Stop()
	var waiting *process // for the worker that it needs, which keeps the connection
	defer func() { waiting.end() }()
	if e.need == "" {
		s, p, err := d.start(tr, e)
		if s != nil || err != nil {
			return s, err
		}
		waiting = p
	}
	sending := !e.sent
	if sending {
		late.Reset(uploadLimit)
		err := d.upload(tr, e)
		if crowded(err) {
			waiting.end()
			waiting = nil
			err = alone(func() error { return d.upload(tr, e) })
		}
		if errors.Is(err, io.EOF) && waiting != nil {
			return nil, cutError{err}
		}
		if err != nil {
			return nil, err
		}
		e.sent = true
		late.Reset(limit)
	}
	var s *Session
	err := alone(func() (err error) {
		s, _, err = d.start(tr, e)
		return err
	})
	if errors.Is(err, io.EOF) && sending {
		return nil, cutError{err}
	}
	return s, err
}

// crowded says that a host takes no further command over a connection: sshd's
// MaxSessions may be 1.
func crowded(err error) bool {
	var full *ssh.OpenChannelError
	return errors.As(err, &full)
}

// alone does what needs a command's turn, and again while an earlier one has not ended
// on the host.
func alone(do func() error) error {
	for try := 1; ; try++ {
		err := do()
		if !crowded(err) || try == 20 {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// start runs the script that starts the worker. It gives the session, or, when the
// host has none and needs to be sent one, the script's process, which waits.
func (d *Dialer) start(tr transport, e *errand) (*Session, *process, error) {
	t := e.Target
	nonce := newNonce()
	args := []string{nonce}
	for _, a := range workers.Available() {
		if !e.again || e.sent {
			args = append(args, uname[a.Arch]+"="+a.Name)
		}
	}
	root := d.elevation(tr, t, nonce)
	p, err := tr.start(root.command(startScript, args...), root.listen)
	if err != nil {
		return nil, nil, err
	}
	// The worker reads it once it runs; a script that starts none never looks at
	// it. Where sudo may ask for a password it would take this for one. That it
	// cannot be written is reported by what comes back.
	if !t.waits(d) {
		e.reported.Store(true)
		p.in.Write(e.first)
	}
	out := bufio.NewReaderSize(p.out, 64<<10)
	word, rest, err := answer(out, nonce)
	if err := root.over(err == nil); err != nil {
		return nil, nil, err
	}
	if err == nil && word == "begin" {
		word, rest, err = answer(out, nonce)
		if errors.Is(err, io.EOF) && !e.sent && !e.again {
			e.again = true
			e.reported.Store(false)
			return nil, nil, cutError{err}
		}
	}
	if err != nil {
		return nil, nil, explain(err, p, t)
	}
	switch {
	case word == "ready":
		if t.waits(d) {
			e.reported.Store(true)
			if _, err := p.in.Write(e.first); err != nil {
				return nil, nil, explain(err, p, t)
			}
		}
		return &Session{Reader: out, Writer: p.in, in: p.in, tr: tr, errs: p.errs}, nil, nil
	case word == "refuse":
		return nil, nil, distrusted(rest)
	case word == "need" && !e.sent:
		e.reported.Store(false)
		e.need = rest
		return nil, p, nil
	}
	return nil, nil, fmt.Errorf("the worker was sent but is missing: the host reports %q", word+" "+rest)
}

// distrusted says that others could have put a program of theirs there.
func distrusted(path string) error {
	return problem.Errorf("%w: %s is a symlink, or writable by users other than root", ErrUnsafe, path).
		Remedy("check `ls -ld %s` on the host", path)
}

// uname is what `uname -sm` says on Linux for Go's architectures.
var uname = map[string]string{
	"amd64": "Linux x86_64", "arm64": "Linux aarch64", "arm": "Linux armv7l", "386": "Linux i686",
	"riscv64": "Linux riscv64", "ppc64le": "Linux ppc64le", "s390x": "Linux s390x", "loong64": "Linux loongarch64",
}

// upload sends the worker for a type of machine, packed where the host says that
// it can unpack.
func (d *Dialer) upload(tr transport, errand *errand) error {
	t := errand.Target
	machine, packed := strings.CutSuffix(errand.need, " gzip")
	for _, a := range workers.Available() {
		if uname[a.Arch] != machine {
			continue
		}
		program, err := a.Read()
		if err != nil {
			return err
		}
		nonce := newNonce()
		how := "plain"
		if packed {
			how = "gzip"
		}
		e := d.elevation(tr, t, nonce)
		p, err := tr.start(e.command(uploadScript, nonce, a.Name, strconv.Itoa(len(program)), how), e.listen)
		if err != nil {
			return err
		}
		out := bufio.NewReader(p.out)
		_, _, err = answer(out, nonce)
		if err := e.over(err == nil); err != nil {
			return err
		}
		if err != nil {
			return explain(err, p, t)
		}
		sendErr := send(p.in, program, packed)
		p.in.Close()
		word, rest, err := answer(out, nonce)
		switch {
		case err != nil:
			return explain(errors.Join(err, sendErr), p, t)
		case word == "stored":
			return nil
		case word == "refuse":
			return distrusted(rest)
		case word == "nowhere":
			return problem.Errorf("the worker cannot be stored in or run from %s on the host: %s",
				rest, lastLine(p.errs.String())).
				Remedy("give the login user a home directory, mount one of the two without noexec, or set elevate")
		}
		return problem.Errorf("the worker (%d MiB) cannot be stored in %s on the host: %s", len(program)>>20+1, rest,
			lastLine(p.errs.String())).Remedy("check that there is free space and that it is writable")
	}
	return problem.Errorf("this build of jadekettle has no worker for %s (it has %s)", machine,
		strings.Join(names(), ", ")).Remedy("use a release build, which includes all of them")
}

func send(to io.Writer, program []byte, packed bool) error {
	if !packed {
		_, err := to.Write(program)
		return err
	}
	z := gzip.NewWriter(to)
	if _, err := z.Write(program); err != nil {
		return err
	}
	return z.Close()
}

func names() []string {
	var out []string
	for _, a := range workers.Available() {
		out = append(out, "linux/"+a.Arch)
	}
	return out
}

// maxGreeting bounds what a login shell may print before the worker speaks.
const maxGreeting = 64 << 10

// answer skips what a login shell prints and gives the words of the line that
// carries the nonce.
func answer(out *bufio.Reader, nonce string) (word, rest string, err error) {
	mark := "jadekettle " + nonce + " "
	last := ""
	for n := 0; n < maxGreeting; {
		line, err := out.ReadSlice('\n')
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			if n+len(line) == 0 {
				return "", "", io.EOF
			}
			return "", "", &saidError{clip(cmp.Or(string(line), last))}
		}
		n += len(line)
		last = string(line)
		if _, after, ok := strings.Cut(string(line), mark); ok {
			word, rest, _ = strings.Cut(strings.TrimRight(after, "\r\n"), " ")
			return word, rest, nil
		}
	}
	return "", "", problem.Errorf("%w: more than %d KiB arrived before the worker started", ErrBound, maxGreeting>>10).
		Remedy("check what the login shell prints")
}

// saidError is the end of a command that said other things than our scripts do.
type saidError struct{ text string }

func (e *saidError) Error() string { return fmt.Sprintf("it printed %q and exited", e.text) }
func (*saidError) Unwrap() error   { return io.EOF }

func clip(s string) string {
	s = strings.TrimSpace(s)
	if len(s) > 200 {
		s = s[:200] + "..."
	}
	return s
}

// explain says why a command ended without an answer.
func explain(err error, p *process, t Target) error {
	if errors.Is(err, ErrBound) {
		return err
	}
	waited := make(chan error, 1)
	go func() { waited <- p.wait() }()
	select {
	case <-waited:
	case <-time.After(2 * time.Second):
	}
	said := lastLine(p.errs.String())
	if known := refusal(t, said); known != nil {
		return known
	}
	var other *saidError
	switch {
	case t.Elevate == "doas" && strings.Contains(said, "doas:"):
		return problem.Errorf("doas refuses %s: %s", orLogin(t.User), strings.TrimPrefix(said, "doas: ")).
			Remedy("to allow the worker and nothing else, add `permit nopass %s as root cmd %s` to doas.conf; %s",
				t.login(), Starter, comesThere)
	case t.Elevate == "sudo" && strings.Contains(said, "sudo:") && !strings.Contains(said, "unable to resolve host"):
		return problem.Errorf("sudo refuses %s: %s", orLogin(t.User), strings.TrimPrefix(said, "sudo: ")).
			Remedy("give the password with --ask elevate; or, to allow the worker and nothing else, add `%s "+
				"ALL=(root) NOPASSWD: %s` to a file in /etc/sudoers.d; %s", t.login(), Starter, comesThere)
	case noShell(said + err.Error()):
		return problem.Errorf("the login shell of %s does not run commands", orLogin(t.User)).
			Remedy("set one with `usermod -s /bin/sh %s`, or log in as another user", t.login())
	case errors.As(err, &other):
		return strange(t, err)
	case said != "":
		return fmt.Errorf("the worker did not start: %s", said)
	}
	return fmt.Errorf("the worker did not start: %w", err)
}

// comesThere says how the starter comes to a host.
const comesThere = "`jadekettle hosts admit`, or the first run that becomes root in another way, installs that program"

// login is the account for a line that somebody is to write.
func (t Target) login() string { return cmp.Or(t.User, "USER") }

// noShell says whether this is what nologin(8) says, or a shell of its sort.
func noShell(said string) bool {
	return strings.Contains(said, "account is currently not available") ||
		strings.Contains(said, "account is not available")
}

func orLogin(user string) string { return cmp.Or(user, "the login user") }

func lastLine(s string) string { return clip(machine.LastLine(s)) }

func newNonce() string {
	var b [16]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}
