//go:build lab

package lab

func init() {
	proofs["command"] = initCases
	proofs["cron"] = proof{
		declare: `[cron.rotate]
schedule = "15 3 * * 1-5"
run = "test -x /bin/true && date +%H > /tmp/x"
environment = { MAILTO = "keepers@example.org" }
`,
		look: map[string]string{"cat /etc/cron.d/rotate": "# Kept by Jade Kettle from " +
			"manifests/cron/manifest.toml. Edit it there: changes made here are replaced.\n" +
			"MAILTO=\"keepers@example.org\"\n15 3 * * 1-5 root test -x /bin/true && date +\\%H > /tmp/x",
			"stat -c '%U %a' /etc/cron.d/rotate": "root 644"},
		spoil:    "chmod 666 /etc/cron.d/rotate",
		repaired: []string{"cron rotate"},
		away:     "[cron.rotate]\nabsent = true\n",
		gone:     map[string]string{"ls /etc/cron.d | grep rotate": ""},
	}
	proofs["sysctl"] = proof{
		declare: "[sysctl.\"net.ipv4.ip_forward\"]\nvalue = 1\n[sysctl.\"net.ipv4.ip_local_port_range\"]\n" +
			"value = \"33000 60000\"\n",
		look: map[string]string{
			"cat /proc/sys/net/ipv4/ip_forward /proc/sys/net/ipv4/ip_local_port_range": "1\n33000\t60000",
			"sort /etc/sysctl.d/90-jadekettle.conf": "net.ipv4.ip_forward = 1\n" +
				"net.ipv4.ip_local_port_range = 33000 60000"},
		spoil:    "echo 0 > /proc/sys/net/ipv4/ip_forward; sed -i /range/d /etc/sysctl.d/90-jadekettle.conf",
		repaired: []string{"sysctl net.ipv4.ip_forward", "sysctl net.ipv4.ip_local_port_range"},
		away: "[sysctl.\"net.ipv4.ip_forward\"]\nabsent = true\n[sysctl.\"net.ipv4.ip_local_port_range\"]\n" +
			"absent = true\n",
		gone: map[string]string{"ls /etc/sysctl.d | grep jadekettle; true": ""},
	}
	proofs["kmod"] = proof{ // a container may not load modules, so nothing here is
		declare: "[kmod.floppy]\nkept_out = true\n[kmod.dummy]\nat_boot = true\noptions = \"numdummies=2\"\n",
		look: map[string]string{
			"cat /etc/modprobe.d/jadekettle-floppy.conf": "blacklist floppy\n" +
				"install floppy /bin/false",
			"cat /etc/modprobe.d/jadekettle-dummy.conf /etc/modules-load.d/jadekettle-dummy.conf": "options dummy " +
				"numdummies=2\ndummy"},
		spoil:    "rm /etc/modprobe.d/jadekettle-floppy.conf /etc/modules-load.d/jadekettle-dummy.conf",
		repaired: []string{"kmod floppy", "kmod dummy"},
		away:     "[kmod.floppy]\nkept_out = false\n[kmod.dummy]\nat_boot = false\noptions = \"\"\n",
		gone:     map[string]string{"ls /etc/modprobe.d /etc/modules-load.d | grep jadekettle": ""},
	}
	proofs["hostname"] = proof{
		declare:  "[hosts_entry.\"127.0.1.1\"]\nnames = [\"pier-gauge\"]\n[hostname.\"pier-gauge\"]\n",
		look:     map[string]string{"hostname; cat /etc/hostname": "pier-gauge\npier-gauge"},
		spoil:    "hostname wrong; echo wrong > /etc/hostname",
		repaired: []string{"hostname pier-gauge"},
		away:     "[hostname.\"gauge-01\"]\n",
		gone:     map[string]string{"hostname; cat /etc/hostname": "gauge-01\ngauge-01"},
	}
	proofs["timezone"] = proof{
		declare: "[timezone.\"Europe/Berlin\"]\n",
		look: map[string]string{
			"readlink /etc/localtime; date +%Z | grep -c CE": "/usr/share/zoneinfo/Europe/Berlin\n1"},
		spoil:    "ln -sf /usr/share/zoneinfo/UTC /etc/localtime",
		repaired: []string{"timezone Europe/Berlin"},
		away:     "[timezone.UTC]\n",
		gone:     map[string]string{"date +%Z": "UTC"},
	}
	proofs["locale"] = proof{
		declare: "[locale.\"de_DE.UTF-8\"]\n",
		look: map[string]string{
			". /etc/default/locale; echo $LANG; locale -a | grep de_": "de_DE.UTF-8\nde_DE.utf8"},
		spoil:    "sed -i s/de_DE/C/ /etc/default/locale",
		repaired: []string{"locale de_DE.UTF-8"},
		away:     "[locale.\"POSIX\"]\n",
		gone:     map[string]string{". /etc/default/locale; echo $LANG": "POSIX"},
	}
	proofs["mount"] = initCases2
}

