//go:build lab

package lab

import (
	"strings"
	"testing"
)

// TestRefusalsOnRealHosts declares what a host cannot take: each task fails with
// words that help, and what was there before still is.
func TestRefusalsOnRealHosts(t *testing.T) {
	l := up(t)
	l.write("groups.toml", "[group.first]\nmembers = [\"gauge-01\"]\nmanifests = [\"all\"]\n")
	for name, program := range map[string]string{
		"garbage": "echo sludge", "seven": "echo 'the valve is stuck' >&2; exit 7",
		"liar": "case $1 in read) echo '{\"state\":1}' ;; compare) echo " +
			"'{\"changes\":[{\"what\":\"x\",\"was\":\"a\",\"becomes\":\"b\"}]}' ;; esac",
	} {
		l.write("kinds/"+name+"/kind.toml", "about = \"odd\"\n")
		l.write("kinds/"+name+"/program", "#!/bin/sh\n"+program+"\n")
	}
	for name, c := range refusalsOnRealHostsCases {
		if c.before != "" {
			l.on("gauge-01", c.before)
		}
		l.write("manifests/all.toml", c.declare)
		t.Log(name)
		r := l.apply(1)
		if said := strings.Join(r.changed(), "\n"); !strings.Contains(said, c.says) {
			t.Errorf("%s: %s\nwant %q", name, said, c.says)
		}
		if c.look == "" {
			continue
		}
		if got := l.on("gauge-01", "export LC_ALL=C; "+c.look+"; true"); got != c.want {
			t.Errorf("%s leaves %q, want %q", name, got, c.want)
		}
	}
}

