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
		look: map[string]string{
			"dpkg-query -W -f '${Version}' chart-press; apt-mark showhold": "2.0.1-1chart-press"},
		spoil:    "apt-mark unhold chart-press >/dev/null",
		repaired: []string{"package chart-press"},
		away:     "[package.chart-press]\nabsent = true\npurge = true\n",
		gone:     map[string]string{"dpkg-query -W -f '${Status}' chart-press 2>/dev/null || echo gone": "gone"},
	}
	proofs["repo"] = proof{
		before: "cp -r /srv/repo /srv/repo2",
		declare: `[repo.second]
urls = ["file:/srv/repo2"]
suites = ["./"]
insecure_without_key = true
[package.salt-lamp]
`,
		look: map[string]string{"cat /etc/apt/sources.list.d/second.sources": "# Kept by Jade Kettle from " +
			"manifests/repo/manifest.toml. Edit it there: changes made here are replaced.\n" +
			"Types: deb\nURIs: file:/srv/repo2\nSuites: ./\nTrusted: yes",
			"dpkg-query -W -f '${Status}' salt-lamp": "install ok installed"},
		spoil:    "sed -i s/repo2/repo3/ /etc/apt/sources.list.d/second.sources",
		repaired: []string{"repo second"},
		away:     "[repo.second]\nabsent = true\n",
		gone:     map[string]string{"ls /etc/apt/sources.list.d": ""},
	}
	proofs["service"] = proof{
		declare:  "[service.cron]\nrunning = false\nmasked = true\n",
		look:     map[string]string{"systemctl is-active cron; systemctl is-enabled cron": "inactive\nmasked"},
		spoil:    "systemctl unmask cron; systemctl start cron",
		repaired: []string{"service cron"},
		away:     "[service.cron]\nmasked = false\nrunning = true\nat_boot = true\nstart_limit = \"30s\"\n",
		gone:     map[string]string{"systemctl is-active cron; systemctl is-enabled cron": "active\nenabled"},
	}
}
