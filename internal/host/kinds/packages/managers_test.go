package packages_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/apk"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/kinds/packages/dnf"
	"jadekettle/internal/host/kinds/packages/pacman"
	"jadekettle/internal/host/kinds/packages/zypper"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/scripted"
)

// What rpm is asked on every host that has it.
const (
	rpmForm  = `rpm -q --qf %{NAME}\t%{ARCH}\t%{EPOCHNUM}:%{VERSION}-%{RELEASE}` + "\\n"
	rpmKnows = "tide-logger\tnoarch\t0:1.4.2-1\ntide-logger\tnoarch\t0:1.10.0-1\nsalt-lamp\tx86_64\t2:3-1\n" +
		"package ghost is not installed\n"
)

// TestManagersOnScriptedHosts says for each manager what it finds on a host, what it
// asks the host's program to do, and what it makes of a refusal. What programs
// answer here, real ones of the lab have answered.
func TestManagersOnScriptedHosts(t *testing.T) {
	for name, c := range managersOnScriptedHostsCases {
		t.Run(name, func(t *testing.T) {
			h := scripted.New(t)
			maps.Copy(h.Answers, c.answers)
			for p, text := range c.files {
				h.WriteFile(p, text)
			}
			h.WriteFile("/proc/4711/comm", "unattended\n")
			said := ""
			read := func(do func(env *kind.Env) error) string {
				t.Helper()
				if out := h.Did(do); strings.HasPrefix(out, "error") {
					return out
				}
				return said
			}
			if got := read(func(env *kind.Env) error {
				db, err := c.m.Installed(t.Context(), env, []string{"tide-logger", "salt-lamp", "ghost"})
				said = current(db)
				return err
			}); got != c.current {
				t.Errorf("it finds %s", got)
			}
			if got := read(func(env *kind.Env) error {
				list, err := c.m.Asked(t.Context(), env)
				said = strings.Join(list, " ")
				return err
			}); got != c.asked {
				t.Errorf("asked for: %s", got)
			}
			if got := read(func(env *kind.Env) error {
				offers, err := c.m.Offers(t.Context(), env, []string{"tide-logger"})
				o := offers["tide-logger"]
				said = o.Newest + " of " + strings.Join(o.Versions, " ")
				return err
			}); got != c.offers {
				t.Errorf("it offers %s", got)
			}
			install := func(names ...string) func(env *kind.Env) error {
				return func(env *kind.Env) error {
					var list []backend.Want
					for _, n := range names {
						name, version, _ := strings.Cut(n, "=")
						list = append(list, backend.Want{Name: name, Version: version})
					}
					return c.m.Install(t.Context(), env, list)
				}
			}
			for what, do := range map[string]func(env *kind.Env) error{
				"install": install("tide-logger.noarch=1.9-1"),
				"remove": func(env *kind.Env) error {
					return c.m.Remove(t.Context(), env, []string{"salt-lamp"}, true)
				},
				"hold": func(env *kind.Env) error { return c.m.Hold(t.Context(), env, "salt-lamp", true) },
				"file": func(env *kind.Env) error { return c.m.InstallFile(t.Context(), env, "/srv/p") },
			} {
				if got := acts(h.Did(do)); got != c.does[what] {
					t.Errorf("%s: %s", what, got)
				}
			}
			if got := h.Did(install("ghost")); !strings.HasPrefix(got, "error") || !strings.Contains(got, c.refuses) {
				t.Errorf("refused: %s", got)
			}
			if got := h.Did(install("tide-logger")); !strings.Contains(got,
				" has held the lock of "+name+" for 2m0s"+c.locked+";") ||
				count(h.Calls, name+" ") != 40 {
				t.Errorf("locked: %s, tried %d times", got, count(h.Calls, name+" "))
			}
		})
	}
}

