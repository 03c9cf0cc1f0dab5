// Package folder is a simulated machine: a folder that holds its file tree,
// and stand-ins for just the commands that the worker calls. It never starts a
// real program and needs no rights: what belongs to whom is remembered beside
// the tree, so that the worker sees the owners it would see as root.
package folder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"jadekettle/internal/core/shell"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/system"
)

// Machine is one simulated machine. It may be used by many workers, one after
// another or at once.
type Machine struct {
	Root string // the folder of its tree
	// Rebooted, when set, is called after the machine was rebooted.
	Rebooted func()

	disk  *system.System
	spec  Spec
	start time.Time
	boots int

	programs map[string]standIn
	acting   atomic.Pointer[machine.Rights] // whose files are made, root's when nil

	mu     sync.Mutex
	owners map[uint64]owner // by inode, so that they follow a rename
	units  map[string]*unit
	hashes map[string]string // plain passwords by their hash
	calls  []string
}

type owner struct {
	uid, gid int
	mode     uint32
	disk     uint32 // the mode on disk when this was noted; another one means that it was changed by hand
}

// New makes a fresh machine in an empty folder.
func New(root string, spec Spec) (*Machine, error) {
	h := &Machine{Root: root, disk: &system.System{Root: root}, spec: spec.withDefaults(), start: time.Now(),
		owners: map[uint64]owner{}, units: map[string]*unit{}, hashes: map[string]string{},
		programs: standIns()}
	if spec.OS == "alpine" {
		h.programs = maps.Clone(h.programs)
		maps.DeleteFunc(h.programs, func(name string, _ standIn) bool {
			return aptStandIns[name] != nil || slices.Contains(shadowPrograms, name)
		})
		maps.Copy(h.programs, apkStandIns)
		maps.Copy(h.programs, busyboxStandIns)
	}
	if err := h.populate(); err != nil {
		return nil, fmt.Errorf("create the simulated host %s: %w", spec.Name, err)
	}
	return h, nil
}

// Calls lists the commands that were run, oldest first, for tests to look at.
func (h *Machine) Calls() []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]string(nil), h.calls...)
}

// Give makes a file or folder that is in the tree somebody's, with exactly
// this mode, for tests to arrange what an account on the host may do.
func (h *Machine) Give(p string, uid, gid int, mode uint32) error {
	d, err := h.disk.Dir(path.Dir(p))
	if err != nil {
		return err
	}
	defer d.Close()
	info, err := d.Lstat(path.Base(p))
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.owners[info.Inode] = owner{uid, gid, mode, info.Mode}
	return nil
}

// Dir opens a folder of the tree.
func (h *Machine) Dir(p string) (machine.Dir, error) {
	d, err := h.disk.Dir(p)
	if err != nil {
		return nil, err
	}
	return &dir{Dir: d, host: h}, nil
}

// dir remembers owners and modes, which an ordinary user cannot set.
type dir struct {
	machine.Dir
	host *Machine
}

func (d *dir) Lstat(name string) (machine.Info, error) {
	info, err := d.Dir.Lstat(name)
	if err != nil {
		return info, err
	}
	return d.host.remembered(info), nil
}

// Open opens a file whose owner and mode are the remembered ones.
func (d *dir) Open(name string) (machine.File, error) {
	f, err := d.Dir.Open(name)
	if err != nil {
		return nil, err
	}
	return file{f, d.host}, nil
}

// Rewrite opens one of which owner and mode are the remembered ones.
func (d *dir) Rewrite(name string) (machine.File, error) {
	f, err := d.Dir.Rewrite(name)
	if err != nil {
		return nil, err
	}
	return file{f, d.host}, nil
}

func (d *dir) Create(name string, mode uint32, uid, gid int) (machine.File, error) {
	f, err := d.Dir.Create(name, mode|0o600, -1, -1)
	if err != nil {
		return nil, err
	}
	return file{f, d.host}, d.host.note(f, d.host.made(uid, gid, mode))
}

// made notes whose a new thing is.
func (h *Machine) made(uid, gid int, mode uint32) func(*owner) {
	by := h.acting.Load()
	if by == nil {
		by = &machine.Rights{}
	}
	if uid < 0 {
		uid = by.UID
	}
	if gid < 0 {
		gid = by.GID
	}
	return func(o *owner) { o.uid, o.gid, o.mode = uid, gid, mode }
}

