package folder

import (
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/host/machine"
)

// baseStandIns are programs of the base system that kinds call to load what they
// have written.
var baseStandIns = map[string]standIn{
	"sysctl":     (*Machine).sysctl,
	"modprobe":   (*Machine).modprobe,
	"hostname":   (*Machine).hostname,
	"locale":     (*Machine).locale,
	"locale-gen": (*Machine).localeGen,
	"touch":      (*Machine).touch,
	"mount":      (*Machine).mount,
	"umount":     (*Machine).umount,
	"visudo":     (*Machine).visudo,
	"nft":        (*Machine).nft,
	"mkswap":     (*Machine).nothing,
	"swapon":     (*Machine).swapon,
	"swapoff":    (*Machine).swapoff,
	"logger":     (*Machine).logger,
	"sshd":       (*Machine).sshd,
}

// sshd prints its port, as `sshd -T`; a file with the word "broken" it refuses.
func (h *Machine) sshd(_ machine.Command, out io.Writer) int {
	if strings.Contains(h.read("/etc/ssh/sshd_config"), "broken") {
		fmt.Fprintln(out, "/etc/ssh/sshd_config: line 1: Bad configuration option: broken")
		return 255
	}
	fmt.Fprintln(out, "port 22")
	return 0
}

// logger writes a line to the system's log, as `logger -t TAG -p PRIORITY -- TEXT`.
func (h *Machine) logger(c machine.Command, out io.Writer) int {
	if len(c.Args) != 7 {
		return 1
	}
	const log = "/var/log/messages"
	return h.writeFor(log, h.read(log)+c.Args[2]+": "+c.Args[6]+"\n", out)
}

// sysctl sets what is there, as `sysctl -q -w name=value`.
func (h *Machine) sysctl(c machine.Command, out io.Writer) int {
	name, v, ok := strings.Cut(c.Args[len(c.Args)-1], "=")
	p := "/proc/sys/" + strings.ReplaceAll(name, ".", "/")
	if _, err := machine.ReadFile(h, p); err != nil || !ok {
		fmt.Fprintf(out, "sysctl: cannot stat %s: No such file or directory\n", p)
		return 255
	}
	return h.writeFor(p, v+"\n", out)
}

// writeFor writes a file for a stand-in and gives its exit code.
func (h *Machine) writeFor(p, text string, out io.Writer) int {
	if err := h.write(p, text, 0o644); err != nil {
		fmt.Fprintln(out, err)
		return 1
	}
	return 0
}

// modprobe loads any module but those that a rule keeps out.
func (h *Machine) modprobe(c machine.Command, out io.Writer) int {
	name := c.Args[len(c.Args)-1]
	loaded := strings.Split(strings.TrimSuffix(h.read("/proc/modules"), "\n"), "\n")
	loaded = slices.DeleteFunc(loaded, func(line string) bool {
		return line == "" ||
			strings.HasPrefix(line, name+" ")
	})
	if !slices.Contains(c.Args, "-r") {
		if strings.Contains(h.read("/etc/modprobe.d/jadekettle-"+name+".conf"), "install "+name+" /bin/false") {
			fmt.Fprintf(out, "modprobe: ERROR: could not insert '%s': Operation not permitted\n", name)
			return 1
		}
		loaded = append(loaded, name+" 16384 0 - Live 0x0000000000000000")
	}
	return h.writeFor("/proc/modules", strings.Join(append(loaded, ""), "\n"), out)
}

// hostname sets the name, or prints it.
func (h *Machine) hostname(c machine.Command, out io.Writer) int {
	if len(c.Args) != 2 {
		fmt.Fprint(out, h.read("/proc/sys/kernel/hostname"))
		return 0
	}
	return h.writeFor("/proc/sys/kernel/hostname", c.Args[1]+"\n", out)
}

// made is where the stand-ins keep which locales there are.
const made = "/usr/lib/locale/made"

func (h *Machine) locale(_ machine.Command, out io.Writer) int {
	fmt.Fprint(out, "C\nC.utf8\nPOSIX\n"+h.read(made))
	return 0
}

func (h *Machine) localeGen(_ machine.Command, out io.Writer) int {
	var list string
	for line := range strings.Lines(h.read("/etc/locale.gen")) {
		name, _, ok := strings.Cut(strings.TrimSpace(line), " ")
		if lang, code, dotted := strings.Cut(name, "."); ok && dotted && name[0] != '#' {
			list += lang + "." + strings.ReplaceAll(strings.ToLower(code), "-", "") + "\n"
		}
	}
	return h.writeFor(made, list, out)
}