// managersOnScriptedHostsCases are what TestManagersOnScriptedHosts goes through.
var managersOnScriptedHostsCases = map[string]struct {
	m       backend.Manager
	files   map[string]string
	answers map[string]machine.Output
	current string // of tide-logger, salt-lamp and ghost
	asked   string
	offers  string
	does    map[string]string // by what is to be done
	refuses string
	locked  string
}{
	"dnf": {
		m: dnf.Manager{},
		files: map[string]string{"/etc/dnf/plugins/versionlock.list": "salt-lamp-2:3-1.*\n",
			"/var/cache/dnf/tides.solv": ""},
		answers: map[string]machine.Output{
			rpmForm + " -- tide-logger salt-lamp ghost": {Code: 1, Stdout: rpmKnows},
			rpmForm + " -- salt-lamp":                   {Stdout: "salt-lamp\tx86_64\t2:3-1\n"},
			"dnf --setopt=exit_on_lock=True -q -C repoquery --userinstalled --qf %{name}\n": {
				Stdout: "tide-logger\nsalt-lamp\ntide-logger\n"},
			"dnf --setopt=exit_on_lock=True -q -C repoquery --available --showduplicates --qf " +
				"%{name}\t%{arch}\t%{epoch}:%{version}-%{release}\n -- tide-logger": {
				Stdout: "tide-logger\tnoarch\t0:1.9-1\ntide-logger\tnoarch\t0:1.10-1\n\n"},
			"dnf --setopt=exit_on_lock=True -y -q install -- ghost": {Code: 1,
				Stdout: "Last metadata expiration check: 0:01:02 ago.\n" +
					"No match for argument: ghost\nError: Unable to find a match: ghost\n"},
			"dnf --setopt=exit_on_lock=True -y -q install -- tide-logger": {Code: 200,
				Stdout: "Waiting for process with pid 4711 to finish.\nError: Failed to obtain the transaction " +
					"lock\n"},
		},
		current: "tide-logger 1.10.0-1, salt-lamp 2:3-1 held",
		asked:   "salt-lamp tide-logger",
		offers:  "1.10-1 of 1.10-1 1.9-1",
		does: map[string]string{
			"install": "dnf --setopt=exit_on_lock=True -y -q install -- tide-logger-1.9-1.noarch",
			"remove": "dnf --setopt=exit_on_lock=True -q versionlock delete salt-lamp; dnf " +
				"--setopt=exit_on_lock=True -y -q --setopt=clean_requirements_on_remove=False remove -- salt-lamp",
			"hold": "dnf --setopt=exit_on_lock=True -q versionlock add salt-lamp",
			"file": "dnf --setopt=exit_on_lock=True -y -q --nogpgcheck install -- /srv/p",
		},
		refuses: "Unable to find a match: ghost",
		locked:  ": process 4711 (unattended)",
	},
	"zypper": {
		m: zypper.Manager{},
		files: map[string]string{"/etc/zypp/locks": "\ntype: package\nmatch_type: glob\nsolvable_name: salt-lamp\n",
			"/var/lib/zypp/AutoInstalled": "# came along\nlib-tide\n"},
		answers: map[string]machine.Output{
			rpmForm + " -- tide-logger salt-lamp ghost": {Code: 1, Stdout: rpmKnows},
			rpmForm + " -- salt-lamp":                   {Stdout: "salt-lamp\tx86_64\t2:3-1\n"},
			rpmForm + " -a": {Stdout: rpmKnows + "lib-tide\tnoarch\t0:1-1\n" +
				"gpg-pubkey\t(none)\t0:3dbdc284-53674dd4\n"},
			"zypper --non-interactive --xmlout --no-refresh search --details --match-exact --type package -- " +
				"tide-logger": {
				Stdout: `<stream><search-result><solvable-list><solvable name="tide-logger" edition="1.9-1" ` +
					`arch="noarch" ` +
					`repository="tides"/></solvable-list></search-result></stream>`},
			"zypper --non-interactive --no-refresh install --oldpackage -- ghost": {Code: 104,
				Stdout: "Reading installed packages...\nNo provider of 'ghost' found.\n"},
			"zypper --non-interactive --no-refresh install --oldpackage -- tide-logger": {Code: 7,
				Stdout: "System management is locked by the application with pid 4711 (packagekitd).\n"},
			// News, and no error: a reboot is wanted.
			"zypper --non-interactive --no-refresh install --oldpackage -- tide-logger.noarch=1.9-1": {Code: 102},
		},
		current: "tide-logger 1.10.0-1, salt-lamp 2:3-1 held",
		asked:   "salt-lamp tide-logger",
		offers:  "1.9-1 of 1.9-1",
		does: map[string]string{
			"install": "zypper --non-interactive --no-refresh install --oldpackage -- tide-logger.noarch=1.9-1",
			"remove": "zypper --non-interactive removelock -- salt-lamp; " +
				"zypper --non-interactive --no-refresh remove -- salt-lamp",
			"hold": "zypper --non-interactive addlock -- salt-lamp",
			"file": "zypper --non-interactive --no-refresh install --oldpackage --allow-unsigned-rpm -- /srv/p",
		},
		refuses: "No provider of 'ghost' found.",
		locked:  ": process 4711 (unattended)",
	},
	"pacman": {
		m: pacman.Manager{},
		files: map[string]string{"/etc/pacman.conf": "[options]\n#IgnorePkg = tide-logger\nIgnorePkg = bell " +
			"salt-lamp\n",
			"/var/lib/pacman/local/ALPM_DB_VERSION":          "9\n",
			"/var/lib/pacman/local/tide-logger-1.4.2-1/desc": "%NAME%\ntide-logger\n",
			"/var/lib/pacman/local/salt-lamp-2:3-1/desc":     "%NAME%\nsalt-lamp\n\n%REASON%\n1\n\n%SIZE%\n1\n",
			"/var/lib/pacman/sync/tides.db":                  ""},
		answers: map[string]machine.Output{
			"pacman -Si -- tide-logger": {Code: 1, Stdout: "Repository      : tides\nName            : " +
				"tide-logger\nVersion         : 1:1.9-1\nDescription     : Name : of a tide\n\nRepository      " +
				": old\nName            : tide-logger\nVersion         : 1.8-1\n"},
			"pacman --noconfirm --noprogressbar -S -- ghost": {Code: 1, Stdout: "error: target not found: ghost\n"},
			"pacman --noconfirm --noprogressbar -S -- tide-logger": {Code: 1,
				Stdout: "error: failed to init transaction " +
					"(unable to lock database)\n"},
		},
		current: "tide-logger 1.4.2-1, salt-lamp 2:3-1 held",
		asked:   "tide-logger",
		offers:  "1:1.9-1 of 1:1.9-1 1.8-1",
		does: map[string]string{
			"install": "pacman --noconfirm --noprogressbar -S -- tide-logger.noarch",
			"remove":  "pacman --noconfirm --noprogressbar -Rn -- salt-lamp",
			"hold":    "error: pacman holds packages through /etc/pacman.conf",
			"file":    "pacman --noconfirm --noprogressbar -U -- /srv/p",
		},
		refuses: "target not found: ghost",
	},
	"apk": {
		m: apk.Manager{},
		files: map[string]string{"/etc/apk/world": "tide-logger\nsalt-lamp=3-r1\n!telnet\nbell>1 chart@edge\n",
			"/lib/apk/db/installed": "C:Q1x=\nP:tide-logger\nV:1.4.2-r1\n\nP:salt-lamp\nV:3-r1\nF:etc\n\n"},
		answers: map[string]machine.Output{
			"apk --no-network policy -- tide-logger": {Stdout: "tide-logger policy:\n  1.9-r1:\n    " +
				"https://a.example.org/main\n  1.4.2-r1:\n    lib/apk/db/installed\n    " +
				"https://a.example.org/main\n  1.0-r1:\n    lib/apk/db/installed\n"},
			"apk --no-progress add -- ghost": {Code: 1, Stdout: "ERROR: unable to select packages:\n" +
				"  ghost (no such package):\n    required by: world[ghost]\n"},
			"apk --no-progress add -- tide-logger": {Code: 99, Stdout: "ERROR: Unable to lock database: Resource " +
				"temporarily unavailable\nERROR: Failed to open apk database: Resource temporarily unavailable\n"},
		},
		current: "tide-logger 1.4.2-r1, salt-lamp 3-r1 held",
		asked:   "bell chart salt-lamp tide-logger",
		offers:  "1.9-r1 of 1.9-r1 1.4.2-r1",
		does: map[string]string{
			"install": "apk --no-progress add -- tide-logger.noarch=1.9-1",
			"remove":  "apk --no-progress del --purge -- salt-lamp",
			"hold":    "apk --no-progress add -- salt-lamp=3-r1",
			"file":    "apk --no-progress add --allow-untrusted -- /srv/p",
		},
		refuses: "unable to select packages: ghost (no such package):",
	},
}

