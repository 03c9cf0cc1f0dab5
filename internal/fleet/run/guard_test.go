package run_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
)

// TestWhatCutsUsOffIsPutBack changes how people get in, so that nobody does any more, or
// pulls the cable meanwhile: what was there is put back, and the task has failed with that
// story. Other changes of the run stay.
func TestWhatCutsUsOffIsPutBack(t *testing.T) {
	for name, cutsOff := range map[string]func(b *bench){
		"nobody gets in":      func(b *bench) { b.host().NoSudo = true },
		"the cable is pulled": func(b *bench) { b.host().Cut() },
		"all is well":         func(*bench) {},
	} {
		b := newBench(t, "gauge-01")
		b.guard = 2 * time.Minute // so that a busy disk is not a reason to put things back
		if name == "nobody gets in" {
			b.guard = 3 * time.Second
		}
		b.put("etc/ssh/sshd_config", "Port 22\n")
		b.put("etc/motd", "old\n")
		b.manifest("[file.\"/etc/motd\"]\ncontent = \"new\\n\"\n[file.\"/etc/ssh/sshd_config\"]\ncontent = \"Port " +
			"2222\\n\"\nmode = \"0600\"\n[dir.\"/srv/tide\"]\nafter = [\"file /etc/ssh/sshd_config\"]\n")
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				if op == "rename" && what == "/etc/ssh/sshd_config" &&
					!strings.Contains(b.on("etc/ssh/sshd_config"), "2222") {
					cutsOff(b)
				}
				return nil
			}}
		}
		h := b.one(false)
		b.host().Wait()
		b.host().Wrap, b.host().NoSudo = nil, false
		story := ""
		switch name {
		case "all is well":
			wants(t, h, "file /etc/motd changed", "file /etc/ssh/sshd_config changed", "dir /srv/tide changed")
			b.settled()
			continue
		case "nobody gets in":
			wants(t, h, "file /etc/motd changed", "file /etc/ssh/sshd_config failed", "dir /srv/tide blocked by "+
				"file /etc/ssh/sshd_config")
			story = h.Tasks[1].Message
		default:
			if h.State != record.Lost {
				t.Errorf("%s: the host is %s", name, h.State)
			}
			next := b.one(true)
			for _, c := range next.Collected {
				for _, r := range c.Tasks {
					if r.Status == plan.Failed {
						story = r.Message
					}
				}
			}
		}
		if !strings.Contains(story, "restored the previous state: file /etc/ssh/sshd_config") {
			t.Errorf("%s: the story is %q", name, story)
		}
		if got := b.on("etc/ssh/sshd_config"); got != "Port 22\n" || b.on("etc/motd") != "new\n" {
			t.Errorf("%s: the files hold %q and %q", name, got, b.on("etc/motd"))
		}
		if b.on("var/lib/jadekettle/guard.json") != "" || b.on("etc/systemd/system/jadekettle-guard.service") != "" {
			t.Errorf("%s: the guard is left behind", name)
		}
		noStrays(t, b)
	}
}

// TestAServerThatIsKeptBusy refuses no login: what was there before does not come back by that, as long as
// the host's own look finds its settings valid.
func TestAServerThatIsKeptBusy(t *testing.T) {
	for text, stays := range map[string]bool{"PermitEmptyPasswords no\n": true, "broken\n": false} {
		b := newBench(t, "gauge-01")
		b.guard = time.Second
		b.put("etc/ssh/sshd_config", "PermitEmptyPasswords yes\n")
		b.manifest("[file.\"/etc/ssh/sshd_config\"]\ncontent = \"" + strings.TrimSpace(text) +
			"\\n\"\nmode = \"0600\"\n")
		b.host().Wrap = func(m machine.Machine) machine.Machine {
			return faulty{m, func(op, what string) error {
				if op == "rename" && what == "/etc/ssh/sshd_config" {
					b.host().Full.Store(true)
				}
				return nil
			}}
		}
		h := b.one(false)
		b.host().Full.Store(false)
		wants(t, h, "file /etc/ssh/sshd_config failed")
		if got := b.on("etc/ssh/sshd_config") == text; got != stays ||
			strings.Contains(h.Tasks[0].Message, "The change stays") != stays {
			t.Errorf("%q stays: %v, %s", text, got, h.Tasks[0].Message)
		}
		if b.on("var/lib/jadekettle/guard.json") != "" {
			t.Error("the guard is left behind")
		}
	}
}

