package folder

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/host/machine"
)

var systemdStandIns = map[string]standIn{"systemctl": (*Machine).systemctl, "journalctl": (*Machine).journalctl}

// unit is the state of one service unit.
type unit struct {
	active  bool
	enabled bool
	since   time.Duration // uptime at its last start
	masked  bool
	loaded  definition // while it runs: what it was loaded from
	runs    string     // while it runs: the texts that it was started with
	journal []string   // what was logged of it
	unmet   bool       // a condition kept it from starting
	result  string     // of its last start; empty for success
}

// definition is what a unit is loaded from: its file, and its drop-ins.
type definition struct {
	file  string
	drops []string
	texts map[string]string // by path
}

// text gives all of it.
func (d definition) text() string {
	out := d.texts[d.file]
	for _, p := range d.drops {
		out += d.texts[p]
	}
	return out
}

// unitFolders are where systemd looks, the administrator's first.
var unitFolders = []string{"/etc/systemd/system", "/run/systemd/system", "/lib/systemd/system",
	"/usr/lib/systemd/system"}

// define finds what a unit would be loaded from now.
func (h *Machine) define(name string) (d definition, there bool) {
	d.texts = map[string]string{}
	for _, folder := range unitFolders {
		p := path.Join(folder, name)
		if text := h.read(p); text != "" && !there {
			d.file, d.texts[p], there = p, text, true
		}
		names, _ := h.ReadDir(p + ".d")
		for _, n := range names {
			if p := path.Join(p+".d", n); strings.HasSuffix(n, ".conf") {
				d.drops, d.texts[p] = append(d.drops, p), h.read(p)
			}
		}
	}
	return d, there
}

// Unit reports whether a service runs and when it was last started, counted from
// the machine's start, for tests to look at.
func (h *Machine) Unit(name string) (running bool, since time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if u := h.units[name]; u != nil {
		return u.active, u.since
	}
	return false, 0
}

// Runs gives the texts that a service was started with: its unit file's and its drop-ins', as
// systemd had loaded them.
func (h *Machine) Runs(name string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if u := h.units[name]; u != nil {
		return u.runs
	}
	return ""
}

func (h *Machine) systemctl(c machine.Command, out io.Writer) int {
	var verb string
	var names []string
	now := false
	for _, a := range c.Args[1:] {
		switch {
		case a == "--now":
			now = true
		case strings.HasPrefix(a, "-"):
		case verb == "":
			verb = a
		case !strings.Contains(a, "."):
			names = append(names, a+".service") // as systemctl completes a name without a type
		default:
			names = append(names, a)
		}
	}
	switch verb {
	case "show":
		h.show(names, out)
		return 0
	case "list-unit-files":
		h.list(out)
		return 0
	case "reboot":
		return h.reboot(out)
	case "daemon-reload":
		return h.daemonReload()
	}
	for _, name := range names {
		d, there := h.define(name)
		h.mu.Lock()
		u := h.units[name]
		if u == nil && there {
			u = &unit{}
			h.units[name] = u
		}
		h.mu.Unlock()
		if !there {
			fmt.Fprintf(out, "Failed to %s %s: Unit %s not found.\n", verb, name, name)
			return 5
		}
		if code := h.act(verb, name, d, u, now, out); code != 0 {
			return code
		}
	}
	return 0
}

// daemonReload loads what runs again.
func (h *Machine) daemonReload() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	for name, u := range h.units {
		if u.active {
			u.loaded, _ = h.define(name)
		}
	}
	return 0
}

// list prints all units, which their packages had started at boot.
func (h *Machine) list(out io.Writer) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(h.units)) {
		state := "disabled"
		if h.units[name].enabled {
			state = "enabled"
		}
		fmt.Fprintf(out, "%s %s enabled\n", name, state)
	}
}

