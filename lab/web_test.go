//go:build lab

package lab

import (
	"archive/tar"
	"io"
	"strings"
)

// serve brings up a web server of busybox's on the host itself.
const serve = "mkdir -p /srv/web; pgrep -x busybox >/dev/null || busybox httpd -p 127.0.0.1:8080 -h /srv/web; "

// harmonics is a line that makes the same bytes wherever it runs.
const harmonics = "seq 1 200000 >/srv/web/harmonics.txt; "

// tarball is an archive with one file.
var tarball = func() string {
	var b strings.Builder
	w := tar.NewWriter(&b)
	w.WriteHeader(&tar.Header{Name: "week.svg", Mode: 0o644, Size: 7})
	io.WriteString(w, "<svg/>\n")
	w.Close()
	return b.String()
}()

func init() {
	proofs["download"] = proof{
		// The first of it has come already, as if a cable had been cut.
		before: serve + harmonics + `d=/var/lib/jadekettle/downloads; mkdir -p -m 700 /var/lib/jadekettle $d
head -c 500000 /srv/web/harmonics.txt >$d/5af7b95208fdcff454bab3f5eddf567a688a3796c703d4fef91072e38645c062`,
		declare: `[download."/srv/fetched/harmonics.txt"]
url = "http://127.0.0.1:8080/harmonics.txt"
sha256 = "5af7b95208fdcff454bab3f5eddf567a688a3796c703d4fef91072e38645c062"
owner = "nobody"
mode = "0640"
[dir."/srv/fetched"]
owner = "root"
mode = "0755"
[download."/srv/fetched/today.txt"]
url = "http://127.0.0.1:8080/harmonics.txt"
insecure_without_checksum = true
headers = { X-Tide = "high" }
owner = "root"
mode = "0644"
`,
		look: map[string]string{
			"stat -c '%U %a' /srv/fetched/harmonics.txt":                       "nobody 640",
			"cmp /srv/web/harmonics.txt /srv/fetched/harmonics.txt && echo ok": "ok",
			"ls /var/lib/jadekettle/downloads | wc -l":                         "0",
		},
		spoil:    "echo x >>/srv/fetched/harmonics.txt",
		repaired: []string{"download /srv/fetched/harmonics.txt"},
		away:     "[download.\"/srv/fetched/harmonics.txt\"]\nabsent = true\n",
		gone:     map[string]string{"ls /srv/fetched": "today.txt"},
	}
	proofs["unpack"] = proof{
		before: serve + `cd /root && mkdir -p viewer-2.1/bin && echo 'echo tides' >viewer-2.1/bin/viewer &&
chmod 4775 viewer-2.1/bin/viewer && ln -sf bin/viewer viewer-2.1/run && tar -cJf /srv/web/viewer.tar.xz viewer-2.1 ||
tar -czf /srv/web/viewer.tar.xz viewer-2.1; mkdir -p /opt/viewer && echo kept >/opt/viewer/own-notes`,
		declare: `[unpack."/opt/viewer"]
from = "http://127.0.0.1:8080/viewer.tar.xz"
insecure_without_checksum = true
strip_components = 1
[unpack."/srv/plots"]
from = "plots.tar"
owner = "nobody"
`,
		files: map[string]string{"plots.tar": tarball},
		look: map[string]string{
			"cat /opt/viewer/run /opt/viewer/own-notes; stat -c '%U %a' " +
				"/opt/viewer/bin/viewer": "echo tides\nkept\nroot 755",
			"stat -c '%U %n' /srv/plots /srv/plots/week.svg; ls -A /opt /srv | grep -c " +
				"kettle": "nobody /srv/plots\nnobody " +
				"/srv/plots/week.svg\n0",
		},
		spoil:    "echo x >>/opt/viewer/bin/viewer; rm -r /srv/plots",
		repaired: []string{"unpack /opt/viewer", "unpack /srv/plots"},
		away:     "[unpack.\"/opt/viewer\"]\nabsent = true\n[unpack.\"/srv/plots\"]\nabsent = true\n",
		gone:     map[string]string{"ls /opt/viewer; ls -d /srv/plots 2>/dev/null": "own-notes"},
	}
	// A custom kind, as `jadekettle kinds new` makes it.
	proofs["gauge_offset"] = proof{
		declare: "[gauge_offset.\"/srv/offset\"]\ntext = \"high water at six\"\nending = \"stop\"\n",
		look: map[string]string{
			"cat /srv/offset; stat -c '%U %a' /var/lib/jadekettle/programs/*": "high water at six.\n" +
				"root 700"},
		spoil:    "echo low >/srv/offset",
		repaired: []string{"gauge_offset /srv/offset"},
		away:     "[gauge_offset.\"/srv/offset\"]\nabsent = true\n",
		gone:     map[string]string{"ls /srv/offset 2>/dev/null": ""},
	}
	proofs["probe"] = proof{
		before: serve + "echo ebb at six >/srv/web/now.txt",
		declare: `[probe."the server answers"]
port = "127.0.0.1:8080"
[probe."the page shows the tide"]
url = "http://127.0.0.1:8080/now.txt"
text = "^ebb"
[probe."sshd runs"]
process = "sshd"
[probe."the host knows itself"]
resolves = "gauge-01"
[probe."the logger's notes are there"]
file = "/srv/web/now.txt"
text = "six"
[probe."nothing failed"]
script = "false"
exit_code = 1
[probe."the controller reaches sshd"]
port = "192.0.2.11:22"
asked_from = "controller"
`,
		spoil: "true",
		away:  "",
		look:  map[string]string{"grep -c probe /var/lib/jadekettle/ledger.json": "0"},
	}
	proofs["checkout"] = proof{
		before: `export HOME=/root GIT_CONFIG_GLOBAL=/root/gc; git config --global user.email keepers@example.org
git config --global user.name Keepers; rm -rf /srv/git/pages; mkdir -p /srv/git/pages && cd /srv/git/pages &&
git init -q -b main && echo one >index && git add index && git commit -qm one && git tag -a v1 -m v1 &&
echo two >index && git commit -qam two`,
		declare: `[checkout."/srv/pages"]
url = "/srv/git/pages"
revision = "main"
[checkout."/srv/pages-1"]
url = "file:///srv/git/pages"
revision = "v1"
discard_edits = true
`,
		look: map[string]string{
			"cat /srv/pages/index /srv/pages-1/index": "two\none",
			"cd /srv/pages-1; git describe --tags":    "v1",
		},
		spoil: "cd /srv/git/pages; git checkout -q main; git -c user.name=k -c user.email=k@example.org commit -q " +
			"--allow-empty -m three; " +
			"echo edited >/srv/pages-1/index",
		repaired: []string{"checkout /srv/pages", "checkout /srv/pages-1"},
		away: "[dir.\"/srv/pages\"]\nabsent = true\nwith_contents = true\n[dir.\"/srv/pages-1\"]\nabsent = " +
			"true\nwith_contents = true\n",
		gone: map[string]string{"ls -d /srv/pages* 2>/dev/null": ""},
	}
	proofs["dir"] = proof{
		before: "mkdir -p /srv/site/old; echo x >/srv/site/stray; echo y >/srv/site/old/z",
		declare: `[dir."/srv/site"]
copy = "site"
owner = "nobody"
mode = "0755"
dir_mode = "0750"
only_declared = true
`,
		files: map[string]string{"site/index.html": "<h1>Tides</h1>\n", "site/plots/deep/week.svg": "<svg/>\n"},
		look: map[string]string{
			"cd /srv/site; find . -mindepth 1 -printf '%p %u %m\\n' | sort": "./index.html nobody 644\n./plots " +
				"nobody 750\n./plots/deep nobody 750\n./plots/deep/week.svg nobody 644",
			"cat /srv/site/plots/deep/week.svg": "<svg/>",
		},
		spoil:    "echo x >/srv/site/plots/stray; chmod 600 /srv/site/index.html; rm -r /srv/site/plots/deep",
		repaired: []string{"dir /srv/site"},
		away:     "[dir.\"/srv/site\"]\nabsent = true\nwith_contents = true\n",
		gone:     map[string]string{"ls -d /srv/site 2>/dev/null": ""},
	}
}
