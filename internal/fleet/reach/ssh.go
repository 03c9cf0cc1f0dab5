package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/machine"
)

// remote runs commands over one SSH connection.
type remote struct {
	client *ssh.Client
	conn   net.Conn
	keep   func() // has the next call find a connection; may be nil
}

func (r *remote) close() { r.client.Close() }

func (r *remote) ready() {
	if q, ok := r.conn.(*quick); ok {
		q.ready.Store(true)
	}
	if r.keep != nil {
		r.keep()
	}
}

// start asks for a command and does not wait for the host to say that it takes
// it: what is written next is on its way at once, which saves a round trip. A
// host that refuses gives no answer, or ends the channel.
func (r *remote) start(command string, listen func(in, keep io.Writer) io.Writer) (*process, error) {
	ch, requests, err := r.client.OpenChannel("session", nil)
	if err != nil {
		return nil, fmt.Errorf("open a session: %w", err)
	}
	exec := ssh.Marshal(struct{ Command string }{command}) // RFC 4254, 6.5
	if _, err := ch.SendRequest("exec", false, exec); err != nil {
		ch.Close()
		return nil, fmt.Errorf("run a command on the host: %w", err)
	}
	p := &process{in: input{ch}, out: ch, errs: &machine.Keep{}}
	var ended sync.WaitGroup
	ended.Go(func() { ssh.DiscardRequests(requests) }) // the exit status among them: what the worker says counts
	errs := io.Writer(p.errs)
	if listen != nil {
		errs = listen(p.in, p.errs)
	}
	ended.Go(func() { io.Copy(errs, ch.Stderr()) })
	p.wait = func() error {
		ended.Wait()
		return nil
	}
	return p, nil
}

// input is a command's standard input; to close it ends that and nothing else.
type input struct{ ssh.Channel }

func (i input) Close() error { return i.CloseWrite() }

func (t Target) hostPort() string {
	port := t.Port
	if port == 0 {
		port = 22
	}
	return net.JoinHostPort(t.Address, strconv.Itoa(port))
}

// ssh connects to a host.
func (d *Dialer) ssh(ctx context.Context, t Target) (transport, error) {
	t, err := d.settings(ctx, t)
	if err != nil {
		return nil, err
	}
	return d.login(ctx, t)
}

// login connects to a host for which the settings were read.
func (d *Dialer) login(ctx context.Context, t Target) (transport, error) {
	known, err := d.known()
	if err != nil {
		return nil, err
	}
	user := t.User
	if user == "" {
		user = d.User
	}
	conf := &ssh.ClientConfig{
		Config:            modern(),
		User:              user,
		HostKeyCallback:   known.check(t),
		HostKeyAlgorithms: known.algorithms(t.hostPort()),
	}
	judged := unknown
	closeAuth, err := d.auth(t, conf, &judged)
	if err != nil {
		return nil, err
	}
	defer func() { closeAuth() }()
	t.User = user
	via, err := d.way(ctx, t)
	if err != nil {
		return nil, err
	}
	select { // the limit counts from a host's turn on
	case turns <- struct{}{}:
		defer func() { <-turns }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	conn, err := via(ctx)
	if err != nil {
		return nil, err
	}
	late := cutLate(conn, d.handshakeLimit())
	c, chans, reqs, err := ssh.NewClientConn(conn, t.hostPort(), conf)
	if !late.Stop() && err != nil {
		err = os.ErrDeadlineExceeded
	}
	if err != nil {
		if strings.Contains(err.Error(), "unable to authenticate") {
			judged = refused
		}
		conn.Close()
		if strings.Contains(err.Error(), "no common algorithm for host key") {
			if k, keyErr := d.Key(ctx, t); keyErr == nil {
				return nil, &UnknownKeyError{t.Name, k.Fingerprint}
			}
		}
		return nil, d.handshakeError(err, t, user)
	}
	judged = taken
	return &remote{client: ssh.NewClient(c, chans, reqs), conn: conn}, nil
}

// turns bounds the connections that are being made at a time, by this whole
// program: the key exchange of thousands at once would take so much processor
// time that hosts would give up waiting for it.
var turns = make(chan struct{}, 64)

// modern leaves out what rests on SHA-1.
func modern() ssh.Config {
	all := ssh.SupportedAlgorithms()
	sha1 := func(name string) bool { return strings.Contains(name, "sha1") }
	return ssh.Config{KeyExchanges: slices.DeleteFunc(all.KeyExchanges, sha1), MACs: slices.DeleteFunc(all.MACs, sha1),
		Ciphers: all.Ciphers}
}

func dialError(err error, t Target) error {
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	var timeout net.Error
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return fmt.Errorf("%s does not respond", t.hostPort())
	default:
		text := err.Error()
		text = text[strings.LastIndex(text, ": ")+1:]
		return fmt.Errorf("cannot connect to %s: %s", t.hostPort(), strings.TrimSpace(text))
	}
}

