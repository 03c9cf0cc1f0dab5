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
	for name, c := range map[string]struct{ before, declare, says, look, want string }{
		"a repository that is not there": {
			declare: "[repo.gone]\nurls = [\"file:/srv/nowhere\"]\nsuites = [\"./\"]\ninsecure_without_key = true\n",
			says:    "its lists cannot be fetched, so what stood before stands again",
			look:    "ls /etc/apt/sources.list.d",
		},
		"a key that signed nothing": {
			declare: "[repo.gone]\nurls = [\"file:/srv/repo\"]\nsuites = [\"./\"]\nkey = \"\"\"\n-----BEGIN PGP PUBLIC KEY " +
				"BLOCK-----\n\nmDMEZ0AAABYJKwYBBAHaRw8BAQdA\n-----END PGP PUBLIC KEY BLOCK-----\n\"\"\"\n",
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
			declare: "[command.idle]\nscript = \"true\"\ndone_if_exists = \"/srv/never\"\n", says: "the change did not hold",
		},
		"a check that fails": {
			before: "echo 'Port 22' > /etc/ssh/sshd_config.d/odd.conf",
			declare: "[lines.\"/etc/ssh/sshd_config.d/odd.conf\"]\nput = [{ text = \"Prot 23\", over = \"^Port\" }]\ncheck = " +
				"\"sshd -t -f ${candidate}\"\n",
			says: "the file was left as it is", look: "cat /etc/ssh/sshd_config.d/odd.conf", want: "Port 22",
		},
		"a device that is not there": {
			before: "mkdir -p /mnt/none; echo '# mine' > /etc/fstab", declare: "[mount.\"/mnt/none\"]\nwhat = \"/dev/none\"\n" +
				"type = \"ext4\"\n",
			says: "mount ended with code 32", look: "cat /etc/fstab", want: "# mine",
		},
		"a zone that nobody lives in": {declare: "[timezone.\"Mare/Tranquillitatis\"]\n", says: "knows no time zone"},
		"a user that is not there": {
			declare: "[command.x]\nrun = [\"true\"]\nalways = true\nrun_as = \"nemo\"\n", says: "nemo is no user of this host",
		},
		"a link where a file stands": {before: "echo x > /srv/file", declare: "[link.\"/srv/file\"]\nto = \"/srv\"\n",
			says: "is there and no link", look: "cat /srv/file", want: "x"},
	} {
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
