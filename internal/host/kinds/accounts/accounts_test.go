package accounts_test

import (
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/accounts/backend"
	"jadekettle/internal/host/kinds/accounts/busybox"
	"jadekettle/internal/host/kinds/accounts/shadow"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/scripted"
)

// TestProgramsOfAccounts says for each change which programs are run, by either
// family of them, and that no password is on a command line.
func TestProgramsOfAccounts(t *testing.T) {
	task := func(name string) plan.Task { return plan.Task{Ref: value.Ref{Kind: "user", Name: name}} }
	const salted = "$6$salt$hash"
	for what, c := range map[string]struct {
		do               func(m backend.Manager, env *kind.Env) error
		busybox, shadows string
	}{
		"a user": {func(m backend.Manager, env *kind.Env) error {
			return m.MakeUser(t.Context(), env, backend.User{Task: task("olga"), OwnGroup: true,
				Join: []string{"adm", "tty"},
				Set: map[string]string{"uid": "2100", "home": "/srv/olga", "shell": "/bin/sh",
					"comment": "Olga, night watch"}})
		},
			"addgroup olga; adduser -D -g Olga, night watch -G olga -u 2100 -h /srv/olga -s /bin/sh olga; " +
				"addgroup olga adm; addgroup olga tty",
			"useradd -m -U -u 2100 -d /srv/olga -s /bin/sh -c Olga, night watch -G adm,tty olga"},
		"a user of the system": {func(m backend.Manager, env *kind.Env) error {
			return m.MakeUser(t.Context(), env, backend.User{Task: task("tidelog"), System: true,
				Set: map[string]string{"group": "tty"}})
		},
			"adduser -D -g  -G tty -S -H tidelog", "useradd -r -g tty tidelog"},
		"other groups": {func(m backend.Manager, env *kind.Env) error {
			return m.ChangeUser(t.Context(), env, backend.User{Task: task("maren"), Join: []string{"adm"},
				Leave: []string{"tty"},
				Only:  []string{"adm"}})
		},
			"addgroup maren adm; delgroup maren tty", "usermod -G adm maren"},
		"another home, moved": {func(m backend.Manager, env *kind.Env) error {
			return m.ChangeUser(t.Context(), env, backend.User{Task: task("maren"), MoveHome: true,
				Set: map[string]string{"home": "/srv/maren", "shell": "/bin/false", "group": "tty"}})
		},
			"mv -n /home/maren /srv/maren", "usermod -g tty -d /srv/maren -s /bin/false -m maren"},
		"no such group": {func(m backend.Manager, env *kind.Env) error {
			return m.ChangeUser(t.Context(), env, backend.User{Task: task("maren"),
				Set: map[string]string{"group": "none"}})
		},
			"error: the group none does not exist on this host; declare it: [group.none]", "usermod -g none maren"},
		"another number": {func(m backend.Manager, env *kind.Env) error {
			return m.ChangeUser(t.Context(), env, backend.User{Task: task("maren"), Set: map[string]string{"uid": "7"}})
		},
			"error: no program on this host can change the ID of an account and its files; change both by " +
				"hand, or " +
				"declare it absent once",
			"usermod -u 7 maren"},
		"no user": {func(m backend.Manager, env *kind.Env) error { return m.RemoveUser(t.Context(), env, "maren") },
			"deluser maren", "userdel maren"},
		"a group": {func(m backend.Manager, env *kind.Env) error {
			return m.MakeGroup(t.Context(), env, backend.Group{Task: task("keepers"), System: true, GID: "900"})
		}, "addgroup -S -g 900 keepers", "groupadd -r -g 900 keepers"},
		"no group": {func(m backend.Manager, env *kind.Env) error { return m.RemoveGroup(t.Context(), env, "tty") },
			"delgroup tty", "groupdel tty"},
		"a password": {func(m backend.Manager, env *kind.Env) error {
			return m.SetPassword(t.Context(), env, "maren", value.NewSecret("brine"), false)
		}, "chpasswd -c sha512 <maren:brine\n", "chpasswd <maren:brine\n"},
		"a hash of one": {func(m backend.Manager, env *kind.Env) error {
			return m.SetPassword(t.Context(), env, "maren", value.NewSecret(salted), true)
		}, "chpasswd -e <maren:" + salted + "\n", "chpasswd -e <maren:" + salted + "\n"},
	} {
		for by, m := range map[string]backend.Manager{"busybox": busybox.Manager{}, "shadow": shadow.Manager{}} {
			want := map[string]string{"busybox": c.busybox, "shadow": c.shadows}[by]
			h := host(t)
			if got := h.Did(func(env *kind.Env) error { return c.do(m, env) }); got != want {
				t.Errorf("%s by %s: %q, want %q", what, by, got, want)
			}
			passwd, err := machine.ReadFile(h, "/etc/passwd")
			if err != nil {
				t.Fatal(err)
			}
			home := "maren:x:1000:1000:Maren:/home/maren:/bin/sh"
			if what == "another home, moved" && by == "busybox" {
				home = "maren:x:1000:5:Maren:/srv/maren:/bin/false"
			}
			if !strings.Contains(string(passwd), home+"\n") || strings.Count(string(passwd), "\n") != 2 {
				t.Errorf("%s by %s leaves\n%s", what, by, passwd)
			}
		}
	}
}

// host has one user and one group.
func host(t *testing.T) *scripted.Machine {
	h := scripted.New(t)
	h.WriteFile("/etc/passwd", "root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000:Maren:/home/maren:/bin/sh\n")
	h.WriteFile("/etc/group", "root:x:0:\ntty:x:5:\nmaren:x:1000:\n")
	return h
}

// TestPasswordsAreComparedByTheHost does so without a hash of ours, which would
// know fewer methods than the host.
func TestPasswordsAreComparedByTheHost(t *testing.T) {
	for stored, want := range map[string]string{"$6$salt$right": "true", "$6$salt$wrong": "false", "$1$salt$x": "false",
		"!": "false", "": "false", "!$6$salt$right": "false", "$y$j9T$a$b": "false"} {
		h := host(t)
		h.Answers["cryptpw -P 0 -m sha512 -S salt"] = machine.Output{Stdout: "$6$salt$right\n"}
		fits := ""
		said := h.Did(func(env *kind.Env) error {
			ok, err := busybox.Manager{}.Fits(t.Context(), env, "maren", stored, value.NewSecret("brine"))
			fits = map[bool]string{true: "true", false: "false"}[ok]
			return err
		})
		if fits != want || strings.Contains(strings.Split(said, " <")[0], "brine") {
			t.Errorf("%q: %s by %q", stored, fits, said)
		}
	}
}
