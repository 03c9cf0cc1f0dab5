package run_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/fleet/reach"
)

// distant listens on loopback and carries what comes to a port and back, each
// piece so much later.
func distant(b *testing.B, port int, each time.Duration) int {
	b.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	type piece struct {
		due  time.Time
		data []byte
	}
	carry := func(from, to net.Conn) {
		way := make(chan piece, 1024)
		go func() {
			defer close(way)
			for {
				buf := make([]byte, 32<<10)
				n, err := from.Read(buf)
				if n > 0 {
					way <- piece{time.Now().Add(each), buf[:n]}
				}
				if err != nil {
					return
				}
			}
		}()
		for p := range way {
			time.Sleep(time.Until(p.due))
			to.Write(p.data)
		}
		to.Close()
	}
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if err != nil {
				near.Close()
				return
			}
			go carry(near, far)
			go carry(far, near)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// BenchmarkFarAway runs over 60 tasks with nothing to change on a host that is
// 50 ms away, and compares that with opening the same connection and running
// one command. more-round-trips is how many round trips there are between
// the two: the time itself says little, since both make a whole key exchange.
func BenchmarkFarAway(b *testing.B) {
	const each = 50 * time.Millisecond
	h := newBench(b, "gauge-01")
	var m strings.Builder
	for i := range 60 {
		fmt.Fprintf(&m, "[file.\"/srv/conf-%d\"]\ncontent = \"pool %d\\n\"\nmode = \"0644\"\n", i, i)
	}
	h.manifest(m.String())
	if out := h.one(false); out.Count(plan.Changed) != 60 {
		b.Fatalf("%s\n%s", out.Message, statuses(out))
	}
	near := h.host().Addr.Port
	far := distant(b, near, each)
	known, err := os.ReadFile(h.sim.KnownHosts())
	if err != nil {
		b.Fatal(err)
	}
	file := filepath.Join(h.dir, "known_far")
	h.write("known_far", strings.ReplaceAll(string(known), fmt.Sprint("]:", near), fmt.Sprint("]:", far)))
	f := h.fleet()
	f.Open = func(ctx context.Context, on *inventory.Host, first []byte) (*reach.Session, error) {
		d := &reach.Dialer{KnownHosts: file, Timeout: 10 * time.Second, User: "keeper"}
		return d.Open(ctx, reach.Target{Name: on.Name, Address: "127.0.0.1", Port: far, Key: h.sim.Key(),
			Elevate: on.Connect.Elevate}, first)
	}
	key, err := os.ReadFile(h.sim.Key())
	if err != nil {
		b.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(key)
	if err != nil {
		b.Fatal(err)
	}
	bare := func() {
		c, err := ssh.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", far), &ssh.ClientConfig{User: "keeper",
			Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
		if err != nil {
			b.Fatal(err)
		}
		defer c.Close()
		s, err := c.NewSession()
		if err != nil {
			b.Fatal(err)
		}
		s.Run("true")
	}
	var alone, whole time.Duration
	for b.Loop() {
		begun := time.Now()
		bare()
		alone += time.Since(begun)
		begun = time.Now()
		if err := f.Plans.Check(f.Plans.Project.Inventory.Hosts); err != nil {
			b.Fatal(err)
		}
		out := f.Run(context.Background(), f.Plans.Project.Inventory.Hosts,
			plan.Run{ID: "bench", Project: "saltmarsh"})[0]
		whole += time.Since(begun)
		if out.State != record.Reached || out.Count(plan.Unchanged) != 60 {
			b.Fatalf("%s %s\n%s", out.State, out.Message, statuses(out))
		}
	}
	b.ReportMetric(float64(alone.Milliseconds())/float64(b.N), "ms/bare")
	b.ReportMetric(float64(whole.Milliseconds())/float64(b.N), "ms/run")
	b.ReportMetric(float64(whole-alone)/float64(b.N)/float64(2*each), "more-round-trips")
}
