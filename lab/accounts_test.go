//go:build lab

package lab

const (
	olgasKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIL1gZGUjwVkZyRxu30u5mJHjMNNvU3Q2FBSbWIl8wxCd olga@desk"
	oldKey   = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDHGtBhzgbo2OkA4cFiZ7VSkAMZMWB8Rcz71hTjqBkkG old"
)

func init() {
	proofs["user"] = proof{
		before: "useradd -m -G adm,dialout leaver; echo leaver:tides | chpasswd; mkdir -p /home/leaver/.ssh; " +
			"echo '" + oldKey + "' > /home/leaver/.ssh/authorized_keys; chown -R leaver /home/leaver; " +
			"mkdir /root/.ssh; echo '" + oldKey + "' > /root/.ssh/authorized_keys",
		declare: `[user.olga]
keys = ['from="192.0.2.0/24" ` + olgasKey + `']
only_keys = true
groups = ["dialout"]
only_groups = true
home_mode = "0700"
expires = "2031-05-31"
[user.leaver]
groups = []
only_groups = true
keys = []
only_keys = true
locked = true
`,
		look: map[string]string{
			"stat -c '%U %G %a' /home/olga /home/olga/.ssh /home/olga/.ssh/authorized_keys": "olga olga 700\nolga " +
				"olga 700\nolga olga 600",
			"cat /home/olga/.ssh/authorized_keys": `from="192.0.2.0/24" ` + olgasKey,
			"id -nG olga; id -nG leaver":          "olga dialout\nleaver",
			"wc -c < /home/leaver/.ssh/authorized_keys; stat -c %U /home/leaver/.ssh/authorized_keys": "0\nleaver",
			"getent shadow leaver | cut -d: -f2 | cut -c1-2; getent shadow leaver | cut -d: -f8":      "!$\n1",
			"chage -l olga | grep 'Account expires' | cut -d: -f2":                                    "May 31, 2031",
			"cat /root/.ssh/authorized_keys":                                                          oldKey,
		},
		spoil: "usermod -a -G adm olga; echo '" + oldKey + "' > /home/olga/.ssh/authorized_keys; usermod -U -e '' " +
			"leaver",
		repaired: []string{"user olga", "user leaver"},
		away:     "[user.olga]\nabsent = true\n[user.leaver]\nlocked = false\n",
		gone: map[string]string{"getent passwd olga || echo gone": "gone",
			"getent shadow leaver | cut -d: -f2 | cut -c1; getent shadow leaver | cut -d: -f8": "$"},
	}
	proofs["sudo_rule"] = proof{
		before: "useradd -m relayer",
		declare: `[sudo_rule.relay]
who = ["relayer"]
commands = ["/usr/bin/id -un"]
password = false
`,
		look: map[string]string{"su relayer -c 'sudo -n /usr/bin/id -un'": "root",
			"su relayer -c 'sudo -n /usr/bin/id -gn' 2>&1 | grep -c password": "1",
			"stat -c '%U %a' /etc/sudoers.d/relay":                            "root 440"},
		spoil:    "chmod 640 /etc/sudoers.d/relay; sed -i s/NOPASSWD/PASSWD/ /etc/sudoers.d/relay",
		repaired: []string{"sudo_rule relay"},
		away:     "[sudo_rule.relay]\nabsent = true\n",
		gone:     map[string]string{"ls /etc/sudoers.d": "README\nops"},
	}
}