// refusalsOnRealHostsCases are what TestRefusalsOnRealHosts goes through.
var refusalsOnRealHostsCases = map[string]struct{ before, declare, says, look, want string }{
	"a repository that does not exist": {
		declare: "[repo.gone]\nurls = [\"file:/srv/nowhere\"]\nsuites = [\"./\"]\ninsecure_without_key = true\n",
		says:    "its package lists cannot be fetched, so the previous state was restored",
		look:    "ls /etc/apt/sources.list.d",
	},
	"a key that signed nothing": {
		declare: "[repo.gone]\nurls = [\"file:/srv/repo\"]\nsuites = [\"./\"]\nkey = \"\"\"\n-----BEGIN PGP " +
			"PUBLIC KEY BLOCK-----\n\nmDMEZ0AAABYJKwYBBAHaRw8BAQdA\n-----END PGP PUBLIC KEY BLOCK-----\n\"\"\"\n",
		says: "its package lists cannot be fetched", look: "ls /etc/apt/sources.list.d /etc/apt/keyrings",
		want: "/etc/apt/keyrings:\n\n/etc/apt/sources.list.d:",
	},
	"a rule that does not parse": {
		declare: "[sudo_rule.odd]\nwho = [\"%keepers\"]\ncommands = [\"/bin/ls ^((\"]\n",
		says:    "the file was not changed", look: "ls /etc/sudoers.d", want: "README\nops",
	},
	"a value that the kernel refuses": {
		declare: "[sysctl.\"net.ipv4.tcp_congestion_control\"]\nvalue = \"nonsense\"\n",
		says:    "sysctl failed (exit status", look: "cat /etc/sysctl.d/90-jadekettle.conf 2>/dev/null",
	},
	"a setting that the kernel has not": {
		declare: "[sysctl.\"net.ipv4.nonsense\"]\nvalue = 1\n", says: "unknown kernel setting net.ipv4.nonsense",
	},
	"a script that hangs": {
		declare: "[command.hang]\nscript = \"sleep 1234 & sleep 1234\"\nalways = true\ntimeout = \"1s\"\n",
		says:    "did not finish within 1s", look: "pgrep -c -x sleep",
		want: "0",
	},
	"a step that does not do what it says": {
		declare: "[command.idle]\nscript = \"true\"\ndone_if_exists = \"/srv/never\"\n",
		says:    "the change did not persist",
	},
	"a check that fails": {
		before: "echo 'Port 22' > /etc/ssh/sshd_config.d/odd.conf",
		declare: "[lines.\"/etc/ssh/sshd_config.d/odd.conf\"]\nadd = [{ line = \"Prot 23\", replaces = \"^Port\" " +
			"}]\ncheck = \"sshd -t -f ${candidate}\"\n",
		says: "the file was not changed", look: "cat /etc/ssh/sshd_config.d/odd.conf", want: "Port 22",
	},
	"a device that does not exist": {
		before: "mkdir -p /mnt/none; echo '# mine' > /etc/fstab",
		declare: "[mount.\"/mnt/none\"]\nwhat = \"/dev/none\"\n" +
			"type = \"ext4\"\n",
		says: "mount failed (exit status 32)", look: "cat /etc/fstab", want: "# mine",
	},
	"a file that is not the declared one": {
		before: serve + "echo tides >/srv/web/tides.txt",
		declare: "[download.\"/srv/tides.txt\"]\nurl = \"http://127.0.0.1:8080/tides.txt\"\nsha256 = \"" +
			strings.Repeat("0", 64) + "\"\n",
		says: "which does not match the declared one", look: "ls /srv/tides.txt /var/lib/jadekettle/downloads " +
			"2>/dev/null",
		want: "/var/lib/jadekettle/downloads:",
	},
	"an archive that leads out of its folder": {
		before:  serve + "mkdir -p /srv/e && cd /srv/e && tar -Pcf /srv/evil.tar ../../etc/hostname",
		declare: "[unpack.\"/srv/evil\"]\nfrom = \"/srv/evil.tar\"\n", says: "would be written outside the directory",
		look: "ls -d /srv/evil /srv/.* 2>/dev/null | grep -e evil -e kettle",
	},
	"a branch that does not exist": {
		before:  "rm -rf /srv/g && git init -q /srv/g",
		declare: "[checkout.\"/srv/g2\"]\nurl = \"/srv/g\"\nrevision = \"spring-tide\"\n",
		says:    "the repository does not have a branch or tag spring-tide", look: "ls -d /srv/g2 2>/dev/null",
	},
	"a working copy that was edited": {
		before: `export HOME=/root; rm -rf /srv/g4 /srv/g3; git init -q -b main /srv/g3 && cd /srv/g3 &&
echo a >f && git add f &&
git -c user.name=k -c user.email=k@example.org commit -qm a && git clone -q /srv/g3 /srv/g4 && echo mine >/srv/g4/f &&
git -c user.name=k -c user.email=k@example.org commit -q --allow-empty -m b`,
		declare: "[checkout.\"/srv/g4\"]\nurl = \"/srv/g3\"\nrevision = \"main\"\n",
		says:    "was edited on the host: f", look: "cat /srv/g4/f", want: "mine",
	},
	"a port that nobody listens on": {
		declare: "[probe.siren]\nport = \"127.0.0.1:9\"\nwithin = \"2s\"\n",
		says:    "127.0.0.1:9 does not respond: connection refused; tried 2 times in 2s",
	},
	"a page that says something else": {
		before:  serve + "echo ebb >/srv/web/now.txt",
		declare: "[probe.page]\nurl = \"http://127.0.0.1:8080/now.txt\"\ntext = \"flood\"\nwithin = \"1s\"\n",
		says:    "does not contain \"flood\"",
	},
	"a page that does not exist": {
		before:  serve,
		declare: "[probe.page]\nurl = \"http://127.0.0.1:8080/nowhere\"\nwithin = \"1s\"\n",
		says:    "responds with status 404",
	},
	"a name that nobody knows": {
		declare: "[probe.name]\nresolves = \"nowhere.example.org\"\nwithin = \"1s\"\n", says: "does not resolve",
	},
	"a kind's program that prints garbage": {
		declare: "[garbage.x]\n", says: "the kind's program responds to read with an invalid response",
	},
	"a kind's program that exits 7": {
		declare: "[seven.x]\n", says: "asked to read, failed (exit status 7): the valve is stuck",
	},
	"a kind's program that lies": {declare: "[liar.x]\n", says: "the change did not persist: x is a, declared b"},
	"a zone that nobody lives in": {declare: "[timezone.\"Mare/Tranquillitatis\"]\n",
		says: "does not know the time zone"},
	"a user that does not exist": {
		declare: "[command.x]\nrun = [\"true\"]\nalways = true\nrun_as = \"nemo\"\n",
		says:    "the user nemo does not exist on this host",
	},
	"a link where a file is": {before: "echo x > /srv/file", declare: "[link.\"/srv/file\"]\nto = \"/srv\"\n",
		says: "exists but is not a symlink", look: "cat /srv/file", want: "x"},
}