// TestNoGuardOverOneself: a machine that applies to itself has nobody who proves that one still gets in.
// It says so before the change, and claims no guard.
func TestNoGuardOverOneself(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.put("etc/ssh/sshd_config", "Port 22\n")
	b.manifest("[file.\"/etc/motd\"]\ncontent = \"new\\n\"\n[file.\"/etc/ssh/sshd_config\"]\ncontent = \"Port " +
		"2222\\n\"\nmode = \"0600\"\n")
	for _, preview := range []bool{true, false} {
		f := b.fleet()
		f.Guard, f.Here = time.Minute, true
		h := f.Run(t.Context(), f.Plans.Project.Inventory.Hosts, b.id(preview))[0]
		wants(t, h, "file /etc/motd changed", "file /etc/ssh/sshd_config changed")
		if got := changes(h, 1); !strings.Contains(got, "guard:  -> none: no other machine can prove") ||
			strings.Contains(changes(h, 0), "guard") {
			t.Errorf("preview %v: it does not say so:\n%s", preview, got)
		}
	}
	if b.on("etc/ssh/sshd_config") != "Port 2222\n" || b.on("var/lib/jadekettle/guard.json") != "" {
		t.Error("a guard was set")
	}
}

// TestAJumpHostProves: over a machine that applies to itself there is a guard where one gets in over another
// machine, before the change and after it.
func TestAJumpHostProves(t *testing.T) {
	for name, c := range map[string]struct {
		fails int // from which try on
		want  string
		guard string
	}{
		"it leads in": {99, "file /etc/ssh/sshd_config changed", ""},
		"it never did": {0, "file /etc/ssh/sshd_config changed",
			"guard:  -> none: no other machine can prove"},
		"it did before the change": {1, "file /etc/ssh/sshd_config failed", ""},
	} {
		b := newBench(t, "gauge-01")
		b.put("etc/ssh/sshd_config", "Port 22\n")
		b.manifest("[file.\"/etc/ssh/sshd_config\"]\ncontent = \"Port 2222\\n\"\nmode = \"0600\"\n")
		f := b.fleet()
		f.Guard, f.Here = 2*time.Second, true
		f.Plans.Project.Inventory.Hosts[0].Connect.Jump = "gauge-02"
		tries := 0
		f.Around = func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			if tries++; tries > c.fails {
				return nil, errors.New("the gate is shut")
			}
			return f.Open(ctx, h, first)
		}
		h := f.Run(t.Context(), f.Plans.Project.Inventory.Hosts, b.id(false))[0]
		wants(t, h, c.want)
		if got := changes(h, 0); strings.Contains(got, "no other machine") != (c.guard != "") ||
			!strings.Contains(got, c.guard) {
			t.Errorf("%s: it says of the guard:\n%s", name, got)
		}
		if got, failed := b.on("etc/ssh/sshd_config"), strings.HasSuffix(c.want,
			"failed"); (got == "Port 22\n") != failed {
			t.Errorf("%s: the file holds %q", name, got)
		}
	}
}

