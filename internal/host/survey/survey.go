// Package survey reads a host's facts through the machine seam. It starts no
// program but the service manager's, and that only when services are asked for.
package survey

import (
	"context"
	"net/netip"
	"path"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"unicode"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/machine"
)

// Read gives what can be read of what a start asks for; what cannot stays empty.
func Read(ctx context.Context, m machine.Machine, asked *wire.Start) *facts.Facts {
	r := reader{m}
	f := &facts.Facts{
		OS: r.os(),
		Kernel: facts.Kernel{Name: r.line("/proc/sys/kernel/ostype"),
			Release: r.line("/proc/sys/kernel/osrelease")},
		Arch:           runtime.GOARCH,
		CPU:            r.cpu(),
		Memory:         r.memory(),
		Disks:          bounded(r.disks()),
		Mounts:         bounded(r.mounts()),
		Addresses:      bounded(append(r.ipv4(), r.ipv6()...)),
		Hostname:       r.line("/proc/sys/kernel/hostname"),
		Init:           r.init(),
		PackageManager: r.packageManager(),
		Services:       map[string]facts.Service{},
		MachineID:      r.line("/etc/machine-id"),
	}
	if len(asked.Own) > 0 || asked.OwnFiles {
		f.Own, f.OwnWrong = own(ctx, m, asked)
	}
	if asked.Services {
		f.Services = service.Survey(ctx, m, most)
	}
	return f
}

type reader struct{ m machine.Machine }

func (r reader) text(p string) string {
	data, err := machine.ReadFile(r.m, p)
	if err != nil {
		return ""
	}
	return strings.Map(func(c rune) rune {
		if unicode.IsControl(c) && c != '\n' && c != '\t' {
			return '?'
		}
		return c
	}, strings.ToValidUTF8(string(data), "?"))
}

// most bounds each list, well below what facts.Validate refuses: a host that
// runs thousands of containers has as many mounts.
const most = 2048

func bounded[T any](list []T) []T { return list[:min(len(list), most)] }

func (r reader) line(p string) string {
	first, _, _ := strings.Cut(r.text(p), "\n")
	return strings.TrimSpace(first)
}

// os reads os-release(5).
func (r reader) os() facts.OS {
	text := r.text("/etc/os-release")
	if text == "" {
		text = r.text("/usr/lib/os-release")
	}
	v := map[string]string{}
	for line := range strings.Lines(text) {
		k, val, ok := strings.Cut(strings.TrimSpace(line), "=")
		if !ok || strings.HasPrefix(k, "#") {
			continue
		}
		if unquoted, err := strconv.Unquote(val); err == nil {
			val = unquoted
		}
		v[k] = strings.Trim(val, `'"`)
	}
	os := facts.OS{ID: v["ID"], Name: v["PRETTY_NAME"], VersionID: v["VERSION_ID"], Like: []string{}}
	if os.ID != "" {
		os.Like = append(os.Like, os.ID)
	}
	for _, l := range strings.Fields(v["ID_LIKE"]) {
		if !slices.Contains(os.Like, l) {
			os.Like = append(os.Like, l)
		}
	}
	return os
}

func (r reader) cpu() facts.CPU {
	var c facts.CPU
	for line := range strings.Lines(r.text("/proc/cpuinfo")) {
		k, v, _ := strings.Cut(line, ":")
		switch strings.TrimSpace(k) {
		case "processor":
			c.Count++
		case "model name":
			c.Model = strings.TrimSpace(v)
		}
	}
	return c
}

func (r reader) memory() facts.Memory {
	var m facts.Memory
	for line := range strings.Lines(r.text("/proc/meminfo")) {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		kb, _ := strconv.ParseInt(f[1], 10, 64)
		switch f[0] {
		case "MemTotal:":
			m.Total = kb << 10
		case "SwapTotal:":
			m.Swap = kb << 10
		}
	}
	return m
}

// disks lists /sys/block but for memory-backed and loop devices.
func (r reader) disks() []facts.Disk {
	out := []facts.Disk{}
	names, _ := r.m.ReadDir("/sys/block")
	sort.Strings(names)
	for _, n := range names {
		if slices.ContainsFunc([]string{"loop", "ram", "zram", "nbd", "sr", "fd"}, func(p string) bool {
			return strings.HasPrefix(n, p) && strings.Trim(n[len(p):], "0123456789") == ""
		}) {
			continue
		}
		sectors, _ := strconv.ParseInt(r.line(path.Join("/sys/block", n, "size")), 10, 64)
		if sectors > 0 {
			// the kernel counts in 512 bytes whatever the disk does
			out = append(out, facts.Disk{Name: n, Size: sectors * 512})
		}
	}
	return out
}

