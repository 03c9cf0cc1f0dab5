package kinds_test

import (
	"fmt"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine/scripted"
)

// TestWhatIsGuarded says which changes may cut us off, who log in as ops.
func TestWhatIsGuarded(t *testing.T) {
	m := scripted.New(t)
	m.WriteFile("/etc/passwd", "root:x:0:0:root:/root:/bin/sh\nops:x:1000:1000::/home/ops:/bin/sh\n"+
		"maren:x:1001:1001::/home/maren:/bin/sh\n")
	m.WriteFile("/etc/group", "root:x:0:\nops:x:1000:\nwheel:x:10:ops\ndivers:x:20:maren\n")
	env := &kind.Env{Machine: m}
	accounts := "[/etc/passwd /etc/shadow /etc/group /etc/gshadow /home/ops /home/ops/.ssh " +
		"/home/ops/.ssh/authorized_keys] [] false"
	for ref, want := range map[string]string{
		"file /etc/ssh/sshd_config":              "[/etc/ssh/sshd_config] [ssh sshd] false",
		"lines /etc/ssh/sshd_config#root-login":  "[/etc/ssh/sshd_config] [ssh sshd] false",
		"dir /etc/ssh":                           "[/etc/ssh] [ssh sshd] false",
		"file /etc/pam.d/sshd":                   "[/etc/pam.d/sshd] [] false",
		"file /etc/systemd/network/10-a.network": "[/etc/systemd/network/10-a.network] [systemd-networkd] false",
		"file /home/ops/.ssh/authorized_keys":    "[/home/ops/.ssh/authorized_keys] [] false",
		"file /home/maren/.ssh/authorized_keys":  "[] [] false",
		"file /etc/motd":                         "[] [] false",
		"service ssh":                            "[] [ssh] false",
		"service tide-logger":                    "[] [] false",
		"sudo_rule ops":                          "[/etc/sudoers.d/ops] [] false",
		"firewall web": "[/etc/jadekettle-firewall.nft /etc/systemd/system/jadekettle-firewall.service " +
			"/etc/systemd/system/sysinit.target.wants/jadekettle-firewall.service] [] true",
		"user ops":               accounts,
		"user maren":             "[] [] false",
		"group wheel":            accounts,
		"group divers":           "[] [] false",
		"package openssh-server": "[] [] false",
		"unpack /etc/systemd":    "[/etc/systemd] [ssh sshd systemd-networkd] false",
	} {
		r, ok := value.ParseRef(ref)
		if !ok {
			t.Fatal(ref)
		}
		s := kinds.Guarded(env, plan.Task{Ref: r}, "ops")
		if got := fmt.Sprint(s.Paths, s.Services, s.Packets); got != want {
			t.Errorf("%s: %s, want %s", ref, got, want)
		}
	}
}
