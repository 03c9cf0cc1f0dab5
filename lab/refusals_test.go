//go:build lab

package lab

import (
	"strings"
	"testing"
)

// TestRefusalsOnRealHosts declares what a host cannot take: each task fails with
// words that help, and what stood before stands.
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
	"a repository that is not there": {
		declare: "[repo.gone]\nurls = [\"file:/srv/nowhere\"]\nsuites = [\"./\"]\ninsecure_without_key = true\n",
		says:    "its lists cannot be fetched, so what stood before stands again",
		look:    "ls /etc/apt/sources.list.d",
	},
	"a key that signed nothing": {
		declare: "[repo.gone]\nurls = [\"file:/srv/repo\"]\nsuites = [\"./\"]\nkey = \"\"\"\n-----BEGIN PGP " +
			"PUBLIC KEY BLOCK-----\n\nmDMEZ0AAABYJKwYBBAHaRw8BAQdA\n-----END PGP PUBLIC KEY BLOCK-----\n\"\"\"\n",
		says: "its lists cannot be fetched", look: "ls /etc/apt/sources.list.d /etc/apt/keyrings",
		want: "/etc/apt/keyrings:\n\n/etc/apt/sources.list.d:",
	},
	"a rule that does not parse": {
		declare: "[sudo_rule.odd]\nwho = [\"%keepers\"]\ncommands = [\"/bin/ls ^((\"]\n",
		says:    "the file was left as it is", look: "ls /etc/sudoers.d", want: "README\nops",
	},
	"a value that the kernel refuses": {
		declare: "[sysctl.\"net.ipv4.tcp_congestion_control\"]\nvalue = \"nonsense\"\n",
		says:    "sysctl ended with code", look: "cat /etc/sysctl.d/90-jadekettle.conf 2>/dev/null",
	},
	"a setting that the kernel has not": {
		declare: "[sysctl.\"net.ipv4.nonsense\"]\nvalue = 1\n", says: "the kernel has no setting net.ipv4.nonsense",
	},
	"a script that hangs": {
		declare: "[command.hang]\nscript = \"sleep 1234 & sleep 1234\"\nalways = true\ntimeout = \"1s\"\n",
		says:    "did not end within 1s", look: "pgrep -c -x sleep",
		want: "0",
	},
	"a step that does not do what it says": {
		declare: "[command.idle]\nscript = \"true\"\ndone_if_exists = \"/srv/never\"\n",
		says:    "the change did not hold",
	},
	"a check that fails": {
		before: "echo 'Port 22' > /etc/ssh/sshd_config.d/odd.conf",
		declare: "[lines.\"/etc/ssh/sshd_config.d/odd.conf\"]\nput = [{ text = \"Prot 23\", over = \"^Port\" " +
			"}]\ncheck = \"sshd -t -f ${candidate}\"\n",
		says: "the file was left as it is", look: "cat /etc/ssh/sshd_config.d/odd.conf", want: "Port 22",
	},
	"a device that is not there": {
		before: "mkdir -p /mnt/none; echo '# mine' > /etc/fstab",
		declare: "[mount.\"/mnt/none\"]\nwhat = \"/dev/none\"\n" +
			"type = \"ext4\"\n",
		says: "mount ended with code 32", look: "cat /etc/fstab", want: "# mine",
	},
	"a file that is not the declared one": {
		before: serve + "echo tides >/srv/web/tides.txt",
		declare: "[download.\"/srv/tides.txt\"]\nurl = \"http://127.0.0.1:8080/tides.txt\"\nsha256 = \"" +
			strings.Repeat("0", 64) + "\"\n",
		says: "which is not the declared one", look: "ls /srv/tides.txt /var/lib/jadekettle/downloads 2>/dev/null",
		want: "/var/lib/jadekettle/downloads:",
	},
	"an archive that leads out of its folder": {
		before:  serve + "mkdir -p /srv/e && cd /srv/e && tar -Pcf /srv/evil.tar ../../etc/hostname",
		declare: "[unpack.\"/srv/evil\"]\nfrom = \"/srv/evil.tar\"\n", says: "would come to lie outside the folder",
		look: "ls -d /srv/evil /srv/.* 2>/dev/null | grep -e evil -e kettle",
	},
	"a branch that is not there": {
		before:  "rm -rf /srv/g && git init -q /srv/g",
		declare: "[checkout.\"/srv/g2\"]\nurl = \"/srv/g\"\nrevision = \"spring-tide\"\n",
		says:    "the repository has no branch or tag spring-tide", look: "ls -d /srv/g2 2>/dev/null",
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
		says:    "127.0.0.1:9 does not answer: connection refused; asked 2 times in 2s",
	},
	"a page that says something else": {
		before:  serve + "echo ebb >/srv/web/now.txt",
		declare: "[probe.page]\nurl = \"http://127.0.0.1:8080/now.txt\"\ntext = \"flood\"\nwithin = \"1s\"\n",
		says:    "does not hold \"flood\"",
	},
	"a page that is not there": {
		before:  serve,
		declare: "[probe.page]\nurl = \"http://127.0.0.1:8080/nowhere\"\nwithin = \"1s\"\n",
		says: "answers with the " +
			"status 404",
	},
	"a name that nobody knows": {
		declare: "[probe.name]\nresolves = \"nowhere.example.org\"\nwithin = \"1s\"\n", says: "is not known",
	},
	"a kind's program that prints garbage": {
		declare: "[garbage.x]\n", says: "the kind's program answers read with what is no answer",
	},
	"a kind's program that exits 7": {
		declare: "[seven.x]\n", says: "asked to read, ended with code 7: the valve is stuck",
	},
	"a kind's program that lies":  {declare: "[liar.x]\n", says: "the change did not hold: x is a, declared b"},
	"a zone that nobody lives in": {declare: "[timezone.\"Mare/Tranquillitatis\"]\n", says: "knows no time zone"},
	"a user that is not there": {
		declare: "[command.x]\nrun = [\"true\"]\nalways = true\nrun_as = \"nemo\"\n",
		says:    "nemo is no user of this host",
	},
	"a link where a file stands": {before: "echo x > /srv/file", declare: "[link.\"/srv/file\"]\nto = \"/srv\"\n",
		says: "is there and no link", look: "cat /srv/file", want: "x"},
}