// maxDevice bounds the name of a mount's device, in bytes.
const maxDevice = 1024

// stored are file systems that hold files without a device path of their own.
var stored = []string{"nfs", "nfs4", "cifs", "zfs", "btrfs", "overlay", "9p", "virtiofs"}

func (r reader) mounts() []facts.Mount {
	out := []facts.Mount{}
	unescape := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
	for line := range strings.Lines(r.text("/proc/mounts")) {
		f := strings.Fields(line)
		if len(f) < 3 || !strings.HasPrefix(f[0], "/") && !slices.Contains(stored, f[2]) {
			continue
		}
		m := facts.Mount{Path: unescape.Replace(f[1]), Device: unescape.Replace(f[0]), Type: f[2]}
		// an ordinary account names a device, with FUSE
		if strings.ContainsAny(m.Path+m.Device, "\n\t") || len(m.Device) > maxDevice {
			continue
		}
		out = append(out, m)
	}
	r.sizes(out)
	slices.SortStableFunc(out, func(a, b facts.Mount) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// sizes asks every file system for its size, all at once: one whose server is
// gone takes seconds until it is given up.
func (r reader) sizes(list []facts.Mount) {
	var wg sync.WaitGroup
	for i := range list {
		wg.Go(func() { list[i].Size, list[i].Free, _ = r.m.Space(list[i].Path) })
	}
	wg.Wait()
}

// ipv4 reads the local addresses from the routing trie, and each one's
// interface from the route that covers it best.
func (r reader) ipv4() []facts.Address {
	out := []facts.Address{}
	last := ""
	for line := range strings.Lines(r.text("/proc/net/fib_trie")) {
		t := strings.TrimSpace(line)
		if addr, ok := strings.CutPrefix(t, "|-- "); ok {
			last = addr
			continue
		}
		a, err := netip.ParseAddr(last)
		if t != "/32 host LOCAL" || err != nil || a.IsLoopback() {
			continue
		}
		address := facts.Address{Address: last, Family: "ipv4", Interface: r.interfaceOf(a)}
		if !slices.Contains(out, address) {
			out = append(out, address)
		}
	}
	return out
}

func (r reader) interfaceOf(a netip.Addr) string {
	best, name := -1, ""
	for line := range strings.Lines(r.text("/proc/net/route")) {
		f := strings.Fields(line)
		if len(f) < 8 {
			continue
		}
		dest, err1 := strconv.ParseUint(f[1], 16, 32)
		mask, err2 := strconv.ParseUint(f[7], 16, 32)
		if err1 != nil || err2 != nil {
			continue
		}
		b := a.As4()
		// the file has the host's byte order
		own := uint64(b[0]) | uint64(b[1])<<8 | uint64(b[2])<<16 | uint64(b[3])<<24
		bits := 0
		for m := mask; m != 0; m &= m - 1 {
			bits++
		}
		if mask != 0 && own&mask == dest && bits > best {
			best, name = bits, f[0]
		}
	}
	return name
}

func (r reader) ipv6() []facts.Address {
	var out []facts.Address
	for line := range strings.Lines(r.text("/proc/net/if_inet6")) {
		f := strings.Fields(line)
		if len(f) < 6 || len(f[0]) != 32 || f[5] == "lo" {
			continue
		}
		var b [16]byte
		for i := range b {
			n, err := strconv.ParseUint(f[0][2*i:2*i+2], 16, 8)
			if err != nil {
				return out
			}
			b[i] = byte(n)
		}
		out = append(out, facts.Address{Address: netip.AddrFrom16(b).String(), Family: "ipv6", Interface: f[5]})
	}
	return out
}

// init follows sd_booted(3): systemd made its runtime folder.
func (r reader) init() string {
	if _, err := r.m.ReadDir("/run/systemd/system"); err == nil {
		return "systemd"
	}
	return r.line("/proc/1/comm")
}

func (r reader) packageManager() string {
	for _, p := range [][2]string{{"apt-get", "apt"}, {"dnf", "dnf"}, {"zypper", "zypper"}, {"pacman", "pacman"},
		{"apk", "apk"}} {
		if r.m.Look(p[0]) {
			return p[1]
		}
	}
	return ""
}
