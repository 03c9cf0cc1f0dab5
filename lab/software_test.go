//go:build lab

package lab

func init() {
	proofs["package"] = proof{
		before: "apt-get update -q >/dev/null; true",
		declare: `[package.chart-press]
version = "2.0.*"
hold = true
[package.buoy-tools]
absent = true
purge = true
`,
		look:   map[string]string{"dpkg-query -W -f '${Version}' chart-press; apt-mark showhold": "2.0.1-1chart-press"},
		spoil:  "apt-mark unhold chart-press >/dev/null",
		mended: []string{"package chart-press"},
		away:   "[package.chart-press]\nabsent = true\npurge = true\n",
		gone:   map[string]string{"dpkg-query -W -f '${Status}' chart-press 2>/dev/null || echo gone": "gone"},
	}
	proofs["service"] = proof{
		declare: "[service.cron]\nrunning = false\nmasked = true\n",
		look:    map[string]string{"systemctl is-active cron; systemctl is-enabled cron": "inactive\nmasked"},
		spoil:   "systemctl unmask cron; systemctl start cron",
		mended:  []string{"service cron"},
		away:    "[service.cron]\nmasked = false\nrunning = true\nboot = true\nstart_limit = \"30s\"\n",
		gone:    map[string]string{"systemctl is-active cron; systemctl is-enabled cron": "active\nenabled"},
	}
}
