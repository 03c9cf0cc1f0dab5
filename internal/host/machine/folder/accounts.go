package folder

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/host/machine"
)

var accountStandIns = map[string]standIn{
	"useradd": (*Machine).useradd, "usermod": (*Machine).usermod, "userdel": (*Machine).userdel,
	"groupadd": (*Machine).groupadd, "groupmod": (*Machine).groupmod, "groupdel": (*Machine).groupdel,
	"chpasswd": (*Machine).chpasswd, "unix_chkpwd": (*Machine).chkpwd, "getent": (*Machine).getent,
}

// table reads a file of colon-separated lines.
func (h *Machine) table(p string) [][]string {
	var rows [][]string
	for _, line := range strings.Split(h.read(p), "\n") {
		if line != "" {
			rows = append(rows, strings.Split(line, ":"))
		}
	}
	return rows
}

func (h *Machine) writeTable(p string, rows [][]string, mode uint32) {
	var b strings.Builder
	for _, r := range rows {
		b.WriteString(strings.Join(r, ":") + "\n")
	}
	h.write(p, b.String(), mode)
}

func row(rows [][]string, name string) []string {
	for _, r := range rows {
		if r[0] == name {
			return r
		}
	}
	return nil
}

// free gives the first free number of a column from a start on.
func free(rows [][]string, col, from int) string {
	for n := from; ; n++ {
		if !slices.ContainsFunc(rows, func(r []string) bool { return r[col] == strconv.Itoa(n) }) {
			return strconv.Itoa(n)
		}
	}
}

// options splits arguments into flags, those in valued taking the next
// argument, and the rest.
func options(args []string, valued string) (flags map[string]string, rest []string) {
	flags = map[string]string{}
	for i := 0; i < len(args); i++ {
		a := args[i]
		switch {
		case a == "--":
			return flags, append(rest, args[i+1:]...)
		case len(a) == 2 && a[0] == '-' && strings.Contains(valued, a[1:]) && i+1 < len(args):
			flags[a[1:]] = args[i+1]
			i++
		case strings.HasPrefix(a, "-"):
			flags[strings.TrimLeft(a, "-")] = ""
		default:
			rest = append(rest, a)
		}
	}
	return flags, rest
}

func has(flags map[string]string, name string) bool { _, ok := flags[name]; return ok }

func (h *Machine) getent(c machine.Command, out io.Writer) int {
	if c.Args[1] == "ahosts" {
		return resolve(c.Args[2], out)
	}
	lines := strings.Split(h.read("/etc/"+c.Args[1]), "\n")
	if c.Args[1] == "passwd" {
		lines = append(lines, h.spec.Accounts...) // what a directory service knows
	}
	found := false
	for _, name := range c.Args[2:] {
		for _, line := range lines {
			if strings.HasPrefix(line, name+":") {
				fmt.Fprintln(out, line)
				found = true
			}
		}
	}
	if !found {
		return 2
	}
	return 0
}

func (h *Machine) groupID(name string) (string, bool) {
	for _, g := range h.table("/etc/group") {
		if g[0] == name || g[2] == name {
			return g[2], true
		}
	}
	return "", false
}

func (h *Machine) useradd(c machine.Command, out io.Writer) int {
	flags, rest := options(c.Args[1:], "ugGdsce")
	name := rest[0]
	users, groups := h.table("/etc/passwd"), h.table("/etc/group")
	if row(users, name) != nil {
		fmt.Fprintf(out, "useradd: user '%s' already exists\n", name)
		return 9
	}
	from := 1000
	if has(flags, "r") {
		from = 100
	}
	uid := flags["u"]
	if uid == "" {
		uid = free(users, 2, from)
	}
	var gid string
	if g := flags["g"]; g != "" {
		var ok bool
		if gid, ok = h.groupID(g); !ok {
			fmt.Fprintf(out, "useradd: group '%s' does not exist\n", g)
			return 6
		}
	} else {
		gid = free(groups, 2, from)
		groups = append(groups, []string{name, "x", gid, ""})
		h.writeTable("/etc/group", groups, 0o644)
	}
	if code := h.join(name, flags["G"], "useradd", out); code != 0 {
		return code
	}
	home, shell := flags["d"], flags["s"]
	if home == "" {
		home = "/home/" + name
	}
	if shell == "" {
		shell = "/bin/sh"
	}
	h.writeTable("/etc/passwd", append(users, []string{name, "x", uid, gid, flags["c"], home, shell}), 0o644)
	h.writeTable("/etc/shadow", append(h.table("/etc/shadow"), []string{name, "!", "19700", "0", "99999", "7", "",
		"", ""}), 0o640)
	delete(flags, "U") // which of useradd is a group of its own
	h.age(name, flags)
	if _, err := h.Dir(home); has(flags, "m") && err != nil {
		d, err := h.mkdirs(home)
		if err != nil {
			fmt.Fprintf(out, "useradd: cannot create directory %s\n", home)
			return 12
		}
		d.Close()
		u, _ := strconv.Atoi(uid)
		g, _ := strconv.Atoi(gid)
		h.chown(home, u, g)
	}
	return 0
}

