package service_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service/backend"
	"jadekettle/internal/host/kinds/service/openrc"
	"jadekettle/internal/host/kinds/service/runit"
	"jadekettle/internal/host/kinds/service/sysv"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/scripted"
)

// host is one whose service managers are tried.
type host struct{ *scripted.Machine }

func newHost(t *testing.T, files ...string) host {
	t.Helper()
	return host{scripted.New(t, files...)}
}

// did acts and gives the commands that were run, or the error.
func (m host) did(t *testing.T, sm backend.Manager, a backend.Action) string {
	t.Helper()
	return m.Did(func(env *kind.Env) error { return sm.Act(t.Context(), env, a, "ebb", 20*time.Second) })
}

// is shows a service in a few words.
func (m host) current(t *testing.T, sm backend.Manager, name string) string {
	t.Helper()
	all, err := sm.Show(t.Context(), m, []string{name})
	if err != nil {
		t.Fatal(err)
	}
	s := all[name]
	return fmt.Sprintf("there %t, running %t, failed %t, boot %t, %s", s.There, s.Running, s.Failed, s.Boot, s.Phase)
}

type acts map[backend.Action]string

func (m host) acts(t *testing.T, sm backend.Manager, want acts) {
	t.Helper()
	for a, line := range want {
		if got := m.did(t, sm, a); got != line && (!strings.HasPrefix(line, "error") || !strings.HasPrefix(got, line)) {
			t.Errorf("%s, action %d: %q, want %q", sm.Name(), a, got, line)
		}
	}
}

// TestReports reads what services log where their managers keep it.
func TestReports(t *testing.T) {
	long := strings.Repeat("the tide is out\n", 2000) + "cannot read the gauge\n"
	m := newHost(t)
	m.WriteFile("/var/log/ebb/current", long)
	m.WriteFile("/etc/init.d/ebb", "#!/sbin/openrc-run\noutput_log=\"/var/log/${RC_SVCNAME}.log\"\n")
	m.WriteFile("/var/log/ebb.log", "no such port\n")
	since := m.Now().Add(-time.Hour)
	for want, sm := range map[string]backend.Manager{"cannot read the gauge": runit.Manager{},
		"no such port": openrc.Manager{}, "": sysv.Manager{}} {
		r := sm.Report(t.Context(), m, "ebb", since)
		if !strings.HasSuffix(r.Lines, want) || strings.Count(r.Lines, "\n") >= backend.MostLines || want == "" &&
			r.Lines != "" {
			t.Errorf("%s reports %q", sm.Name(), r.Lines)
		}
		if r := sm.Report(t.Context(), m, "ebb", m.Now().Add(time.Hour)); r.Lines != "" {
			t.Errorf("%s reports old lines: %q", sm.Name(), r.Lines)
		}
	}
}

func TestOpenRC(t *testing.T) {
	sm := openrc.Manager{}
	m := newHost(t, "/etc/init.d/ebb", "/etc/runlevels/default/ebb", "/etc/runlevels/boot/ebb",
		"/etc/runlevels/boot/net")
	m.Programs = []string{"rc-service"}
	if sm.Runs(m) {
		t.Error("it is at work where it never started")
	}
	m.WriteFile("/run/openrc/started/ebb", "")
	if !sm.Runs(m) {
		t.Error("it is not found at work")
	}
	if got := m.current(t, sm, "ebb"); got != "there true, running true, failed false, boot true, started" {
		t.Error(got)
	}
	for code, want := range map[int]string{3: "failed false, boot true, stopped", 32: "failed true, boot true, crashed",
		1: "failed false, boot true, in an unknown state"} {
		m.Answers["rc-service -- ebb status"] = machine.Output{Code: code}
		if got := m.current(t, sm, "ebb"); got != "there true, running false, "+want {
			t.Errorf("with %d: %s", code, got)
		}
	}
	if got := m.current(t, sm, "siren"); got != "there false, running false, failed false, boot false, " {
		t.Error(got)
	}
	m.Answers["rc-service -- ebb restart"] = machine.Output{Code: 1, Stdout: " * Stopping ebb ...\n * ERROR: ebb " +
		"failed to start\n"}
	m.acts(t, sm, acts{backend.Start: "rc-service -- ebb start", backend.Stop: "rc-service -- ebb stop",
		backend.Reload: "rc-service -- ebb reload", backend.Enable: "rc-update add -- ebb default",
		backend.Disable: "rc-update del -- ebb boot default",
		backend.Restart: "error: rc-service failed (exit status 1): ebb failed to start",
		backend.Mask:    "error: OpenRC cannot mask services"})
	if all := sm.Survey(t.Context(), m, 10); !all["ebb"].Running || !all["ebb"].Boot || len(all) != 1 {
		t.Errorf("the survey has %v", all)
	}
}

