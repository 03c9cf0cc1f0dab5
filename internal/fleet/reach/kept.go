package reach

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/host/machine"
)

// Kept says how connections are kept between calls: by an OpenSSH client of ours for each host, which stays when the
// call ends, and over which later ones open their sessions. It is started once a host has let a call in. Nothing is
// kept where passwords are given.
type Kept struct {
	For  time.Duration // after its last session; 0 keeps none
	Dir  string        // for the sockets: of this account, and nobody else's
	Note func(string)  // receives what keeps one from being used. May be nil.

	noted sync.Once
}

func (k *Kept) note(format string, args ...any) {
	if k.Note != nil {
		k.noted.Do(func() { k.Note(fmt.Sprintf(format, args...)) })
	}
}

// maxSocket bounds the path of a socket, in bytes: of the 108 of unix(7) OpenSSH takes 17 while it makes one.
const maxSocket = 90

// dial connects to a host, over a connection that is kept if there is one.
func (d *Dialer) dial(ctx context.Context, t Target) (transport, error) {
	t, err := d.settings(ctx, t)
	if err != nil {
		return nil, err
	}
	if d.Kept == nil || d.Kept.For <= 0 || d.Login != nil || t.Fresh {
		return d.login(ctx, t)
	}
	at, err := d.socket(ctx, t)
	if err != nil {
		d.Kept.note("no connection is kept: %s", err)
		return d.login(ctx, t)
	}
	err = ours(at)
	if err == nil {
		return &overKept{dialer: d, ctx: ctx, target: t, socket: at}, nil
	}
	tr, loginErr := d.login(ctx, t)
	if loginErr != nil {
		return nil, loginErr
	}
	if !errors.Is(err, fs.ErrNotExist) {
		d.Kept.note("the kept connection to %s is not used: %s", t.Name, err)
	}
	if _, err := os.Lstat(at); errors.Is(err, fs.ErrNotExist) {
		tr.(*remote).keep = func() { d.keep(ctx, t, at) }
	}
	return tr, nil
}

// socket is where the connection to a host is kept. It has another place once there is another key or way, or anything
// has changed in known_hosts.
func (d *Dialer) socket(ctx context.Context, t Target) (string, error) {
	known, err := os.ReadFile(d.KnownHosts)
	if err != nil {
		return "", err
	}
	key, _ := os.ReadFile(t.Key)
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %q %q %q %x %x", t.User, t.hostPort(), d.args(ctx, t), t.proxy,
		sha256.Sum256(known), sha256.Sum256(key)))
	at := filepath.Join(d.Kept.Dir, hex.EncodeToString(sum[:12]))
	if len(at) > maxSocket {
		return "", problem.Errorf("the path %s is too long for a socket", at).Remedy("set XDG_RUNTIME_DIR")
	}
	if err := os.MkdirAll(d.Kept.Dir, 0o700); err != nil {
		return "", err
	}
	return at, private(d.Kept.Dir, fs.ModeDir|0o700)
}

// private holds a path to belong to this account alone.
func private(path string, mode fs.FileMode) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if s, ok := info.Sys().(*syscall.Stat_t); !ok || int(s.Uid) != os.Geteuid() || info.Mode() != mode {
		return fmt.Errorf("%s is %v, and not %v of this account", path, info.Mode(), mode)
	}
	return nil
}

// ours holds a socket to be one of this account, at which somebody answers. One at which nobody does is removed.
func ours(at string) error {
	if err := private(at, fs.ModeSocket|0o600); err != nil {
		return err
	}
	m, err := dialMaster(at)
	if err == nil {
		return m.Close()
	}
	if errors.Is(err, syscall.ECONNREFUSED) {
		err = errors.New("it was killed")
	}
	os.Remove(at)
	return err
}

// keep starts a client that keeps a connection, and does not wait for it. Why the last one could not is in its log.
func (d *Dialer) keep(ctx context.Context, t Target, at string) {
	if info, err := os.Stat(at + ".log"); err == nil && info.Size() > 0 && time.Since(info.ModTime()) < d.Kept.For {
		said, _ := os.ReadFile(at + ".log")
		d.Kept.note("the connection to %s is not kept: %s", t.Name, lastLine(string(said)))
		return
	}
	log, err := os.OpenFile(at+".log", os.O_CREATE|os.O_TRUNC|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return
	}
	defer log.Close()
	// Two calls at once may both come to this: the second client finds the socket, and ends.
	args := append(d.args(ctx, t), "-N", "-f", "-o", "ControlMaster=yes", "-o", "ControlPath="+quoted(at),
		"-o", "ControlPersist="+strconv.Itoa(int(d.Kept.For.Seconds())), "-o", "ServerAliveInterval=15")
	cmd := exec.Command("ssh", append(args, "--", t.Address)...)
	cmd.Stderr, cmd.SysProcAttr = log, &syscall.SysProcAttr{Setsid: true} // Ctrl-C is not for it
	cmd.Env = append(os.Environ(), "SSH_AUTH_SOCK="+d.AgentAddr)
	if err := cmd.Start(); err != nil {
		fmt.Fprintln(log, err)
		return
	}
	go cmd.Wait()
}

