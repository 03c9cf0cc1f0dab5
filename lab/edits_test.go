//go:build lab

package lab

func init() {
	proofs["lines"] = proof{
		before: "printf '#Banner none\\nUseDNS yes\\n' > /etc/ssh/sshd_config.d/tide.conf",
		declare: `[lines."/etc/ssh/sshd_config.d/tide.conf#names"]
add = [{ line = "UseDNS no", replaces = '^#?\s*UseDNS\b' }]
check = "sshd -t -f ${candidate}"
[lines."/etc/ssh/sshd_config.d/tide.conf#banner"]
remove = ['^#Banner']
add = [{ line = "MaxStartups 100:30:200", above = '^UseDNS' }]
`,
		look: map[string]string{"cat /etc/ssh/sshd_config.d/tide.conf": "MaxStartups 100:30:200\nUseDNS no",
			"stat -c '%U %a' /etc/ssh/sshd_config.d/tide.conf": "root 644"},
		spoil: "echo 'UseDNS yes' > /etc/ssh/sshd_config.d/tide.conf",
		repaired: []string{"lines /etc/ssh/sshd_config.d/tide.conf#names",
			"lines /etc/ssh/sshd_config.d/tide.conf#banner"},
		away: "[lines.\"/etc/ssh/sshd_config.d/tide.conf\"]\nremove = ['.']\n",
		gone: map[string]string{"cat /etc/ssh/sshd_config.d/tide.conf": ""},
	}
	proofs["block"] = proof{
		before:  "printf 'first\\nlast\\n' > /etc/tide.conf; chmod 600 /etc/tide.conf",
		declare: "[block.\"/etc/tide.conf#pier\"]\ncontent = \"one\\ntwo\\n\"\nabove = '^last'\n",
		look: map[string]string{"cat /etc/tide.conf": "first\n# jadekettle pier: start\none\ntwo\n# jadekettle " +
			"pier: end\nlast",
			"stat -c '%U %a' /etc/tide.conf": "root 600"},
		spoil:    "sed -i s/one/1/ /etc/tide.conf",
		repaired: []string{"block /etc/tide.conf#pier"},
		away:     "[block.\"/etc/tide.conf#pier\"]\nabsent = true\n",
		gone:     map[string]string{"cat /etc/tide.conf": "first\nlast"},
	}
	proofs["settings"] = proof{
		before: "echo '{\"debug\": false, \"list\": [1, 2]}' > /etc/tide.json; printf 'A=1\\n# why\\nB=\"x\"\\n' > " +
			"/etc/default/tide; printf 'relay:\\n  seconds: 4 # not more\\n  names: [a, b]\\n' > /etc/foghorn.yaml",
		declare: `[settings."/etc/systemd/journald.conf"]
format = "ini"
section = "Journal"
set = { SystemMaxUse = "50M" }
[settings."/etc/tide.json"]
format = "json"
section = "feeds"
set = { rate = 60 }
[settings."/etc/default/tide"]
format = "key=value"
set = { A = "two words" }
unset = ["B"]
[settings."/etc/foghorn.yaml"]
format = "yaml"
section = "relay"
set = { seconds = 5, code = "0117" }
`,
		look: map[string]string{"grep -A1 SystemMaxUse /etc/systemd/journald.conf | head -2": "#SystemMaxUse=\n" +
			"SystemMaxUse=50M",
			"cat /etc/foghorn.yaml":           "relay:\n  seconds: 5 # not more\n  names: [a, b]\n  code: \"0117\"",
			"cat /etc/tide.json":              `{"debug": false, "list": [1, 2], "feeds": {"rate": 60}}`,
			". /etc/default/tide; echo $A $B": "two words", "cat /etc/default/tide": "A=\"two words\"\n# why"},
		spoil: "sed -i s/=50M/=60M/ /etc/systemd/journald.conf; sed -i s/60/61/ /etc/tide.json; echo B=1 >> " +
			"/etc/default/tide; sed -i s/0117/117/ /etc/foghorn.yaml",
		repaired: []string{"settings /etc/foghorn.yaml", "settings /etc/systemd/journald.conf",
			"settings /etc/tide.json", "settings /etc/default/tide"},
		away: "[settings.\"/etc/systemd/journald.conf\"]\nformat = \"ini\"\nsection = \"Journal\"\nunset = " +
			"[\"SystemMaxUse\"]\n" +
			"[settings.\"/etc/tide.json\"]\nformat = \"json\"\nunset = [\"feeds\"]\n",
		gone: map[string]string{
			"grep -c ^SystemMaxUse /etc/systemd/journald.conf; cat /etc/tide.json": "0\n{\"debug\": " +
				"false, \"list\": [1, 2]}"},
	}
	proofs["hosts_entry"] = proof{
		declare:  "[hosts_entry.\"192.0.2.77\"]\nnames = [\"gauge-77.example.org\", \"gauge-77\"]\n",
		look:     map[string]string{"getent hosts gauge-77": "192.0.2.77      gauge-77.example.org gauge-77"},
		spoil:    "sed -i 's/gauge-77$/gauge-78/' /etc/hosts; echo '192.0.2.77 twice' >> /etc/hosts",
		repaired: []string{"hosts_entry 192.0.2.77"},
		away:     "[hosts_entry.\"192.0.2.77\"]\nabsent = true\n",
		gone:     map[string]string{"getent hosts gauge-77; grep -c 192.0.2.77 /etc/hosts": "0"},
	}
}
