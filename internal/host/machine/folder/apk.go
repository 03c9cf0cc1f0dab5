package folder

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"jadekettle/internal/host/machine"
)

// apkStandIns take the place of apt's on a machine whose system is alpine.
var apkStandIns = map[string]standIn{"apk": (*Machine).apk}

const (
	apkDatabase = "/lib/apk/db/installed"
	apkWorld    = "/etc/apk/world"
)

// apk answers update, policy, add and del.
func (h *Machine) apk(c machine.Command, out io.Writer) int {
	words := slices.DeleteFunc(slices.Clone(c.Args[1:]), func(w string) bool { return strings.HasPrefix(w, "-") })
	verb, names := words[0], words[1:]
	switch verb {
	case "update":
		return h.writeFor("/var/cache/apk/APKINDEX.tar.gz", "made up\n", out)
	case "policy":
		h.apkPolicy(names, out)
		return 0
	case "add":
		return h.apkAdd(names, out)
	case "del":
		for _, name := range names {
			h.apkSet(name, "", "")
		}
		return 0
	}
	fmt.Fprintf(out, "apk: unknown applet %s\n", verb)
	return 1
}

func (h *Machine) apkPolicy(names []string, out io.Writer) {
	for _, name := range names {
		if len(repository[name]) == 0 {
			continue
		}
		fmt.Fprintf(out, "%s policy:\n", name)
		for _, p := range slices.Backward(repository[name]) {
			fmt.Fprintf(out, "  %s:\n", p.version)
			if strings.Contains(h.read(apkDatabase), "P:"+name+"\nV:"+p.version+"\n") {
				fmt.Fprint(out, "    lib/apk/db/installed\n")
			}
			fmt.Fprint(out, "    https://packages.example.org/main\n")
		}
	}
}

func (h *Machine) apkAdd(words []string, out io.Writer) int {
	for _, w := range words { // apk looks all of them up before it touches any
		name, version, _ := strings.Cut(w, "=")
		if p, ok := h.find(name, version); !ok || p.version == "" {
			fmt.Fprintf(out, "ERROR: unable to select packages:\n  %s (no such package):\n", name)
			return 1
		}
	}
	for _, w := range words {
		name, version, _ := strings.Cut(w, "=")
		p, _ := h.find(name, version)
		h.apkSet(name, p.version, w)
	}
	return 0
}

// apkSet notes what is installed of a package, and how it was asked for.
func (h *Machine) apkSet(name, version, asked string) {
	stanzas := strings.Split(strings.TrimSpace(h.read(apkDatabase)), "\n\n")
	stanzas = slices.DeleteFunc(stanzas, func(s string) bool { return s == "" || strings.HasPrefix(s, "P:"+name+"\n") })
	world := slices.DeleteFunc(strings.Fields(h.read(apkWorld)), func(w string) bool {
		n, _, _ := strings.Cut(w, "=")
		return n == name
	})
	if version != "" {
		stanzas = append(stanzas, fmt.Sprintf("P:%s\nV:%s\nA:noarch", name, version))
		world = append(world, asked)
	}
	h.write(apkDatabase, strings.Join(stanzas, "\n\n")+"\n\n", 0o644)
	h.write(apkWorld, strings.Join(world, "\n")+"\n", 0o644)
}
