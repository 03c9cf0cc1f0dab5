// Package folder is a simulated machine: a folder that holds its file tree,
// and stand-ins for just the commands that the worker calls. It never starts a
// real program and needs no rights: what belongs to whom is remembered beside
// the tree, so that the worker sees the owners it would see as root.
package folder

import (
	"context"
	"fmt"
	"io"
	"path"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/system"
)

// Host is one simulated machine. It may be used by many workers, one after
// another or at once.
type Host struct {
	Root string // the folder of its tree

	disk  *system.System
	spec  Spec
	start time.Time

	mu      sync.Mutex
	owners  map[uint64]owner // by inode, so that they follow a rename
	units   map[string]*unit
	hashes  map[string]string // plain passwords by the hash that stands for them
	calls   []string
	program map[string]func(c machine.Command, out io.Writer) int
}

type owner struct {
	uid, gid int
	mode     uint32
}

// New makes a fresh machine in an empty folder.
func New(root string, spec Spec) (*Host, error) {
	h := &Host{Root: root, disk: &system.System{Root: root}, spec: spec.withDefaults(), start: time.Now(),
		owners: map[uint64]owner{}, units: map[string]*unit{}, hashes: map[string]string{}}
	h.program = map[string]func(machine.Command, io.Writer) int{
		"sh": h.sh, "getent": h.getent,
		"apt-get": h.aptGet, "apt-cache": h.aptCache,
		"systemctl": h.systemctl,
		"useradd":   h.useradd, "usermod": h.usermod, "userdel": h.userdel,
		"groupadd": h.groupadd, "groupmod": h.groupmod, "groupdel": h.groupdel,
		"chpasswd": h.chpasswd, "unix_chkpwd": h.chkpwd,
	}
	if err := h.populate(); err != nil {
		return nil, fmt.Errorf("make the simulated host %s: %w", spec.Name, err)
	}
	return h, nil
}

// Calls lists the commands that were run, oldest first, for tests to look at.
func (h *Host) Calls() []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]string(nil), h.calls...)
}

// Dir opens a folder of the tree.
func (h *Host) Dir(p string) (machine.Dir, error) {
	d, err := h.disk.Dir(p)
	if err != nil {
		return nil, err
	}
	return &dir{Dir: d, host: h}, nil
}

// dir remembers owners and modes, which an ordinary user cannot set.
type dir struct {
	machine.Dir
	host *Host
}

func (d *dir) Lstat(name string) (machine.Info, error) {
	info, err := d.Dir.Lstat(name)
	if err != nil {
		return info, err
	}
	d.host.mu.Lock()
	defer d.host.mu.Unlock()
	o, known := d.host.owners[info.Inode]
	if !known {
		info.UID, info.GID = 0, 0 // made by hand from outside: root's, as an administrator's editor leaves it
		return info, nil
	}
	info.UID, info.GID, info.Mode = o.uid, o.gid, o.mode
	return info, nil
}

func (d *dir) note(name string, change func(*owner)) error {
	info, err := d.Dir.Lstat(name)
	if err != nil {
		return err
	}
	d.host.mu.Lock()
	defer d.host.mu.Unlock()
	o, known := d.host.owners[info.Inode]
	if !known {
		o = owner{mode: info.Mode}
	}
	change(&o)
	d.host.owners[info.Inode] = o
	return nil
}

func (d *dir) Create(name string, mode uint32, uid, gid int) (machine.File, error) {
	f, err := d.Dir.Create(name, mode|0o600, -1, -1)
	if err != nil {
		return nil, err
	}
	return file{f}, d.note(name, func(o *owner) { *o = owner{max(uid, 0), max(gid, 0), mode} })
}

func (d *dir) Mkdir(name string, mode uint32) error {
	if err := d.Dir.Mkdir(name, mode|0o700); err != nil {
		return err
	}
	return d.note(name, func(o *owner) { *o = owner{0, 0, mode} })
}

func (d *dir) Chmod(name string, mode uint32) error {
	return d.note(name, func(o *owner) { o.mode = mode })
}

func (d *dir) Chown(name string, uid, gid int) error {
	return d.note(name, func(o *owner) {
		if uid >= 0 {
			o.uid = uid
		}
		if gid >= 0 {
			o.gid = gid
		}
	})
}

// Sync is left out: nobody loses power here, and a hundred hosts share a disk.
func (d *dir) Sync() error { return nil }

// file is a file without fsync, for the same reason.
type file struct{ machine.File }

