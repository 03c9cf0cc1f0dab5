package folder

import (
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/host/machine"
)

var aptStandIns = map[string]standIn{"apt-get": (*Machine).aptGet, "apt-cache": (*Machine).aptCache,
	"apt-mark": (*Machine).aptMark, "dpkg": (*Machine).dpkg, "dpkg-deb": (*Machine).dpkgDeb}

// pkg is one version of a package in the made-up repository.
type pkg struct {
	version string
	broken  string            // why its set-up fails; empty when it does not
	files   map[string]string // what it brings
	check   string            // the program that checks configuration files, by name
	needs   []string          // packages that come with it, and without which it goes
}

func unitFile(about, program string) string {
	return "[Unit]\nDescription=" + about + "\n[Service]\nExecStart=/usr/sbin/" + program +
		"\nExecReload=/bin/kill -HUP $MAINPID\n[Install]\nWantedBy=multi-user.target\n"
}

// repository is what apt-get finds, oldest version first.
var repository = map[string][]pkg{
	"tide-logger": {
		{version: "1.4.2-1", check: "tide-logger",
			files: map[string]string{"/lib/systemd/system/tide-logger.service": unitFile("Tide gauge logger",
				"tide-logger")}},
		{version: "1.5.0-1", check: "tide-logger",
			files: map[string]string{"/lib/systemd/system/tide-logger.service": unitFile("Tide gauge logger",
				"tide-logger")}},
	},
	"chart-press": {
		{version: "2.0.1-1", check: "chart-press",
			files: map[string]string{"/lib/systemd/system/chart-press.service": unitFile("Tide chart printer",
				"chart-press")}},
		{version: "2.1.0-1", check: "chart-press",
			files: map[string]string{"/lib/systemd/system/chart-press.service": unitFile("Tide chart printer",
				"chart-press")}},
	},
	"mudflat-archive": {
		{version: "3.2.0-1", check: "mudflat-archive", files: map[string]string{
			"/lib/systemd/system/mudflat-archive.service": unitFile("Archive of readings", "mudflat-archive")}},
	},
	"foghorn-relay": {
		{version: "0.9.1-2", broken: "the horn's serial line does not respond",
			files: map[string]string{"/lib/systemd/system/foghorn-relay.service": unitFile("Foghorn relay",
				"foghorn-relay")}},
	},
	"buoy-lights": {{version: "1.2-1", needs: []string{"buoy-tools"}}},
	"buoy-tools":  {{version: "1.0-1"}, {version: "1.1-1"}},
	"salt-lamp":   {{version: "0.2-1"}},
	"harbour-log": {{version: "4.0-1"}},
	"old-ticker":  {{version: "0.3-1"}},
}

func (h *Machine) installed(program string) (func(args []string, out io.Writer) int, bool) {
	for name, versions := range repository {
		if versions[0].check == program && h.status(name) != "" {
			return h.checkConfig(program), true
		}
	}
	return nil, false
}

// checkConfig is what the made-up programs do: with --check FILE they refuse a
// file that is empty or holds the word "broken", and with --index DIR they write a
// file there.
func (h *Machine) checkConfig(program string) func([]string, io.Writer) int {
	return func(args []string, out io.Writer) int {
		if len(args) == 2 && args[0] == "--index" {
			return h.writeFor(path.Join(args[1], "index"), "index of "+args[1]+"\n", out)
		}
		if len(args) != 2 || args[0] != "--check" {
			fmt.Fprintf(out, "usage: %s --check FILE | --index DIR\n", program)
			return 2
		}
		text := h.read(args[1])
		for i, line := range strings.Split(text, "\n") {
			if strings.Contains(line, "broken") {
				fmt.Fprintf(out, "%s: line %d: cannot make sense of %q\n", program, i+1, line)
				return 1
			}
		}
		if text == "" {
			fmt.Fprintf(out, "%s: %s is empty or not there\n", program, args[1])
			return 1
		}
		return 0
	}
}

// stanzas splits the dpkg database.
func (h *Machine) stanzas() []string {
	return strings.Split(strings.TrimSpace(h.read("/var/lib/dpkg/status")), "\n\n")
}

// status gives the installed version of a package, or "".
func (h *Machine) status(name string) string {
	for _, s := range h.stanzas() {
		if strings.HasPrefix(s, "Package: "+name+"\n") && (strings.Contains(s, "\nStatus: install ok installed\n") ||
			strings.Contains(s, "\nStatus: hold ok installed\n")) {
			_, rest, _ := strings.Cut(s, "\nVersion: ")
			version, _, _ := strings.Cut(rest, "\n")
			return version
		}
	}
	return ""
}