func (h *Machine) act(verb, name string, d definition, u *unit, now bool, out io.Writer) int {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch verb {
	case "start", "restart":
		if u.masked {
			fmt.Fprintf(out, "Failed to %s %s: Unit %s is masked.\n", verb, name, name)
			return 1
		}
		u.result = ""
		if u.unmet = h.unmet(d, u); u.unmet {
			return 0
		}
		if strings.Contains(d.text(), "ExecStart=/bin/false") {
			u.active, u.result = false, "exit-code"
			u.journal = append(u.journal, name+": cannot read the gauge", name+": Main process exited, "+
				"code=exited, status=1/FAILURE")
			fmt.Fprintf(out, "Job for %s failed because the control process exited with error code.\n", name)
			return 1
		}
		if !u.active || u.loaded.file == "" { // what does not run is not kept in memory
			u.loaded = d
		}
		for line := range strings.Lines(d.text()) {
			rest, ok := strings.CutPrefix(strings.TrimSpace(line), "Conflicts=")
			for _, other := range strings.Fields(rest) {
				if o := h.units[other]; ok && o != nil {
					o.active = false
				}
			}
		}
		if verb == "restart" || !u.active {
			u.since, u.runs = h.uptime(), u.loaded.text()
		}
		u.active = true
	case "is-active", "is-enabled":
		holds, yes, no := u.active, "active", "inactive"
		if verb == "is-enabled" {
			holds, yes, no = u.enabled, "enabled", "disabled"
		}
		if !holds {
			fmt.Fprintln(out, no)
			return 3
		}
		fmt.Fprintln(out, yes)
	case "stop":
		u.active = false
	case "mask", "unmask":
		u.masked = verb == "mask"
	case "reload":
		if !u.active {
			fmt.Fprintf(out, "%s is not active, cannot reload.\n", name)
			return 1
		}
	case "enable", "disable":
		u.enabled = verb == "enable"
		if now {
			u.active = verb == "enable"
		}
	default:
		fmt.Fprintf(out, "Unknown command verb %s.\n", verb)
		return 1
	}
	return 0
}

// unmet says whether a condition keeps a unit from starting; of those it knows paths.
func (h *Machine) unmet(d definition, u *unit) bool {
	for line := range strings.Lines(d.text()) {
		p, ok := strings.CutPrefix(strings.TrimSpace(line), "ConditionPathExists=")
		if !ok {
			continue
		}
		d, err := h.disk.Dir(path.Dir(p)) // the owner, which the other way looks up, needs the lock
		if err == nil {
			_, err = d.Lstat(path.Base(p))
			d.Close()
		}
		if err != nil {
			u.journal = append(u.journal,
				"it was skipped because of an unmet condition check (ConditionPathExists="+p+").")
			return true
		}
	}
	return false
}

// journalctl prints what was logged of one unit.
func (h *Machine) journalctl(c machine.Command, out io.Writer) int {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, a := range c.Args {
		if name, ok := strings.CutPrefix(a, "--unit="); ok && h.units[name] != nil {
			fmt.Fprintln(out, strings.Join(h.units[name].journal, "\n"))
		}
	}
	return 0
}

func (h *Machine) show(names []string, out io.Writer) {
	if slices.Contains(names, "*.service") {
		h.mu.Lock()
		names = names[:0]
		for name := range h.units {
			names = append(names, name)
		}
		h.mu.Unlock()
		slices.Sort(names)
	}
	for i, name := range names {
		if i > 0 {
			fmt.Fprintln(out)
		}
		d, there := h.define(name)
		h.mu.Lock()
		u := h.units[name]
		if u == nil {
			u = &unit{}
		}
		if u.active && u.loaded.file == "" {
			u.loaded = d
		}
		state := *u
		h.mu.Unlock()
		load, active, file, need := "loaded", "inactive", "disabled", "no"
		if !there {
			load, file = "not-found", ""
		}
		if state.active {
			active = "active"
		}
		if state.enabled && there {
			file = "enabled"
		}
		if state.masked && there {
			load, file = "masked", "masked"
		}
		if state.active {
			there, d = true, state.loaded
		}
		for p, text := range d.texts { // of files that were not there then, systemd knows nothing
			if h.read(p) != text {
				need = "yes"
			}
		}
		fmt.Fprintf(out, "Id=%s\nLoadState=%s\nActiveState=%s\nSubState=%s\nUnitFileState=%s\nNeedDaemonReload=%s\n"+
			"ActiveEnterTimestampMonotonic=%d\nNRestarts=0\nFragmentPath=%s\nDropInPaths=%s\nResult=%s\n"+
			"ExecMainCode=1\n"+
			"ExecMainStatus=1\nConditionResult=%s\nConditionTimestampMonotonic=1\n",
			name, load, active, map[bool]string{true: "running", false: "dead"}[state.active], file, need,
			state.since.Microseconds(), d.file, strings.Join(d.drops, " "), cmp.Or(state.result, "success"),
			map[bool]string{true: "no", false: "yes"}[state.unmet])
	}
}
