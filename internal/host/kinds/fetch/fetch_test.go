package fetch_test

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/fetch"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
)

// server is a host on which the programs that fetch give what a server would,
// from where the part that is there ends.
type server struct {
	*folder.Machine
	programs []string
	text     string
	cutAt    int // how much comes before the cable is cut; 0 for all
	noParts  bool
	calls    []machine.Command
	leads    map[string]string // where addresses lead
}

func (s *server) Look(program string) bool { return slices.Contains(s.programs, program) }

func (s *server) Run(_ context.Context, c machine.Command) (machine.Output, error) {
	s.calls = append(s.calls, c)
	to := target(c)
	if to == "/dev/null" { // a look at where it leads
		if to := s.leads[c.Args[len(c.Args)-1]]; to != "" {
			return machine.Output{Stdout: "302 " + to}, nil
		}
		return machine.Output{Stdout: "206 "}, nil
	}
	d, err := s.Dir(path.Dir(to))
	if err != nil {
		return machine.Output{}, err
	}
	defer d.Close()
	have := ""
	if data, err := machine.ReadFile(s, to); err == nil {
		have = string(data)
	}
	if have != "" && s.noParts {
		return machine.Output{Code: 33}, nil
	}
	whole, code := s.text, 0
	if s.cutAt > 0 {
		whole, code = s.text[:s.cutAt], 18
	}
	d.Remove(path.Base(to))
	f, err := d.Create(path.Base(to), 0o600, -1, -1)
	if err != nil {
		return machine.Output{}, err
	}
	_, err = f.Write([]byte(have + whole[min(len(have), len(whole)):]))
	return machine.Output{Code: code}, errors.Join(err, f.Close())
}

// target is the file that a program writes: behind -o or -O, or apt-helper's last word.
func target(c machine.Command) string {
	for i, word := range c.Args {
		if (word == "-o" || word == "-O") && !strings.HasSuffix(c.Args[0], "apt-helper") {
			return c.Args[i+1]
		}
	}
	return c.Args[len(c.Args)-1]
}

// tides has the SHA-256 below.
const (
	tides    = "made up: tide-tables.txt\n"
	tidesSum = "f589fa43fe9f5ff9ccbe84df2ccd0b4e6e4a5b73db017a1b1b5e70d964fff686"
	address  = "https://charts.example.org/tide-tables.txt"
)