func current(db map[string]backend.State) string {
	var out []string
	for _, name := range []string{"tide-logger", "salt-lamp", "ghost"} {
		if st, there := db[name]; there {
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s", name, st.Version,
				map[bool]string{true: "held"}[st.Held])))
		}
	}
	return strings.Join(out, ", ")
}

// acts leaves out what only reads, and the remedy of an error.
func acts(calls string) string {
	if strings.HasPrefix(calls, "error") {
		what, _, _ := strings.Cut(calls, ";")
		return what
	}
	return strings.Join(slices.DeleteFunc(strings.Split(calls, "; "), func(c string) bool {
		return strings.HasPrefix(c, "rpm -q")
	}), "; ")
}

func count(calls []string, head string) (n int) {
	for _, c := range calls {
		if strings.HasPrefix(c, head) {
			n++
		}
	}
	return n
}

// TestAnEffectIsOfAPackage: a name may have its architecture, in the way of its manager.
func TestAnEffectIsOfAPackage(t *testing.T) {
	rpm, deb, foreign := backend.Effect{Name: "python3.11", Arch: "x86_64"}, backend.Effect{Name: "git"},
		backend.Effect{Name: "git:i386"}
	for _, c := range []struct {
		effect backend.Effect
		name   string
		want   bool
	}{
		{rpm, "python3.11", true}, {rpm, "python3.11.x86_64", true}, {rpm, "python3.11.i686", false},
		{rpm, "python3", false},
		{deb, "git", true}, {deb, "git:amd64", true}, {deb, "git.amd64", false}, {deb, "git-man", false},
		{foreign, "git:i386", true}, {foreign, "git:amd64", false},
	} {
		if c.effect.Of(c.name) != c.want {
			t.Errorf("%s of %+v: %t", c.name, c.effect, !c.want)
		}
	}
}
