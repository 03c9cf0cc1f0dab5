package kinds_test

import (
	"slices"
	"testing"

	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
)

// TestWhatAWriteMayOutdate has the worker read again what a task may have changed besides itself.
func TestWhatAWriteMayOutdate(t *testing.T) {
	for name, want := range map[string][]kind.Topic{
		"file": {kind.TheAccounts, kind.TheServices}, "lines": {kind.TheAccounts, kind.TheServices},
		"block": {kind.TheAccounts, kind.TheServices}, "settings": {kind.TheServices}, "group": {kind.TheAccounts},
		"repo": {kind.ThePackages}, "package": {kind.ThePackages, kind.TheAccounts, kind.TheServices}, "dir": nil,
		"cron": nil,
	} {
		k, _ := kinds.Find(name)
		if got := k.Stale(); !slices.Equal(got, want) {
			t.Errorf("a %s outdates %v, want %v", name, got, want)
		}
	}
}