func (h *Machine) chown(p string, uid, gid int) {
	d, err := h.Dir(path.Dir(p))
	if err != nil {
		return
	}
	defer d.Close()
	if f, err := d.Open(path.Base(p)); err == nil {
		f.Chown(uid, gid)
		f.Close()
	}
}

// join adds a user to a comma-separated list of groups.
func (h *Machine) join(user, list, program string, out io.Writer) int {
	if list == "" {
		return 0
	}
	groups := h.table("/etc/group")
	for _, name := range strings.Split(list, ",") {
		g := row(groups, name)
		if g == nil {
			fmt.Fprintf(out, "%s: group '%s' does not exist\n", program, name)
			return 6
		}
		members := strings.FieldsFunc(g[3], func(r rune) bool { return r == ',' })
		if !slices.Contains(members, user) {
			g[3] = strings.Join(append(members, user), ",")
		}
	}
	h.writeTable("/etc/group", groups, 0o644)
	return 0
}

func (h *Machine) usermod(c machine.Command, out io.Writer) int {
	flags, rest := options(c.Args[1:], "ugGdscpe")
	users := h.table("/etc/passwd")
	u := row(users, rest[0])
	if u == nil {
		fmt.Fprintf(out, "usermod: user '%s' does not exist\n", rest[0])
		return 6
	}
	if has(flags, "G") && !has(flags, "a") {
		h.leave(rest[0])
	}
	if code := h.join(rest[0], flags["G"], "usermod", out); code != 0 {
		return code
	}
	h.age(rest[0], flags)
	if g := flags["g"]; g != "" {
		gid, ok := h.groupID(g)
		if !ok {
			fmt.Fprintf(out, "usermod: group '%s' does not exist\n", g)
			return 6
		}
		u[3] = gid
	}
	for flag, col := range map[string]int{"u": 2, "c": 4, "d": 5, "s": 6} {
		if has(flags, flag) {
			u[col] = flags[flag]
		}
	}
	h.writeTable("/etc/passwd", users, 0o644)
	return 0
}

// leave takes a user out of all groups.
func (h *Machine) leave(user string) {
	groups := h.table("/etc/group")
	for _, g := range groups {
		members := strings.FieldsFunc(g[3], func(r rune) bool { return r == ',' })
		g[3] = strings.Join(slices.DeleteFunc(members, func(m string) bool { return m == user }), ",")
	}
	h.writeTable("/etc/group", groups, 0o644)
}

// age locks and unlocks a password and sets the day on which an account ends.
func (h *Machine) age(user string, flags map[string]string) {
	rows := h.table("/etc/shadow")
	r := row(rows, user)
	if r == nil {
		return
	}
	switch {
	case has(flags, "L") && !strings.HasPrefix(r[1], "!"):
		r[1] = "!" + r[1]
	case has(flags, "U"):
		r[1] = strings.TrimPrefix(r[1], "!")
	}
	if day, given := flags["e"]; given {
		if at, err := time.Parse(time.DateOnly, day); err == nil {
			day = strconv.FormatInt(at.Unix()/86400, 10)
		}
		r[7] = day
	}
	h.writeTable("/etc/shadow", rows, 0o640)
}

