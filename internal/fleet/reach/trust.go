package reach

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"

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

var errSeen = errors.New("the key was received")

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
	conf := &ssh.ClientConfig{User: "none", HostKeyAlgorithms: known.algorithms(t.hostPort()),
		HostKeyCallback: func(name string, addr net.Addr, key ssh.PublicKey) error {
			err := known.check(t)(name, addr, key)
			var changed *ChangedKeyError
			hk = &HostKey{Fingerprint: fingerprint(key), Known: err == nil, Changed: errors.As(err, &changed),
				key: key, target: t}
			return errSeen
		}}
	via, err := d.way(ctx, t)
	if err != nil {
		return nil, err
	}
	conn, err := via(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	defer cutLate(conn, d.Timeout).Stop()
	_, _, _, err = ssh.NewClientConn(conn, t.hostPort(), conf)
	if hk != nil {
		return hk, nil
	}
	if len(conf.HostKeyAlgorithms) > 0 && err != nil {
		// It shows no key of a kind that is known, so the one it has is unknown.
		return (&Dialer{KnownHosts: os.DevNull, Timeout: d.Timeout}).Key(ctx, t)
	}
	return nil, d.handshakeError(err, t, "")
}

// Type is how OpenSSH names files of such keys, as in ssh_host_TYPE_key.
func (k *HostKey) Type() string {
	switch t := k.key.Type(); {
	case strings.HasPrefix(t, "ecdsa"):
		return "ecdsa"
	case t == ssh.KeyAlgoRSA:
		return "rsa"
	}
	return "ed25519"
}

// Trust writes a host's key into known_hosts. In place of a key that changed it
// takes out all others that stand there for the host, alone, hashed or together
// with other hosts; marked lines (@revoked, @cert-authority) stay. A revoked key
// is refused. The file is replaced in one step.
func (d *Dialer) Trust(k *HostKey) error {
	if info, err := os.Lstat(d.KnownHosts); err == nil && !info.Mode().IsRegular() {
		return problem.Errorf("%s is not a regular file", d.KnownHosts).
			Remedy("set known_hosts under [ssh] to the file itself")
	}
	old, err := os.ReadFile(d.KnownHosts)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	name := knownhosts.Normalize(k.target.hostPort())
	if value.HasControl(name) || strings.ContainsAny(name, " ,*?!#@|") {
		return problem.Errorf("%q is not a valid address for known_hosts", name).Remedy("correct the host's address")
	}
	var out bytes.Buffer
	for line := range bytes.Lines(old) {
		marker, hosts, key, _, _, err := ssh.ParseKnownHosts(line)
		if err == nil && marker == "revoked" && bytes.Equal(key.Marshal(), k.key.Marshal()) {
			return problem.Errorf("the key %s is revoked in %s", k.Fingerprint, d.KnownHosts).
				Remedy("the host needs a new key; whoever presents this one may be an impostor")
		}
		if err != nil || marker != "" || !k.Changed {
			out.Write(line)
			continue
		}
		kept := slices.DeleteFunc(slices.Clone(hosts), func(h string) bool { return means(h, name) })
		switch {
		case len(kept) == len(hosts):
			out.Write(line)
		case len(kept) > 0:
			_, rest, _ := bytes.Cut(bytes.TrimLeft(line, " \t"), []byte(" "))
			fmt.Fprintf(&out, "%s %s", strings.Join(kept, ","), rest)
		}
	}
	if out.Len() > 0 && !bytes.HasSuffix(out.Bytes(), []byte("\n")) {
		out.WriteByte('\n')
	}
	fmt.Fprintln(&out, knownhosts.Line([]string{name}, k.key))
	d.forget()
	return replaceFile(d.KnownHosts, out.Bytes())
}

// means says whether a name of known_hosts is a host's, written out or hashed
// (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT").
func means(written, name string) bool {
	rest, hashed := strings.CutPrefix(written, "|1|")
	if !hashed {
		return written == name
	}
	salt, sum, _ := strings.Cut(rest, "|")
	s, err1 := base64.StdEncoding.DecodeString(salt)
	want, err2 := base64.StdEncoding.DecodeString(sum)
	mac := hmac.New(sha1.New, s)
	mac.Write([]byte(name))
	return err1 == nil && err2 == nil && hmac.Equal(mac.Sum(nil), want)
}

// replaceFile puts a file in place in one step.
func replaceFile(name string, data []byte) error {
	dir := filepath.Dir(name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	temp, err := os.CreateTemp(dir, ".known_hosts-*")
	if err != nil {
		return err
	}
	defer os.Remove(temp.Name())
	if _, err = temp.Write(data); err == nil {
		err = temp.Sync()
	}
	if e := temp.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	return os.Rename(temp.Name(), name)
}
