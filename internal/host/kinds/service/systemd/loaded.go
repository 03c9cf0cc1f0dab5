package systemd

import (
	"path"
	"slices"
	"strings"

	"jadekettle/internal/host/machine"
)

// lookups are where systemd looks for unit files and drop-ins of the system, the folder that
// counts most first (systemd.unit(5), "Unit File Load Path"). /lib is /usr/lib on most hosts
// by now, and a folder of its own on some.
var lookups = []string{"/etc/systemd/system.control", "/run/systemd/system.control", "/run/systemd/transient",
	"/run/systemd/generator.early", "/etc/systemd/system", "/etc/systemd/system.attached", "/run/systemd/system",
	"/run/systemd/system.attached", "/run/systemd/generator", "/usr/local/lib/systemd/system",
	"/usr/lib/systemd/system",
	"/lib/systemd/system", "/run/systemd/generator.late"}

// Defines says whether what is at a path, or below it, is read by systemd when it loads units.
func (Manager) Defines(p string) bool {
	return slices.ContainsFunc(lookups, func(d string) bool {
		return strings.HasPrefix(p, d+"/") || strings.HasPrefix(d+"/", p+"/")
	})
}

// loader finds what systemd would load for units now. That is compared with what it has loaded,
// since NeedDaemonReload is only about files that systemd knew when it last looked: neither
// of a new folder of drop-ins nor of a unit file that hides another one.
type loader struct {
	m       machine.Machine
	folders map[string][]string // names in folders that were looked at
}

func (l *loader) names(folder string) []string {
	if names, ok := l.folders[folder]; ok {
		return names
	}
	names, _ := l.m.ReadDir(folder) // most of them are not there
	if l.folders == nil {
		l.folders = map[string][]string{}
	}
	l.folders[folder] = names
	return names
}

// stale says whether a unit of which `systemctl show` printed these values would be made of
// other files if it were loaded now.
func (l *loader) stale(v map[string]string) bool {
	if v["LoadState"] != "loaded" || v["FragmentPath"] == "" {
		return false // there is no file, or systemd itself reports what it cannot load
	}
	if p := l.fragment(v["Id"]); p != "" && usr(p) != usr(v["FragmentPath"]) && l.regular(p) {
		return true
	}
	loaded := map[string]string{}
	for _, p := range strings.Fields(v["DropInPaths"]) {
		loaded[path.Base(p)] = p
	}
	found := map[string][]string{}
	names := append([]string{v["Id"]}, strings.Fields(v["Names"])...)
	oneName := len(names) <= 2 // Names has the Id in it; of several it is not known whose folder comes first
	for _, d := range l.dropIns(names) {
		for _, base := range l.names(d) {
			if strings.HasSuffix(base, ".conf") {
				found[base] = append(found[base], path.Join(d, base))
			}
		}
	}
	for base, p := range loaded {
		if len(found[base]) == 0 || oneName && usr(found[base][0]) != usr(p) {
			return true
		}
	}
	for base := range found {
		if _, ok := loaded[base]; !ok {
			return true
		}
	}
	return false
}

// fragment gives the file that defines a unit: its own, or that of its template.
func (l *loader) fragment(unit string) string {
	for _, name := range []string{unit, template(unit)} {
		for _, d := range lookups {
			if name != "" && slices.Contains(l.names(d), name) {
				return path.Join(d, name)
			}
		}
	}
	return ""
}

// template gives getty@.service for getty@tty1.service, and nothing for what has none.
func template(unit string) string {
	base, rest, instance := strings.Cut(unit, "@")
	if !instance || strings.HasPrefix(rest, ".") {
		return ""
	}
	return base + "@" + path.Ext(rest)
}

// dropIns gives the folders of drop-ins for a unit with these names that are there, in the order
// in which the first file of a name counts: its own, that of its template, those for all whose
// names begin alike up to a dash, and the one for all of its type.
func (l *loader) dropIns(names []string) []string {
	var words []string
	add := func(w string) {
		if w != "" && !slices.Contains(words, w) {
			words = append(words, w)
		}
	}
	for _, n := range names {
		add(n)
		add(template(n))
	}
	for _, n := range names {
		ext := path.Ext(n)
		stem, _, _ := strings.Cut(strings.TrimSuffix(n, ext), "@")
		for i := strings.LastIndexByte(stem, '-'); i > 0; i = strings.LastIndexByte(stem[:i], '-') {
			add(stem[:i+1] + ext)
		}
		add(strings.TrimPrefix(ext, "."))
	}
	var out []string
	for _, w := range words {
		for _, d := range lookups {
			if slices.Contains(l.names(d), w+".d") {
				out = append(out, path.Join(d, w+".d"))
			}
		}
	}
	return out
}

// regular says whether a path holds a file, and no link: where a link leads, systemd reports in
// words of its own.
func (l *loader) regular(p string) bool {
	d, err := l.m.Dir(path.Dir(p))
	if err != nil {
		return false
	}
	defer d.Close()
	info, err := d.Lstat(path.Base(p))
	return err == nil && info.Type.IsRegular()
}

// usr gives the one form of a path that /lib and /usr/lib have where they are one folder.
func usr(p string) string { return strings.TrimPrefix(p, "/usr") }