// As remembers whose files are made meanwhile.
func (h *Machine) As(r machine.Rights, do func() error) error {
	h.acting.Store(&r)
	defer h.acting.Store(nil)
	return do()
}

func (d *dir) Mkdir(name string, mode uint32, uid, gid int) error {
	if err := d.Dir.Mkdir(name, mode|0o700, -1, -1); err != nil {
		return err
	}
	f, err := d.Dir.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return d.host.note(f, d.host.made(uid, gid, mode))
}

// Rename renames in the folder.
func (d *dir) Rename(from, to string) error {
	defer d.unnamed(to)()
	return d.Dir.Rename(from, to)
}

// Move renames in the tree.
func (d *dir) Move(from string, to machine.Dir, name string) error {
	into, ours := to.(*dir)
	if !ours {
		return errors.New("the directory is not from this machine")
	}
	defer into.unnamed(name)()
	return d.Dir.Move(from, into.Dir, name)
}

// Remove removes a file or an empty folder.
func (d *dir) Remove(name string) error {
	defer d.unnamed(name)()
	return d.Dir.Remove(name)
}

// unnamed returns what to call once a name may have gone: whose it was is
// forgotten with its last name, because a new file may get its inode.
func (d *dir) unnamed(name string) func() {
	before, err := d.Dir.Lstat(name)
	return func() {
		after, e := d.Dir.Lstat(name)
		last := before.Type.IsDir() || before.Links == 1
		if err != nil || !last || e == nil && after.Inode == before.Inode {
			return
		}
		d.host.mu.Lock()
		defer d.host.mu.Unlock()
		delete(d.host.owners, before.Inode)
	}
}

// Follow keeps to the rule of real machines, by the remembered owners.
func (d *dir) Follow(name string) (string, error) {
	link, err := d.Lstat(name)
	if err != nil {
		return "", err
	}
	holder, err := d.Lstat(".")
	if err != nil {
		return "", err
	}
	if !machine.Trusted(holder, link, 0) {
		return "", fmt.Errorf("%s: %w", name, machine.ErrLink)
	}
	return d.Readlink(name)
}

// Sync is skipped: nobody loses power here, and a hundred hosts share a disk.
func (d *dir) Sync() error { return nil }

// file is a file without fsync, for the same reason, of which owner and mode
// are remembered.
type file struct {
	machine.File
	host *Machine
}

func (file) Sync() error { return nil }

func (f file) Info() (machine.Info, error) {
	info, err := f.File.Info()
	return f.host.remembered(info), err
}

func (f file) Chmod(mode uint32) error {
	return f.host.note(f.File, func(o *owner) { o.mode = mode })
}

// Lchown remembers the owner of a link.
func (d *dir) Lchown(name string, uid, gid int) error {
	info, err := d.Lstat(name)
	if err != nil {
		return err
	}
	if uid < 0 {
		uid = info.UID
	}
	if gid < 0 {
		gid = info.GID
	}
	d.host.mu.Lock()
	defer d.host.mu.Unlock()
	d.host.owners[info.Inode] = owner{uid, gid, info.Mode, info.Mode}
	return nil
}

// Chown takes setuid and setgid away from a file, as chown(2) says of Linux.
func (f file) Chown(uid, gid int) error {
	info, err := f.File.Info()
	if err != nil {
		return err
	}
	return f.host.note(f.File, func(o *owner) {
		if info.Type.IsRegular() {
			o.mode &^= 0o4000
			if o.mode&0o010 != 0 {
				o.mode &^= 0o2000
			}
		}
		if uid >= 0 {
			o.uid = uid
		}
		if gid >= 0 {
			o.gid = gid
		}
	})
}

// remembered puts the owner and mode that are remembered into what the disk
// reports. What was made by hand from outside is root's, as an administrator's
// editor leaves it, and a mode that was changed there is the one that counts.
func (h *Machine) remembered(info machine.Info) machine.Info {
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.owners[info.Inode] // zero, root's, for what is not known
	info.UID, info.GID = o.uid, o.gid
	if o.disk == info.Mode {
		info.Mode = o.mode
	}
	return info
}

// note changes what is remembered of an open file.
func (h *Machine) note(f machine.File, change func(*owner)) error {
	info, err := f.Info()
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.owners[info.Inode]
	if o.disk != info.Mode {
		o.mode = info.Mode
	}
	o.disk = info.Mode
	change(&o)
	h.owners[info.Inode] = o
	return nil
}