func newServer(t *testing.T) (*server, *kind.Env) {
	t.Helper()
	h, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-01"})
	if err != nil {
		t.Fatal(err)
	}
	s := &server{Machine: h, programs: []string{"curl"}, text: tides}
	store, err := ledger.Open(h, plan.Run{ID: "0198-fetch", Project: "saltmarsh"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(store.Close)
	return s, &kind.Env{Machine: s, Store: store}
}

func task(attrs value.Attrs) plan.Task {
	return plan.Task{Ref: value.Ref{Kind: "download", Name: "/srv/a"}, Attrs: attrs}
}

// TestACutIsGoneOnWith keeps what came before a cut, and begins again only where
// the server knows nothing of parts or the part was another file's.
func TestACutIsGoneOnWith(t *testing.T) {
	s, env := newServer(t)
	want := task(value.Attrs{"sha256": tidesSum})
	s.cutAt = 10
	_, err := fetch.File(t.Context(), env, want, address)
	if err == nil || !strings.Contains(err.Error(), "curl failed (exit status 18)") {
		t.Fatalf("a cut gives %v", err)
	}
	s.cutAt = 0
	for name, arrange := range map[string]func(){
		"the rest": func() {}, "no parts": func() { s.noParts = true },
	} {
		arrange()
		at, err := fetch.File(t.Context(), env, want, address)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if data, _ := machine.ReadFile(env.Machine, at); string(data) != tides {
			t.Errorf("%s: it is %q", name, data)
		}
	}
	calls := len(s.calls)
	if _, err := fetch.File(t.Context(), env, want, address); err != nil || len(s.calls) != calls {
		t.Errorf("what is there whole was fetched again (%v)", err)
	}
	s.noParts, s.text = false, "another file, and longer than the one that is declared"
	other := task(value.Attrs{"sha256": strings.Repeat("0", 64)})
	at, err := fetch.File(t.Context(), env, other, address)
	if err == nil || !strings.Contains(err.Error(), "does not match the declared one") {
		t.Errorf("another file gives %v", err)
	}
	if data, err := machine.ReadFile(env.Machine, at); err == nil {
		t.Errorf("what nobody declared is kept: %q", data)
	}
}

// TestHeadersStayWhereTheyBelong: what is led to another host takes no header along.
func TestHeadersStayWhereTheyBelong(t *testing.T) {
	const elsewhere = "https://mirror.example.org/tides"
	for _, c := range []struct {
		leads map[string]string
		at    string // what is fetched in the end, or what is wrong
		sent  bool
	}{
		{nil, address, true},
		{map[string]string{address: address + "/2"}, address + "/2", true},
		{map[string]string{address: elsewhere}, elsewhere, false},
		{map[string]string{address: elsewhere, elsewhere: address + "/3"}, address + "/3", false},
		{map[string]string{address: address}, "too many redirects", false},
		{map[string]string{address: strings.Replace(elsewhere, "https", "http", 1)}, "is not encrypted", false},
	} {
		s, env := newServer(t)
		s.programs, s.leads = []string{"curl"}, c.leads
		_, err := fetch.File(t.Context(), env,
			task(value.Attrs{"sha256": tidesSum, "headers": map[string]any{"X-Token": value.NewSecret("tide")}}),
			address)
		last := s.calls[len(s.calls)-1]
		got := last.Args[len(last.Args)-1]
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, c.at) || err == nil && strings.Contains(last.Stdin, "tide") != c.sent {
			t.Errorf("%v: %s, sent %q", c.leads, got, last.Stdin)
		}
		for _, call := range s.calls {
			if strings.Contains(call.Args[len(call.Args)-1], "mirror") && call.Stdin != "" {
				t.Errorf("%v: the other host is sent %q", c.leads, call.Stdin)
			}
		}
	}
}

// TestProgramsThatFetch holds each to what others on the host may see of it.
func TestProgramsThatFetch(t *testing.T) {
	const helper = "/usr/lib/apt/apt-helper"
	secret := map[string]any{"Authorization": value.NewSecret(`Bearer "rip\tide"`), "Accept": "text/plain"}
	for _, c := range []struct {
		programs []string
		attrs    value.Attrs
		file     string // what /etc/environment holds
		want     string // of the command line, of its input and environment; or the error
	}{
		{[]string{"curl", "wget"}, nil, "", "curl -fsSL --proto =http,https --connect-timeout 30 --retry 3 -C - -o " +
			"PART -K - -- URL | | "},
		{[]string{"wget", helper}, nil, "", "wget -c -T 30 -O PART URL | | "},
		{[]string{helper}, nil, "", helper + " -o APT::Sandbox::User=root download-file URL PART | | "},
		{nil, nil, "", "error: cannot download https://charts.example.org/tide-tables.txt: neither curl nor wget " +
			"is installed on this host"},
		{[]string{"wget"}, value.Attrs{"headers": secret}, "", "error: cannot download " +
			"https://charts.example.org/tide-tables.txt: headers require curl, which hides them from other users " +
			"of the host"},
		{[]string{"curl"}, value.Attrs{"headers": secret}, "", "curl -fsS --proto =http,https --connect-timeout 30 " +
			"--retry 3 -C - " +
			"-o PART -K - -- URL | header = \"Accept: text/plain\"\nheader = \"Authorization: Bearer " +
			"\\\"rip\\\\tide\\\"\"\n | "},
		{[]string{"wget"}, nil, "PATH=/x\nexport https_proxy=\"http://192.0.2.9:3128\"\nNO_PROXY='a'\n",
			"wget -c -T 30 -O PART URL | | https_proxy=http://192.0.2.9:3128 NO_PROXY=a"},
		{[]string{"wget"}, value.Attrs{"proxy": "http://192.0.2.8:1"}, "https_proxy=x\n",
			"wget -c -T 30 -O PART URL | | http_proxy=http://192.0.2.8:1 https_proxy=http://192.0.2.8:1"},
	} {
		s, env := newServer(t)
		s.programs = c.programs
		if c.file != "" {
			d, err := s.Dir("/etc")
			if err != nil {
				t.Fatal(err)
			}
			f, err := d.Create("environment", 0o644, 0, 0)
			if err != nil {
				t.Fatal(err)
			}
			f.Write([]byte(c.file))
			f.Close()
			d.Close()
		}
		attrs := value.Attrs{"sha256": tidesSum}
		for k, v := range c.attrs {
			attrs[k] = v
		}
		at, err := fetch.File(t.Context(), env, task(attrs), address)
		got := ""
		if err != nil {
			got = "error: " + strings.TrimPrefix(problem.From(err).What, address+" cannot be fetched: ")
		} else {
			call := s.calls[len(s.calls)-1]
			line := strings.NewReplacer(at, "PART", address, "URL").Replace(strings.Join(call.Args, " "))
			got = fmt.Sprintf("%s | %s| %s", line, call.Stdin, strings.Join(call.Env, " "))
			if call.Stdin != "" {
				got = fmt.Sprintf("%s | %s | %s", line, call.Stdin, strings.Join(call.Env, " "))
			}
		}
		if got != c.want && !(strings.HasPrefix(c.want, "error") && strings.HasPrefix(got, c.want)) {
			t.Errorf("%v with %v\n got %q\nwant %q", c.programs, c.attrs, got, c.want)
		}
	}
}
