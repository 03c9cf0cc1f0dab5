//go:build lab

package lab

import (
	_ "embed"
	"regexp"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

//go:embed trials.toml
var trialsFile string

// trials are all that are in trials.toml.
var trials = func() []trial {
	named := regexp.MustCompile(`UNIT\((\w+)\)`)
	filled := strings.NewReplacer("OLGAS_KEY", olgasKey, "OLD_KEY", oldKey, "SUM", harmonicsSum, "GIT", gitPages)
	fill := func(s *string) {
		*s = named.ReplaceAllStringFunc(filled.Replace(*s),
			func(m string) string { return unit(m[len("UNIT(") : len(m)-1]) })
	}
	var doc struct{ Trial []trial }
	if err := toml.Unmarshal([]byte(trialsFile), &doc); err != nil {
		panic("trials.toml: " + err.Error())
	}
	for i := range doc.Trial {
		tr := &doc.Trial[i]
		for _, s := range []*string{&tr.Before, &tr.Declare, &tr.Look, &tr.Says, &tr.Breaks[0], &tr.Breaks[1], &tr.Away,
			&tr.Left} {
			fill(s)
		}
	}
	return doc.Trial
}()

// harmonicsSum is that of what TestEveryAttributeOnARealHost serves.
const harmonicsSum = "6251e5743b6fd6a7d606130bdf7c15077ce85ebd3a0fdee284d15a46df199e38"

// unit is a service that writes what its file of settings holds when it starts.
func unit(name string) string {
	return `printf '[Service]\nExecStart=/bin/sh -c "cp /etc/` + name + `.conf /run/` + name +
		`; exec sleep 100000"\n` +
		`ExecReload=/bin/true\n[Install]\nWantedBy=multi-user.target\n' >/etc/systemd/system/` + name + `.service; ` +
		`systemctl daemon-reload`
}

// gitPages is a repository with two commits on main.
const gitPages = `export HOME=/root GIT_CONFIG_GLOBAL=/root/gc; git config --global user.email keepers@example.org
git config --global user.name Keepers; git config --global --add safe.directory '*'
mkdir -p /srv/at/git && cd /srv/at/git && git init -q -b main &&
echo one >index && git add index && git commit -qm one && echo two >index && git commit -qam two
chown -R nobody /srv/at/git`
