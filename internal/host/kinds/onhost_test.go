package kinds_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/apk"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/kinds/packages/pacman"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine/folder"
)

// bench is a simulated host on which kinds are called as the worker calls them.
type bench struct {
	t     *testing.T
	host  *folder.Machine
	store *ledger.Store
	texts map[string]string // contents by hash
}

func newBench(t *testing.T, spec folder.Spec) *bench {
	t.Helper()
	spec.Name = "gauge-01"
	h, err := folder.New(t.TempDir(), spec)
	if err != nil {
		t.Fatal(err)
	}
	store, err := ledger.Open(h, plan.Run{ID: "0198-kinds", Project: "saltmarsh"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(store.Close)
	return &bench{t: t, host: h, store: store, texts: map[string]string{}}
}

// task makes a task of "kind name" and attributes; content becomes its content.
func (b *bench) task(ref string, attrs value.Attrs) plan.Task {
	b.t.Helper()
	r, err := kinds.Schemas().ParseRef(ref)
	if err != nil {
		b.t.Fatal(err)
	}
	t := plan.Task{Ref: r, Attrs: value.Attrs{}}
	for k, v := range attrs {
		switch k {
		case "absent":
			t.Absent = true
		case "content":
			c := b.content(fmt.Sprint(v))
			t.Content = &c
		case "tree": // paths and texts, one after another
			list := v.([]string)
			for i := 0; i < len(list); i += 2 {
				c := b.content(list[i+1])
				t.Tree = append(t.Tree, plan.Leaf{Path: list[i], SHA256: c.SHA256, Size: c.Size,
					Executable: strings.HasPrefix(list[i+1], "#!")})
			}
		default:
			t.Attrs[k] = v
		}
	}
	return t
}

// content is what the controller holds from here on.
func (b *bench) content(text string) plan.Content {
	sum := sha256.Sum256([]byte(text))
	c := plan.Content{SHA256: hex.EncodeToString(sum[:]), Size: int64(len(text))}
	b.texts[c.SHA256] = text
	return c
}

func (b *bench) env(preview bool, tasks ...plan.Task) *kind.Env {
	return &kind.Env{
		Machine: b.host, Store: b.store, Tasks: tasks, Hide: func(string) {},
		Run: plan.Run{ID: "0198-kinds", Project: "saltmarsh", Preview: preview, ListAge: time.Hour},
		Content: func(c plan.Content) (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(b.texts[c.SHA256])), nil
		},
		Texts: func([]plan.Content) (map[string]string, error) { return b.texts, nil },
	}
}

// differs gives what a kind says of tasks, as "what: was -> becomes" each.
func (b *bench) differs(k kind.Kind, env *kind.Env, tasks []plan.Task) ([]kind.Work, []string) {
	var work []kind.Work
	var said []string
	for i, r := range k.Read(context.Background(), env, tasks) {
		if r.Err != nil {
			said = append(said, "error: "+problem.From(r.Err).What)
			continue
		}
		var parts []string
		changes := k.Compare(tasks[i], r.State)
		for _, c := range changes {
			parts = append(parts, fmt.Sprintf("%s: %s -> %s", c.What, c.Was, c.Becomes))
		}
		said = append(said, strings.Join(parts, ", "))
		if len(changes) > 0 {
			work = append(work, kind.Work{Task: tasks[i], State: r.State, Changes: changes})
		}
	}
	return work, said
}

// apply reads, writes and reads again, and gives what differed before and what
// is left.
func (b *bench) apply(tasks ...plan.Task) (before, after []string) {
	b.t.Helper()
	k, _ := kinds.Find(tasks[0].Ref.Kind)
	env := b.env(false, tasks...)
	work, before := b.differs(k, env, tasks)
	for i, err := range k.Write(context.Background(), env, work) {
		if err != nil {
			return before, []string{"error: " + problem.From(err).What + " (" + work[i].Task.Ref.String() + ")"}
		}
	}
	env.Forget(k.Stale()...)
	_, after = b.differs(k, env, tasks)
	return before, after
}

// TestKindsOnAHost takes things through their lives: each step says what is
// declared, what a kind says differs, and what is left after the change.
func TestKindsOnAHost(t *testing.T) {
	type step struct {
		ref   string
		attrs value.Attrs
		want  string // what differs before
		left  string // what differs after, or an error
	}
	for name, c := range map[string]struct {
		spec  folder.Spec
		steps []step
	}{
		"links": {steps: []step{
			{"link /srv/charts", value.Attrs{"to": "charts-2026"},
				"existence: absent -> present, to:  -> charts-2026", ""},
			{"link /srv/charts", value.Attrs{"to": "/srv/x"}, "to: charts-2026 -> /srv/x", ""},
			{"link /srv/charts", value.Attrs{"to": "/srv/x"}, "", ""},
			{"link /etc/passwd", value.Attrs{"to": "/srv/x"}, "error: /etc/passwd exists but is not a symlink", ""},
			{"link /no/where", value.Attrs{"to": "/srv/x"}, "error: the directory /no does not exist", ""},
			{"link /srv/charts", value.Attrs{"absent": true}, "existence: present -> absent", ""},
			{"link /no/where", value.Attrs{"absent": true}, "", ""},
		}},
		"the kernel": {steps: []step{
			{"sysctl vm.swappiness", value.Attrs{"value": "10"}, "value: 60 -> 10, at boot: not set -> 10", ""},
			{"sysctl vm.swappiness", value.Attrs{"value": " 10 "}, "", ""},
			{"sysctl net.ipv4.ip_forward", value.Attrs{"value": "0"}, "at boot: not set -> 0", ""},
			{"sysctl vm.swappiness", value.Attrs{"absent": true}, "at boot: 10 -> not set", ""},
			{"sysctl net.ipv4.ip_forward", value.Attrs{"value": "0"}, "", ""},
			{"sysctl net.ipv4.none", value.Attrs{"value": "0"}, "error: unknown kernel setting net.ipv4.none", ""},
			{"kmod br-netfilter", value.Attrs{"loaded": true, "at_boot": true},
				"loaded: no -> yes, at_boot: no -> yes", ""},
			{"kmod br_netfilter", value.Attrs{"options": "a=1  b=2"}, "options:  -> a=1 b=2", ""},
			{"kmod br_netfilter", value.Attrs{"loaded": false, "at_boot": false, "options": ""},
				"loaded: yes -> no, at_boot: yes -> no, options: a=1 b=2 -> ", ""},
			{"kmod floppy", value.Attrs{"kept_out": true}, "kept_out: no -> yes", ""},
			{"kmod floppy", value.Attrs{"loaded": true}, "loaded: no -> yes", "error: modprobe failed (exit status 1)"},
		}},
		"names and places": {steps: []step{
			{"hostname pier", nil, "name: gauge-01 -> pier, at boot: gauge-01 -> pier", ""},
			{"hostname pier", nil, "", ""},
			{"timezone Europe/Berlin", nil, "zone: Etc/UTC -> Europe/Berlin", ""},
			{"timezone Europe/Berlin", nil, "", ""},
			{"timezone Mare/Crisium", nil, "error: the host does not know the time zone Mare/Crisium", ""},
			{"locale C.UTF-8", nil, "LANG:  -> C.UTF-8", ""},
			{"locale de_DE.UTF-8", nil, "made: no -> yes, LANG: C.UTF-8 -> de_DE.UTF-8", ""},
			{"locale de_DE.UTF-8", nil, "", ""},
			{"hosts_entry 192.0.2.9", value.Attrs{"names": []any{"a.example.org", "a"}},
				"content: 48 bytes -> 74 bytes", ""},
			{"hosts_entry 192.0.2.9", value.Attrs{"names": []any{"a"}}, "content: 74 bytes -> 60 bytes", ""},
			{"hosts_entry 192.0.2.9", value.Attrs{"absent": true}, "content: 60 bytes -> 48 bytes", ""},
		}},
		"mounts": {steps: []step{
			{"dir /srv/pad", nil, "existence: absent -> present", ""},
			{"mount /srv/pad", value.Attrs{"what": "tmpfs", "type": "tmpfs"},
				"mounted: no -> yes, at boot: not mounted -> tmpfs /srv/pad tmpfs defaults 0 0", ""},
			{"mount /srv/pad", value.Attrs{"what": "tmpfs", "type": "tmpfs", "options": []any{"ro"},
				"check_order": int64(2)},
				"options: rw -> ro, at boot: tmpfs /srv/pad tmpfs defaults 0 0 -> tmpfs /srv/pad tmpfs ro 0 2", ""},
			{"mount /srv/pad", value.Attrs{"what": "tmpfs", "type": "tmpfs", "options": []any{"ro", "size=64m"},
				"at_boot": false},
				"at boot: tmpfs /srv/pad tmpfs ro 0 2 -> not mounted", ""},
			{"mount /srv/pad", value.Attrs{"what": "tmpfs", "type": "tmpfs", "options": []any{"noexec", "size=1g"},
				"at_boot": false},
				"options: ro,size=64m -> noexec,size=1g", ""},
			{"mount /srv/pad", value.Attrs{"what": "tmpfs", "type": "tmpfs", "options": []any{"size=1048576k"},
				"at_boot": false},
				"options: rw,noexec,size=1g -> size=1048576k", ""},
			{"mount /srv/pad", value.Attrs{"what": "/dev/none", "type": "ext4"}, "mounted: tmpfs (tmpfs) -> " +
				"/dev/none (ext4), at boot: not mounted -> /dev/none /srv/pad ext4 defaults 0 0",
				"error: mount failed (exit status 32): mount: /srv/pad: " +
					"special device /dev/none does not exist.; tmpfs is mounted there again"},
			{"mount /srv/pad", value.Attrs{"what": "tmpfs", "type": "tmpfs", "options": []any{"ro"},
				"check_order": int64(2)},
				"options: rw,size=1048576k -> ro, at boot: not mounted -> tmpfs /srv/pad tmpfs ro 0 2", ""},
			{"mount /srv/pad", value.Attrs{"what": "/dev/vdb1", "type": "ext4"}, "mounted: tmpfs (tmpfs) -> " +
				"/dev/vdb1 (ext4), at boot: tmpfs /srv/pad tmpfs ro 0 2 -> /dev/vdb1 /srv/pad ext4 defaults 0 0", ""},
			{"mount /srv/pad", value.Attrs{"what": "UUID=1-2", "type": "ext4", "at_boot": false},
				"at boot: /dev/vdb1 /srv/pad ext4 defaults 0 0 -> not mounted", ""},
			{"mount /srv/none", value.Attrs{"what": "tmpfs", "type": "tmpfs"},
				"directory: absent -> present, mounted: no -> yes, at boot: not mounted -> tmpfs /srv/none tmpfs " +
					"defaults 0 0", ""},
			{"mount /srv/pad", value.Attrs{"absent": true}, "mounted: yes -> no", ""},
			{"mount /srv/pad", value.Attrs{"what": "/dev/none", "type": "ext4"},
				"mounted: no -> yes, at boot: not mounted -> /dev/none /srv/pad ext4 defaults 0 0",
				"error: mount failed (exit status 32)"},
			{"mount /srv/pad", value.Attrs{"absent": true}, "", ""},
		}},
		"commands": {steps: []step{
			{"command make it", value.Attrs{"script": "touch /srv/made", "done_if_exists": "/srv/made"},
				"run: not done -> touch /srv/made", ""},
			{"command make it", value.Attrs{"script": "touch /srv/made", "done_if_exists": "/srv/made"}, "", ""},
			{"command again", value.Attrs{"run": []any{"touch", "/srv/a b"}, "always": true},
				"run: not done -> touch '/srv/a b'", ""},
			{"command idle", value.Attrs{"run": []any{"touch", "/srv/b"}, "done_if_exists": "/srv/c"},
				"run: not done -> touch /srv/b", "run: not done"},
			{"command as nobody", value.Attrs{"script": "touch /srv/d", "always": true, "run_as": "nemo"},
				"error: the user nemo does not exist on this host", ""},
			{"command elsewhere", value.Attrs{"script": "touch d", "always": true, "folder": "/no"},
				"error: the directory /no does not exist", ""},
			{"cron rotate", value.Attrs{"schedule": "1 2 * * *", "run": "date +%H"}, "content:  -> 48 bytes", ""},
			{"cron rotate", value.Attrs{"schedule": "1 2 * * *", "run": "date +%H"}, "", ""},
			{"cron rotate", value.Attrs{"absent": true}, "existence: present -> absent", ""},
		}},
		"rights": {steps: []step{
			{"sudo_rule keepers", value.Attrs{"who": []any{"%keepers"}}, "content:  -> 47 bytes", ""},
			{"sudo_rule keepers", value.Attrs{"who": []any{"%keepers"}, "password": false},
				"content: 47 bytes -> 57 bytes", ""},
			{"sudo_rule keepers", value.Attrs{"absent": true}, "existence: present -> absent", ""},
			{"user olga", value.Attrs{"groups": []any{"adm"}}, "existence: absent -> present, groups:  -> adm", ""},
			{"user olga", value.Attrs{"groups": []any{}, "only_groups": true, "locked": true},
				"groups: in adm -> not in adm, locked: no -> yes", ""},
			{"user olga", value.Attrs{"locked": false, "expires": "never"},
				"locked: yes -> no, expires: 1970-01-02 -> never", ""},
			{"user olga", value.Attrs{"expires": "2031-05-31", "home_mode": "0700"}, "home_mode: 0755 -> 0700, " +
				"expires: never -> 2031-05-31", ""},
		}},
		"versions": {steps: []step{
			{"package chart-press", value.Attrs{"version": "1.*"}, "version: absent -> 1.*",
				`error: package "chart-press" not found in version 1.*`},
			{"package chart-press", value.Attrs{"version": "2.0.*", "hold": true},
				"version: absent -> 2.0.*, hold: no -> yes", ""},
			{"package chart-press", value.Attrs{"version": "2.0.*", "hold": true}, "", ""},
			{"package chart-press", value.Attrs{"hold": false}, "hold: yes -> no", ""},
			{"package chart-press", value.Attrs{"absent": true, "purge": true}, "version: 2.0.1-1 -> absent", ""},
			{"repo tides", value.Attrs{"urls": []any{"https://packages.example.org/debian"},
				"suites": []any{"bookworm"}},
				"error: the suite \"bookworm\" has 0 components", ""},
			{"repo tides", value.Attrs{"urls": []any{"https://packages.example.org/debian"}, "suites": []any{"./"}},
				"content:  -> 100 bytes", ""},
			{"repo tides", value.Attrs{"urls": []any{"https://packages.example.org/debian"}, "suites": []any{"./"},
				"content": "-----BEGIN PGP PUBLIC KEY BLOCK-----\n"},
				"content: 100 bytes -> 126 bytes, key: none -> as declared", ""},
			{"repo tides", value.Attrs{"absent": true}, "existence: present -> absent", ""},
		}},
		"parts of files": {steps: []step{
			{"lines /etc/tide.conf", value.Attrs{"remove": []any{"^x"}},
				"error: the file /etc/tide.conf does not exist", ""},
			{"lines /etc/tide.conf", value.Attrs{"add": []any{map[string]any{"line": "a"}}, "create": true},
				"content:  -> 2 bytes", ""},
			{"block /etc/tide.conf#b", value.Attrs{"content": ""}, "content: 2 bytes -> 44 bytes", ""},
			{"settings /etc/tide.conf#c", value.Attrs{"format": "key=value", "set": map[string]any{"K": "v w"}},
				"content: 44 bytes -> 52 bytes", ""},
			{"settings /etc/tide.conf#c", value.Attrs{"format": "json", "set": map[string]any{"K": "v"}},
				"error: the file is not valid JSON", ""},
			{"service cron", value.Attrs{"masked": true, "running": false},
				"masked: no -> yes, running: yes -> no", ""},
			{"service cron", value.Attrs{"running": true}, "error: cron.service is masked", ""},
			{"service cron", value.Attrs{"masked": false, "running": true},
				"masked: yes -> no, running: no -> yes", ""},
		}},
		"files": {steps: []step{
			{"file /etc/note", value.Attrs{"content": "one\n", "owner": "root", "mode": "0640"},
				"existence: absent -> present, owner:  -> root, mode:  -> 0640, content:  -> 4 bytes", ""},
			{"file /etc/note", value.Attrs{"content": "one\n", "owner": "root", "mode": "0640"}, "", ""},
			{"file /etc/note", value.Attrs{"content": "two two\n", "mode": "0600"}, "content: 4 bytes -> 8 bytes, " +
				"mode: 0640 -> 0600", ""},
			{"file /etc/note", value.Attrs{"owner": "nobody"}, "owner: root -> nobody", ""},
			{"file /etc/note", value.Attrs{"owner": "stranger"},
				"error: the owner stranger does not exist on this host", ""},
			{"file /etc/note", value.Attrs{"absent": true}, "existence: present -> absent", ""},
			{"file /etc/note", value.Attrs{"absent": true}, "", ""},
			{"file /no/such/note", value.Attrs{"content": "x"}, "error: the directory /no/such does not exist", ""},
			{"file /no/such/note", value.Attrs{"absent": true}, "", ""},
			{"file /etc", nil, "error: /etc is a directory", ""},
		}},
		"folders": {steps: []step{
			{"dir /srv/tide", value.Attrs{"owner": "daemon", "mode": "2750"},
				"existence: absent -> present, owner:  -> " +
					"daemon, mode:  -> 2750", ""},
			{"dir /srv/tide", value.Attrs{"mode": "2750"}, "", ""},
			{"dir /srv/tide", value.Attrs{"group": "adm"}, "group: root -> adm, mode: 2750 -> 0750", ""},
			{"file /srv/tide/x", value.Attrs{"content": "x"}, "existence: absent -> present, mode:  -> 0644, " +
				"content:  -> 1 byte", ""},
			{"dir /srv/tide", value.Attrs{"absent": true}, "existence: present -> absent", "error"},
			{"dir /srv/tide", value.Attrs{"absent": true, "with_contents": true}, "existence: present -> absent, " +
				"contents: 1 file and 0 directories -> absent", ""},
			{"dir /etc/os-release", nil, "error: /etc/os-release exists but is not a directory", ""},
		}},
		"accounts": {spec: folder.Spec{Accounts: []string{"ldap:x:5000:5000::/home/ldap:/bin/sh"}}, steps: []step{
			{"group keepers", value.Attrs{"gid": int64(2100)}, "existence: absent -> present, gid:  -> 2100", ""},
			{"group keepers", value.Attrs{"gid": int64(2101)}, "gid: 2100 -> 2101", ""},
			{"user maren", value.Attrs{"groups": []any{"keepers"}, "shell": "/bin/bash",
				"password": value.NewSecret("salt")},
				"existence: absent -> present, groups:  -> keepers, shell:  -> /bin/bash, password:  -> (secret)", ""},
			{"user maren", value.Attrs{"groups": []any{"keepers"}, "password": value.NewSecret("salt")}, "", ""},
			{"user maren", value.Attrs{"password": value.NewSecret("brine")}, "password: another -> as declared", ""},
			{"user maren", value.Attrs{"comment": "Maren", "groups": []any{"adm"}}, "comment:  -> Maren, groups: " +
				"not in adm -> in adm", ""},
			{"user maren", value.Attrs{"groups": []any{"nowhere"}}, "error: the group nowhere does not exist on " +
				"this host", ""},
			{"user ldap", value.Attrs{"comment": "x"}, "comment:  -> x", "error"},
			{"user maren", value.Attrs{"absent": true},
				"existence: present -> absent, left behind:  -> /home/maren", ""},
			{"group keepers", value.Attrs{"absent": true}, "existence: present -> absent", ""},
		}},
		"packages": {steps: []step{
			{"package tide-logger", value.Attrs{"version": "1.4.2-1"}, "version: absent -> 1.4.2-1", ""},
			{"package tide-logger", nil, "", ""},
			{"package tide-logger", value.Attrs{"version": "newest"}, "version: 1.4.2-1 -> 1.5.0-1", ""},
			{"package tide-logger", value.Attrs{"version": "9.9"}, "version: 1.5.0-1 -> 9.9", "error"},
			{"package no-such", nil, "version: absent -> installed", "error"},
			{"package foghorn-relay", nil, "version: absent -> installed", "error"},
			{"package Upper", nil, `error: invalid Debian package name "Upper"`, ""},
			{"package tide-logger", value.Attrs{"absent": true}, "version: 1.5.0-1 -> absent", ""},
		}},
		"folders that are copies": {steps: []step{
			{"dir /srv/site", value.Attrs{"owner": "daemon", "mode": "0750",
				"tree": []string{"a/x", "one\n", "run", "#!/bin/sh\n"}},
				"existence: absent -> present, owner:  -> daemon, mode:  -> 0750, a: absent -> a directory, a/x: " +
					"absent -> 4 bytes, run: absent -> 10 bytes", ""},
			{"dir /srv/site", value.Attrs{"owner": "daemon",
				"tree": []string{"a/x", "one\n", "run", "#!/bin/sh\n"}}, "", ""},
			{"file /srv/site/a/stray", value.Attrs{"content": "x"},
				"existence: absent -> present, mode:  -> 0644, content:  -> 1 byte", ""},
			{"dir /srv/site", value.Attrs{"tree": []string{"a/x", "two two\n", "run", "#!/bin/sh\n"},
				"file_mode": "0600"},
				"a/x: 4 bytes -> 8 bytes, a/x mode: 0644 -> 0600, run mode: 0755 -> 0600", ""},
			{"dir /srv/site", value.Attrs{"tree": []string{"b", "b\n"}, "only_declared": true},
				"b: absent -> 2 bytes, a: present -> absent, run: present -> absent", ""},
			{"dir /srv/site", value.Attrs{"tree": []string{"b/c", "c\n"}},
				"error: /srv/site/b exists but is not a directory", ""},
			{"dir /srv/site", value.Attrs{"group": "nowhere", "tree": []string{"b", "b\n"}},
				"error: the group nowhere does not exist on this host", ""},
		}},
		"from elsewhere": {spec: folder.Spec{Pages: map[string]string{
			"https://charts.example.org/odd.tar": "no archive"}},
			steps: []step{
				{"download /srv/a.txt", value.Attrs{"url": "https://charts.example.org/a.txt",
					"insecure_without_checksum": true,
					"owner":                     "daemon", "mode": "0640"},
					"existence: absent -> present, url:  -> https://charts.example.org/a.txt, owner:  -> daemon, " +
						"mode:  -> 0640", ""},
				{"download /srv/a.txt", value.Attrs{"url": "https://charts.example.org/b.txt",
					"insecure_without_checksum": true},
					"", ""},
				{"download /srv/a.txt", value.Attrs{"url": "https://charts.example.org/a.txt",
					"sha256": strings.Repeat("0", 64)},
					"content: another -> that of https://charts.example.org/a.txt",
					"error: the download from https://charts.example.org/a.txt has the SHA-256"},
				{"download /srv/missing", value.Attrs{"url": "https://charts.example.org/missing",
					"sha256": strings.Repeat("0", 64)},
					"existence: absent -> present, url:  -> https://charts.example.org/missing",
					"error: cannot download https://charts.example.org/missing"},
				{"download /srv/a.txt", value.Attrs{"absent": true}, "existence: present -> absent", ""},
				{"unpack /opt/viewer", value.Attrs{"from": "https://charts.example.org/v.tar",
					"insecure_without_checksum": true,
					"strip_components":          int64(1)},
					"archive: not unpacked -> unpacked from https://charts.example.org/v.tar", ""},
				{"unpack /opt/viewer", value.Attrs{"from": "https://charts.example.org/v.tar",
					"insecure_without_checksum": true,
					"strip_components":          int64(1)}, "", ""},
				{"file /opt/viewer/bin/viewer", value.Attrs{"content": "mine"}, "content: 21 bytes -> 4 bytes", ""},
				{"unpack /opt/viewer", value.Attrs{"from": "https://charts.example.org/v.tar",
					"insecure_without_checksum": true,
					"strip_components":          int64(1)},
					"contents: modified since: bin/viewer -> as in the archive", ""},
				{"unpack /opt/viewer", value.Attrs{"from": "https://charts.example.org/odd.tar",
					"insecure_without_checksum": true},
					"archive: another one -> unpacked from https://charts.example.org/odd.tar",
					"error: the archive cannot be read"},
				{"unpack /opt/other", value.Attrs{"from": "/srv/none.zip"}, "error: the archive /srv/none.zip " +
					"does not exist", ""},
				{"unpack /opt/other", value.Attrs{"from": "/srv/none.zip", "done_if_exists": "/opt/viewer"}, "", ""},
				{"unpack /opt/viewer", value.Attrs{"absent": true}, "existence: 2 entries unpacked -> absent", ""},
				{"unpack /opt/viewer", value.Attrs{"absent": true}, "", ""},
				{"checkout /srv/pages", value.Attrs{"url": "https://git.example.org/p.git", "revision": "main"},
					"checkout: absent -> https://git.example.org/p.git, commit:  -> 9d47daaf1323 (main)", ""},
				{"checkout /srv/pages", value.Attrs{"url": "https://git.example.org/p.git",
					"revision": "main"}, "", ""},
				{"checkout /srv/pages", value.Attrs{"url": "https://git.example.org/q.git", "revision": "missing"},
					"error: the repository does not have a branch or tag missing", ""},
				{"checkout /srv/pages", value.Attrs{"url": "https://git.test/p.git", "revision": "main"},
					"error: the repository cannot be read: git failed (exit status 128): unable to access " +
						"'https://git.test/p.git': Could not resolve host", ""},
			}},
		"swap and firewall": {steps: []step{
			{"swap /swapfile", value.Attrs{"size": "1 MiB"}, "size: absent -> 1 MiB, in use: no -> yes, " +
				"fstab:  -> 27 bytes", ""},
			{"swap /swapfile", value.Attrs{"size": "1 MiB", "priority": int64(5)}, "priority: -2 -> 5, " +
				"fstab: 27 bytes -> 33 bytes", ""},
			{"swap /swapfile", value.Attrs{"size": "2 MiB", "priority": int64(5)}, "size: 1 MiB -> 2 MiB", ""},
			{"swap /swapfile", value.Attrs{"absent": true},
				"existence: present -> absent, fstab: 33 bytes -> 0 bytes", ""},
			{"swap /dev/none", nil, "error: the device /dev/none does not exist", ""},
			{"firewall web", value.Attrs{"open": []any{"80", "53/udp"}}, "content:  -> 687 bytes, boot: not loaded " +
				"-> loaded", ""},
			{"firewall web", value.Attrs{"open": []any{"80", "53/udp"}}, "", ""},
			{"firewall bad", value.Attrs{"refuse": []any{"all"}, "from": []any{"192.0.2.7", "2001:db8::/32"}},
				"content: 687 bytes -> 830 bytes", ""},
			{"firewall bad", value.Attrs{"absent": true}, "content: 830 bytes -> 687 bytes", ""},
			{"firewall web", value.Attrs{"absent": true}, "firewall: on -> off: nothing is declared", ""},
		}},
		"services": {spec: folder.Spec{Services: []string{"tide-logger"}}, steps: []step{
			{"service tide-logger", value.Attrs{"running": true, "at_boot": true}, "", ""},
			{"service tide-logger.service", value.Attrs{"running": false, "at_boot": false},
				"running: yes -> no, at_boot: yes -> " +
					"no", ""},
			{"service tide-logger", value.Attrs{"running": true}, "running: no -> yes", ""},
			{"service no-such", value.Attrs{"running": true}, "error: no-such.service does not exist on this host", ""},
			{"service no-such", value.Attrs{"running": true, "optional": true}, "", ""},
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, c.spec)
			for i, s := range c.steps {
				before, after := b.apply(b.task(s.ref, s.attrs))
				if before[0] != s.want {
					t.Errorf("step %d, %s %v: differs %q, want %q", i, s.ref, s.attrs, before[0], s.want)
				}
				wrong := strings.HasPrefix(before[0], "error")
				if left := after[0]; !wrong && (s.left == "" && left != "" || s.left != "" &&
					!strings.HasPrefix(left, s.left)) {
					t.Errorf("step %d, %s %v: %q is left, want %q", i, s.ref, s.attrs, left, s.left)
				}
			}
		})
	}
}

