package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// HostKey is the key that a host shows.
type HostKey struct {
	Fingerprint string
	Known       bool // it is the one in known_hosts
	Changed     bool // known_hosts has another

	key    ssh.PublicKey
	target Target
}

var errSeen = errors.New("the key was seen")

// Key asks a host for its key, without logging in.
func (d *Dialer) Key(ctx context.Context, t Target) (*HostKey, error) {
	t, err := d.settings(ctx, t)
	if err != nil {
		return nil, err
	}
	known, err := d.known()
	if err != nil {
		return nil, err
	}
	var hk *HostKey
	conf := &ssh.ClientConfig{User: "none", HostKeyAlgorithms: known.algorithms(t.hostPort()), HostKeyCallback: func(name string, addr net.Addr, key ssh.PublicKey) error {
		err := known.check(t)(name, addr, key)
		var changed *ChangedKeyError
		hk = &HostKey{Fingerprint: fingerprint(key), Known: err == nil, Changed: errors.As(err, &changed), key: key, target: t}
		return errSeen
	}}
	conn, err := (&net.Dialer{Timeout: d.Timeout}).DialContext(ctx, "tcp", t.hostPort())
	if err != nil {
		return nil, dialError(err, t)
	}
	defer conn.Close()
	if d.Timeout > 0 {
		conn.SetDeadline(time.Now().Add(d.Timeout))
	}
	_, _, _, err = ssh.NewClientConn(conn, t.hostPort(), conf)
	if hk != nil {
		return hk, nil
	}
	if len(conf.HostKeyAlgorithms) > 0 && err != nil {
		// It shows no key of a kind that is known: ask for any.
		return (&Dialer{KnownHosts: os.DevNull, Timeout: d.Timeout}).changedKey(ctx, t)
	}
	return nil, d.handshakeError(err, t, "")
}

func (d *Dialer) changedKey(ctx context.Context, t Target) (*HostKey, error) {
	hk, err := d.Key(ctx, t)
	if err == nil {
		hk.Changed = true
	}
	return hk, err
}

// Trust writes a host's key into known_hosts, in the place of others that
// stand there for the host. The file is replaced in one step.
func (d *Dialer) Trust(k *HostKey) error {
	old, err := os.ReadFile(d.KnownHosts)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	name := knownhosts.Normalize(k.target.hostPort())
	var out bytes.Buffer
	for line := range bytes.Lines(old) {
		if !namesOnly(line, name) {
			out.Write(line)
		}
	}
	if out.Len() > 0 && !bytes.HasSuffix(out.Bytes(), []byte("\n")) {
		out.WriteByte('\n')
	}
	fmt.Fprintln(&out, knownhosts.Line([]string{name}, k.key))
	if err := os.MkdirAll(filepath.Dir(d.KnownHosts), 0o700); err != nil {
		return err
	}
	temp, err := os.CreateTemp(filepath.Dir(d.KnownHosts), ".known_hosts-*")
	if err != nil {
		return err
	}
	defer os.Remove(temp.Name())
	if _, err = temp.Write(out.Bytes()); err == nil {
		err = temp.Sync()
	}
	if e := temp.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	return os.Rename(temp.Name(), d.KnownHosts)
}

// namesOnly says whether a line of known_hosts names this host alone, so that it
// can be dropped; a line that serves other hosts too is kept.
func namesOnly(line []byte, name string) bool {
	_, hosts, _, _, _, err := ssh.ParseKnownHosts(line)
	return err == nil && len(hosts) == 1 && hosts[0] == name
}
