package reach

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

func aKey(t *testing.T) ssh.PublicKey {
	t.Helper()
	public, _, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// TestTrust replaces a key in a file in which it is in every way, beside
// lines that are not its business.
func TestTrust(t *testing.T) {
	old, now, revoked, other := aKey(t), aKey(t), aKey(t), aKey(t)
	file := filepath.Join(t.TempDir(), "known_hosts")
	keep := "# the pier\n@revoked * " + strings.TrimPrefix(knownhosts.Line([]string{"x"}, revoked), "x ") +
		"\n@cert-authority *.example.org " + strings.TrimPrefix(knownhosts.Line([]string{"x"}, other), "x ") + "\n"
	os.WriteFile(file, []byte(keep+knownhosts.Line([]string{"192.0.2.21"},
		old)+"\n"+knownhosts.Line([]string{knownhosts.HashHostname("192.0.2.21")}, old)+"\n"+
		knownhosts.Line([]string{"192.0.2.21", "192.0.2.22"}, old)+"\n"), 0o600)
	d := &Dialer{KnownHosts: file}
	target := Target{Name: "gauge-01", Address: "192.0.2.21"}
	if err := d.Trust(&HostKey{Changed: true, key: revoked, target: target}); err == nil ||
		!strings.Contains(err.Error(), "revoked") {
		t.Errorf("a revoked key gives %v", err)
	}
	if err := d.Trust(&HostKey{Changed: true, key: now, target: target}); err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(file)
	want := keep + knownhosts.Line([]string{"192.0.2.22"}, old) + "\n" +
		knownhosts.Line([]string{"192.0.2.21"}, now) + "\n"
	if string(text) != want {
		t.Errorf("the file is\n%s\nwant\n%s", text, want)
	}
	link := file + "-link"
	os.Symlink(file, link)
	if err := (&Dialer{KnownHosts: link}).Trust(&HostKey{key: now, target: target}); err == nil {
		t.Error("a link was written through")
	}
}

func TestNothingRestsOnSHA1(t *testing.T) {
	c := modern()
	for _, list := range [][]string{c.KeyExchanges, c.MACs} {
		if len(list) < 2 || strings.Contains(strings.Join(list, " "), "sha1") {
			t.Errorf("there are %v", list)
		}
	}
}

// BenchmarkKnownHosts looks 1,000 hosts up in a file of 10,000 lines, as a run
// does. x-reading compares that with reading the file once.
func BenchmarkKnownHosts(b *testing.B) {
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		b.Fatal(err)
	}
	var lines strings.Builder
	for i := range 10_000 {
		lines.WriteString(knownhosts.Line([]string{fmt.Sprintf("gauge-%d.example.org", i)}, key) + "\n")
	}
	file := filepath.Join(b.TempDir(), "known_hosts")
	if err := os.WriteFile(file, []byte(lines.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	var once, all time.Duration
	for b.Loop() {
		begun := time.Now()
		if _, err := (&Dialer{KnownHosts: file}).known(); err != nil {
			b.Fatal(err)
		}
		once += time.Since(begun)
		begun = time.Now()
		d := &Dialer{KnownHosts: file}
		for i := range 1000 {
			t := Target{Name: "gauge", Address: fmt.Sprintf("gauge-%d.example.org", i*10), Port: 22}
			k, err := d.known()
			if err != nil || len(k.algorithms(t.hostPort())) == 0 || k.check(t)(t.hostPort(), nowhere{}, key) != nil {
				b.Fatal(t.Address, err)
			}
		}
		all += time.Since(begun)
	}
	b.ReportMetric(float64(all)/float64(once), "x-reading")
}