// TestNeighboursAreInstalledTogether wants one transaction, and another for each
// only when that fails.
func TestNeighboursAreInstalledTogether(t *testing.T) {
	b := newBench(t, folder.Spec{})
	installs := func() (out []string) {
		for _, c := range b.host.Calls() {
			if _, list, ok := strings.Cut(c, " install "); ok && !strings.Contains(c, " -s ") {
				out = append(out, list[strings.Index(list, " -- ")+4:])
			}
		}
		return out
	}
	b.apply(b.task("package buoy-tools", nil), b.task("package salt-lamp", nil), b.task("package harbour-log", nil))
	if got := installs(); len(got) != 1 || got[0] != "buoy-tools salt-lamp harbour-log" {
		t.Errorf("it ran %q", got)
	}
	_, after := b.apply(b.task("package tide-logger", nil), b.task("package foghorn-relay", nil),
		b.task("package chart-press", nil))
	if !strings.HasPrefix(after[0], "error: ") || !strings.Contains(after[0], "foghorn-relay") {
		t.Errorf("the broken one gives %q", after)
	}
	if b.host.Installed("tide-logger") == "" || b.host.Installed("chart-press") == "" {
		t.Error("one that cannot be installed sank the rest")
	}
	if got := installs(); len(got) != 3 || got[2] != "foghorn-relay" {
		t.Errorf("it ran %q, want one for all three and then one for what is left", got)
	}
}

