package folder

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"jadekettle/internal/host/machine"
)

// busyboxStandIns take the place of useradd and its like on a machine whose
// system is alpine.
var busyboxStandIns = map[string]standIn{
	"adduser": (*Machine).adduser, "addgroup": (*Machine).addgroup, "deluser": (*Machine).deluser,
	"delgroup": (*Machine).delgroup, "cryptpw": (*Machine).cryptpw,
}

// shadowPrograms are what such a machine has not.
var shadowPrograms = []string{"useradd", "usermod", "userdel", "groupadd", "groupmod", "groupdel", "unix_chkpwd"}

func (h *Machine) adduser(c machine.Command, out io.Writer) int {
	flags, rest := options(c.Args[1:], "hgsGuk")
	args := []string{"useradd", "-g", flags["G"], "-c", flags["g"]}
	for from, to := range map[string]string{"h": "-d", "s": "-s", "u": "-u"} {
		if text, ok := flags[from]; ok {
			args = append(args, to, text)
		}
	}
	if has(flags, "S") {
		args = append(args, "-r")
	}
	if !has(flags, "H") {
		args = append(args, "-m")
	}
	return h.useradd(machine.Command{Args: append(args, rest[0])}, out)
}

func (h *Machine) addgroup(c machine.Command, out io.Writer) int {
	flags, rest := options(c.Args[1:], "g")
	if len(rest) == 2 {
		return h.join(rest[0], rest[1], "addgroup", out)
	}
	args := []string{"groupadd"}
	if has(flags, "S") {
		args = append(args, "-r")
	}
	if gid := flags["g"]; gid != "" {
		args = append(args, "-g", gid)
	}
	return h.groupadd(machine.Command{Args: append(args, rest[0])}, out)
}

func (h *Machine) deluser(c machine.Command, out io.Writer) int {
	return h.userdel(machine.Command{Args: []string{"userdel", c.Args[len(c.Args)-1]}}, out)
}

func (h *Machine) delgroup(c machine.Command, out io.Writer) int {
	_, rest := options(c.Args[1:], "")
	if len(rest) == 1 {
		return h.groupdel(c, out)
	}
	groups := h.table("/etc/group")
	if g := row(groups, rest[1]); g != nil {
		members := strings.FieldsFunc(g[3], func(r rune) bool { return r == ',' })
		g[3] = strings.Join(slices.DeleteFunc(members, func(m string) bool { return m == rest[0] }), ",")
	}
	h.writeTable("/etc/group", groups, 0o644)
	return 0
}

// cryptpw makes a hash of the form that the real one gives, of which the salt is
// said.
func (h *Machine) cryptpw(c machine.Command, out io.Writer) int {
	flags, _ := options(c.Args[1:], "PmS")
	fmt.Fprintln(out, saltedHash(flags["S"], strings.TrimSuffix(c.Stdin, "\n")))
	return 0
}

func saltedHash(salt, password string) string {
	return "$6$" + salt + "$" + strings.TrimPrefix(hashed(salt+password), "$sim$")
}