// initCases2 are what init goes through.
var initCases2 = proof{
	before: "echo '# the file systems' > /etc/fstab",
	declare: `[dir."/srv/scratch pad"]
owner = "nobody"
mode = "0770"
[mount."/srv/scratch pad"]
what = "tmpfs"
type = "tmpfs"
options = ["size=1m", "mode=0755", "noexec"]
[file."/srv/scratch pad/note"]
content = "ebb"
owner = "root"
mode = "0644"
`,
	look: map[string]string{
		"cat /etc/fstab": "# the file systems\ntmpfs /srv/scratch\\040pad tmpfs size=1m,mode=0755,noexec 0 0",
		"findmnt -no FSTYPE,OPTIONS '/srv/scratch pad' | grep -c 'tmpfs.*noexec.*size=1024k'": "1"},
	spoil:    "umount '/srv/scratch pad'; sed -i s/size=1m/size=2m/ /etc/fstab",
	repaired: []string{"mount /srv/scratch pad", "dir /srv/scratch pad", "file /srv/scratch pad/note"},
	away:     "[mount.\"/srv/scratch pad\"]\nabsent = true\n",
	gone:     map[string]string{"cat /etc/fstab; findmnt '/srv/scratch pad'": "# the file systems"},
}

// initCases are what init goes through.
var initCases = proof{
	before: "useradd -m runner; rm -rf /srv/reported",
	declare: `[file."/etc/stations"]
content = "north-pier\n"
owner = "root"
mode = "0644"
[command."report the stations"]
script = "cat /etc/stations >> /srv/reported"
only_if_changed = ["file /etc/stations"]
[command."build the index"]
run = ["sh", "-c", "id -un > index; pwd >> index; echo $TZ >> index; cat >> index"]
done_if_exists = "/home/runner/index"
run_as = "runner"
folder = "/home/runner"
environment = { TZ = "UTC" }
input = "from the input\n"
[command."count"]
script = "echo x >> /srv/count"
done_if = "test $(wc -l < /srv/count 2>/dev/null || echo 0) -ge 2 || test -e /srv/count"
`,
	look: map[string]string{
		"cat /home/runner/index":                  "runner\n/home/runner\nUTC\nfrom the input",
		"stat -c %U /home/runner/index":           "runner",
		"cat /srv/count; sort -u < /srv/reported": "x\nnorth-pier",
	},
	spoil:    "echo y > /etc/stations; rm /home/runner/index",
	repaired: []string{"file /etc/stations", "command report the stations", "command build the index"},
	away:     "[file.\"/etc/stations\"]\nabsent = true\n",
	gone:     map[string]string{"wc -l < /srv/reported": "2"},
}

func init() {
	proofs["firewall"] = proof{
		declare: `[firewall.web]
open = ["80", "443", "5000-5010/udp"]
[firewall.house]
open = ["all"]
from = ["192.0.2.0/24", "2001:db8::/32"]
[firewall.noisy-neighbour]
refuse = ["8080"]
from = ["192.0.2.200"]
interface = "host0"
`,
		look: map[string]string{
			"nft list table inet jadekettle | grep -c -e 'dport { 80, 443 } accept' -e 'iifname \"host0\" ip saddr " +
				"192.0.2.200 tcp " +
				"dport 8080 drop' -e 'tcp dport 22 accept comment' -e 'policy drop'": "4",
			"systemctl is-enabled jadekettle-firewall; systemctl start jadekettle-firewall && echo " +
				"started": "enabled\nstarted",
		},
		spoil:    "nft add rule inet jadekettle incoming tcp dport 9999 accept",
		repaired: []string{"firewall web"},
		away: "[firewall.web]\nabsent = true\n[firewall.house]\nabsent = true\n[firewall.noisy-neighbour]\n" +
			"absent = true\n",
		gone: map[string]string{"nft list tables; ls /etc/jadekettle* /etc/systemd/system/jadekettle* " +
			"/etc/systemd/system/sysinit.target.wants/jadekettle* 2>/dev/null": ""},
	}
}
