package run_test

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
)

// mallory is an ordinary account of the simulated hosts.
const mallory = 1001

// TestNobodyGetsRootByWhatIsDeclared plays an ordinary account that can write a
// folder in which things are declared.
func TestNobodyGetsRootByWhatIsDeclared(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest(`[dir."/srv/drop"]
[file."/srv/drop/shell"]
owner = "root"
group = "root"
[file."/srv/drop/sgid"]
group = "adm"
[file."/srv/drop/rewritten"]
content = "ours\n"
owner = "root"
[file."/srv/safe"]
content = "x"
[file."/srv/kept"]
group = "adm"
[file."/srv/wanted"]
owner = "root"
mode = "4755"
[dir."/srv/drop/sub"]
owner = "root"
`)
	root := b.host().Root
	put := func(p string, uid int, mode uint32) {
		t.Helper()
		full := filepath.Join(root, p)
		os.MkdirAll(filepath.Dir(full), 0o755)
		if _, err := os.Stat(full); err != nil {
			if err := os.WriteFile(full, []byte("#!/bin/sh\n"), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if err := b.host().Give(p, uid, uid, mode); err != nil {
			t.Fatal(err)
		}
	}
	os.MkdirAll(filepath.Join(root, "srv/drop/sub"), 0o755)
	put("/srv/drop", mallory, 0o777)
	put("/srv/drop/sub", mallory, 0o2755)
	put("/srv/drop/shell", mallory, 0o4755)
	put("/srv/drop/sgid", mallory, 0o2755)
	put("/srv/drop/rewritten", mallory, 0o6755)
	put("/srv/safe", 0, 0o4755)
	put("/srv/kept", 0, 0o2755)
	put("/srv/wanted", 0, 0o755)
	h := b.one(false)
	wants(t, h, "dir /srv/drop unchanged", "file /srv/drop/shell failed", "file /srv/drop/sgid failed",
		"file /srv/drop/rewritten changed",
		"file /srv/safe changed", "file /srv/kept changed", "file /srv/wanted changed", "dir /srv/drop/sub failed")
	for p, want := range map[string]string{
		"/srv/drop/shell": "1001 4755", "/srv/drop/sgid": "1001 2755", "/srv/drop/rewritten": "0 0755",
		"/srv/safe": "0 0755", "/srv/kept": "0 0755", "/srv/wanted": "0 4755", "/srv/drop/sub": "1001 2755",
	} {
		if got := b.owned(p); got != want {
			t.Errorf("%s is %s, want %s", p, got, want)
		}
	}
	if m := h.Tasks[1].Message; !strings.Contains(m, "belongs to 1001") {
		t.Errorf("it does not say whose it is: %s", m)
	}
}

// TestLinksThatOthersMadeAreNotFollowed holds follow to the links of root.
func TestLinksThatOthersMadeAreNotFollowed(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[file.\"/srv/drop/conf\"]\nfollow = true\ncontent = \"x\\n\"\nowner = \"nobody\"\n" +
		"[file.\"/srv/own/conf\"]\nfollow = true\ncontent = \"y\\n\"\n")
	root := b.host().Root
	for _, dir := range []string{"srv/drop", "srv/own"} {
		os.MkdirAll(filepath.Join(root, dir), 0o755)
	}
	b.put("srv/target", "old\n")
	os.Symlink("/etc/shadow", filepath.Join(root, "srv/drop/conf"))
	os.Symlink("../target", filepath.Join(root, "srv/own/conf"))
	b.host().Give("/srv/drop", mallory, mallory, 0o755)
	b.host().Give("/srv/drop/conf", mallory, mallory, 0o777)
	before := b.on("etc/shadow")
	for _, preview := range []bool{true, false} {
		h := b.one(preview)
		wants(t, h, "file /srv/drop/conf failed", "file /srv/own/conf changed")
		if !strings.Contains(h.Tasks[0].Message, "is not followed") || len(h.Tasks[0].Changes) > 0 {
			t.Errorf("it says %q and shows %v", h.Tasks[0].Message, h.Tasks[0].Changes)
		}
	}
	if b.on("etc/shadow") != before || b.on("srv/target") != "y\n" {
		t.Error("a link was followed that others made, or root's was not")
	}
}

// TestWhatIsClosedIsNotShown previews over a file that only its owner may read.
func TestWhatIsClosedIsNotShown(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[file.\"/etc/note\"]\ncontent = \"new\\n\"\n")
	b.put("etc/note", "private\n")
	b.host().Give("/etc/note", 0, 0, 0o600)
	h := b.one(true)
	if c := h.Tasks[0].Changes[0]; c.Diff != "" || !c.Closed {
		t.Errorf("the change is %+v", c)
	}
	b.run(false)
	b.put("etc/note", "changed by hand\n")
	if c := b.one(true).Tasks[0].Changes[0]; c.Closed || !strings.Contains(c.Diff, "changed by hand") {
		t.Errorf("of a file that is ours it shows %+v", c)
	}
}

// owned says whose something on the first host is, and by which rights.
func (b *bench) owned(p string) string {
	b.t.Helper()
	d, err := b.host().Dir(path.Dir(p))
	if err != nil {
		b.t.Fatal(err)
	}
	defer d.Close()
	info, err := d.Lstat(path.Base(p))
	if err != nil {
		b.t.Fatal(err)
	}
	return fmt.Sprintf("%d %04o", info.UID, info.Mode)
}
