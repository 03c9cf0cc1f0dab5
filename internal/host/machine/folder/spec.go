package folder

import (
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"strings"

	"jadekettle/internal/core/lazy"
)

// Spec says what a simulated machine is like when it is made.
type Spec struct {
	Name     string
	Address  string   // its IPv4 address
	OS       string   // "debian", "ubuntu" or "alpine"; debian by default
	Memory   int64    // bytes; 1 GiB by default
	Disk     int64    // bytes; 32 GiB by default
	CPUs     int      // 2 by default
	Packages []string // installed at first, name or name=version
	Version  string   // of the system; its usual one by default
	Like     string   // the systems that it is like, as os-release(5) has it

	// Lenient lets any package be installed and any command succeed, for
	// projects whose software nobody made up a stand-in for.
	Lenient   bool
	Available []string // name=version of packages that can be installed
	Services  []string // units that are there, run, and start at boot
	Users     []string // accounts that are there
	Groups    []string // groups that are there
	Files     map[string]string
	Accounts  []string          // passwd lines that a directory service knows
	Listening []int             // TCP ports that answer, besides 22
	Pages     map[string]string // what made-up web servers have, by address
}

func (s Spec) withDefaults() Spec {
	if s.OS == "" {
		s.OS = "debian"
	}
	if s.Memory == 0 {
		s.Memory = 1 << 30
	}
	if s.Disk == 0 {
		s.Disk = 32 << 30
	}
	if s.CPUs == 0 {
		s.CPUs = 2
	}
	if s.Address == "" {
		s.Address = "192.0.2.1"
	}
	return s
}

var versionLine = lazy.Regexp(`VERSION_ID=".*"`)

const debianRelease = `PRETTY_NAME="Debian GNU/Linux 12 (bookworm)"
NAME="Debian GNU/Linux"
VERSION_ID="12"
ID=debian
`

const ubuntuRelease = `PRETTY_NAME="Ubuntu 24.04 LTS"
NAME="Ubuntu"
VERSION_ID="24.04"
ID=ubuntu
ID_LIKE=debian
`

const basePasswd = `root:x:0:0:root:/root:/bin/bash
daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin
nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin
`

const baseGroup = `root:x:0:
daemon:x:1:
adm:x:4:
dialout:x:20:
sudo:x:27:
nogroup:x:65534:
`

const baseShadow = `root:*:19700:0:99999:7:::
daemon:*:19700:0:99999:7:::
nobody:*:19700:0:99999:7:::
`

// usualFolders are those that any Debian has, in which people put things.
var usualFolders = []string{
	"/etc/apt/apt.conf.d", "/etc/apt/keyrings", "/etc/apt/preferences.d", "/etc/apt/sources.list.d", "/etc/cron.d",
	"/etc/cron.daily",
	"/etc/default", "/etc/init.d", "/etc/ld.so.conf.d", "/etc/logrotate.d", "/etc/modprobe.d", "/etc/modules-load.d",
	"/etc/network",
	"/etc/pam.d", "/etc/profile.d", "/etc/security/limits.d", "/etc/skel", "/etc/ssh/sshd_config.d", "/etc/ssl/certs",
	"/etc/ssl/private",
	"/etc/sudoers.d", "/etc/sysctl.d", "/etc/systemd/network", "/etc/systemd/system", "/etc/tmpfiles.d",
	"/etc/udev/rules.d",
	"/home", "/media", "/mnt", "/opt", "/root", "/run/systemd/system", "/srv", "/tmp", "/usr/bin", "/usr/lib",
	"/usr/local/bin", "/usr/local/etc",
	"/usr/local/lib", "/usr/local/sbin", "/usr/local/share", "/usr/local/share/ca-certificates", "/usr/sbin",
	"/usr/share/keyrings",
	"/var/backups", "/var/cache", "/var/lib", "/var/log", "/var/mail", "/var/spool", "/var/tmp", "/var/www",
	"/etc/cron.d", "/etc/sysctl.d", "/etc/modprobe.d", "/etc/modules-load.d", "/etc/sudoers.d",
}

