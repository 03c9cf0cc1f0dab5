package reach

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
)

// master is a conversation with an OpenSSH client that keeps a connection, by the protocol that its sources
// describe in PROTOCOL.mux: packets with their length before them, of which each begins with its type.
type master struct{ *net.UnixConn }

// The types of packets, and what else the protocol fixes.
const (
	muxHello      = 0x00000001
	muxVersion    = 4
	muxNewSession = 0x10000002
	muxTerminate  = 0x10000005
	muxDenied     = 0x80000002
	muxFailure    = 0x80000003
	muxOpened     = 0x80000006
	muxNoEscape   = 0xffffffff

	maxMuxPacket = 256 << 10
)

// What a client does that does not answer.
var (
	errSilent = errors.New("it does not answer")
	errEnded  = errors.New("it ended")
)

// answerLimit is how long the client may take to answer, or the host behind it.
const answerLimit = 5 * time.Second

// dialMaster begins a conversation, with a process of this account.
func dialMaster(at string) (*master, error) {
	conn, err := net.DialTimeout("unix", at, answerLimit)
	if err != nil {
		return nil, err
	}
	m := &master{conn.(*net.UnixConn)}
	m.SetDeadline(time.Now().Add(answerLimit))
	if err := m.greet(); err != nil {
		m.Close()
		return nil, err
	}
	return m, nil
}

func (m *master) greet() error {
	raw, err := m.SyscallConn()
	if err != nil {
		return err
	}
	var peer *syscall.Ucred
	var peerErr error
	if err := raw.Control(func(fd uintptr) {
		peer, peerErr = syscall.GetsockoptUcred(int(fd), syscall.SOL_SOCKET, syscall.SO_PEERCRED)
	}); err != nil || peerErr != nil {
		return errors.Join(err, peerErr)
	}
	if int(peer.Uid) != os.Geteuid() {
		return fmt.Errorf("it is answered by another account, %d", peer.Uid)
	}
	if err := m.send(ssh.Marshal(struct{ Type, Version uint32 }{muxHello, muxVersion})); err != nil {
		return err
	}
	kind, rest, err := m.receive()
	if err != nil {
		return err
	}
	if kind != muxHello || len(rest) < 4 || binary.BigEndian.Uint32(rest) != muxVersion {
		return errors.New("it speaks another protocol")
	}
	return nil
}

// session starts a command on the host, and gives its standard input, output and error.
func (m *master) session(command string) (in, out, errOut *os.File, err error) {
	var theirs, mine [3]*os.File
	defer func() {
		for i := range theirs {
			theirs[i].Close() // of nil it does nothing
			if err != nil {
				mine[i].Close()
			}
		}
	}()
	for i := range theirs {
		r, w, err := os.Pipe()
		if err != nil {
			return nil, nil, nil, err
		}
		if theirs[i], mine[i] = w, r; i == 0 {
			theirs[i], mine[i] = r, w
		}
	}
	err = m.send(ssh.Marshal(struct {
		Type, ID                             uint32
		Reserved                             string
		Terminal, X11, Agent, Subsys, Escape uint32
		Term, Command                        string
	}{Type: muxNewSession, Escape: muxNoEscape, Command: command}))
	for i := 0; err == nil && i < len(theirs); i++ {
		_, _, err = m.WriteMsgUnix([]byte{0}, syscall.UnixRights(int(theirs[i].Fd())), nil)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	kind, rest, err := m.receive()
	switch {
	case err != nil:
		return nil, nil, nil, err
	case kind == muxFailure || kind == muxDenied:
		_, said, _ := word(rest)
		if strings.Contains(said, "refused by peer") { // MaxSessions of sshd, as for a connection of our own
			return nil, nil, nil, &ssh.OpenChannelError{Reason: ssh.ResourceShortage, Message: said}
		}
		return nil, nil, nil, fmt.Errorf("it refuses a session: %s", clip(said))
	case kind != muxOpened:
		return nil, nil, nil, fmt.Errorf("it answers with %#x", kind)
	}
	return mine[0], mine[1], mine[2], m.SetDeadline(time.Time{})
}

// word reads a number and a text.
func word(b []byte) (n uint32, text string, err error) {
	var p struct {
		N    uint32
		Text string
		Rest []byte `ssh:"rest"`
	}
	err = ssh.Unmarshal(b, &p)
	return p.N, p.Text, err
}

func (m *master) send(packet []byte) error {
	_, err := m.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(packet))), packet...))
	return err
}

// receive reads a packet: its type, and the rest.
func (m *master) receive() (kind uint32, rest []byte, err error) {
	var head [8]byte
	switch _, err := io.ReadFull(m, head[:]); {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return 0, nil, errSilent
	case err != nil:
		return 0, nil, errEnded
	}
	size := binary.BigEndian.Uint32(head[:])
	if size < 4 || size > maxMuxPacket {
		return 0, nil, errors.New("it answers with a packet of an impossible length")
	}
	rest = make([]byte, size-4)
	_, err = io.ReadFull(m, rest)
	return binary.BigEndian.Uint32(head[4:]), rest, err
}

// endMaster ends the client that keeps a connection, and says whether there was one.
func endMaster(at string) bool {
	defer os.Remove(at)
	m, err := dialMaster(at)
	if err != nil {
		return false
	}
	defer m.Close()
	if m.send(ssh.Marshal(struct{ Type, ID uint32 }{muxTerminate, 1})) != nil {
		return false
	}
	// It removes the socket at its very end, where another may have made its own by then.
	for begun := time.Now(); time.Since(begun) < answerLimit; time.Sleep(time.Millisecond) {
		if _, err := os.Lstat(at); errors.Is(err, os.ErrNotExist) {
			return true
		}
	}
	return false
}

// Disconnect ends all connections that are kept in a directory, and says how many there were.
func Disconnect(dir string) (int, error) {
	if err := private(dir, os.ModeDir|0o700); errors.Is(err, os.ErrNotExist) {
		return 0, nil
	} else if err != nil {
		return 0, err
	}
	entries, err := os.ReadDir(dir)
	n := 0
	for _, e := range entries {
		at := filepath.Join(dir, e.Name())
		if e.Type() == os.ModeSocket && endMaster(at) {
			n++
		}
		os.Remove(at)
	}
	return n, err
}
