package ledger_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine/folder"
)

var (
	service = value.Ref{Kind: "service", Name: "tide"}
	conf    = value.Ref{Kind: "file", Name: "/etc/a:b"}
	first   = plan.Run{ID: "r1", Project: "saltmarsh", Who: "maren@desk"}
)

func host(t *testing.T) *folder.Machine {
	t.Helper()
	m, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-01"})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func open(t *testing.T, m *folder.Machine, run plan.Run) *ledger.Store {
	t.Helper()
	s, err := ledger.Open(m, run)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestWhatIsSavedIsThereAgain(t *testing.T) {
	m := host(t)
	s := open(t, m, first)
	s.Keep(plan.Task{Ref: conf}, first, true)
	s.AddPending(service, ledger.Pending{Action: "restart", Cause: conf, Boot: "b", Uptime: time.Second})
	s.AddPending(service, ledger.Pending{Action: "restart", Cause: conf, Boot: "b", Uptime: 2 * time.Second})
	if err := s.Save(); err != nil {
		t.Fatal(err)
	}
	s.Close()
	s = open(t, m, plan.Run{ID: "r2", Project: "saltmarsh"})
	defer s.Close()
	if e := s.Entries[conf]; e.Run != "r1" || e.Project != "saltmarsh" || e.Since.IsZero() {
		t.Errorf("the entry is %+v", e)
	}
	if d := s.Pending[service]; len(d) != 1 || d[0].Uptime != 2*time.Second {
		t.Errorf("the pending are %+v", d)
	}
	s.Forgive(conf, 3*time.Second)
	if len(s.Pending[service]) != 1 {
		t.Error("an older pending was forgiven")
	}
	s.Restarted(service)
	if len(s.Pending) != 0 {
		t.Errorf("after payment there is %v", s.Pending)
	}
	if info, _ := os.Stat(filepath.Join(m.Root, "var/lib/jadekettle/ledger.json")); info.Mode().Perm() != 0o600 {
		t.Errorf("the ledger has mode %v", info.Mode())
	}
}

func TestTheLockAndItsHolder(t *testing.T) {
	m := host(t)
	s := open(t, m, first)
	_, err := ledger.Open(m, plan.Run{ID: "r2"})
	var busy *ledger.BusyError
	if !errors.As(err, &busy) || busy.Holder.Who != "maren@desk" || time.Since(busy.Since) > time.Minute {
		t.Errorf("the second is reported %v (%+v)", err, busy)
	}
	s.Close()
	open(t, m, first).Close()
}

func TestALedgerThatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{"{": "no earlier version exists; move it away",
		`{"format": 99}`: "use a newer jadekettle"} {
		m := host(t)
		open(t, m, first).Close()
		os.WriteFile(filepath.Join(m.Root, "var/lib/jadekettle/ledger.json"), []byte(text), 0o600)
		if _, err := ledger.Open(m, first); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s gives %v", text, err)
		}
	}
}

// TestTheLedgerBefore counts where a ledger is broken, and where a worker was killed between the two steps in which
// one is written.
func TestTheLedgerBefore(t *testing.T) {
	for damage, said := range map[string]bool{"{": true, "{}": true, "": true, "gone": false} {
		m := host(t)
		for _, name := range []string{"/srv/a", "/srv/b"} {
			s := open(t, m, first)
			s.Keep(plan.Task{Ref: value.Ref{Kind: "dir", Name: name}}, first, true)
			if err := s.Save(); err != nil {
				t.Fatal(err)
			}
			s.Close()
		}
		at := filepath.Join(m.Root, "var/lib/jadekettle/ledger.json")
		if os.WriteFile(at, []byte(damage), 0o600); damage == "gone" {
			os.Remove(at)
		}
		s := open(t, m, first)
		if _, ok := s.Entries[value.Ref{Kind: "dir", Name: "/srv/a"}]; !ok || (s.Said != "") != said {
			t.Errorf("%q: it knows %v and says %q", damage, s.Entries, s.Said)
		}
		if err := s.Save(); err != nil {
			t.Fatal(err)
		}
		s.Close()
		if s = open(t, m, first); len(s.Entries) != 1 || s.Said != "" {
			t.Errorf("%q: then it knows %v and says %q", damage, s.Entries, s.Said)
		}
		s.Close()
	}
}