// baseFile is one file of a machine as it is set up.
type baseFile struct {
	path, text string
	mode       uint32
}

// release is what a machine says of its system.
func release(s Spec) string {
	text := debianRelease
	switch {
	case s.OS == "ubuntu":
		text = ubuntuRelease
	case s.OS != "debian":
		text = fmt.Sprintf("PRETTY_NAME=%q\nNAME=%q\nVERSION_ID=\"1\"\nID=%s\n", s.OS, s.OS, s.OS)
	}
	if s.Like != "" {
		text += fmt.Sprintf("ID_LIKE=%q\n", s.Like)
	}
	if s.Version != "" {
		text = versionLine().ReplaceAllString(text, fmt.Sprintf("VERSION_ID=%q", s.Version))
	}
	return text
}

// baseFiles are the files that every machine has.
func baseFiles(s Spec) []baseFile {
	id := fnv.New64a()
	id.Write([]byte(s.Name))
	return []baseFile{
		{"/etc/os-release", release(s), 0o644},
		{"/etc/passwd", basePasswd, 0o644},
		{"/etc/group", baseGroup, 0o644},
		{"/etc/shadow", baseShadow, 0o640},
		{"/etc/hostname", s.Name + "\n", 0o644},
		{"/proc/cpuinfo", strings.Repeat("processor\t: 0\nmodel name\t: Simulated CPU\n\n", s.CPUs), 0o444},
		{"/proc/meminfo", fmt.Sprintf("MemTotal:       %d kB\nMemFree:        %d kB\nSwapTotal:             0 kB\n",
			s.Memory>>10, s.Memory>>11), 0o444},
		{"/proc/mounts", "/dev/vda1 / ext4 rw,relatime 0 0\nproc /proc proc rw 0 0\n", 0o444},
		{"/dev/vdb2", "", 0o660},
		{"/proc/1/comm", "systemd\n", 0o444},
		{"/proc/sys/kernel/ostype", "Linux\n", 0o444},
		{"/proc/sys/kernel/osrelease", "6.1.0-simulated\n", 0o444},
		{"/proc/sys/kernel/hostname", s.Name + "\n", 0o444},
		{"/proc/sys/net/ipv4/ip_forward", "0\n", 0o644},
		{"/proc/sys/net/core/somaxconn", "4096\n", 0o644},
		{"/proc/sys/vm/swappiness", "60\n", 0o644},
		{"/proc/modules", "", 0o444},
		{"/etc/hosts", "127.0.0.1\tlocalhost\n::1\tlocalhost ip6-localhost\n", 0o644},
		{"/etc/timezone", "Etc/UTC\n", 0o644},
		{"/usr/share/zoneinfo/Etc/UTC", "TZif2\n", 0o644},
		{"/usr/share/zoneinfo/UTC", "TZif2\n", 0o644},
		{"/usr/share/zoneinfo/Europe/Berlin", "TZif2\n", 0o644},
		{"/etc/locale.gen", "# de_DE.UTF-8 UTF-8\n# en_US.UTF-8 UTF-8\n", 0o644},
		{"/proc/sys/kernel/random/boot_id", fmt.Sprintf("%016x-boot\n", id.Sum64()), 0o444},
		{"/proc/net/fib_trie", fmt.Sprintf("Main:\n  +-- 0.0.0.0/0 2 0 2\n     |-- %s\n        /32 host LOCAL\n"+
			"     |-- 127.0.0.1\n        /32 host LOCAL\n", s.Address), 0o444},
		{"/proc/net/route", "Iface\tDestination\tGateway \tFlags\tRefCnt\tUse\tMetric\tMask\t\tMTU\tWindow\tIRTT\n" +
			"eth0\t000200C0\t00000000\t0001\t0\t0\t0\t00FFFFFF\t0\t0\t0\n", 0o444},
		{"/sys/block/vda/size", fmt.Sprintf("%d\n", s.Disk/512), 0o444},
		{"/sys/class/net/eth0/address", "02:00:5e:00:53:01\n", 0o444},
		{"/var/lib/dpkg/status", baseStatus, 0o644},
		{"/var/lib/apt/lists/lock", "", 0o640},
		{"/var/lib/apt/lists/archive.example.org_Packages", "made up\n", 0o644},
		{"/lib/systemd/system/ssh.service",
			"[Unit]\nDescription=Secure shell\n[Service]\nExecStart=/usr/sbin/sshd -D\n[Install]\n" +
				"WantedBy=multi-user.target\n", 0o644},
		{"/lib/systemd/system/cron.service",
			"[Unit]\nDescription=Time table\n[Service]\nExecStart=/usr/sbin/cron -f\n[Install]\n" +
				"WantedBy=multi-user.target\n", 0o644},
		{"/etc/machine-id", fmt.Sprintf("%016x%016x\n", id.Sum64(), id.Sum64()), 0o444},
	}
}