// TestAPreviewPromisesNothing previews packages with lists that are fresh, and
// with lists that were never fetched.
func TestAPreviewPromisesNothing(t *testing.T) {
	b := newBench(t, folder.Spec{})
	k, _ := kinds.Find("package")
	tasks := []plan.Task{b.task("package tide-logger", nil), b.task("package no-such", nil)}
	_, said := b.differs(k, b.env(true, tasks...), tasks)
	if said[0] != "version: absent -> installed" || !strings.HasPrefix(said[1], "error: package \"no-such\" not "+
		"found") {
		t.Errorf("with fresh lists it says %q", said)
	}
	d, err := b.host.Dir("/var/lib/apt/lists")
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	d.Remove("archive.example.org_Packages")
	_, said = b.differs(k, b.env(true, tasks...), tasks)
	if !strings.HasSuffix(said[1], "if a repository has it after the refresh") {
		t.Errorf("with no lists it says %q", said)
	}
	if calls := strings.Join(b.host.Calls(), "\n"); strings.Contains(calls, "update") {
		t.Errorf("a preview refreshed the lists:\n%s", calls)
	}
}

// tides is a repository.
var tides = value.Attrs{"urls": []any{"https://packages.example.org/debian"}, "suites": []any{"bookworm"},
	"components": []any{"main"}, "insecure_without_key": true}

