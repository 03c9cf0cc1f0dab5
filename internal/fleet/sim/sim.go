// Package sim is a simulated host that can be reached: an SSH server on
// loopback, in this process, that runs the real worker on a folder. It knows
// just the commands by which a controller starts a worker.
package sim

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"jadekettle/internal/core/shell"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
	"jadekettle/internal/host/worker"
)

// Host is one simulated host. Change its fields before the first connection.
type Host struct {
	*folder.Machine
	Name     string
	Addr     *net.TCPAddr
	Greeting string      // what its login shell prints first
	NoSudo   bool        // sudo asks for a password
	Full     atomic.Bool // connections are closed before a login
	// SudoPassword is the one that sudo takes, and LoginPassword lets somebody in
	// without a key. Empty, there is none.
	SudoPassword, LoginPassword string
	Tried                       atomic.Int32 // how often a password was given
	// Wrap, when set, is between the worker and the machine, for faults.
	Wrap func(machine.Machine) machine.Machine // see Between
	// Silence is how long a worker waits for a sign of life; 0 means as usual.
	Silence time.Duration
	// Answer, when set, takes the place of the worker, for hosts that lie.
	Answer func(in io.Reader, out io.Writer, nonce string)

	fleet    *Fleet
	listener net.Listener
	connections
}

// connections are those that are open to a host.
type connections struct {
	mu       sync.Mutex
	conns    []net.Conn
	sessions int
	closed   bool
}

// Fleet is a number of simulated hosts that share a host key and one client
// that they let in.
type Fleet struct {
	Folder string // where the hosts' folders, the client's key and known_hosts lie
	Hosts  []*Host

	hostKey ssh.Signer
	client  ssh.PublicKey
}

// New makes a fleet in a folder: its keys, and no host yet.
func New(dir string) (*Fleet, error) {
	f := &Fleet{Folder: dir}
	_, hostKey, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	if f.hostKey, err = ssh.NewSignerFromKey(hostKey); err != nil {
		return nil, err
	}
	_, clientKey, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(clientKey)
	if err != nil {
		return nil, err
	}
	f.client = signer.PublicKey()
	block, err := ssh.MarshalPrivateKey(clientKey, "for simulated hosts")
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	return f, os.WriteFile(f.Key(), pem.EncodeToMemory(block), 0o600)
}

// Key is the path of the client's private key.
func (f *Fleet) Key() string { return filepath.Join(f.Folder, "client-key") }

// KnownHosts is the path of the known_hosts file that Add keeps.
func (f *Fleet) KnownHosts() string { return filepath.Join(f.Folder, "known_hosts") }

// Add makes a host and lets it listen on loopback.
func (f *Fleet) Add(spec folder.Spec) (*Host, error) {
	root := filepath.Join(f.Folder, spec.Name)
	if err := os.MkdirAll(root, 0o755); err != nil {
		return nil, err
	}
	machine, err := folder.New(root, spec)
	if err != nil {
		return nil, err
	}
	h := &Host{Machine: machine, Name: spec.Name, fleet: f}
	machine.Rebooted = func() { go h.restart() }
	if err := h.Listen(0); err != nil {
		return nil, err
	}
	f.Hosts = append(f.Hosts, h)
	known, err := os.OpenFile(f.KnownHosts(), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer known.Close()
	_, err = fmt.Fprintln(known, knownhosts.Line([]string{knownhosts.Normalize(h.Addr.String())},
		f.hostKey.PublicKey()))
	return h, err
}

// Close takes all hosts down.
func (f *Fleet) Close() {
	for _, h := range f.Hosts {
		h.Down()
	}
}

// Inventory writes where the hosts listen, as an inventory file.
func (f *Fleet) Inventory() string {
	var b strings.Builder
	b.WriteString("# Where the simulated hosts listen while they run. Rewritten each time.\n")
	for _, h := range f.Hosts {
		fmt.Fprintf(&b, "\n[host.%s.connect]\naddress = %q\nport = %d\n", h.Name, h.Addr.IP, h.Addr.Port)
	}
	return b.String()
}

// Listen makes the host reachable on a port of loopback; 0 takes any.
func (h *Host) Listen(port int) error {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return err
	}
	h.mu.Lock()
	h.listener, h.Addr, h.closed = l, l.Addr().(*net.TCPAddr), false
	h.mu.Unlock()
	go h.accept(l)
	return nil
}

// Down cuts every connection and stops listening. Its folder stays.
func (h *Host) Down() {
	h.mu.Lock()
	h.closed = true
	h.listener.Close()
	h.mu.Unlock()
	h.Cut()
}

// restart is away for a moment and back at the same port.
func (h *Host) restart() {
	h.Down()
	time.Sleep(100 * time.Millisecond)
	h.Listen(h.Addr.Port)
}

// Cut breaks every connection, as a pulled cable does.
func (h *Host) Cut() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, c := range h.conns {
		c.Close()
	}
	h.conns = nil
}

// Wait returns when no worker runs on the host any more.
func (h *Host) Wait() {
	for {
		h.mu.Lock()
		n := h.sessions
		h.mu.Unlock()
		if n == 0 {
			return
		}
		time.Sleep(time.Millisecond)
	}
}