func (d *Dialer) handshakeError(err error, t Target, user string) error {
	var unknown *UnknownKeyError
	var changed *ChangedKeyError
	var timeout net.Error
	switch {
	case errors.As(err, &unknown):
		return unknown
	case errors.As(err, &changed):
		return changed
	case errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return fmt.Errorf("%s accepts the connection but does not speak SSH", t.hostPort())
	case strings.Contains(err.Error(), "unable to authenticate"):
		with := "the agent and the usual key files"
		if t.Key != "" {
			with = t.Key
		}
		if d.Login != nil {
			with += " or with the password"
		}
		return problem.Errorf("permission denied for user %q with %s", user, with).
			Remedy("check the user's authorized_keys, or set connect.user and connect.key")
	}
	if known := early(err, t); known != nil {
		return known
	}
	return fmt.Errorf("SSH with %s: %s", t.hostPort(), strings.TrimPrefix(err.Error(), "ssh: handshake failed: "))
}

// usualKeys are the private keys that OpenSSH tries by itself.
var usualKeys = []string{"id_ed25519", "id_ecdsa", "id_rsa"}

// auth offers the key that is named, or else the agent's and the usual ones, and
// then a password that was given. What comes back ends what was begun, and is to
// be called once judged is settled.
func (d *Dialer) auth(t Target, conf *ssh.ClientConfig, judged *verdict) (func(), error) {
	closeAgent := func() {}
	var signers []ssh.Signer
	var agentKeys []ssh.Signer
	if d.AgentAddr != "" {
		if conn, err := net.Dial("unix", d.AgentAddr); err == nil {
			closeAgent = func() { conn.Close() }
			agentKeys, _ = agent.NewClient(conn).Signers()
		}
	}
	if t.Key != "" {
		s, err := d.readKey(t.Key, agentKeys)
		if err != nil {
			closeAgent()
			return nil, err
		}
		certified, err := withCertificate(s, t)
		if err != nil {
			closeAgent()
			return nil, err
		}
		signers = append(certified, s)
	} else {
		signers = agentKeys
		for _, name := range usualKeys {
			path := filepath.Join(d.Home, ".ssh", name)
			if s, err := (&Dialer{}).readKey(path, nil); err == nil {
				certified, _ := withCertificate(s, Target{Key: path})
				signers = append(append(signers, certified...), s)
			}
		}
		if t.also != "" {
			s, err := d.readKey(t.also, agentKeys)
			if err != nil && len(signers) == 0 {
				closeAgent()
				return nil, err
			}
			if err == nil {
				signers = append(signers, s)
			}
		}
		if len(signers) == 0 && d.Login == nil {
			closeAgent()
			return nil, problem.Errorf("no key to log in with: no agent is running, and ~/.ssh has no key").
				Remedy("set connect.key, add a key to an agent, or enter a password with --ask login")
		}
	}
	if len(signers) > 0 {
		conf.Auth = []ssh.AuthMethod{ssh.PublicKeys(signers...)}
	}
	if d.Login == nil {
		return closeAgent, nil
	}
	settle := d.offerPassword(t, conf, judged)
	return func() { closeAgent(); settle() }, nil
}