// TestWhatIsCapturedIsRight captures what is there, declares it, and finds
// nothing different.
func TestWhatIsCapturedIsRight(t *testing.T) {
	b := newBench(t, folder.Spec{Services: []string{"tide-logger"}, Users: []string{"tidelog"},
		Groups:   []string{"watch"},
		Packages: []string{"buoy-tools"}, Files: map[string]string{"/etc/note": "low water at six\n"}})
	b.apply(b.task("repo tides", tides))
	b.apply(b.task("sudo_rule watch", value.Attrs{"who": []any{"%watch", "tidelog"}, "run_as": []any{"ALL"},
		"commands": []any{"/bin/tide, now=1", "/bin/ebb"}, "password": false}))
	b.apply(b.task("mount /srv/pad", value.Attrs{"what": "tmpfs", "type": "tmpfs", "options": []any{"ro"}}))
	b.apply(b.task("swap /swapfile", value.Attrs{"size": "1 MiB"}))
	b.apply(b.task("block /etc/note#high", value.Attrs{"content": "high\n"}))
	b.apply(b.task("firewall house", value.Attrs{"open": []any{"22", "6000-6010/udp"}, "refuse": []any{"all"},
		"from": []any{"192.0.2.0/24", "192.0.2.9", "2001:db8::/32"}, "interface": "eth1"}))
	b.apply(b.task("firewall shut", value.Attrs{"open": []any{"all"}, "may_close_our_port": true}))
	for _, ref := range []string{"repo tides", "sudo_rule watch", "mount /srv/pad", "swap /swapfile",
		"block /etc/note#high",
		"firewall house", "firewall shut", "repo none", "file /etc/note", "dir /srv", "user tidelog", "group watch",
		"package buoy-tools", "service tide-logger",
		"file /etc/none", "dir /srv/none", "user none", "group none", "package none"} {
		task := b.task(ref, nil)
		k, _ := kinds.Find(task.Ref.Kind)
		env := b.env(false, task)
		reading := k.Read(context.Background(), env, []plan.Task{task})[0]
		if reading.Err != nil {
			t.Errorf("%s: %v", ref, reading.Err)
			continue
		}
		c, err := k.Capture(context.Background(), env, task, reading.State)
		if err != nil {
			t.Errorf("%s: %v", ref, err)
			continue
		}
		for name := range c.Attrs {
			if s := k.Schema(); name != "absent" && !strings.Contains(" "+strings.Join(s.Captures, " ")+" ",
				" "+name+" ") {
				t.Errorf("%s gives %s, which its schema does not say that it captures", ref, name)
			}
		}
		attrs := value.Attrs{}
		for name, v := range c.Attrs {
			if list, ok := v.([]string); ok {
				var items []any
				for _, item := range list {
					items = append(items, item)
				}
				v = items
			}
			attrs[name] = v
		}
		again := b.task(ref, attrs)
		if _, said := b.differs(k, b.env(false, again), []plan.Task{again}); said[0] != "" {
			t.Errorf("%s captured as %v differs: %s", ref, c.Attrs, said[0])
		}
	}
}

