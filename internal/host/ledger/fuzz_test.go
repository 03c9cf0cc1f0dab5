package ledger_test

import (
	"os"
	"path/filepath"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/ledger"
)

// FuzzWhatLiesThere: whatever the ledger and the journal of a host hold, a run begins or says why not,
// and what it reads it can write.
func FuzzWhatLiesThere(f *testing.F) {
	const entry = `{"format":1,"entries":{"file ` +
		`/a":{"project":"tide","run":"x","since":"2026-01-01T00:00:00Z","last":{"attrs":{"mode":"0644"}}}},` +
		`"pending":{}}`
	f.Add(entry, `{"run":{"run":"x","project":"tide","who":"maren"},"results":[{"ID":0,"Ref":"file `+
		`/a","Status":"changed"}]}`)
	f.Add(`{"format":99}`, "")
	f.Add(`{"format":1,"entries":null}`, "\x00")
	f.Add("[]", "{}\n{")
	f.Fuzz(func(t *testing.T, entries, journal string) {
		m := host(t)
		dir := filepath.Join(m.Root, "var/lib/jadekettle")
		if err := os.MkdirAll(dir, 0o711); err != nil {
			t.Fatal(err)
		}
		for name, text := range map[string]string{"ledger.json": entries, "journal-tide.jsonl": journal} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		run := plan.Run{ID: "01990000-0000-7000-8000-000000000000", Project: "tide", Who: "maren", Whole: true}
		s, err := ledger.Open(m, run)
		if err != nil {
			return
		}
		defer s.Close()
		records, err := s.Collect()
		if err != nil {
			return
		}
		s.Undeclared(run, map[value.Ref]bool{})
		s.AllPending()
		s.Keep(plan.Task{Ref: value.Ref{Kind: "file", Name: "/b"}, Attrs: value.Attrs{}}, run, true)
		if err := s.Save(); err != nil {
			t.Fatal(err)
		}
		if err := s.Begin(records); err != nil {
			t.Fatal(err)
		}
	})
}
