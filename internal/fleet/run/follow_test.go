package run_test

import (
	"os"
	"path/filepath"
	"testing"
)

// TestOnlyAfterAChange does a task only when another changed, and makes up for
// it in the next run when it could not be done.
func TestOnlyAfterAChange(t *testing.T) {
	b := newBench(t, "gauge-01")
	manifest := func(content string) {
		b.manifest("[file.\"/etc/a\"]\ncontent = \"" + content +
			"\"\n[dir.\"/srv/deep/after\"]\nonly_if_changed = [\"file /etc/a\"]\n[dir.\"/srv/b\"]\n" +
			"after = [\"dir /srv/deep/after\"]\n")
	}
	round := func(what string, preview bool, want string) {
		t.Helper()
		if got := statuses(b.one(preview)); got != want {
			t.Errorf("%s:\n%s\nwant\n%s", what, got, want)
		}
	}
	manifest("1")
	round("it fails, since its folder does not exist", false,
		"file /etc/a changed\ndir /srv/deep/after failed\ndir /srv/b blocked by dir /srv/deep/after")
	b.put("/srv/deep/.there", "")
	round("a preview shows that it is owed", true,
		"file /etc/a unchanged\ndir /srv/deep/after changed\ndir /srv/b changed")
	round("the next run makes up for it", false, "file /etc/a unchanged\ndir /srv/deep/after changed\ndir /srv/b "+
		"changed")
	round("and then it is skipped", false, "file /etc/a unchanged\ndir /srv/deep/after skipped\ndir /srv/b unchanged")
	if err := os.Remove(filepath.Join(b.host().Root, "srv/deep/after")); err != nil {
		t.Fatal(err)
	}
	round("even when it is not as declared", false,
		"file /etc/a unchanged\ndir /srv/deep/after skipped\ndir /srv/b unchanged")
	manifest("2")
	round("until there is a change", false, "file /etc/a changed\ndir /srv/deep/after changed\ndir /srv/b unchanged")
	b.part.Tasks = []string{"dir *"}
	round("a part without the cause", false, "dir /srv/deep/after skipped\ndir /srv/b unchanged\nfile /etc/a skipped")
}
