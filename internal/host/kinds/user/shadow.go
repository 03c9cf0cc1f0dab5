package user

import (
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/accounts/backend"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// aging is what shadow(5) has of an account besides its password.
type aging struct {
	barred  bool   // the password is locked
	expires string // a day, or "never"
	over    bool   // that day has passed
}

const day = 24 * time.Hour

// readAging reads an account's line in /etc/shadow.
func readAging(env *kind.Env, name string) (aging, error) {
	data, err := machine.ReadFile(env.Machine, "/etc/shadow")
	if err != nil {
		return aging{}, err
	}
	for line := range strings.Lines(string(data)) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), ":")
		if f[0] != name || len(f) < 8 {
			continue
		}
		a := aging{barred: strings.HasPrefix(f[1], "!") || strings.HasPrefix(f[1], "*"), expires: "never"}
		if n, err := strconv.ParseInt(f[7], 10, 64); err == nil {
			at := time.Unix(0, 0).UTC().Add(time.Duration(n) * day)
			a.expires, a.over = at.Format(time.DateOnly), !env.Machine.Now().Before(at)
		}
		return a, nil
	}
	return aging{expires: "never"}, nil
}

// locked says whether neither a password nor a key lets anybody in. A locked
// password alone does not keep keys out; see passwd(1) on --lock.
func (a aging) locked() bool { return a.barred && a.over }

func checkAging(a value.Attrs) (string, error) {
	if day := a.Text("expires"); day != "" && day != "never" {
		if _, err := time.Parse(time.DateOnly, day); err != nil {
			return "expires", problem.Errorf("invalid date %q", day).
				Remedy("use one such as \"2027-05-31\", or \"never\"")
		}
	}
	if a.Has("expires") && a.Bool("locked") {
		return "expires", problem.Errorf("a locked account cannot also have an expiry date").
			Remedy("remove expires or locked")
	}
	return "", nil
}

// compareAging says what differs. An account whose password is marked is locked against that
// (`usermod -L`), which is not what locked = true means, and nothing that locked = false leaves.
func compareAging(t plan.Task, st state) []plan.Change {
	var out []plan.Change
	a := st.aging
	marked := a.barred && st.hasHash
	switch want := t.Attrs.Bool("locked"); {
	case !t.Attrs.Has("locked"):
	case want && !a.locked():
		out = append(out, plan.Change{What: "locked", Was: "no", Becomes: "yes"})
	case !want && a.locked():
		out = append(out, plan.Change{What: "locked", Was: "yes", Becomes: "no"})
	case !want && marked:
		out = append(out, plan.Change{What: "locked", Was: "its password", Becomes: "no"})
	}
	if want := t.Attrs.Text("expires"); want != "" && want != a.expires {
		out = append(out, plan.Change{What: "expires", Was: a.expires, Becomes: want})
	}
	return out
}

// aged says of it what is to change.
func aged(w kind.Differing[state], u *backend.User) {
	locked := w.Task.Attrs.Bool("locked")
	u.Lock = w.Differs("locked") && locked && w.State.there // a new one is locked once it is made
	opens := w.Differs("locked") && !locked
	u.Open = opens && w.State.aging.over
	u.Unlock = opens && w.State.hasHash
	if want := w.Task.Attrs.Text("expires"); w.Differs("expires") || !w.State.there {
		u.Expires = want
	}
}