// args are those by which OpenSSH reaches a host just as we do: by what the inventory says, and by no settings of its
// own; see ssh_config(5).
func (d *Dialer) args(ctx context.Context, t Target) []string {
	args := []string{"-F", "none", "-p", strconv.Itoa(cmp.Or(t.Port, 22)), "-l", cmp.Or(t.User, d.User)}
	set := func(name, v string) { args = append(args, "-o", name+"="+v) }
	set("BatchMode", "yes")
	set("StrictHostKeyChecking", "yes")
	set("UserKnownHostsFile", quoted(d.KnownHosts))
	set("GlobalKnownHostsFile", "none")
	set("UpdateHostKeys", "no")
	set("ConnectTimeout", strconv.Itoa(int(d.Timeout.Seconds())))
	set("KexAlgorithms", "-*sha1*")
	set("MACs", "-*sha1*")
	set("LogLevel", "ERROR")
	keys := []string{t.Key}
	if t.Key != "" {
		set("IdentitiesOnly", "yes")
	} else if keys = nil; d.Home != "" {
		for _, name := range usualKeys {
			keys = append(keys, filepath.Join(d.Home, ".ssh", name))
		}
	}
	for _, key := range append(keys, t.also) {
		if key != "" {
			set("IdentityFile", quoted(key))
		}
	}
	if t.certificate != "" {
		set("CertificateFile", quoted(t.certificate))
	}
	switch {
	case t.proxy != "":
		set("ProxyCommand", strings.ReplaceAll(t.expanded(), "%", "%%"))
	case t.Jump != "":
		gate, _, err := d.hop(t.Jump)
		if err == nil && d.arrives(t) == nil {
			gate.also = cmp.Or(t.Key, t.also)
			if behind, err := d.settings(ctx, gate); err == nil {
				gate = behind
			}
			way := strings.ReplaceAll(shell.Join(d.args(ctx, gate)...), "%", "%%")
			set("ProxyCommand", "ssh "+way+" -W [%h]:%p -- "+shell.Quote(gate.Address))
		}
	}
	return args
}

// quoted writes a path for an option, in which it is the path itself.
func quoted(path string) string {
	return `"` + strings.NewReplacer("%", "%%", `\`, `\\`, `"`, `\"`).Replace(path) + `"`
}

// overKept runs commands over a connection that is kept, or else over one of its own.
type overKept struct {
	dialer *Dialer
	ctx    context.Context // of the call, for one of its own
	target Target
	socket string

	mu   sync.Mutex
	own  transport // once the other one did not serve
	open []io.Closer
	done bool
}

func (o *overKept) start(command string, listen func(in, keep io.Writer) io.Writer) (*process, error) {
	if o.own == nil {
		p, err := o.session(command, listen)
		if err == nil || crowded(err) {
			return p, err
		}
		o.dialer.Kept.note("the kept connection to %s does not work and is closed: %s", o.target.Name, err)
		endMaster(o.socket)
		own, err := o.dialer.login(o.ctx, o.target)
		if err != nil {
			return nil, err
		}
		o.mu.Lock()
		o.own = own
		done := o.done
		o.mu.Unlock()
		if done {
			own.close()
		}
	}
	return o.own.start(command, listen)
}

// session starts a command in a session of the client that keeps the connection.
func (o *overKept) session(command string, listen func(in, keep io.Writer) io.Writer) (*process, error) {
	m, err := dialMaster(o.socket)
	if err != nil {
		return nil, err
	}
	in, out, errOut, err := m.session(command)
	if err != nil {
		m.Close()
		return nil, err
	}
	o.mu.Lock()
	o.open = append(o.open, m, in, out, errOut)
	done := o.done
	o.mu.Unlock()
	if done {
		o.close()
	}
	p := &process{in: in, out: out, errs: &machine.Keep{}}
	errs := io.Writer(p.errs)
	if listen != nil {
		errs = listen(p.in, p.errs)
	}
	ended := make(chan struct{})
	go func() {
		io.Copy(errs, errOut)
		close(ended)
	}()
	p.wait = func() error {
		<-ended
		return nil
	}
	return p, nil
}

func (o *overKept) ready() {
	if o.own != nil {
		o.own.ready()
	}
}

// close ends the sessions, and not the connection.
func (o *overKept) close() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.done = true
	for _, c := range o.open {
		c.Close()
	}
	o.open = nil
	if o.own != nil {
		o.own.close()
	}
}
