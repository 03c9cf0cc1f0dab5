//go:build lab

package lab

import (
	"strings"
	"testing"
)

// What defines the service ebb, by the manager of its host.
var ebbs = map[string]string{
	"openrc": `[file."/etc/init.d/ebb"]
content = """
#!/sbin/openrc-run
command=/bin/sleep
command_args=1000000
command_background=yes
pidfile=/run/ebb.pid
"""
owner = "root"
mode = "0755"
`,
	"runit": `[dir."/etc/sv/ebb"]
owner = "root"
mode = "0755"
[file."/etc/sv/ebb/run"]
content = """
#!/bin/sh
exec sleep 1000000
"""
owner = "root"
mode = "0755"
`,
	"sysv": `[file."/etc/init.d/ebb"]
content = """
#!/bin/sh
### BEGIN INIT INFO
# Provides:          ebb
# Required-Start:
# Required-Stop:
# Default-Start:     2 3 4 5
# Default-Stop:      0 1 6
# Short-Description: ebb
### END INIT INFO
case $1 in
start) start-stop-daemon --start -b -m -p /run/ebb.pid -x /bin/sleep -- 1000000 ;;
stop) start-stop-daemon --stop --remove-pidfile -p /run/ebb.pid --retry 5 ;;
restart) $0 stop; $0 start ;;
status) start-stop-daemon --status -p /run/ebb.pid ;;
*) exit 2 ;;
esac
"""
owner = "root"
mode = "0755"
`,
}

// TestServiceManagersOnRealHosts takes a service through its round on hosts
// that OpenRC, runit and SysV scripts run.
func TestServiceManagersOnRealHosts(t *testing.T) {
	l := up(t, "gauge-openrc", "gauge-runit", "gauge-sysv")
	groups := ""
	write := func(service string) {
		for manager, file := range ebbs {
			path := "/etc/init.d/ebb"
			if manager == "runit" {
				path = "/etc/sv/ebb/run"
			}
			l.write("manifests/"+manager+".toml", file+strings.ReplaceAll(service, "FILE", path))
		}
	}
	for manager := range ebbs {
		groups += "[group." + manager + "]\nmembers = [\"gauge-" + manager + "\"]\nmanifests = [\"" + manager + "\"]\n"
	}
	l.write("groups.toml", groups)
	up := "[service.ebb]\nrunning = true\nat_boot = true\nrestart_on = [\"file FILE\"]\n[service.tsunami-siren]\n" +
		"optional = true\nrunning = true\n"
	write(up)
	if code, out := l.jk("preview"); code != 0 {
		t.Fatalf("preview ended with %d:\n%s", code, out)
	}
	l.apply(0)
	if again := l.apply(0).changed(); len(again) > 0 {
		t.Errorf("the second apply changed:\n%s", strings.Join(again, "\n"))
	}
	pids := map[string]string{}
	for host := range l.addresses {
		if pids[host] = l.on(host, "pgrep -x sleep; true"); pids[host] == "" {
			t.Errorf("%s runs no ebb", host)
		}
	}
	// What is changed is restarted; what was stopped by hand is started.
	for manager := range ebbs {
		ebbs[manager] = strings.Replace(ebbs[manager], "1000000", "2000000", 1)
	}
	write(up)
	l.apply(0)
	for host := range l.addresses {
		if got := l.on(host, "pgrep -f 'sleep 2000000'; true"); got == "" || got == pids[host] {
			t.Errorf("%s: ebb was %s and is %s", host, pids[host], got)
		}
	}
	l.on("gauge-openrc", "rc-service ebb stop >/dev/null; rc-update del ebb default >/dev/null")
	l.on("gauge-runit", "sv stop /etc/service/ebb; rm /etc/service/ebb")
	l.on("gauge-sysv", "/etc/init.d/ebb stop; rm -f /etc/rc?.d/*ebb")
	if got := strings.Join(l.apply(0).changed(), "\n"); strings.Count(got, "service ebb changed") != 3 {
		t.Errorf("the repair changed:\n%s", got)
	}
	out, _ := l.in(l.program, "--project", l.project, "capture", "gauge-runit", "service", "ebb").Output()
	if !strings.Contains(string(out), "[service.ebb]\nrunning = true\nat_boot = true\n") {
		t.Errorf("captured is:\n%s", out)
	}
	write("[service.ebb]\nrunning = false\nat_boot = false\n")
	l.apply(0)
	if code, out := l.jk("undo", "last", "--yes"); code != 0 {
		t.Errorf("undo ends with %d\n%s", code, out)
	}
	for host := range l.addresses {
		if got := l.on(host, "pgrep -f 'sleep 2000000'; true"); got == "" {
			t.Errorf("undone, %s runs no ebb", host)
		}
	}
	l.apply(0)
	if again := l.apply(0).changed(); len(again) > 0 {
		t.Errorf("stopped, this changed:\n%s", strings.Join(again, "\n"))
	}
	for host := range l.addresses {
		if got := l.on(host, "pgrep -x sleep; true"); got != "" {
			t.Errorf("%s still runs ebb", host)
		}
	}
	l.write("manifests/sysv.toml", "[service.ebb]\nmasked = true\n")
	if got := strings.Join(l.apply(1).changed(), "\n"); !strings.Contains(got, "this host cannot mask services") {
		t.Errorf("masking gives:\n%s", got)
	}
}
