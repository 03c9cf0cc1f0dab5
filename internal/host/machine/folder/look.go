package folder

import (
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/host/machine"
)

// lookStandIns are programs that no kind calls: the few with which people look around on a host, so that
// `exec` on a simulated one answers.
var lookStandIns = map[string]standIn{
	"true":   (*Machine).nothing,
	"false":  func(*Machine, machine.Command, io.Writer) int { return 1 },
	"echo":   (*Machine).echo,
	"cat":    (*Machine).cat,
	"ls":     (*Machine).ls,
	"id":     (*Machine).id,
	"date":   (*Machine).date,
	"uname":  (*Machine).uname,
	"uptime": (*Machine).uptimeLine,
	"df":     (*Machine).df,
	"free":   (*Machine).memory,
	"ps":     (*Machine).ps,
}

// echo prints its words, as `echo [-n] WORD...`.
func (h *Machine) echo(c machine.Command, out io.Writer) int {
	words, end := c.Args[1:], "\n"
	if len(words) > 0 && words[0] == "-n" {
		words, end = words[1:], ""
	}
	fmt.Fprint(out, strings.Join(words, " ")+end)
	return 0
}

// cat prints files, or its input without any.
func (h *Machine) cat(c machine.Command, out io.Writer) int {
	_, files := options(c.Args[1:], "")
	if len(files) == 0 {
		fmt.Fprint(out, c.Stdin)
	}
	code := 0
	for _, p := range files {
		data, err := machine.ReadFile(h, h.absolute(p))
		if err != nil {
			fmt.Fprintf(out, "cat: %s: No such file or directory\n", p)
			code = 1
		}
		out.Write(data)
	}
	return code
}

// absolute puts a path into the root directory, where every command of a simulated machine runs.
func (h *Machine) absolute(p string) string { return path.Join("/", p) }

// ls lists files and directories by name, with -l in full and with -d directories themselves.
func (h *Machine) ls(c machine.Command, out io.Writer) int {
	flags, paths := options(c.Args[1:], "")
	set := strings.Join(slices.Sorted(maps.Keys(flags)), "")
	if len(paths) == 0 {
		paths = []string{"/"}
	}
	code := 0
	for _, given := range paths {
		p := h.absolute(given)
		names, err := h.ReadDir(p)
		if err != nil || strings.Contains(set, "d") {
			if !h.entry(out, path.Dir(p), path.Base(p), given, strings.Contains(set, "l")) {
				fmt.Fprintf(out, "ls: cannot access '%s': No such file or directory\n", given)
				code = 2
			}
			continue
		}
		slices.Sort(names)
		for _, name := range names {
			if strings.HasPrefix(name, ".") && !strings.ContainsAny(set, "aA") {
				continue
			}
			h.entry(out, p, name, name, strings.Contains(set, "l"))
		}
	}
	return code
}

// entry prints one line of ls; false for what does not exist.
func (h *Machine) entry(out io.Writer, dir, name, shown string, long bool) bool {
	d, err := h.Dir(dir)
	if err != nil {
		return false
	}
	defer d.Close()
	if name == "/" {
		name = "."
	}
	info, err := d.Lstat(name)
	if err != nil {
		return false
	}
	if long {
		mode := info.Type | fs.FileMode(info.Mode&0o777)
		fmt.Fprintf(out, "%s %d %s %s %8d %s ", strings.Replace(mode.String(), "L", "l", 1), info.Links,
			nameOf(h.table("/etc/passwd"), info.UID), nameOf(h.table("/etc/group"), info.GID), info.Size,
			info.Time.Format("2006-01-02 15:04"))
	}
	fmt.Fprintln(out, shown)
	return true
}

// nameOf gives the name of an account or a group by its number, or the number where it has none.
func nameOf(rows [][]string, id int) string {
	for _, r := range rows {
		if len(r) > 2 && r[2] == strconv.Itoa(id) {
			return r[0]
		}
	}
	return strconv.Itoa(id)
}

// id prints an account with its groups, root without a name.
func (h *Machine) id(c machine.Command, out io.Writer) int {
	flags, names := options(c.Args[1:], "")
	names = append(names, "root")
	user := row(h.table("/etc/passwd"), names[0])
	if user == nil {
		fmt.Fprintf(out, "id: '%s': no such user\n", names[0])
		return 1
	}
	switch {
	case has(flags, "un") || has(flags, "u") && has(flags, "n"):
		fmt.Fprintln(out, user[0])
		return 0
	case has(flags, "u"):
		fmt.Fprintln(out, user[2])
		return 0
	}
	gid, _ := strconv.Atoi(user[3])
	groups := h.table("/etc/group")
	own := fmt.Sprintf("%s(%s)", user[3], nameOf(groups, gid))
	all := []string{own}
	for _, g := range groups {
		if g[2] != user[3] && slices.Contains(strings.Split(g[3], ","), user[0]) {
			all = append(all, fmt.Sprintf("%s(%s)", g[2], g[0]))
		}
	}
	fmt.Fprintf(out, "uid=%s(%s) gid=%s groups=%s\n", user[2], user[0], own, strings.Join(all, ","))
	return 0
}

