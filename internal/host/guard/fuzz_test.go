package guard_test

import (
	"os"
	"path/filepath"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/host/guard"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine/folder"
)

// FuzzWhatAGuardHolds: whatever was written down of one, the next run settles it, and puts nothing
// back outside of the host.
func FuzzWhatAGuardHolds(f *testing.F) {
	f.Add(`{"project":"tide","run":"x","token":"AAAA","made":true,`+
		`"files":[{"path":"/etc/ssh/sshd_config","there":true,"data":"UG9ydCAyMg=="}]}`, false)
	f.Add(`{"begun":true,"token":"../../x","files":[{"path":"../../etc/x"},{"path":""}]}`, false)
	f.Add(`{"refs":["x"],"wrong":"tide"}`, true)
	f.Add("[]", true)
	f.Fuzz(func(t *testing.T, text string, restored bool) {
		outside := t.TempDir()
		root := filepath.Join(outside, "host")
		if err := os.Mkdir(root, 0o755); err != nil {
			t.Fatal(err)
		}
		m, err := folder.New(root, folder.Spec{Name: "gauge-01"})
		if err != nil {
			t.Fatal(err)
		}
		run := plan.Run{ID: "r", Project: "tide"}
		s, err := ledger.Open(m, run)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		name := map[bool]string{true: "guard-restored.json", false: "guard.json"}[restored]
		if err := os.WriteFile(filepath.Join(m.Root, "var/lib/jadekettle", name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		guard.Settle(t.Context(), &kind.Env{Machine: m, Run: run, Store: s})
		if entries, _ := os.ReadDir(outside); len(entries) != 1 {
			t.Errorf("it has written outside of the host: %v", entries)
		}
	})
}