// TestNamesAreWhatPeopleMade lists what is worth declaring.
func TestNamesAreWhatPeopleMade(t *testing.T) {
	b := newBench(t, folder.Spec{Services: []string{"tide-logger"}, Packages: []string{"buoy-tools"}})
	b.apply(b.task("group keepers", nil))
	b.apply(b.task("user maren", nil))
	b.apply(b.task("service cron", value.Attrs{"at_boot": false}))
	b.apply(b.task("sudo_rule keepers", value.Attrs{"who": []any{"%keepers"}}))
	b.apply(b.task("repo tides", tides))
	for name, want := range map[string]string{
		"user": "maren", "group": "keepers", "service": "cron", "sudo_rule": "keepers", "repo": "tides", "mount": "",
		"package": "buoy-tools dpkg libc6 old-ticker",
	} {
		k, _ := kinds.Find(name)
		got, err := k.Names(context.Background(), b.env(false))
		if err != nil || strings.Join(got, " ") != want {
			t.Errorf("%s: %v (%v), want %s", name, got, err, want)
		}
	}
	k, _ := kinds.Find("dir")
	if _, err := k.Names(context.Background(), b.env(false)); err == nil {
		t.Error("a host's dirs are all named")
	}
}

// TestFilesThatPeoplePutThere finds those that no package brought, and those that
// differ from what one brought.
func TestFilesThatPeoplePutThere(t *testing.T) {
	b := newBench(t, folder.Spec{})
	sum := func(text string) string { return fmt.Sprintf("%x", md5.Sum([]byte(text))) }
	for name, text := range map[string]string{
		"/etc/tide/kept": "kept\n", "/etc/tide/edited": "by hand\n", "/etc/tide/ours": "ours\n",
		"/usr/lib/tide/odd":   "odd\n",
		"/usr/lib/tide/stray": "no package, and nobody looks there\n", "/etc/tide/made": "in a script of the package\n",
		"/etc/shells": "the system's own\n",
		"/var/lib/dpkg/info/tide.list": "/etc/tide\n/etc/tide/kept\n/etc/tide/edited\n/etc/tide/made\n" +
			"/usr/lib/tide/odd\n",
		"/var/lib/dpkg/info/tide.md5sums": sum("even\n") + "  usr/lib/tide/odd\n",
		"/var/lib/dpkg/status": "Package: tide\nStatus: install ok installed\nConffiles:\n /etc/tide/kept " +
			sum("kept\n") +
			"\n /etc/tide/edited " + sum("as it came\n") + "\nDescription: made up\n",
	} {
		at := filepath.Join(b.host.Root, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		os.Remove(at)
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	k, _ := kinds.Find("file")
	got, err := k.Names(t.Context(), b.env(false))
	if list := strings.Join(got, " ") + " "; err != nil || !strings.Contains(list,
		"/etc/tide/edited /etc/tide/ours ") ||
		!strings.HasSuffix(list, " /usr/lib/tide/odd ") || strings.Contains(list, "kept") ||
		strings.Contains(list, "made") ||
		strings.Contains(list, "stray") || strings.Contains(list, "/etc/shells ") {
		t.Errorf("it shows %s (%v)", list, err)
	}
}

// TestFilesThatPeoplePutThereByOthers does so where apk and pacman are.
func TestFilesThatPeoplePutThereByOthers(t *testing.T) {
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	fmt.Fprintf(z, "#mtree\n/set type=file\n./.PKGINFO size=1\n./etc/tide/a\\040b sha256digest=%x\n./etc/tide/kept "+
		"mode=644 "+
		"sha256digest=%x\n", sha256.Sum256([]byte("as it came\n")), sha256.Sum256([]byte("kept\n")))
	z.Close()
	sum := func(text string) string {
		h := sha1.Sum([]byte(text))
		return base64.StdEncoding.EncodeToString(h[:])
	}
	for name, files := range map[string]map[string]string{
		"apk": {"/lib/apk/db/installed": "P:tide\nF:etc\nF:etc/tide\nR:a b\nZ:Q1" + sum("as it came\n") +
			"\nR:kept\nZ:Q1" +
			sum("kept\n") + "\n"},
		"pacman": {"/var/lib/pacman/local/tide-1-1/files": "%FILES%\netc/\netc/tide/\netc/tide/a b\netc/tide/kept\n\n" +
			"%BACKUP%\netc/tide/x\n", "/var/lib/pacman/local/tide-1-1/mtree": packed.String()},
	} {
		files["/etc/tide/a b"], files["/etc/tide/kept"], files["/etc/tide/ours"] = "by hand\n", "kept\n", "ours\n"
		b := newBench(t, folder.Spec{Files: files})
		m := map[string]backend.Bringer{"apk": apk.Manager{}, "pacman": pacman.Manager{}}[name]
		brought, err := m.Brought(t.Context(), b.env(false))
		if _, ours := brought["/etc/tide/ours"]; err != nil || ours || len(brought["/etc/tide/a b"]) < 40 ||
			!strings.HasSuffix(brought["/etc/tide/kept"],
				map[string]string{"apk": fmt.Sprintf("%x", sha1.Sum([]byte("kept\n"))),
					"pacman": fmt.Sprintf("%x", sha256.Sum256([]byte("kept\n")))}[name]) {
			t.Errorf("%s shows %v (%v)", name, brought, err)
		}
	}
}

// TestAFileExchangedInBetween changes a file between the look and the write.
func TestAFileExchangedInBetween(t *testing.T) {
	b := newBench(t, folder.Spec{Files: map[string]string{"/etc/note": "old\n"}})
	k, _ := kinds.Find("file")
	for _, attrs := range []value.Attrs{{"owner": "nobody"}, {"content": "new\n"}} {
		task := b.task("file /etc/note", attrs)
		env := b.env(false, task)
		work, _ := b.differs(k, env, []plan.Task{task})
		if err := b.host.Give("/etc/note", 1001, 1001, 0o4755); err != nil {
			t.Fatal(err)
		}
		err := k.Write(context.Background(), env, work)[0]
		if err == nil || !strings.Contains(err.Error(), "was modified by someone else") {
			t.Errorf("%v: %v", attrs, err)
		}
		b.host.Give("/etc/note", 0, 0, 0o644)
	}
	if errors.Is(kind.NotYet(problem.Errorf("x")), kind.ErrNotYet) != true {
		t.Error("what does not exist yet cannot be determined")
	}
}

// TestAPartOfAFileToCome previews an edit of a file whose folder is declared and
// not there yet: it shows what the file will hold.
func TestAPartOfAFileToCome(t *testing.T) {
	b := newBench(t, folder.Spec{})
	task := b.task("settings /etc/tide/feeds.ini", value.Attrs{"format": "ini",
		"set":    map[string]any{"rate": int64(60)},
		"create": true})
	k, _ := kinds.Find("settings")
	reading := k.Read(t.Context(), b.env(true, task), []plan.Task{task})[0]
	if !errors.Is(reading.Err, kind.ErrNotYet) {
		t.Fatalf("it reads %v", reading.Err)
	}
	if got := k.Compare(task, reading.State); len(got) != 1 || !strings.Contains(got[0].Diff, "+rate = 60") {
		t.Errorf("it would change %+v", got)
	}
}

// TestApk takes packages through a round on a stand-in for apk.
func TestApk(t *testing.T) {
	b := newBench(t, folder.Spec{OS: "alpine"})
	old := b.task("package tide-logger", value.Attrs{"version": "1.4.*", "hold": true})
	lamp := b.task("package salt-lamp", nil)
	ghost := b.task("package ghost", nil)
	for _, step := range []struct {
		tasks []plan.Task
		want  string
	}{
		{[]plan.Task{old, lamp}, "version: absent -> 1.4.*, hold: no -> yes; version: absent -> installed | ; "},
		{[]plan.Task{b.task("package tide-logger", value.Attrs{"version": "newest"})},
			"version: 1.4.2-1 -> 1.5.0-1 | "},
		{[]plan.Task{b.task("package tide-logger", value.Attrs{"hold": false})}, "hold: yes -> no | "},
		{[]plan.Task{b.task("package tide-logger", value.Attrs{"absent": true}), lamp}, "version: 1.5.0-1 -> " +
			"absent;  | ; "},
	} {
		before, after := b.apply(step.tasks...)
		if got := strings.Join(before, "; ") + " | " + strings.Join(after, "; "); got != step.want {
			t.Errorf("got  %s\nwant %s", got, step.want)
		}
	}
	k, _ := kinds.Find("package")
	work := []kind.Work{{Task: ghost, State: k.Read(context.Background(), b.env(false, ghost),
		[]plan.Task{ghost})[0].State,
		Changes: []plan.Change{{What: "version"}}}}
	if err := k.Write(context.Background(), b.env(false, ghost), work)[0]; err == nil ||
		!strings.Contains(err.Error(), "package \"ghost\" not found") {
		t.Errorf("ghost: %v", err)
	}
}

// TestAccountsWithoutUseradd takes an account through a round on a stand-in for
// busybox's programs.
func TestAccountsWithoutUseradd(t *testing.T) {
	b := newBench(t, folder.Spec{OS: "alpine"})
	secret := value.NewSecret("ebb & flow")
	for _, step := range []struct {
		ref   string
		attrs value.Attrs
		want  string
	}{
		{"group tides", value.Attrs{"gid": int64(2100)}, "gid: becomes"},
		{"user olga", value.Attrs{"groups": []any{"tides"}, "only_groups": true, "shell": "/bin/ash",
			"password": secret}, ""},
		{"user olga", value.Attrs{"groups": []any{}, "only_groups": true, "shell": "/bin/sh", "home": "/srv/olga",
			"password": secret}, "shell: /bin/ash -> /bin/sh"},
		{"user olga", value.Attrs{"group": "tides"}, "group: olga -> tides"},
		{"user olga", value.Attrs{"absent": true}, "existence"},
		{"group tides", value.Attrs{"gid": int64(2200)}, "gid: 2100 -> 2200"},
		{"group tides", value.Attrs{"absent": true}, "existence"},
	} {
		before, after := b.apply(b.task(step.ref, step.attrs))
		if before[0] == "" || step.want != "" && !strings.Contains(before[0],
			strings.TrimSuffix(step.want, "becomes")) ||
			after[0] != "" {
			t.Errorf("%s %v: %q, then %q", step.ref, step.attrs, before, after)
		}
	}
}