// populate writes the files that a fresh machine has.
func (h *Machine) populate() error {
	s := h.spec
	for _, p := range usualFolders {
		d, err := h.mkdirs(p)
		if err != nil {
			return err
		}
		d.Close()
	}
	for _, f := range baseFiles(s) {
		if err := h.write(f.path, f.text, f.mode); err != nil {
			return err
		}
	}
	etc, err := h.mkdirs("/etc")
	if err != nil {
		return err
	}
	defer etc.Close()
	if err := etc.Symlink("/usr/share/zoneinfo/Etc/UTC", "localtime"); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	for _, name := range []string{"ssh.service", "cron.service"} {
		h.units[name] = &unit{active: true, enabled: true, since: h.uptime()}
	}
	if err := h.given(); err != nil {
		return err
	}
	for _, p := range s.Packages {
		name, version, _ := strings.Cut(p, "=")
		if err := h.install(name, version); err != nil {
			return err
		}
	}
	return nil
}

// given puts in place what the spec says is there besides.
func (h *Machine) given() error {
	s := h.spec
	passwd, group, shadow := h.read("/etc/passwd"), h.read("/etc/group"), h.read("/etc/shadow")
	id := 900
	for _, name := range s.Groups {
		id++
		group += fmt.Sprintf("%s:x:%d:\n", name, id)
	}
	for _, name := range s.Users {
		id++
		passwd += fmt.Sprintf("%s:x:%d:%d::/home/%s:/bin/sh\n", name, id, id, name)
		group += fmt.Sprintf("%s:x:%d:\n", name, id)
		shadow += name + ":*:19700:0:99999:7:::\n"
	}
	files := map[string]string{}
	for name, text := range s.Files {
		files[name] = text
	}
	for _, name := range s.Services {
		if !strings.Contains(name, ".") {
			name += ".service"
		}
		files["/lib/systemd/system/"+name] = unitFile(name, name)
		h.units[name] = &unit{active: true, enabled: true, since: h.uptime()}
	}
	for name, text := range files {
		if err := h.write(name, text, 0o644); err != nil {
			return err
		}
	}
	return errors.Join(h.write("/etc/passwd", passwd, 0o644), h.write("/etc/group", group, 0o644),
		h.write("/etc/shadow", shadow, 0o640))
}

const baseStatus = `Package: dpkg
Status: install ok installed
Architecture: amd64
Version: 1.21.22

Package: libc6
Status: install ok installed
Architecture: amd64
Version: 2.36-9+deb12u4

Package: old-ticker
Status: install ok installed
Architecture: amd64
Version: 0.3-1

`

// Installed gives the version of a package that is installed, or "".
func (h *Machine) Installed(name string) string { return h.status(name) }

// HasAccount says whether an account is in passwd or group.
func (h *Machine) HasAccount(file, name string) bool {
	return strings.Contains("\n"+h.read("/etc/"+file), "\n"+name+":")
}