// Open opens a file of the tree; /proc/uptime has the machine's own time.
func (h *Machine) Open(p string) (machine.File, error) {
	if p == "/proc/uptime" {
		return text{strings.NewReader(fmt.Sprintf("%.2f 0.00\n", h.uptime().Seconds()))}, nil
	}
	return h.disk.Open(p)
}

func (h *Machine) uptime() time.Duration { return time.Hour + time.Since(h.start) }

// reboot begins another boot, in which what is to run at boot runs.
func (h *Machine) reboot(io.Writer) int {
	h.mu.Lock()
	h.boots++
	h.start = time.Now().Add(-time.Hour)
	for name, u := range h.units {
		u.active, u.since = u.enabled && !u.masked, 0
		u.loaded, _ = h.define(name)
		u.runs = u.loaded.text()
	}
	h.mu.Unlock()
	h.write("/proc/sys/kernel/random/boot_id", fmt.Sprintf("%016x-boot-%d\n", h.spec.Name, h.boots), 0o444)
	if h.Rebooted != nil {
		h.Rebooted()
	}
	return 0
}

type text struct{ *strings.Reader }

func (text) Write([]byte) (int, error) { return 0, io.ErrClosedPipe }
func (text) Close() error              { return nil }
func (text) Sync() error               { return nil }
func (text) Chown(int, int) error      { return fs.ErrPermission }
func (text) Chmod(uint32) error        { return fs.ErrPermission }
func (text) Truncate(int64) error      { return fs.ErrPermission }

// Extras gives none, and SetExtra takes none.
func (text) Extras() (map[string][]byte, error) { return nil, nil }
func (text) SetExtra(string, []byte) error      { return fs.ErrPermission }

func (text) Info() (machine.Info, error) {
	return machine.Info{Mode: 0o444}, nil
}

// ReadDir lists a folder of the tree.
func (h *Machine) ReadDir(p string) ([]string, error) { return h.disk.ReadDir(p) }

// Space is the size that the spec gives the root file system.
func (h *Machine) Space(string) (size, free int64, err error) {
	return h.spec.Disk, h.spec.Disk / 2, nil
}

// Lock takes a real lock on a file of the tree.
func (h *Machine) Lock(p string) (io.Closer, error) { return h.disk.Lock(p) }

// Run runs a stand-in.
func (h *Machine) Run(ctx context.Context, c machine.Command) (machine.Output, error) {
	name := path.Base(c.Args[0])
	run, ok := h.programs[name]
	if strings.Contains(c.Args[0], programsFolder) {
		run, ok = (*Machine).ofOneself, true
	}
	if program, there := h.installed(name); there && !ok {
		run = func(_ *Machine, c machine.Command, out io.Writer) int { return program(c.Args[1:], out) }
		ok = true
	}
	if !ok && h.spec.Lenient {
		run, ok = func(*Machine, machine.Command, io.Writer) int { return 0 }, true
	}
	if !ok {
		return machine.Output{}, fmt.Errorf("the program %s is not installed on this host", c.Args[0])
	}
	h.mu.Lock()
	h.calls = append(h.calls, strings.Join(c.Args, " "))
	h.mu.Unlock()
	var out strings.Builder
	to := io.Writer(&out)
	if w := machine.Listener(ctx, c); w != nil {
		to = io.MultiWriter(&out, w)
	}
	code := run(h, c, to)
	return machine.Output{Code: code, Stdout: out.String(), Combined: machine.KeptText(out.String())}, nil
}

// standIn is what replaces one program. It gives the exit code.
type standIn func(h *Machine, c machine.Command, out io.Writer) int

// standIns lists them all. Each file that holds some adds its own, a line each.
var standIns = sync.OnceValue(func() map[string]standIn {
	all := map[string]standIn{}
	for _, some := range []map[string]standIn{accountStandIns, aptStandIns, systemdStandIns,
		baseStandIns, lookStandIns, webStandIns} {
		maps.Copy(all, some)
	}
	all["sh"] = (*Machine).sh
	return all
})

// Connect finds SSH listening, and what Spec.Listening names.
func (h *Machine) Connect(_ context.Context, to netip.AddrPort) error {
	if to.Port() == 22 || slices.Contains(h.spec.Listening, int(to.Port())) {
		return nil
	}
	return errors.New("connection refused")
}

