package guard_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/guard"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine/folder"
)

// TestAGuardRestores sets a guard, changes what it is for, and has it put back, lifted, or found by the next
// run, whose worker follows one that was killed.
func TestAGuardRestores(t *testing.T) {
	ref := value.Ref{Kind: "file", Name: "/etc/ssh/sshd_config"}
	before := map[string]string{"etc/ssh/sshd_config": "0640 Port 22\n", "etc/ssh/more/a": "0600 one\n"}
	changed := map[string]string{"etc/ssh/sshd_config": "0644 Port 2222\n", "etc/ssh/more/b": "0644 two\n",
		"etc/ssh/new": "0644 new\n"}
	for name, c := range map[string]struct {
		end  func(t *testing.T, k *guard.Keeper, m *folder.Machine)
		want map[string]string
	}{
		"put back": {func(t *testing.T, k *guard.Keeper, _ *folder.Machine) {
			if refs, err := k.PutBack(t.Context()); err != nil || len(refs) != 1 || refs[0] != ref {
				t.Errorf("it puts back %v (%v)", refs, err)
			}
		}, before},
		"lifted": {func(t *testing.T, k *guard.Keeper, _ *folder.Machine) { k.Lift(t.Context(), true) }, changed},
		"restore by the timer": {func(t *testing.T, k *guard.Keeper, m *folder.Machine) {
			if err := guard.Main(t.Context(), m, token(t, m)+":0"); err != nil {
				t.Error(err)
			}
			if g, found := guard.Settle(t.Context(), k.Env); !found || len(g.Refs) != 1 || g.Wrong != "" {
				t.Errorf("the next run is reported %+v", g)
			}
		}, before},
		"by a timer of before": {func(t *testing.T, k *guard.Keeper, m *folder.Machine) {
			if err := guard.Main(t.Context(), m, "SOMEBODYELSE:0"); err != nil {
				t.Error(err)
			}
			k.Lift(t.Context(), true)
		}, changed},
		"the next run gets in": {func(t *testing.T, k *guard.Keeper, _ *folder.Machine) {
			if g, found := guard.Settle(t.Context(), k.Env); found {
				t.Errorf("it is informed that %v were put back", g.Refs)
			}
		}, changed},
	} {
		t.Run(name, func(t *testing.T) {
			m, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-01"})
			if err != nil {
				t.Fatal(err)
			}
			put(t, m, before)
			run := plan.Run{ID: "r", Project: "tide"}
			s, err := ledger.Open(m, run)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			k := &guard.Keeper{Env: &kind.Env{Machine: m, Run: run, Store: s}, Login: "ops", Wait: time.Minute}
			if err := k.Arm(t.Context(), []guard.Change{{Ref: ref, Scope: kinds.Scope{
				Paths: []string{"/etc/ssh/new", "/etc/ssh/more/b"}, Trees: []string{"/etc/ssh"}}}}); err != nil {
				t.Fatal(err)
			}
			os.RemoveAll(filepath.Join(m.Root, "etc/ssh"))
			put(t, m, changed)
			if err := k.Made(t.Context()); err != nil {
				t.Fatal(err)
			}
			c.end(t, k, m)
			if got := current(t, m); !maps.Equal(got, c.want) {
				t.Errorf("there is %v, want %v", got, c.want)
			}
			for _, left := range []string{"guard.json", "guard-restored.json"} {
				if _, err := os.Stat(filepath.Join(m.Root, "var/lib/jadekettle", left)); err == nil {
					t.Errorf("%s is left", left)
				}
			}
		})
	}
}

// put writes files, each with its mode before its content.
func put(t *testing.T, m *folder.Machine, files map[string]string) {
	t.Helper()
	for name, what := range files {
		p := filepath.Join(m.Root, name)
		var mode os.FileMode
		fmt.Sscanf(what, "%o", &mode)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(what[5:]), mode); err != nil {
			t.Fatal(err)
		}
		os.Chmod(p, mode)
	}
}

// is gives what is below /etc/ssh, as put takes it.
func current(t *testing.T, m *folder.Machine) map[string]string {
	t.Helper()
	out := map[string]string{}
	filepath.Walk(filepath.Join(m.Root, "etc/ssh"), func(p string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			data, _ := os.ReadFile(p)
			name, _ := filepath.Rel(m.Root, p)
			out[name] = fmt.Sprintf("%04o %s", info.Mode().Perm(), data)
		}
		return err
	})
	return out
}

// token is that of the guard which is set.
func token(t *testing.T, m *folder.Machine) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(m.Root, "var/lib/jadekettle/guard.json"))
	if err != nil {
		t.Fatal(err)
	}
	var g guard.Guard
	if err := json.Unmarshal(text, &g); err != nil {
		t.Fatal(err)
	}
	return g.Token
}