func (file) Sync() error { return nil }

// Open opens a file of the tree; /proc/uptime tells the machine's own time.
func (h *Host) Open(p string) (machine.File, error) {
	if p == "/proc/uptime" {
		return text{strings.NewReader(fmt.Sprintf("%.2f 0.00\n", h.uptime().Seconds()))}, nil
	}
	return h.disk.Open(p)
}

func (h *Host) uptime() time.Duration { return time.Hour + time.Since(h.start) }

type text struct{ *strings.Reader }

func (text) Write([]byte) (int, error) { return 0, io.ErrClosedPipe }
func (text) Close() error              { return nil }
func (text) Sync() error               { return nil }

// ReadDir lists a folder of the tree.
func (h *Host) ReadDir(p string) ([]string, error) { return h.disk.ReadDir(p) }

// Space tells the size that the spec gives the root file system.
func (h *Host) Space(string) (size, free int64, err error) {
	return h.spec.Disk, h.spec.Disk / 2, nil
}

// Lock takes a real lock on a file of the tree.
func (h *Host) Lock(p string) (io.Closer, error) { return h.disk.Lock(p) }

// Run runs a stand-in.
func (h *Host) Run(ctx context.Context, c machine.Command) (machine.Output, error) {
	name := path.Base(c.Args[0])
	run, ok := h.program[name]
	if !ok {
		return machine.Output{}, fmt.Errorf("the program %s is not on this host", c.Args[0])
	}
	h.mu.Lock()
	h.calls = append(h.calls, strings.Join(c.Args, " "))
	h.mu.Unlock()
	var out strings.Builder
	code := run(c, &out)
	return machine.Output{Code: code, Stdout: out.String(), Combined: out.String()}, nil
}

// Look says whether there is a stand-in.
func (h *Host) Look(program string) bool { return h.program[program] != nil }

// UID says that the worker is root here.
func (h *Host) UID() int { return 0 }

// Home is root's.
func (h *Host) Home() string { return "/root" }

// Now gives the time.
func (h *Host) Now() time.Time { return time.Now() }

// Wait does not wait: nothing here needs time to settle.
func (h *Host) Wait(context.Context, time.Duration) {}

// sh runs one simple command: words, quoted with ' or ", and no more of the
// shell's language.
func (h *Host) sh(c machine.Command, out io.Writer) int {
	if len(c.Args) < 3 || c.Args[1] != "-c" {
		return 2
	}
	words := shellWords(c.Args[2])
	if len(words) == 0 {
		return 0
	}
	if run, ok := h.installed(words[0]); ok {
		return run(words[1:], out)
	}
	if h.spec.Lenient {
		return 0
	}
	fmt.Fprintf(out, "sh: 1: %s: not found\n", words[0])
	return 127
}

func shellWords(line string) []string {
	var words []string
	var word strings.Builder
	var quote rune
	in := false
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '\'' || r == '"'):
			quote, in = r, true
		case quote == 0 && (r == ' ' || r == '\t'):
			if in {
				words = append(words, word.String())
				word.Reset()
			}
			in = false
		default:
			word.WriteRune(r)
			in = true
		}
	}
	if in {
		words = append(words, word.String())
	}
	return words
}

// read and write are how stand-ins keep the system's files.
func (h *Host) read(p string) string {
	data, err := machine.ReadFile(h, p)
	if err != nil {
		return ""
	}
	return string(data)
}

func (h *Host) write(p, text string, mode uint32) error {
	d, err := h.mkdirs(path.Dir(p))
	if err != nil {
		return err
	}
	defer d.Close()
	name := path.Base(p)
	d.Remove(name)
	f, err := d.Create(name, mode, 0, 0)
	if err != nil {
		return err
	}
	if _, err := io.WriteString(f, text); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

func (h *Host) mkdirs(p string) (machine.Dir, error) {
	if d, err := h.Dir(p); err == nil {
		return d, nil
	}
	if p == "/" {
		return nil, fmt.Errorf("the folder %s is not there", h.Root)
	}
	up, err := h.mkdirs(path.Dir(p))
	if err != nil {
		return nil, err
	}
	defer up.Close()
	if err := up.Mkdir(path.Base(p), 0o755); err != nil {
		return nil, err
	}
	return h.Dir(p)
}

func (h *Host) remove(p string) {
	if d, err := h.Dir(path.Dir(p)); err == nil {
		d.Remove(path.Base(p))
		d.Close()
	}
}