// visudo passes what has a rule in each line, as `visudo -c -f FILE`.
func (h *Machine) visudo(c machine.Command, out io.Writer) int {
	p := c.Args[len(c.Args)-1]
	for line := range strings.Lines(h.read(p)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' && !strings.Contains(line, "=(") {
			fmt.Fprintf(out, "%s: syntax error near: %s\n", p, line)
			return 1
		}
	}
	return 0
}

// mount answers "-t TYPE -o OPTIONS -- WHAT WHERE" and "-o remount,... -- WHAT WHERE".
func (h *Machine) mount(c machine.Command, out io.Writer) int {
	flags, rest := options(c.Args[1:], "to")
	at := rest[len(rest)-1]
	reported := "rw"
	for _, o := range strings.Split(flags["o"], ",") {
		switch o {
		case "ro":
			reported = strings.Replace(reported, "rw", "ro", 1)
		case "defaults", "remount", "rw", "exec", "suid", "dev":
		default:
			reported += "," + o
		}
	}
	if strings.HasPrefix(flags["o"], "remount") {
		var all string
		for line := range strings.Lines(h.read("/proc/mounts")) {
			if f := strings.Fields(line); f[1] == at {
				line = fmt.Sprintf("%s %s %s %s 0 0\n", f[0], f[1], f[2], reported)
			}
			all += line
		}
		return h.writeFor("/proc/mounts", all, out)
	}
	if strings.HasPrefix(rest[0], "/dev/") && !strings.HasPrefix(rest[0], "/dev/vd") {
		fmt.Fprintf(out, "mount: %s: special device %s does not exist.\n", at, rest[0])
		return 32
	}
	line := fmt.Sprintf("%s %s %s %s 0 0\n", rest[0], at, flags["t"], reported)
	return h.writeFor("/proc/mounts", h.read("/proc/mounts")+line, out)
}

func (h *Machine) umount(c machine.Command, out io.Writer) int {
	at := c.Args[len(c.Args)-1]
	var kept string
	for line := range strings.Lines(h.read("/proc/mounts")) {
		if f := strings.Fields(line); f[1] != at {
			kept += line
		}
	}
	return h.writeFor("/proc/mounts", kept, out)
}

// kernelTable is where the stand-in for nft keeps what it has loaded.
const kernelTable = "/proc/nft-jadekettle"

// nft checks, loads, lists and deletes the one table that we have.
func (h *Machine) nft(c machine.Command, out io.Writer) int {
	last := c.Args[len(c.Args)-1]
	switch {
	case slices.Contains(c.Args, "-c"):
		return 0
	case slices.Contains(c.Args, "-f"):
		text := strings.TrimPrefix(h.read(last), "flush ruleset\n")
		if text == "" {
			h.remove(kernelTable)
			return 0
		}
		return h.writeFor(kernelTable, text, out)
	case last == "ruleset":
		fmt.Fprint(out, h.read(kernelTable))
		return 0
	case slices.Contains(c.Args, "delete"):
		h.remove(kernelTable)
		return 0
	}
	if _, err := machine.ReadFile(h, kernelTable); err != nil {
		fmt.Fprint(out, "Error: No such file or directory\n")
		return 1
	}
	fmt.Fprint(out, h.read(kernelTable))
	return 0
}

// nothing does the work of programs whose result nobody looks at.
func (h *Machine) nothing(machine.Command, io.Writer) int { return 0 }

func (h *Machine) swapon(c machine.Command, out io.Writer) int {
	flags, rest := options(c.Args[1:], "p")
	level := flags["p"]
	if level == "" {
		level = "-2"
	}
	return h.writeFor("/proc/swaps", h.read("/proc/swaps")+rest[0]+" file 2044 0 "+level+"\n", out)
}

func (h *Machine) swapoff(c machine.Command, out io.Writer) int {
	var kept string
	for line := range strings.Lines(h.read("/proc/swaps")) {
		if !strings.HasPrefix(line, c.Args[1]+" ") {
			kept += line
		}
	}
	return h.writeFor("/proc/swaps", kept, out)
}

func (h *Machine) touch(c machine.Command, out io.Writer) int {
	for _, p := range c.Args[1:] {
		if !path.IsAbs(p) {
			p = path.Join(c.Folder, p)
		}
		if code := h.writeFor(p, h.read(p), out); code != 0 {
			return code
		}
	}
	return 0
}
