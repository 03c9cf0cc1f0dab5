package folder

import (
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/host/machine"
)

var systemdStandIns = map[string]standIn{"systemctl": (*Machine).systemctl}

// unit is the state of one service unit.
type unit struct {
	active  bool
	enabled bool
	since   time.Duration // uptime at its last start
	masked  bool
	loaded  string // the unit file's text when it was loaded
}

// unitFolders are where systemd looks, the administrator's first.
var unitFolders = []string{"/etc/systemd/system", "/run/systemd/system", "/lib/systemd/system",
	"/usr/lib/systemd/system"}

// file gives the text of a unit's file.
func (h *Machine) unitText(name string) (string, bool) {
	for _, d := range unitFolders {
		if text := h.read(path.Join(d, name)); text != "" {
			return text, true
		}
	}
	return "", false
}

// Unit tells whether a service runs and when it was last started, counted from
// the machine's start, for tests to look at.
func (h *Machine) Unit(name string) (running bool, since time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if u := h.units[name]; u != nil {
		return u.active, u.since
	}
	return false, 0
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
		h.mu.Lock()
		defer h.mu.Unlock()
		for _, u := range h.units {
			u.loaded = ""
		}
		return 0
	}
	for _, name := range names {
		text, there := h.unitText(name)
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
		if code := h.act(verb, name, text, u, now, out); code != 0 {
			return code
		}
	}
	return 0
}

// list tells of all units, which their packages had started at boot.
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

func (h *Machine) act(verb, name, text string, u *unit, now bool, out io.Writer) int {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch verb {
	case "start", "restart":
		if u.masked {
			fmt.Fprintf(out, "Failed to %s %s: Unit %s is masked.\n", verb, name, name)
			return 1
		}
		if strings.Contains(text, "ExecStart=/bin/false") {
			u.active = false
			fmt.Fprintf(out, "Job for %s failed because the control process exited with error code.\n", name)
			return 1
		}
		if verb == "restart" || !u.active {
			u.since = h.uptime()
		}
		u.active = true
		u.loaded = text
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
		text, there := h.unitText(name)
		h.mu.Lock()
		u := h.units[name]
		if u == nil {
			u = &unit{}
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
		if state.loaded != "" && state.loaded != text {
			need = "yes"
		}
		fmt.Fprintf(out, "Id=%s\nLoadState=%s\nActiveState=%s\nSubState=%s\nUnitFileState=%s\nNeedDaemonReload=%s\n"+
			"ActiveEnterTimestampMonotonic=%d\nNRestarts=0\n",
			name, load, active, map[bool]string{true: "running", false: "dead"}[state.active], file, need,
			state.since.Microseconds())
	}
}
