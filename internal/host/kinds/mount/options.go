package mount

import (
	"slices"
	"strconv"
	"strings"
)

// opposites are options that the kernel shows of everything that is mounted, with what holds when
// they are not given; mount(8), "FILESYSTEM-INDEPENDENT MOUNT OPTIONS".
var opposites = map[string]string{"ro": "rw", "noexec": "exec", "nosuid": "suid", "nodev": "dev"}

// local are types of file systems of this machine, for which an option that is not given is its
// opposite. Others may add some of their own.
var local = []string{"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "tmpfs", "vfat", "exfat"}

// inForce says whether what is declared is what the kernel shows, as far as it shows that, or else
// what we last mounted it with.
func inForce(st state, want entry) bool {
	usual := slices.Contains(local, want.sort) && !slices.Contains(want.options, "bind") &&
		!slices.Contains(want.options, "rbind")
	for off, on := range opposites {
		is := slices.Contains(st.now.options, off)
		if wanted, given := last(want.options, off, on); (given || usual) && is != wanted {
			return false
		}
	}
	for _, o := range want.options {
		switch o {
		case "noatime", "nodiratime", "sync", "dirsync", "lazytime":
			if !slices.Contains(st.now.options, o) {
				return false
			}
		}
		name, v, _ := strings.Cut(o, "=")
		if now, ok := valueOf(st.now.options, name); want.sort == "tmpfs" && ok && !sameValue(name, v, now) {
			return false
		}
	}
	return st.before == nil || st.listed || slices.Equal(st.before, want.options)
}

// last gives which of two opposites comes last in a list of options; some other options include
// one of them.
func last(list []string, off, on string) (isOff, given bool) {
	for _, o := range list {
		switch {
		case o == off:
			isOff, given = true, true
		case o == on:
			isOff, given = false, true
		case off != "ro" && (o == "user" || o == "users"), off != "ro" && off != "noexec" &&
			(o == "group" || o == "owner"):
			isOff, given = true, true
		case o == "defaults":
			isOff = false
		}
	}
	return isOff, given
}

func valueOf(list []string, name string) (v string, ok bool) {
	for _, o := range list {
		if n, v, ok := strings.Cut(o, "="); ok && n == name {
			return v, true
		}
	}
	return "", false
}

// sameValue compares values of tmpfs(5): sizes with their units, modes in octal, numbers. What
// cannot be compared, such as a share of the memory, counts as the same.
func sameValue(name, want, now string) bool {
	if name == "mode" {
		return strings.TrimLeft(want, "0") == strings.TrimLeft(now, "0")
	}
	a, okA := amount(want)
	b, okB := amount(now)
	const page = 64 << 10 // sizes are rounded up to pages, which no machine has larger
	if name == "size" {
		return !okA || !okB || a <= b && b-a < page
	}
	return !okA || !okB || a == b
}

// amount reads a number with k, m or g behind it.
func amount(s string) (int64, bool) {
	unit := int64(1)
	if n := len(s); n > 0 {
		switch s[n-1] | 0x20 {
		case 'k':
			unit, s = 1<<10, s[:n-1]
		case 'm':
			unit, s = 1<<20, s[:n-1]
		case 'g':
			unit, s = 1<<30, s[:n-1]
		}
	}
	v, err := strconv.ParseInt(s, 10, 64)
	return v * unit, err == nil && v < 1<<32
}