func (h *Machine) setStatus(name, status, version string) {
	keep := slices.DeleteFunc(h.stanzas(), func(s string) bool { return strings.HasPrefix(s, "Package: "+name+"\n") })
	if status != "" {
		keep = append(keep, fmt.Sprintf("Package: %s\nStatus: %s\nArchitecture: amd64\nVersion: %s", name,
			status, version))
	}
	h.write("/var/lib/dpkg/status", strings.Join(keep, "\n\n")+"\n\n", 0o644)
}

// versions gives what the repository has of a package. A lenient machine finds
// any, which brings a service of its own name.
func (h *Machine) versions(name string) []pkg {
	if list := repository[name]; list != nil || !h.spec.Lenient {
		return list
	}
	version := "1.0-1"
	for _, a := range h.spec.Available {
		if n, v, ok := strings.Cut(a, "="); ok && n == name {
			version = v
		}
	}
	return []pkg{{version: version, files: map[string]string{"/lib/systemd/system/" + name +
		".service": unitFile(name, name)}}}
}

// find gives a version of a package, the newest when none is named.
func (h *Machine) find(name, version string) (pkg, bool) {
	versions := h.versions(name)
	for i := len(versions) - 1; i >= 0; i-- {
		if version == "" || versions[i].version == version {
			return versions[i], true
		}
	}
	if h.spec.Lenient && len(versions) > 0 {
		p := versions[len(versions)-1]
		p.version = version
		return p, true
	}
	return pkg{}, false
}

func (h *Machine) install(name, version string) error {
	p, ok := h.find(name, version)
	if !ok {
		return fmt.Errorf("the simulated repository does not have a package %s", name)
	}
	for file, text := range p.files {
		if err := h.write(file, text, 0o644); err != nil {
			return err
		}
	}
	if p.broken != "" {
		h.setStatus(name, "install ok half-configured", p.version)
		return fmt.Errorf("%s: %s\ndpkg: error processing package %s (--configure):\n"+
			" installed %s package post-installation script subprocess returned error exit status 1\n"+
			"Errors were encountered while processing:\n %s\nE: Sub-process /usr/bin/dpkg returned an error "+
			"code (1)", name,
			p.broken, name, name, name)
	}
	h.setStatus(name, "install ok installed", p.version)
	h.daemonReload()
	h.mu.Lock()
	defer h.mu.Unlock()
	for file := range p.files {
		name := file[strings.LastIndexByte(file, '/')+1:]
		if h.units[name] == nil { // as Debian's packages do: started and enabled on first installation
			h.units[name] = &unit{active: true, enabled: true, since: h.uptime()}
		}
	}
	return nil
}

func (h *Machine) aptGet(c machine.Command, out io.Writer) int {
	var words []string
	if slices.Contains(c.Args, "-s") {
		return h.aptSimulate(c, out)
	}
	for i := 1; i < len(c.Args); i++ {
		switch a := c.Args[i]; {
		case a == "-o":
			i++
		case !strings.HasPrefix(a, "-"):
			words = append(words, a)
		}
	}
	if words[0] != "update" && h.read(dpkgUpdates) != "" {
		fmt.Fprintln(out, "E: dpkg was interrupted, you must manually run 'dpkg --configure -a' to correct the "+
			"problem.")
		return 100
	}
	switch words[0] {
	case "update":
		h.write("/var/lib/apt/lists/archive.example.org_Packages", "made up\n", 0o644)
		fmt.Fprintln(out, "Reading package lists...")
		return 0
	case "install":
		if slices.Contains(c.Args, "--download-only") {
			return h.aptFetch(words[1:], out)
		}
		return h.aptInstall(words[1:], out)
	case "remove", "purge":
		for _, name := range h.needing(words[1:]) {
			h.uninstall(name)
		}
		return 0
	}
	fmt.Fprintf(out, "E: Invalid operation %s\n", words[0])
	return 100
}

func (h *Machine) aptFetch(words []string, out io.Writer) int {
	for _, w := range words {
		name, version, _ := strings.Cut(w, "=")
		if _, ok := h.find(name, version); !ok {
			fmt.Fprintf(out, "E: Package '%s' has no installation candidate\n", name)
			return 100
		}
	}
	return 0
}

// fileOf reads a made-up package file, which names itself in two lines.
func (h *Machine) fileOf(p string) (name, version string) {
	fmt.Sscanf(h.read(p), "Package: %s\nVersion: %s\n", &name, &version)
	return name, version
}

// dpkgDeb answers "--field FILE Package Version".
func (h *Machine) dpkgDeb(c machine.Command, out io.Writer) int {
	name, version := h.fileOf(c.Args[2])
	if name == "" {
		fmt.Fprintf(out, "dpkg-deb: error: '%s' is not a Debian format archive\n", c.Args[2])
		return 2
	}
	fmt.Fprintf(out, "Package: %s\nVersion: %s\n", name, version)
	return 0
}