func (h *Host) accept(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		h.mu.Lock()
		h.conns = append(h.conns, c)
		h.mu.Unlock()
		go h.serve(c)
	}
}

func (h *Host) serve(c net.Conn) {
	defer func() {
		c.Close()
		h.mu.Lock()
		h.conns = slices.DeleteFunc(h.conns, func(have net.Conn) bool { return have == c })
		h.mu.Unlock()
	}()
	if h.Full.Load() {
		return
	}
	conf := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if string(key.Marshal()) != string(h.fleet.client.Marshal()) {
			return nil, errors.New("wrong key")
		}
		return nil, nil
	}}
	conf.PasswordCallback = func(_ ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
		if h.Tried.Add(1); h.LoginPassword == "" || string(given) != h.LoginPassword {
			return nil, errors.New("wrong password")
		}
		return nil, nil
	}
	conf.AddHostKey(h.fleet.hostKey)
	_, chans, reqs, err := ssh.NewServerConn(c, conf)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(reqs)
	for ch := range chans {
		if ch.ChannelType() == "direct-tcpip" {
			go forward(ch)
			continue
		}
		if ch.ChannelType() != "session" {
			ch.Reject(ssh.UnknownChannelType, "sessions only")
			continue
		}
		channel, requests, err := ch.Accept()
		if err != nil {
			return
		}
		go h.session(channel, requests)
	}
}

// forward connects a channel to an address (RFC 4254, 7.2), for who uses this host
// to reach others.
func forward(asked ssh.NewChannel) {
	var to struct {
		Host     string
		Port     uint32
		From     string
		FromPort uint32
	}
	if err := ssh.Unmarshal(asked.ExtraData(), &to); err != nil {
		asked.Reject(ssh.ConnectionFailed, "the request cannot be read")
		return
	}
	conn, err := net.Dial("tcp", net.JoinHostPort(to.Host, fmt.Sprint(to.Port)))
	if err != nil {
		asked.Reject(ssh.ConnectionFailed, "nothing responds")
		return
	}
	ch, reqs, err := asked.Accept()
	if err != nil {
		conn.Close()
		return
	}
	go ssh.DiscardRequests(reqs)
	go func() {
		io.Copy(ch, conn)
		ch.Close()
	}()
	io.Copy(conn, ch)
	conn.Close()
}

// asksForPassword does what `sudo -S -p PROMPT` does, three times as sudo itself.
func (h *Host) asksForPassword(prompt string, ch ssh.Channel) bool {
	for range 3 {
		io.WriteString(ch.Stderr(), prompt)
		var line []byte
		for b := make([]byte, 1); ; line = append(line, b[0]) {
			if _, err := ch.Read(b); err != nil {
				return false
			}
			if b[0] == '\n' {
				break
			}
		}
		if h.Tried.Add(1); string(line) == h.SudoPassword {
			return true
		}
		io.WriteString(ch.Stderr(), "Sorry, try again.\n")
	}
	return false
}

// Between sets Wrap while another process may be connecting.
func (h *Host) Between(wrap func(machine.Machine) machine.Machine) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.Wrap = wrap
}

func (h *Host) session(ch ssh.Channel, reqs <-chan *ssh.Request) {
	defer ch.Close()
	for r := range reqs {
		if r.Type != "exec" || len(r.Payload) < 4 {
			r.Reply(false, nil)
			continue
		}
		r.Reply(true, nil)
		go func() { // what else is asked of the session meanwhile
			for r := range reqs {
				r.Reply(false, nil)
			}
		}()
		code := h.exec(string(r.Payload[4:]), ch)
		ch.SendRequest("exit-status", false, binary.BigEndian.AppendUint32(nil, uint32(code)))
		return
	}
}

// exec does what a login shell would do with one command line.
func (h *Host) exec(line string, ch ssh.Channel) int {
	io.WriteString(ch, h.Greeting)
	nonce, by, ok := reach.Understood(shell.Split(line))
	if !ok {
		fmt.Fprintln(ch.Stderr(), "sh: this simulated host only starts workers")
		return 127
	}
	if by != "" {
		asks := by == "sudo -S"
		switch {
		case h.NoSudo, h.SudoPassword != "" && !asks:
			fmt.Fprintln(ch.Stderr(), "sudo: a password is required")
			return 1
		case h.SudoPassword != "" && !h.asksForPassword(reach.Mark(nonce), ch):
			fmt.Fprintln(ch.Stderr(), "sudo: 3 incorrect password attempts")
			return 1
		}
	}
	if h.Answer != nil {
		h.Answer(ch, ch, nonce)
		return 0
	}
	io.WriteString(ch, worker.Ready(nonce))
	var m machine.Machine = h.Machine
	h.mu.Lock()
	wrap := h.Wrap
	h.sessions++
	h.mu.Unlock()
	if wrap != nil {
		m = wrap(m)
	}
	defer func() {
		h.mu.Lock()
		h.sessions--
		h.mu.Unlock()
	}()
	if err := worker.Serve(context.Background(), m, ch, ch, h.Silence); err != nil {
		fmt.Fprintln(ch.Stderr(), err)
		return 1
	}
	return 0
}
