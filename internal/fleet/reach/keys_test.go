package reach

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"jadekettle/internal/core/value"
)

// key writes a private key, with a passphrase where one is given, and gives its
// path and its signer.
func key(t *testing.T, passphrase string) (string, ssh.Signer) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	var block *pem.Block
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(private, "")
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte(passphrase))
	}
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return path, s
}

// TestPassphrases asks for that of a key once, whatever comes of it.
func TestPassphrases(t *testing.T) {
	path, signer := key(t, "neap tide")
	if _, err := new(Dialer).readKey(path, nil); err == nil || !strings.Contains(err.Error(), "has a passphrase") {
		t.Errorf("with nobody to ask: %v", err)
	}
	if s, err := new(Dialer).readKey(path, []ssh.Signer{signer}); err != nil || s != signer {
		t.Errorf("the agent has it: %v", err)
	}
	for given, want := range map[string]string{"neap tide": "", "spring tide": "wrong passphrase for the key"} {
		asked := 0
		d := &Dialer{Passphrase: func(string) (value.Secret, error) {
			asked++
			return value.NewSecret(given), nil
		}}
		for range 3 {
			s, err := d.readKey(path, nil)
			if (err == nil) != (want == "") || err != nil && (!strings.Contains(err.Error(), want) ||
				strings.Contains(err.Error(), given)) {
				t.Errorf("with %q: %v", given, err)
			}
			if err == nil && string(s.PublicKey().Marshal()) != string(signer.PublicKey().Marshal()) {
				t.Error("another key came out")
			}
		}
		if asked != 1 {
			t.Errorf("it was asked for %d times", asked)
		}
	}
	d := &Dialer{Passphrase: func(string) (value.Secret, error) {
		return value.Secret{},
			errors.New("nobody is there")
	}}
	if _, err := d.readKey(path, nil); err == nil || !strings.Contains(err.Error(), "nobody is there") {
		t.Errorf("with nobody there: %v", err)
	}
}

// TestCertificates takes the one beside a key, or the one that the settings
// name, and none that is another key's.
func TestCertificates(t *testing.T) {
	_, authority := key(t, "")
	path, signer := key(t, "")
	_, other := key(t, "")
	if got, err := withCertificate(signer, Target{Key: path}); err != nil || got != nil {
		t.Errorf("without one: %v %v", got, err)
	}
	write := func(to string, of ssh.PublicKey) {
		t.Helper()
		c := &ssh.Certificate{Key: of, CertType: ssh.UserCert, ValidPrincipals: []string{"ops"},
			ValidBefore: ssh.CertTimeInfinity}
		if err := c.SignCert(rand.Reader, authority); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(to, ssh.MarshalAuthorizedKey(c), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(path+"-cert.pub", signer.PublicKey())
	got, err := withCertificate(signer, Target{Key: path})
	if err != nil || len(got) != 1 || !strings.Contains(got[0].PublicKey().Type(), "-cert-") {
		t.Errorf("beside it: %v %v", got, err)
	}
	elsewhere := filepath.Join(t.TempDir(), "c")
	write(elsewhere, other.PublicKey())
	if _, err := withCertificate(signer, Target{Key: path, certificate: elsewhere}); err == nil ||
		!strings.Contains(err.Error(), "does not match the key") {
		t.Errorf("of another key: %v", err)
	}
	os.WriteFile(elsewhere, ssh.MarshalAuthorizedKey(other.PublicKey()), 0o600)
	if _, err := withCertificate(signer, Target{Key: path, certificate: elsewhere}); err == nil ||
		!strings.Contains(err.Error(), "does not contain a certificate") {
		t.Errorf("a key alone: %v", err)
	}
	if _, err := withCertificate(signer, Target{Key: path, certificate: elsewhere + "x"}); err == nil {
		t.Error("one that does not exist is not an error")
	}
	t1, err := Target{}.with("hostname 192.0.2.9\ncertificatefile ~/.ssh/c-cert.pub\n", "/home/maren")
	if err != nil || t1.certificate != "/home/maren/.ssh/c-cert.pub" {
		t.Errorf("of the settings: %q %v", t1.certificate, err)
	}
}

// TestThroughAShell starts what it receives in the shell that a command gives, and
// nothing but what follows reaches what was started.
func TestThroughAShell(t *testing.T) {
	l := &local{through: "echo to $JADEKETTLE_HOST >&2; exec sh", env: []string{"JADEKETTLE_HOST=gauge-01"}}
	p, err := l.start("sh -c 'echo ready; cat'", nil)
	if err != nil {
		t.Fatal(err)
	}
	buf := make([]byte, 64)
	n, err := p.out.Read(buf)
	if err != nil || string(buf[:n]) != "ready\n" {
		t.Fatalf("it says %q (%v)", buf[:n], err)
	}
	p.in.Write([]byte("ebb\n"))
	if n, err = p.out.Read(buf); err != nil || string(buf[:n]) != "ebb\n" {
		t.Errorf("it gives back %q (%v)", buf[:n], err)
	}
	p.in.Close()
	if err := p.wait(); err != nil || strings.TrimSpace(p.errs.String()) != "to gauge-01" {
		t.Errorf("it ended with %v and %q", err, p.errs)
	}
	l.close()
}
