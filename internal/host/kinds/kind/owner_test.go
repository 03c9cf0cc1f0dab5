package kind_test

import (
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/scripted"
)

// TestWhatRootLeftInAFolderOfAnothers is not given to them by the name that they gave it.
func TestWhatRootLeftInAFolderOfAnothers(t *testing.T) {
	ref := value.Ref{Kind: "dir", Name: "/home/maren/charts"}
	managed := &ledger.Store{}
	managed.Entries = map[value.Ref]plan.Entry{ref: {Project: "saltmarsh"}}
	for about, c := range map[string]struct {
		uid, folder uint32
		owner       string
		store       *ledger.Store
		refused     bool
	}{
		"root's in an account's folder":   {0, 1000, "maren", nil, true},
		"one that this project made":      {0, 1000, "maren", managed, false},
		"root's in root's folder":         {0, 0, "maren", nil, false},
		"the account's own":               {1000, 1000, "maren", nil, false},
		"root's, which stays root's":      {0, 1000, "root", nil, false},
		"root's, of which nobody says so": {0, 1000, "", nil, false},
	} {
		env := &kind.Env{Machine: scripted.New(t), Store: c.store, Run: plan.Run{Project: "saltmarsh"}}
		attrs := value.Attrs{}
		if c.owner != "" {
			attrs["owner"] = c.owner
		}
		name := map[uint32]string{0: "root", 1000: "maren"}[c.uid]
		o := kind.Ownership{Owner: name, Info: machine.Info{UID: int(c.uid)},
			Folder: machine.Info{UID: int(c.folder), Mode: 0o755}}
		if err := o.GivesAway(env, plan.Task{Ref: ref, Attrs: attrs}); (err != nil) != c.refused {
			t.Errorf("%s: %v", about, err)
		}
	}
}
