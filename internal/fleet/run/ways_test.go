package run_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/reach"
)

// TestPasswords gives one password to four hosts, for sudo and to log in with: it
// is asked for once, a wrong one is tried on one host only, and it is in nothing
// that comes back.
func TestPasswords(t *testing.T) {
	for name, c := range map[string]struct {
		given    string
		login    bool
		says     string
		reached  int
		tries    int32
		noAnswer bool
	}{
		"sudo takes it":      {given: "ebb-and-flow", reached: 4, tries: 4},
		"sudo does not":      {given: "wrong-tide", says: "sudo rejected the password of the login user", tries: 1},
		"the login takes it": {given: "ebb-and-flow", login: true, reached: 4, tries: 4},
		"the login does not": {given: "wrong-tide", login: true,
			says: `permission denied for user "keeper" with`, tries: 1},
		"nothing responds": {noAnswer: true, says: "no terminal to ask on"},
	} {
		b := newBench(t, "gauge-01", "gauge-02", "gauge-03", "gauge-04")
		b.manifest("[dir.\"/srv/a\"]\n")
		var asked atomic.Int32
		p := &reach.Password{Ask: func() (value.Secret, error) {
			asked.Add(1)
			if c.noAnswer {
				return value.Secret{}, errors.New("no terminal to ask on")
			}
			return value.NewSecret(c.given), nil
		}}
		for _, h := range b.sim.Hosts {
			if c.login {
				h.LoginPassword = "ebb-and-flow"
			} else {
				h.SudoPassword = "ebb-and-flow"
			}
		}
		if b.dialer.Elevation = p; c.login {
			b.dialer.Elevation, b.dialer.Login = nil, p
			b.dialer.Home, b.key = t.TempDir(), "none"
		}
		out := b.run(false)
		var tries int32
		for _, h := range b.sim.Hosts {
			tries += h.Tried.Load()
		}
		reached, said := 0, ""
		for _, h := range out {
			if h.State == record.Reached && len(h.Tasks) == 1 {
				reached++
			}
			said += h.Message + "\n"
		}
		if asked.Load() != 1 || tries != c.tries || reached != c.reached || !strings.Contains(said, c.says) ||
			strings.Contains(fmt.Sprintf("%+v", out), "wrong-tide") {
			t.Errorf("%s: asked %d times, tried %d, reached %d\n%s", name, asked.Load(), tries, reached, said)
		}
		if c.tries == 1 && strings.Count(said, "is not tried here") != 3 {
			t.Errorf("%s: the others say\n%s", name, said)
		}
	}
}

// TestJumpHosts goes through one host, and through two, and says which is down.
func TestJumpHosts(t *testing.T) {
	b := newBench(t, "gauge-01", "gate-01", "gate-02")
	b.manifest("[dir.\"/srv/a\"]\n")
	at := func(i int) string { return "keeper@" + b.sim.Hosts[i].Addr.String() }
	b.dialer.Home = b.home()
	for _, jump := range []string{at(1), at(1) + "," + at(2)} {
		b.target.Jump = jump
		if h := b.run(false)["gauge-01"]; h.State != record.Reached {
			t.Errorf("through %s it is %s: %s", jump, h.State, h.Message)
		}
	}
	after := map[string]string{"gate-01": "gate-02"}
	b.dialer.Gate = func(name string) (reach.Target, bool) { // as an inventory has them
		i := slices.Index([]string{"", "gate-01", "gate-02"}, name)
		if i < 1 {
			return reach.Target{}, false
		}
		return reach.Target{Address: "127.0.0.1", Port: b.sim.Hosts[i].Addr.Port, Jump: after[name]}, true
	}
	b.target.Jump = "gate-01"
	if h := b.run(false)["gauge-01"]; h.State != record.Reached {
		t.Errorf("through gates of the inventory it is %s: %s", h.State, h.Message)
	}
	after["gate-02"] = "gate-01"
	if h := b.run(false)["gauge-01"]; !strings.Contains(h.Message, "form a cycle") {
		t.Errorf("through gates in a circle it is %s: %s", h.State, h.Message)
	}
	b.target.Jump = at(1) + "," + at(2)
	b.dialer.Gate = nil
	b.sim.Hosts[2].Down()
	h := b.run(false)["gauge-01"]
	if h.State != record.NotReached || !strings.Contains(h.Message, "the jump host "+at(2)) {
		t.Errorf("with a gate down it is %s: %s", h.State, h.Message)
	}
	b.target.Jump = at(1)
	b.sim.Hosts[0].Down()
	if h := b.run(false)["gauge-01"]; !strings.Contains(h.Message, "does not respond to the jump host") {
		t.Errorf("behind the gate it is %s: %s", h.State, h.Message)
	}
}
