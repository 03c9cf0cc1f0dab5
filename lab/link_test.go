//go:build lab

package lab

func init() {
	proofs["link"] = proof{
		before: "mkdir -p /srv/charts-2025; ln -s /srv/charts-2025 /srv/old-charts",
		declare: `[dir."/srv/charts-2026"]
owner = "root"
mode = "0755"
[link."/srv/charts"]
to = "charts-2026"
[link."/srv/old-charts"]
to = "/srv/charts-2026"
`,
		look: map[string]string{
			"readlink /srv/charts /srv/old-charts": "charts-2026\n/srv/charts-2026",
			"ls -A /srv | grep jadekettle-":        "",
		},
		spoil:    "ln -sfn /tmp /srv/charts; rm /srv/old-charts",
		repaired: []string{"link /srv/charts", "link /srv/old-charts"},
		away:     "[link.\"/srv/charts\"]\nabsent = true\n[link.\"/srv/old-charts\"]\nabsent = true\n",
		gone:     map[string]string{"ls /srv | grep -x -e charts -e old-charts -e charts-2026": "charts-2026"},
	}
}