func (h *Machine) userdel(c machine.Command, out io.Writer) int {
	_, rest := options(c.Args[1:], "")
	same := func(r []string) bool { return r[0] == rest[0] }
	users := h.table("/etc/passwd")
	if row(users, rest[0]) == nil {
		fmt.Fprintf(out, "userdel: user '%s' does not exist\n", rest[0])
		return 6
	}
	h.writeTable("/etc/passwd", slices.DeleteFunc(users, same), 0o644)
	h.writeTable("/etc/shadow", slices.DeleteFunc(h.table("/etc/shadow"), same), 0o640)
	groups := h.table("/etc/group")
	for _, g := range groups {
		members := strings.FieldsFunc(g[3], func(r rune) bool { return r == ',' })
		g[3] = strings.Join(slices.DeleteFunc(members, func(m string) bool { return m == rest[0] }), ",")
	}
	own := func(g []string) bool { // see userdel(8), on USERGROUPS_ENAB
		return same(g) && g[3] == "" && !slices.ContainsFunc(h.table("/etc/passwd"),
			func(u []string) bool { return u[3] == g[2] })
	}
	h.writeTable("/etc/group", slices.DeleteFunc(groups, own), 0o644)
	return 0
}

func (h *Machine) groupadd(c machine.Command, out io.Writer) int {
	flags, rest := options(c.Args[1:], "g")
	groups := h.table("/etc/group")
	if row(groups, rest[0]) != nil {
		fmt.Fprintf(out, "groupadd: group '%s' already exists\n", rest[0])
		return 9
	}
	from := 1000
	if has(flags, "r") {
		from = 100
	}
	gid := flags["g"]
	if gid == "" {
		gid = free(groups, 2, from)
	}
	h.writeTable("/etc/group", append(groups, []string{rest[0], "x", gid, ""}), 0o644)
	return 0
}

func (h *Machine) groupmod(c machine.Command, out io.Writer) int {
	flags, rest := options(c.Args[1:], "g")
	groups := h.table("/etc/group")
	g := row(groups, rest[0])
	if g == nil {
		return 6
	}
	g[2] = flags["g"]
	h.writeTable("/etc/group", groups, 0o644)
	return 0
}

func (h *Machine) groupdel(c machine.Command, out io.Writer) int {
	groups := h.table("/etc/group")
	name := c.Args[len(c.Args)-1]
	g := row(groups, name)
	if g == nil {
		fmt.Fprintf(out, "groupdel: group '%s' does not exist\n", name)
		return 6
	}
	for _, u := range h.table("/etc/passwd") {
		if u[3] == g[2] {
			fmt.Fprintf(out, "groupdel: cannot remove the primary group of user '%s'\n", u[0])
			return 8
		}
	}
	h.writeTable("/etc/group", slices.DeleteFunc(groups, func(r []string) bool { return r[0] == name }), 0o644)
	return 0
}

func hashed(password string) string {
	sum := sha256.Sum256([]byte(password))
	return "$sim$" + hex.EncodeToString(sum[:8])
}

func (h *Machine) chpasswd(c machine.Command, out io.Writer) int {
	rows := h.table("/etc/shadow")
	for _, line := range strings.Split(strings.TrimSuffix(c.Stdin, "\n"), "\n") {
		name, password, ok := strings.Cut(line, ":")
		r := row(rows, name)
		if !ok || r == nil {
			fmt.Fprintf(out, "chpasswd: (user %s) account does not exist\n", name)
			return 1
		}
		if r[1] = hashed(password); slices.Contains(c.Args, "sha512") {
			r[1] = saltedHash("tide", password)
		}
		if slices.Contains(c.Args, "-e") {
			r[1] = password
		}
	}
	h.writeTable("/etc/shadow", rows, 0o640)
	return 0
}

// chkpwd verifies as unix_chkpwd(8) does: 0 right, 7 wrong.
func (h *Machine) chkpwd(c machine.Command, _ io.Writer) int {
	r := row(h.table("/etc/shadow"), c.Args[1])
	if r == nil || r[1] != hashed(strings.TrimSuffix(c.Stdin, "\x00")) {
		return 7
	}
	return 0
}