func TestTheJournalKeepsWhatWasNotDelivered(t *testing.T) {
	m := host(t)
	s := open(t, m, first)
	s.Begin(nil)
	s.Note(first, []plan.Result{{Ref: conf, Status: plan.Changed}, {Ref: service, Status: plan.Unchanged}})
	s.Close()
	journal := filepath.Join(m.Root, "var/lib/jadekettle/journal-saltmarsh.jsonl")
	f, _ := os.OpenFile(journal, os.O_APPEND|os.O_WRONLY, 0)
	f.WriteString(`{"run":{"run":"r1"},"resul`) // killed while it wrote
	f.Close()

	s = open(t, m, plan.Run{ID: "other", Project: "harbour"})
	if got, err := s.Collect(); len(got) != 0 || err != nil {
		t.Errorf("another project collects %v, %v", got, err)
	}
	s.Close()

	second := plan.Run{ID: "r2", Project: "saltmarsh"}
	s = open(t, m, second)
	got, err := s.Collect()
	if err != nil || len(got) != 1 || got[0].Run.ID != "r1" || len(got[0].Results) != 2 {
		t.Fatalf("collected %+v, %v", got, err)
	}
	if s.Entries[conf].Run != "r1" {
		t.Error("the ledger did not learn what the journal knows")
	}
	s.Begin(got)
	s.Note(second, []plan.Result{{Ref: conf, Status: plan.Unchanged}})
	s.Close()

	s = open(t, m, plan.Run{ID: "r3", Project: "saltmarsh"})
	defer s.Close()
	if got, _ := s.Collect(); len(got) != 2 {
		t.Errorf("after two broken runs %d are collected", len(got))
	}
	s.Delivered()
	if got, _ := s.Collect(); len(got) != 0 {
		t.Errorf("after delivery %d are collected", len(got))
	}
}

// ordinary is a machine as an account sees it that is not root.
type ordinary struct{ *folder.Machine }

func (ordinary) UID() int     { return 1000 }
func (ordinary) Home() string { return "/home/maren" }

// TestHomesThatSeveralMachinesHave keeps what two machines remember apart though
// they have one home, and leaves what is in a home of its own where it is.
func TestHomesThatSeveralMachinesHave(t *testing.T) {
	for mounts, want := range map[string]string{
		"archive:/home /home nfs4 rw 0 0\n/dev/sda1 / ext4 rw 0 " +
			"0\n": "/home/maren/.local/state/jadekettle/a1b2",
		"/dev/sda1 / ext4 rw 0 0\narchive:/pool /home/mar nfs4 rw 0 " +
			"0\n": "/home/maren/.local/state/jadekettle",
		"archive:/home /home nfs4 rw 0 0\n/dev/sdb1 /home/maren ext4 rw 0 " +
			"0\nbroken\n": "/home/maren/.local/state/jadekettle",
	} {
		m := host(t)
		for name, text := range map[string]string{"proc/mounts": mounts, "etc/machine-id": "a1b2\n"} {
			os.Remove(filepath.Join(m.Root, name))
			if err := os.WriteFile(filepath.Join(m.Root, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if got := ledger.Folder(ordinary{m}); got != want {
			t.Errorf("with %q the store is %s", mounts, got)
		}
	}
	if got := ledger.Folder(host(t)); got != "/var/lib/jadekettle" {
		t.Errorf("root's is %s", got)
	}
}

// TestLedgersThatAreNone are refused in words that fit.
func TestLedgersThatAreNone(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		mode os.FileMode
		says string
	}{
		"empty table":  {"{}", 0o600, "it has no format"},
		"newer":        {`{"format": 2}`, 0o600, "has format 2"},
		"broken off":   {`{"format": 1, "entr`, 0o600, "unexpected end"},
		"of everybody": {`{"format": 1}`, 0o666, "users other than root can write to it"},
		"fine":         {`{"format": 1}`, 0o600, ""},
	} {
		m := host(t)
		open(t, m, first).Close()
		at := filepath.Join(m.Root, "var/lib/jadekettle/ledger.json")
		if err := errors.Join(os.WriteFile(at, []byte(c.text), c.mode), os.Chmod(at, c.mode)); err != nil {
			t.Fatal(err)
		}
		s, err := ledger.Open(m, first)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
		if err == nil {
			s.Close()
		}
	}
}

// TestAJournalThatComesBack after a power cut, since its removal was not on the disk, takes nothing
// from what the ledger knows of that run; and of a run that was killed what becomes of a thing stays.
func TestAJournalThatComesBack(t *testing.T) {
	m := host(t)
	run := func(id string) plan.Run { return plan.Run{ID: id, Project: "saltmarsh"} }
	task := plan.Task{Ref: conf, OnRemoval: "remove", Attrs: value.Attrs{"mode": "0644"}}
	result := []plan.Result{{Ref: conf, Status: plan.Changed}}
	for _, c := range []struct {
		journal string
		last    bool
	}{{"r1", true}, {"r2", true}, {"r3", false}} {
		s := open(t, m, run("r2"))
		s.Keep(task, run("r2"), true)
		if err := s.Save(); err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(s.Begin(nil), s.Note(run(c.journal), result)); err != nil {
			t.Fatal(err)
		}
		s.Close()
		s = open(t, m, run("r4"))
		if _, err := s.Collect(); err != nil {
			t.Fatal(err)
		}
		if e := s.Entries[conf]; e.OnRemoval != "remove" || (e.Last != nil) != c.last {
			t.Errorf("the journal of %s leaves %+v", c.journal, e)
		}
		s.Delivered()
		s.Close()
	}
}
