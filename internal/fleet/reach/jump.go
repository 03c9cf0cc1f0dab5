package reach

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/shell"
)

// gates are the connections to jump hosts, one for all hosts behind each.
type gates struct {
	mu   sync.Mutex
	open map[string]*gate
}

type gate struct {
	once   sync.Once
	client *ssh.Client
	err    error
}

// way gives how the connection to a host is made: straight, through a command of
// the user's, or through other hosts, of which the last is connected to first.
func (d *Dialer) way(ctx context.Context, t Target) (func(context.Context) (net.Conn, error), error) {
	switch {
	case t.proxy != "":
		return func(context.Context) (net.Conn, error) { return throughCommand(t) }, nil
	case t.Jump == "":
		return func(ctx context.Context) (net.Conn, error) {
			conn, err := (&net.Dialer{Timeout: d.Timeout}).DialContext(ctx, "tcp", t.hostPort())
			if err != nil {
				return nil, dialError(err, t)
			}
			return quickly(conn), nil
		}, nil
	}
	client, err := d.gate(ctx, t)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) (net.Conn, error) {
		if d.Timeout > 0 {
			var cancel context.CancelFunc
			ctx, cancel = context.WithTimeout(ctx, d.Timeout)
			defer cancel()
		}
		conn, err := client.DialContext(ctx, "tcp", t.hostPort())
		if err != nil {
			return nil, fmt.Errorf("%s does not respond to the jump host %s: %w", t.hostPort(), t.Jump, err)
		}
		return conn, nil
	}, nil
}

// gate connects to jump hosts, a list from the first to the last with commas in
// between, each as OpenSSH's ProxyJump has it: [USER@]HOST[:PORT]. One that the
// inventory has is reached as it says there; to any other, the key of the host
// behind is tried as well.
func (d *Dialer) gate(ctx context.Context, behind Target) (*ssh.Client, error) {
	jumps := behind.Jump
	name := jumps + " " + cmp.Or(behind.Key, behind.also)
	d.gates.mu.Lock()
	if d.gates.open == nil {
		d.gates.open = map[string]*gate{}
	}
	g := d.gates.open[name]
	if g == nil {
		if err := d.arrives(behind); err != nil { // two gates that wait for one another would wait for good
			d.gates.mu.Unlock()
			return nil, err
		}
		g = &gate{}
		d.gates.open[name] = g
	}
	d.gates.mu.Unlock()
	g.once.Do(func() {
		t, at, err := d.hop(jumps)
		if err == nil {
			t.also = cmp.Or(behind.Key, behind.also)
			var tr transport
			if tr, err = d.ssh(ctx, t); err == nil {
				g.client = tr.(*remote).client
			}
		}
		if err != nil {
			p := problem.From(err)
			g.err = problem.Errorf("the jump host %s: %s", at, p.What).Remedy("%s", p.Do)
		}
	})
	return g.client, g.err
}

// hop reads one jump host.
func hop(s string) (Target, error) {
	s = strings.TrimPrefix(s, "ssh://")
	t := Target{Name: s}
	if user, rest, ok := strings.Cut(s, "@"); ok {
		t.User, s = user, rest
	}
	t.Address = s
	if host, port, err := net.SplitHostPort(s); err == nil {
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 {
			return t, problem.Errorf("invalid jump host %q", t.Name).Remedy("write [USER@]HOST[:PORT]")
		}
		t.Address, t.Port = host, n
	}
	t.Address = strings.Trim(t.Address, "[]")
	if t.Address == "" || strings.HasPrefix(t.Address, "-") {
		return t, problem.Errorf("invalid jump host %q", t.Name).Remedy("write [USER@]HOST[:PORT]")
	}
	return t, nil
}

// hop gives the last of jump hosts as it is reached, through those before it,
// and how it was written.
func (d *Dialer) hop(jumps string) (t Target, at string, err error) {
	before, at := "", jumps
	if i := strings.LastIndexByte(jumps, ','); i >= 0 {
		before, at = jumps[:i], jumps[i+1:]
	}
	if t, err = hop(at); err != nil {
		return t, at, err
	}
	if d.Gate != nil {
		if known, ok := d.Gate(t.Address); ok {
			known.User, known.Port = cmp.Or(t.User, known.User), cmp.Or(t.Port, known.Port)
			t = known
		}
	}
	t.Jump = cmp.Or(before, t.Jump)
	return t, at, nil
}

// arrives says whether the way to a host has an end: one host of the inventory
// may be the way to another, and that one to the first.
func (d *Dialer) arrives(t Target) error {
	for range 16 {
		if t.Jump == "" {
			return nil
		}
		var err error
		if t, _, err = d.hop(t.Jump); err != nil {
			return nil // reported when it is connected to
		}
	}
	return problem.Errorf("its jump hosts form a cycle through %s", t.Jump).
		Remedy("set connect.jump = %q for the host that is reached directly", "")
}

// closeGates ends the connections to jump hosts.
func (d *Dialer) closeGates() {
	d.gates.mu.Lock()
	defer d.gates.mu.Unlock()
	for name, g := range d.gates.open {
		delete(d.gates.open, name)
		go func() {
			g.once.Do(func() {})
			if g.client != nil {
				g.client.Close()
			}
		}()
	}
}

// throughCommand talks over a command's standard input and output, as OpenSSH's
// ProxyCommand does.
func throughCommand(t Target) (net.Conn, error) {
	cmd := exec.Command("sh", "-c", "exec "+t.expanded())
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the ProxyCommand of %s: %w", t.Name, err)
	}
	return &commandConn{Reader: out, WriteCloser: in, cmd: cmd}, nil
}

// expanded is the ProxyCommand with its tokens replaced; see ssh_config(5),
// "TOKENS". What replaces them comes from the inventory or the user's own
// settings, and is one word for sh whatever it holds.
func (t Target) expanded() string {
	host, port, _ := net.SplitHostPort(t.hostPort())
	word := func(s string) string {
		if plainWord().MatchString(s) {
			return s
		}
		return shell.Quote(s)
	}
	return strings.NewReplacer("%%", "%", "%h", word(host), "%p", port, "%r", word(t.User), "%n", word(t.Name)).
		Replace(t.proxy)
}

// plainWord needs no quotes; within [%h]:%p they would only be in the way.
var plainWord = lazy.Regexp(`^[A-Za-z0-9@._:-]+$`)

// commandConn is a command as a connection.
type commandConn struct {
	io.Reader
	io.WriteCloser
	cmd  *exec.Cmd
	once sync.Once
}

func (c *commandConn) Close() error {
	c.once.Do(func() {
		c.WriteCloser.Close()
		ended := time.AfterFunc(2*time.Second, func() { c.cmd.Process.Kill() })
		go func() {
			c.cmd.Wait()
			ended.Stop()
		}()
	})
	return nil
}

func (*commandConn) LocalAddr() net.Addr              { return nowhere{} }
func (*commandConn) RemoteAddr() net.Addr             { return nowhere{} }
func (*commandConn) SetDeadline(time.Time) error      { return os.ErrNoDeadline }
func (*commandConn) SetReadDeadline(time.Time) error  { return os.ErrNoDeadline }
func (*commandConn) SetWriteDeadline(time.Time) error { return os.ErrNoDeadline }