func TestRunit(t *testing.T) {
	sm := runit.Manager{}
	m := newHost(t, "/etc/sv/ebb/run", "/etc/service/")
	m.Programs = []string{"sv"}
	if sm.Runs(m) {
		t.Error("it is at work where nothing watches")
	}
	if got := m.current(t, sm, "ebb"); got != "there true, running false, failed false, boot false, not supervised" {
		t.Error(got)
	}
	if got := m.did(t, sm, backend.Start); !strings.HasPrefix(got, "error: /etc/service is not supervised") {
		t.Errorf("started where nothing watches: %s", got)
	}
	m.WriteFile("/etc/sv/ebb/supervise/ok", "")
	m.Answers["sv status /etc/service/ebb"] = machine.Output{Stdout: "run: /etc/service/ebb: (pid 79) 1s\n"}
	if got := m.current(t, sm, "ebb"); got != "there true, running true, failed false, boot false, run" {
		t.Errorf("started, and not to be at boot: %s", got)
	}
	m.acts(t, sm, acts{backend.Start: "sv -w 20 start /etc/service/ebb",
		backend.Restart: "sv -w 20 restart /etc/service/ebb",
		backend.Reload:  "sv -w 20 reload /etc/service/ebb", backend.Mask: "error: runit cannot mask services"})
	if m.did(t, sm, backend.Enable) != "" || !strings.Contains(m.current(t, sm, "ebb"), "boot true") {
		t.Error("it does not start at boot once it was enabled")
	}
	if m.did(t, sm, backend.Disable) != "" || !strings.Contains(m.current(t, sm, "ebb"), "boot false") {
		t.Error("it starts at boot once it was disabled")
	}
	if m.did(t, sm, backend.Disable) != "" {
		t.Error("disabled twice is an error")
	}
	m.Answers["sv status /etc/service/ebb"] = machine.Output{Code: 3, Stdout: "down: /etc/service/ebb: 3s, " +
		"normally up\n"}
	if got := m.current(t, sm, "ebb"); got != "there true, running false, failed false, boot false, down" {
		t.Error(got)
	}
}

func TestSysV(t *testing.T) {
	sm := sysv.Manager{}
	m := newHost(t, "/etc/init.d/ebb", "/etc/rc2.d/S20ebb", "/etc/rc0.d/K20ebb", "/etc/rc2.d/K01neap",
		"/etc/init.d/neap")
	if !sm.Runs(m) {
		t.Error("its scripts are not found")
	}
	for code, want := range map[int]string{0: "running true, failed false, boot true, running",
		1: "running false, failed true, boot true, dead, with a stale pid file",
		3: "running false, failed false, boot true, stopped",
		4: "running false, failed false, boot true, in an unknown state"} {
		m.Answers["/etc/init.d/ebb status"] = machine.Output{Code: code}
		if got := m.current(t, sm, "ebb"); got != "there true, "+want {
			t.Errorf("with %d: %s", code, got)
		}
	}
	m.acts(t, sm, acts{backend.Start: "/etc/init.d/ebb start", backend.Restart: "/etc/init.d/ebb restart",
		backend.Enable: "error: enabling a service at boot requires",
		backend.Unmask: "error: this host cannot mask"})
	m.Programs = []string{"chkconfig"}
	m.acts(t, sm, acts{backend.Enable: "chkconfig ebb on", backend.Disable: "chkconfig ebb off"})
	m.Programs = []string{"chkconfig", "update-rc.d"}
	m.acts(t, sm, acts{backend.Enable: "update-rc.d ebb defaults; update-rc.d ebb enable",
		backend.Disable: "update-rc.d ebb disable"})
	if all := sm.Survey(t.Context(), m, 10); !all["ebb"].Boot || all["neap"].Boot || all["ebb"].Running {
		t.Errorf("the survey has %v", all)
	}
}

// TestALaterStartSettlesWhatIsPending holds for managers that know a start only by the
// time of a file.
func TestALaterStartSettlesWhatIsPending(t *testing.T) {
	for _, sm := range []backend.Manager{openrc.Manager{}, runit.Manager{}, sysv.Manager{}} {
		for _, c := range []struct {
			since time.Duration
			boot  string
			paid  bool
		}{{11 * time.Second, "one", true}, {9 * time.Second, "one", false}, {0, "one", false}, {0, "two", true}} {
			d := ledger.Pending{Boot: "one", Uptime: 10 * time.Second}
			if got := sm.Restarted(backend.State{Since: c.since}, d, c.boot); got != c.paid {
				t.Errorf("%s, started at %v in boot %s: paid %t", sm.Name(), c.since, c.boot, got)
			}
		}
	}
}