// aptSimulate prints what install, remove or purge would do.
func (h *Machine) aptSimulate(c machine.Command, out io.Writer) int {
	at := slices.Index(c.Args, "--")
	names := c.Args[at+1:]
	if !slices.Contains(c.Args, "install") {
		for _, name := range h.needing(names) {
			fmt.Fprintf(out, "Remv %s [%s]\n", name, h.status(name))
		}
		return 0
	}
	for _, w := range h.needed(names) {
		name, version, _ := strings.Cut(w, "=")
		if strings.HasPrefix(w, "/") {
			name, version = h.fileOf(w)
		}
		p, ok := h.find(name, version)
		if !ok {
			fmt.Fprintf(out, "Reading package lists...\nE: Unable to locate package %s\n", name)
			return 100
		}
		if old := h.status(name); old != "" {
			name += " [" + old + "]"
		}
		fmt.Fprintf(out, "Inst %s (%s saltmarsh [amd64])\n", name, p.version)
	}
	return 0
}

// needing adds to what goes those that are installed and need it.
func (h *Machine) needing(names []string) []string {
	out := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return h.status(n) == "" })
	for other := range repository {
		p, _ := h.find(other, h.status(other))
		if h.status(other) != "" && !slices.Contains(out, other) &&
			slices.ContainsFunc(p.needs, func(n string) bool { return slices.Contains(out, n) }) {
			out = append(out, other)
		}
	}
	return out
}

// needed adds to what comes what it needs and is not installed.
func (h *Machine) needed(words []string) []string {
	out := slices.Clone(words)
	for _, w := range words {
		name, version, _ := strings.Cut(w, "=")
		p, _ := h.find(name, version)
		for _, n := range p.needs {
			if h.status(n) == "" && !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	return out
}

// dpkg answers "--configure --pending": what was cut off is done to its end.
func (h *Machine) dpkg(machine.Command, io.Writer) int {
	for _, line := range strings.Split(h.read(dpkgUpdates), "\n") {
		if name, version, ok := strings.Cut(line, " "); ok {
			h.setStatus(name, "install ok installed", version)
		}
	}
	h.remove(dpkgUpdates)
	return 0
}

// dpkgUpdates is what dpkg had not written into its status file when it was cut off:
// here, a package and its version a line.
const dpkgUpdates = "/var/lib/dpkg/updates/0001"

func (h *Machine) aptInstall(words []string, out io.Writer) int {
	for i, w := range words { // a made-up package file names itself in two lines
		if strings.HasPrefix(w, "/") {
			name, version := h.fileOf(w)
			words[i] = name + "=" + version
		}
	}
	for _, w := range words { // apt looks all of them up before it touches any
		name, version, exact := strings.Cut(w, "=")
		if len(h.versions(name)) == 0 {
			fmt.Fprintf(out, "Reading package lists...\nE: Unable to locate package %s\n", name)
			return 100
		}
		if _, ok := h.find(name, version); exact && !ok {
			fmt.Fprintf(out, "Reading package lists...\nE: Version '%s' for '%s' was not found\n", version, name)
			return 100
		}
	}
	code := 0
	for _, w := range h.needed(words) {
		name, version, _ := strings.Cut(w, "=")
		if err := h.install(name, version); err != nil {
			fmt.Fprintln(out, err)
			code = 100
		}
	}
	return code
}

func (h *Machine) uninstall(name string) {
	version := h.status(name)
	if version == "" {
		return
	}
	h.setStatus(name, "", "")
	p, _ := h.find(name, version)
	for file := range p.files {
		h.remove(file)
		h.mu.Lock()
		delete(h.units, file[strings.LastIndexByte(file, '/')+1:])
		h.mu.Unlock()
	}
}

// aptMark answers "hold NAME" and "unhold NAME".
func (h *Machine) aptMark(c machine.Command, out io.Writer) int {
	name := c.Args[len(c.Args)-1]
	version := h.status(name)
	if version == "" {
		fmt.Fprintf(out, "E: Unable to locate package %s\n", name)
		return 100
	}
	want := "install"
	if c.Args[1] == "hold" {
		want = "hold"
	}
	h.setStatus(name, want+" ok installed", version)
	return 0
}

// aptCache answers "policy NAME...".
func (h *Machine) aptCache(c machine.Command, out io.Writer) int {
	for _, name := range c.Args[2:] {
		if name == "--" {
			continue
		}
		p, ok := h.find(name, "")
		if !ok {
			continue
		}
		installed := h.status(name)
		if installed == "" {
			installed = "(none)"
		}
		fmt.Fprintf(out, "%s:\n  Installed: %s\n  Candidate: %s\n  Version table:\n", name, installed, p.version)
		for _, v := range slices.Backward(h.versions(name)) {
			mark := "    "
			if v.version == installed {
				mark = "*** "
			}
			fmt.Fprintf(out, " %s%s 500\n        500 http://archive.example.org/ ./ Packages\n", mark, v.version)
		}
	}
	return 0
}