// TestAGuardIsOverOnce: a worker that is killed when it has put things back, and before it
// could say that the guard is over, leaves nothing that would put them back again.
func TestAGuardIsOverOnce(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[file.\"/etc/motd\"]\ncontent = \"new\\n\"\n")
	b.run(false)
	const guard = `{"token":"t","project":"saltmarsh","run":"r","refs":["file /etc/motd"],"begun":true,` +
		`"files":[{"path":"/etc/motd","type":0,"mode":420,"uid":0,"gid":0,"data":"b2xkCg=="}]}`
	for _, name := range []string{"guard.json", "guard-restored.json"} {
		p := filepath.Join(b.host().Root, "var/lib/jadekettle", name)
		if err := os.WriteFile(p, []byte(guard), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if h := b.one(false); len(h.Collected) != 1 || b.on("var/lib/jadekettle/guard.json") != "" {
		t.Errorf("it shows %+v, and the guard is there: %q", h.Collected, b.on("var/lib/jadekettle/guard.json"))
	}
	if h := b.one(false); len(h.Collected) != 0 || b.on("etc/motd") != "new\n" {
		t.Errorf("then it shows %+v, and the file holds %q", h.Collected, b.on("etc/motd"))
	}
}

// TestWhatGuardsKeep cuts us off in ways that take more than one file: what was there comes back whole, and nothing
// else does; nothing is reported as changed which is not.
func TestWhatGuardsKeep(t *testing.T) {
	const sshd, conf = "etc/ssh/sshd_config", "etc/ssh/sshd_config.d/tide.conf"
	restart := "[service.ssh]\nrunning = true\nrestart_on = [\"file /etc/ssh/sshd_config\"]\n"
	file := func(path, content string) string {
		return "[file.\"/" + path + "\"]\ncontent = \"" + content + "\\n\"\n"
	}
	for name, c := range map[string]struct {
		first    string // what is applied before, while nothing cuts us off; killed before a service is restarted
		declared string
		cut      string // the step at which nobody gets in any more: an operation and what it is about
		want     string
		stays    map[string]string // files afterwards
	}{
		"a folder goes": {declared: "[dir.\"/etc/ssh/sshd_config.d\"]\nabsent = true\nwith_contents = true\n",
			cut:  "remove /etc/ssh/sshd_config.d",
			want: "dir /etc/ssh/sshd_config.d failed", stays: map[string]string{conf: "MaxSessions 4\n",
				"etc/ssh/sshd_config.d/deep/x": "x\n"}},
		"a folder is made another": {declared: "[dir.\"/etc/ssh/sshd_config.d\"]\ncopy = \"confs\"\nonly_declared " +
			"= true\n",
			cut: "remove /etc/ssh/sshd_config.d", want: "dir /etc/ssh/sshd_config.d failed",
			stays: map[string]string{conf: "MaxSessions 4\n", "etc/ssh/sshd_config.d/deep/x": "x\n",
				"etc/ssh/sshd_config.d/new.conf": ""}},
		"the next run has it read": {first: file(sshd, "Port 2222") + restart,
			declared: file(sshd, "Port 2222") + restart,
			cut:      "run systemctl --no-ask-password restart -- ssh.service",
			want:     "file /etc/ssh/sshd_config unchanged\nservice ssh failed",
			stays:    map[string]string{sshd: "Port 22\n"}},
		"it cannot be read": {declared: file(sshd, "broken") + restart, want: "file /etc/ssh/sshd_config failed\n" +
			"service ssh failed",
			stays: map[string]string{sshd: "Port 22\n"}},
		"it cannot be read at the next start": {declared: file(sshd, "broken"),
			want:  "file /etc/ssh/sshd_config failed",
			stays: map[string]string{sshd: "Port 22\n"}},
		"what was proven stays": {declared: file(sshd, "Port 23") + file("etc/sudoers.d/tide", "# ebb") +
			file("etc/pam.d/tide", "# flood") +
			"after = [\"file /etc/sudoers.d/tide\"]\n", cut: "rename /etc/pam.d/tide",
			want:  "file /etc/ssh/sshd_config changed\nfile /etc/sudoers.d/tide changed\nfile /etc/pam.d/tide failed",
			stays: map[string]string{sshd: "Port 23\n", "etc/sudoers.d/tide": "# ebb\n", "etc/pam.d/tide": ""}},
	} {
		b := newBench(t, "gauge-01")
		b.guard = 2 * time.Second
		for path, text := range map[string]string{sshd: "Port 22\n", conf: "MaxSessions 4\n",
			"etc/ssh/sshd_config.d/deep/x": "x\n"} {
			b.put(path, text)
		}
		b.write("manifests/confs/new.conf", "x\n")
		hook := func(do func() error) {
			b.host().Wrap = func(m machine.Machine) machine.Machine {
				return faulty{m, func(op, what string) error {
					if strings.HasPrefix(op+" "+what, c.cut) && c.cut != "" {
						return do()
					}
					return nil
				}}
			}
		}
		if c.first != "" {
			b.manifest(c.first)
			hook(func() error { return errKilled })
			b.one(false)
			b.host().Wait()
		}
		b.manifest(c.declared)
		hook(func() error { b.host().NoSudo = true; return nil })
		h := b.one(false)
		b.host().Wait()
		b.host().Wrap, b.host().NoSudo = nil, false
		if got := strings.TrimSpace(statuses(h)); got != c.want {
			t.Errorf("%s: it shows\n%s\nwant\n%s\n%+v", name, got, c.want, h.Tasks)
		}
		for path, want := range c.stays {
			if got := b.on(path); got != want {
				t.Errorf("%s: %s holds %q, want %q", name, path, got, want)
			}
		}
		noStrays(t, b)
	}
}

// TestThePackageOfTheDoor comes back when nobody gets in without it, and does not go along with another.
func TestThePackageOfTheDoor(t *testing.T) {
	b := newBench(t)
	b.guard = 2 * time.Second
	if _, err := b.sim.Add(folder.Spec{Name: "gauge-01", Lenient: true, Packages: []string{"openssh-server=9.2-1"},
		Available: []string{"openssh-server=9.2-1"}}); err != nil {
		t.Fatal(err)
	}
	b.write("hosts.toml", "[connect]\nelevate = \"sudo\"\n[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n"+
		"[host.gauge-01]\n")
	b.manifest("[package.openssh-server]\nabsent = true\n")
	b.host().Wrap = func(m machine.Machine) machine.Machine {
		return faulty{m, func(op, what string) error {
			if op == "run" && strings.Contains(what, "remove") && !strings.Contains(what, "--simulate") &&
				!strings.Contains(what, " -s ") {
				b.host().NoSudo = true
			}
			return nil
		}}
	}
	h := b.one(false)
	b.host().Wait()
	b.host().Wrap, b.host().NoSudo = nil, false
	wants(t, h, "package openssh-server failed")
	if m := h.Tasks[0].Message; !strings.Contains(m, "restored the previous state: package openssh-server") {
		t.Errorf("it says %s", m)
	}
	b.manifest("[package.openssh-server]\n")
	wants(t, b.one(true), "package openssh-server unchanged")
	b.manifest("[package.openssh-server]\nabsent = true\n")
	wants(t, b.one(false), "package openssh-server changed") // another way in is left
}