// Look says whether there is a stand-in, or an installed program.
func (h *Machine) Look(program string) bool {
	_, installed := h.installed(program)
	return installed || h.programs[program] != nil
}

// Lacks has the machine be without some programs.
func (h *Machine) Lacks(programs ...string) {
	h.programs = maps.Clone(h.programs)
	for _, p := range programs {
		delete(h.programs, p)
	}
}

// Pretends says that a program without a stand-in succeeds.
func (h *Machine) Pretends() bool { return h.spec.Lenient }

// Leave creates an empty file, as a program would have left it behind.
func (h *Machine) Leave(p string) error { return h.write(p, "", 0o644) }

// Self says that no program of the machine is the worker.
func (h *Machine) Self() string { return "" }

// UID says that the worker is root here.
func (h *Machine) UID() int { return 0 }

// Home is root's.
func (h *Machine) Home() string { return "/root" }

// Now gives the time.
func (h *Machine) Now() time.Time { return time.Now() }

// Wait does not wait: nothing here needs time to settle.
func (h *Machine) Wait(context.Context, time.Duration) {}

// programsFolder is where the worker puts the programs of custom kinds.
const programsFolder = "/programs/"

// ofOneself replaces such a program: it remembers what it was asked to
// write, and compares with that.
func (h *Machine) ofOneself(c machine.Command, out io.Writer) int {
	var q struct {
		Kind, Name string
		Absent     bool
		Attributes map[string]any
	}
	if err := json.Unmarshal([]byte(c.Stdin), &q); err != nil {
		fmt.Fprintln(out, err)
		return 1
	}
	p := "/var/lib/simulated/" + q.Kind + " " + strings.ReplaceAll(q.Name, "/", "_")
	want, _ := json.Marshal(q.Attributes)
	text := h.read(p)
	switch c.Args[1] {
	case "read":
		return answer(fmt.Sprintf(`{"state": %t}`, text != ""), out)
	case "compare":
		change := `{"changes": [{"what": "existence", "was": "%s", "becomes": "%s"}]}`
		switch {
		case q.Absent && text == "", !q.Absent && text == string(want):
			return answer(`{"changes": []}`, out)
		case q.Absent:
			return answer(fmt.Sprintf(change, "present", "absent"), out)
		}
		return answer(fmt.Sprintf(change, "absent or different", "as declared"), out)
	case "write":
		if q.Absent {
			h.remove(p)
			return 0
		}
		return h.writeFor(p, string(want), out)
	}
	return 2
}

// sh runs one simple command: words, quoted with ' or ", and no more of the
// shell's language.
func (h *Machine) sh(c machine.Command, out io.Writer) int {
	if len(c.Args) < 3 || c.Args[1] != "-c" {
		if h.spec.Lenient {
			return 0
		}
		return 2
	}
	words := shell.Split(c.Args[2])
	if len(words) == 0 {
		return 0
	}
	if run, ok := h.installed(words[0]); ok {
		return run(words[1:], out)
	}
	if run := h.programs[words[0]]; run != nil {
		c.Args = words
		return run(h, c, out)
	}
	if h.spec.Lenient {
		return 0
	}
	fmt.Fprintf(out, "sh: 1: %s: not found\n", words[0])
	return 127
}

// read and write are how stand-ins keep the system's files.
func (h *Machine) read(p string) string {
	data, err := machine.ReadFile(h, p)
	if err != nil {
		return ""
	}
	return string(data)
}

func (h *Machine) write(p, text string, mode uint32) error {
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

func (h *Machine) mkdirs(p string) (machine.Dir, error) {
	if d, err := h.Dir(p); err == nil {
		return d, nil
	}
	if p == "/" {
		return nil, fmt.Errorf("the directory %s does not exist", h.Root)
	}
	up, err := h.mkdirs(path.Dir(p))
	if err != nil {
		return nil, err
	}
	defer up.Close()
	if err := up.Mkdir(path.Base(p), 0o755, 0, 0); err != nil {
		return nil, err
	}
	return h.Dir(p)
}

func (h *Machine) remove(p string) {
	if d, err := h.Dir(path.Dir(p)); err == nil {
		d.Remove(path.Base(p))
		d.Close()
	}
}