// offerPassword lets a host ask for the password, by whichever of the two methods
// it has (RFC 4252, 8; RFC 4256), once.
func (d *Dialer) offerPassword(t Target, conf *ssh.ClientConfig, judged *verdict) (settle func()) {
	var secret value.Secret
	var done func(verdict)
	give := func() (string, error) {
		if done != nil {
			return secret.Reveal(), nil
		}
		var err error
		secret, done, err = d.Login.use(t.Name)
		return secret.Reveal(), err
	}
	conf.Auth = append(conf.Auth, ssh.PasswordCallback(give),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) ([]string, error) {
			if len(questions) == 0 {
				return nil, nil
			}
			if len(questions) > 1 || echos[0] {
				return nil, errors.New("the host requires more than a password")
			}
			answer, err := give()
			return []string{answer}, err
		}))
	return func() {
		if done != nil {
			done(*judged)
		}
	}
}

// handshakeLimit is how long a host may take to greet and let us in: longer where
// it may wait for another one to try the password first.
func (d *Dialer) handshakeLimit() time.Duration {
	if d.Login != nil && d.Timeout > 0 {
		return max(d.Timeout, startLimit)
	}
	return d.Timeout
}

// cutLate closes a connection on which something takes too long; 0 is not a limit.
func cutLate(conn net.Conn, limit time.Duration) *time.Timer {
	if limit <= 0 {
		limit = 24 * time.Hour
	}
	return time.AfterFunc(limit, func() { conn.Close() })
}

// readKey reads a private key; one with a passphrase is taken from the agent, or
// the passphrase is asked for.
func (d *Dialer) readKey(path string, agentKeys []ssh.Signer) (ssh.Signer, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, problem.Errorf("the key %s does not exist", path).
			Remedy("create it with ssh-keygen, or change connect.key")
	}
	if err != nil {
		return nil, fmt.Errorf("read the key %s: %w", path, err)
	}
	s, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		i := slices.IndexFunc(agentKeys, func(k ssh.Signer) bool {
			return locked.PublicKey != nil && string(k.PublicKey().Marshal()) == string(locked.PublicKey.Marshal())
		})
		if i >= 0 {
			return agentKeys[i], nil
		}
		if d.Passphrase != nil {
			return d.unlock(path, data)
		}
		return nil, problem.Errorf("the key %s has a passphrase", path).
			Remedy("add it to an agent with `ssh-add %s`", path)
	}
	if err != nil {
		return nil, problem.Errorf("%s is not a readable private key (%s)", path,
			strings.TrimPrefix(err.Error(), "ssh: ")).Remedy("is it the public key?")
	}
	return s, nil
}

// withCertificate gives a key with the certificate that is beside it, or that
// the user's settings name, where there is one.
func withCertificate(s ssh.Signer, t Target) ([]ssh.Signer, error) {
	path := t.certificate
	if path == "" {
		path = strings.TrimSuffix(t.Key, ".pub") + "-cert.pub"
		if _, err := os.Stat(path); err != nil {
			return nil, nil
		}
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, problem.Errorf("the certificate cannot be read: %w", err).Remedy("check ~/.ssh/config")
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(data)
	cert, ok := key.(*ssh.Certificate)
	if err != nil || !ok {
		return nil, problem.Errorf("%s does not contain a certificate", path).
			Remedy("create it again with `ssh-keygen -s AUTHORITY`")
	}
	certified, err := ssh.NewCertSigner(cert, s)
	if err != nil {
		return nil, problem.Errorf("the certificate %s does not match the key %s", path, t.Key).
			Remedy("use the matching one")
	}
	return []ssh.Signer{certified}, nil
}

// unlock opens a key with its passphrase, for which somebody is asked once.
func (d *Dialer) unlock(path string, data []byte) (ssh.Signer, error) {
	open, _ := d.opened.LoadOrStore(path, sync.OnceValues(func() (ssh.Signer, error) {
		secret, err := d.Passphrase(path)
		if err != nil {
			return nil, err
		}
		s, err := ssh.ParsePrivateKeyWithPassphrase(data, []byte(secret.Reveal()))
		if err != nil {
			return nil, problem.Errorf("wrong passphrase for the key %s", path).
				Remedy("run again with the correct one, or add the key to an agent with `ssh-add %s`", path)
		}
		return s, nil
	}))
	return open.(func() (ssh.Signer, error))()
}

// UnknownKeyError says that a host's key is not in known_hosts.
type UnknownKeyError struct {
	Host        string
	Fingerprint string
}

func (e *UnknownKeyError) Error() string {
	return fmt.Sprintf("unknown host key %s; compare it with `ssh-keygen -lf` on the host, then run "+
		"`jadekettle hosts trust %s`", e.Fingerprint, e.Host)
}

// ChangedKeyError says that a host's key is another than known_hosts has.
type ChangedKeyError struct {
	Host        string
	Fingerprint string
	Known       []string // file:line of what is known
}

func (e *ChangedKeyError) Error() string {
	return fmt.Sprintf("HOST KEY HAS CHANGED: it is now %s, not the one in %s; this may be an attack. If the host was "+
		"reinstalled, run `jadekettle hosts trust --replace %s`", e.Fingerprint, strings.Join(e.Known, ", "), e.Host)
}

// Unwrap says that the host is refused.
func (e *ChangedKeyError) Unwrap() error { return ErrUnsafe }

// known is the known_hosts file.
type known struct{ callback ssh.HostKeyCallback }

// known reads the file once for all connections.
func (d *Dialer) known() (known, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.read == nil {
		k, err := d.readKnown()
		if err != nil {
			return k, err
		}
		d.read = &k
	}
	return *d.read, nil
}

// forget lets the file be read again.
func (d *Dialer) forget() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.read = nil
}