// dateForms are the conversions of date that people use, as layouts of package time.
var dateForms = strings.NewReplacer("%F", time.DateOnly, "%T", time.TimeOnly, "%Y", "2006", "%m", "01", "%d", "02",
	"%H", "15", "%M", "04", "%S", "05", "%Z", "MST", "%z", "-0700", "%%", "%")

// date prints the time in UTC, as `date [-u] [+FORMAT]`.
func (h *Machine) date(c machine.Command, out io.Writer) int {
	now := h.Now().UTC()
	for _, a := range c.Args[1:] {
		switch {
		case a == "+%s":
			fmt.Fprintln(out, now.Unix())
			return 0
		case strings.HasPrefix(a, "+"):
			fmt.Fprintln(out, now.Format(dateForms.Replace(a[1:])))
			return 0
		}
	}
	fmt.Fprintln(out, now.Format("Mon Jan _2 15:04:05 MST 2006"))
	return 0
}

// uname prints the kernel, as `uname [-snrma]`.
func (h *Machine) uname(c machine.Command, out io.Writer) int {
	flags, _ := options(c.Args[1:], "")
	set := strings.Join(slices.Sorted(maps.Keys(flags)), "")
	set = cmp.Or(set, "s")
	line := func(p string) string { return strings.TrimSpace(h.read(p)) }
	var words []string
	for _, part := range []struct{ flag, text string }{{"s", "Linux"}, {"n", line("/proc/sys/kernel/hostname")},
		{"r", line("/proc/sys/kernel/osrelease")}, {"m", machineName}} {
		if strings.Contains(set, part.flag) || strings.Contains(set, "a") {
			words = append(words, part.text)
		}
	}
	fmt.Fprintln(out, strings.Join(words, " "))
	return 0
}

// machineName is what uname calls the architecture, which is this machine's.
var machineName = cmp.Or(map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[runtime.GOARCH], runtime.GOARCH)

// uptimeLine prints since when the machine is up.
func (h *Machine) uptimeLine(_ machine.Command, out io.Writer) int {
	now, up := h.Now().UTC().Format(time.TimeOnly), h.uptime()
	fmt.Fprintf(out, " %s up %2d:%02d,  0 users,  load average: 0.00, 0.00, 0.00\n", now, int(up.Hours()),
		int(up.Minutes())%60)
	return 0
}

// sizes writes a size in bytes as df and free do: in KiB, or with -h in whole GiB.
func sizes(flags map[string]string, bytes int64) string {
	if has(flags, "h") {
		return fmt.Sprintf("%dG", bytes>>30)
	}
	return strconv.FormatInt(bytes>>10, 10)
}

// df prints how full the root file system is, as `df [-h]`.
func (h *Machine) df(c machine.Command, out io.Writer) int {
	flags, _ := options(c.Args[1:], "")
	size, free, _ := h.Space("/")
	fmt.Fprintf(out, "%-15s %12s %12s %12s Use%% Mounted on\n%-15s %12s %12s %12s %3d%% /\n", "Filesystem",
		"Size", "Used", "Avail", "/dev/vda1", sizes(flags, size), sizes(flags, size-free), sizes(flags, free),
		(size-free)*100/size)
	return 0
}

// memory prints how much of the memory is used, as `free [-h]`.
func (h *Machine) memory(c machine.Command, out io.Writer) int {
	flags, _ := options(c.Args[1:], "")
	used := h.spec.Memory / 2
	fmt.Fprintf(out, "%5s %12s %12s %12s\n%5s %12s %12s %12s\n", "", "total", "used", "free", "Mem:",
		sizes(flags, h.spec.Memory), sizes(flags, used), sizes(flags, h.spec.Memory-used))
	return 0
}

// ps lists the services that run, each as one process.
func (h *Machine) ps(_ machine.Command, out io.Writer) int {
	fmt.Fprintf(out, "%7s CMD\n%7d init\n", "PID", 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	pid := 100
	for _, name := range slices.Sorted(maps.Keys(h.units)) {
		if pid++; h.units[name].active {
			fmt.Fprintf(out, "%7d %s\n", pid, strings.TrimSuffix(name, ".service"))
		}
	}
	return 0
}