func (d *Dialer) readKnown() (known, error) {
	cb, err := knownhosts.New(d.KnownHosts)
	if errors.Is(err, fs.ErrNotExist) {
		cb, err = knownhosts.New()
	}
	if err != nil {
		return known{}, fmt.Errorf("read the known hosts: %w", err)
	}
	return known{cb}, nil
}

func fingerprint(k ssh.PublicKey) string { return k.Type() + " " + ssh.FingerprintSHA256(k) }

func (k known) check(t Target) ssh.HostKeyCallback {
	return func(hostname string, remote net.Addr, key ssh.PublicKey) error {
		// Only the name counts that the connection was made to.
		err := k.callback(hostname, nowhere{}, key)
		var ke *knownhosts.KeyError
		if !errors.As(err, &ke) {
			return err
		}
		if len(ke.Want) == 0 {
			return &UnknownKeyError{t.Name, fingerprint(key)}
		}
		e := &ChangedKeyError{Host: t.Name, Fingerprint: fingerprint(key)}
		for _, w := range ke.Want {
			e.Known = append(e.Known, fmt.Sprintf("%s:%d", w.Filename, w.Line))
		}
		return e
	}
}

// nowhere means an address that is in no known_hosts file.
type nowhere struct{}

func (nowhere) Network() string { return "tcp" }
func (nowhere) String() string  { return "0.0.0.0:0" }

// algorithms asks for the kinds of keys that are known of a host, so that one
// with several keys shows a known one. Nil leaves the choice to the library.
func (k known) algorithms(hostPort string) []string {
	var ke *knownhosts.KeyError
	if !errors.As(k.callback(hostPort, nowhere{}, noKey{}), &ke) {
		return nil
	}
	var out []string
	for _, w := range ke.Want {
		if authority(w) {
			out = append(slices.Clone(certAlgorithms), out...)
			continue
		}
		for _, a := range algorithmsOf(w.Key.Type()) {
			if !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	return out
}

// certAlgorithms are the kinds of certificates that a host may show.
var certAlgorithms = []string{ssh.CertAlgoED25519v01, ssh.CertAlgoECDSA256v01, ssh.CertAlgoECDSA384v01,
	ssh.CertAlgoECDSA521v01, ssh.CertAlgoRSASHA512v01, ssh.CertAlgoRSASHA256v01}

// authority says whether a line of known_hosts is that of an authority, which
// signs hosts' keys (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT").
func authority(w knownhosts.KnownKey) bool {
	data, err := os.ReadFile(w.Filename)
	if err != nil {
		return false
	}
	n := 0
	for line := range bytes.Lines(data) {
		if n++; n == w.Line {
			return bytes.HasPrefix(bytes.TrimSpace(line), []byte("@cert-authority"))
		}
	}
	return false
}

func algorithmsOf(keyType string) []string {
	if keyType == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{keyType}
}

// noKey is a key that no host has.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }
