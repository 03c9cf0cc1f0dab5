// Package system is the operating system behind the machine seam. It is the
// only package below host that touches files and starts programs.
package system

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"jadekettle/internal/host/machine"
)

// System is the machine that the program runs on. With Root set, the file tree
// is the one below that folder, for a simulated machine to build on.
type System struct {
	Root string
}

// New gives the machine that the program runs on.
func New() *System { return &System{} }

func (s *System) real(p string) string {
	if s.Root == "" {
		return p
	}
	return filepath.Join(s.Root, filepath.FromSlash(path.Clean("/"+p)))
}

// maxLinks bounds how many links one path may lead through, as the kernel does.
const maxLinks = 40

// Dir walks to a folder one step at a time, holding each open, so that nobody
// can exchange a step while it is taken.
func (s *System) Dir(p string) (machine.Dir, error) {
	steps := split(p)
	top, err := os.OpenRoot(s.real("/"))
	if err != nil {
		return nil, err
	}
	open := []*os.Root{top}
	defer func() {
		for _, r := range open[:len(open)-1] {
			r.Close()
		}
	}()
	links := 0
	for len(steps) > 0 {
		at, name := open[len(open)-1], steps[0]
		steps = steps[1:]
		if name == ".." {
			if len(open) > 1 {
				at.Close()
				open = open[:len(open)-1]
			}
			continue
		}
		info, err := at.Lstat(name)
		if err != nil {
			return nil, closing(at, &fs.PathError{Op: "open", Path: p, Err: bare(err)})
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			next, err := at.OpenRoot(name)
			if err != nil {
				return nil, closing(at, &fs.PathError{Op: "open", Path: p, Err: bare(err)})
			}
			if got, err := next.Stat("."); err != nil || !os.SameFile(info, got) {
				next.Close()
				return nil, closing(at, &fs.PathError{Op: "open", Path: p,
					Err: errors.New("it was replaced while it was being opened")})
			}
			open = append(open, next)
			continue
		}
		target, err := s.trusted(at, name, info)
		if links++; err == nil && links > maxLinks {
			err = errors.New("too many symlinks")
		}
		if err != nil {
			return nil, closing(at, &fs.PathError{Op: "open", Path: p, Err: err})
		}
		if path.IsAbs(target) {
			for _, r := range open[1:] {
				r.Close()
			}
			open = open[:1]
		}
		steps = append(split(target), steps...)
	}
	return &dir{root: open[len(open)-1]}, nil
}

func closing(r *os.Root, err error) error {
	r.Close()
	return err
}

// trusted reads a link on the way to a folder, if root made it where only root
// may write, or if the worker is an ordinary user and the link is its own.
func (s *System) trusted(at *os.Root, name string, info fs.FileInfo) (string, error) {
	holder, err := at.Stat(".")
	if err != nil {
		return "", err
	}
	if !machine.Trusted(infoOf(holder), infoOf(info), os.Geteuid()) {
		return "", fmt.Errorf("%s: %w", name, machine.ErrLink)
	}
	return at.Readlink(name)
}

func infoOf(fi fs.FileInfo) machine.Info {
	st := fi.Sys().(*syscall.Stat_t)
	return machine.Info{Type: fi.Mode().Type(), Mode: uint32(st.Mode) & 0o7777, UID: int(st.Uid), GID: int(st.Gid),
		Size: fi.Size(), Time: fi.ModTime(), Dev: uint64(st.Dev), Inode: st.Ino, Links: uint64(st.Nlink)}
}

func split(p string) []string {
	var out []string
	for _, s := range strings.Split(p, "/") {
		if s != "" && s != "." {
			out = append(out, s)
		}
	}
	return out
}

func bare(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

type dir struct{ root *os.Root }

func (d *dir) Lstat(name string) (machine.Info, error) {
	fi, err := d.root.Lstat(name)
	if err != nil {
		return machine.Info{}, err
	}
	return infoOf(fi), nil
}

// file is an open file behind the seam.
type file struct{ *os.File }

func (f file) Info() (machine.Info, error) {
	fi, err := f.Stat()
	if err != nil {
		return machine.Info{}, err
	}
	return infoOf(fi), nil
}

func (f file) Chmod(mode uint32) error { return f.File.Chmod(fileMode(mode)) }

// Extras asks for the names first, and for each value; either may have changed or gone
// meanwhile, which ends as nothing or as the newer one.
func (f file) Extras() (map[string][]byte, error) {
	fd := int(f.Fd())
	names, err := growing(func(buf []byte) (int, error) { return unix.Flistxattr(fd, buf) })
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.ENOSYS) {
		return nil, nil
	}
	if err != nil || len(names) == 0 {
		return nil, err
	}
	out := map[string][]byte{}
	for _, name := range strings.Split(strings.TrimSuffix(string(names), "\x00"), "\x00") {
		v, err := growing(func(buf []byte) (int, error) { return unix.Fgetxattr(fd, name, buf) })
		if errors.Is(err, unix.ENODATA) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("read the extended attribute %s: %w", name, err)
		}
		out[name] = v
	}
	return out, nil
}

// growing calls what fills a buffer with one that is large enough. xattr(7) bounds
// both names and a value at 64 KiB.
func growing(fill func([]byte) (int, error)) ([]byte, error) {
	for size := 256; ; size *= 16 {
		buf := make([]byte, size)
		n, err := fill(buf)
		if errors.Is(err, unix.ERANGE) && size < 64<<10 {
			continue
		}
		return buf[:max(n, 0)], err
	}
}

func (f file) SetExtra(name string, value []byte) error {
	return unix.Fsetxattr(int(f.Fd()), name, value, 0)
}

func (d *dir) Rewrite(name string) (machine.File, error) {
	f, err := openHere(d.root, name, os.O_WRONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

func (d *dir) Follow(name string) (string, error) {
	info, err := d.Lstat(name)
	if err != nil {
		return "", err
	}
	holder, err := d.Lstat(".")
	if err != nil {
		return "", err
	}
	if !machine.Trusted(holder, info, os.Geteuid()) {
		return "", fmt.Errorf("%s: %w", name, machine.ErrLink)
	}
	return d.Readlink(name)
}

func (d *dir) Open(name string) (machine.File, error) {
	f, err := openHere(d.root, name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

// openHere opens a file that is not a link. os.Root follows links inside its
// folder whatever the flags say, so what was opened is compared with what
// is there.
func openHere(root *os.Root, name string, flag int, perm fs.FileMode) (*os.File, error) {
	f, err := root.OpenFile(name, flag, perm)
	if err != nil {
		// to nowhere, or out of the folder
		if here, e := root.Lstat(name); e == nil && here.Mode()&fs.ModeSymlink != 0 {
			return nil, fmt.Errorf("%s: %w", name, machine.ErrLink)
		}
		return nil, err
	}
	here, err1 := root.Lstat(name)
	got, err2 := f.Stat()
	if err1 != nil || err2 != nil || !os.SameFile(here, got) {
		f.Close()
		return nil, fmt.Errorf("%s: %w", name, machine.ErrLink)
	}
	return f, nil
}

func (d *dir) Create(name string, mode uint32, uid, gid int) (machine.File, error) {
	// Nobody else may open the file before it has its owner and mode.
	f, err := d.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	if uid >= 0 || gid >= 0 {
		err = f.Chown(uid, gid)
	}
	if err == nil {
		err = f.Chmod(fileMode(mode))
	}
	if err != nil {
		f.Close()
		d.root.Remove(name)
		return nil, err
	}
	return file{f}, nil
}

// fileMode turns permission bits as chmod(1) writes them into Go's.
func fileMode(mode uint32) fs.FileMode {
	m := fs.FileMode(mode & 0o777)
	if mode&0o4000 != 0 {
		m |= fs.ModeSetuid
	}
	if mode&0o2000 != 0 {
		m |= fs.ModeSetgid
	}
	if mode&0o1000 != 0 {
		m |= fs.ModeSticky
	}
	return m
}

func (d *dir) Mkdir(name string, mode uint32, uid, gid int) error {
	if err := d.root.Mkdir(name, 0o700); err != nil {
		return err
	}
	f, err := openHere(d.root, name, os.O_RDONLY|syscall.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := fresh(f); err != nil {
		return fmt.Errorf("create the directory %s: %w", name, err)
	}
	if uid >= 0 || gid >= 0 {
		if err := f.Chown(uid, gid); err != nil {
			return err
		}
	}
	return f.Chmod(fileMode(mode))
}

// fresh makes sure that a folder is the one that was just made: where others
// may write they can put another in its place.
func fresh(f *os.File) error {
	fi, err := f.Stat()
	if err != nil {
		return err
	}
	names, err := f.Readdirnames(1)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if info := infoOf(fi); info.UID != acting() || info.Mode&0o777 != 0o700 || len(names) > 0 {
		return errors.New("it was replaced while it was being created")
	}
	return nil
}

func (d *dir) Rename(from, to string) error { return d.root.Rename(from, to) }

// Move works on both folders as they were opened, whatever is at their paths
// by now.
func (d *dir) Move(from string, to machine.Dir, name string) error {
	a, err := d.root.Open(".")
	if err != nil {
		return err
	}
	defer a.Close()
	into, ours := to.(*dir)
	if !ours {
		return errors.New("the directory is not from this machine")
	}
	b, err := into.root.Open(".")
	if err != nil {
		return err
	}
	defer b.Close()
	if err := syscall.Renameat(int(a.Fd()), from, int(b.Fd()), name); err != nil {
		return &fs.PathError{Op: "rename", Path: from, Err: err}
	}
	return nil
}

func (d *dir) Remove(name string) error             { return d.root.Remove(name) }
func (d *dir) RemoveAll(name string) error          { return d.root.RemoveAll(name) }
func (d *dir) Readlink(name string) (string, error) { return d.root.Readlink(name) }
func (d *dir) Symlink(to, name string) error        { return d.root.Symlink(to, name) }
func (d *dir) Lchown(name string, uid, gid int) error {
	return d.root.Lchown(name, uid, gid)
}
func (d *dir) Close() error { return d.root.Close() }

func (d *dir) Sync() error {
	f, err := d.root.Open(".")
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// Open opens a file of the system for reading.
func (s *System) Open(p string) (machine.File, error) {
	f, err := os.Open(s.real(p))
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

// ReadDir lists the names in a folder.
func (s *System) ReadDir(p string) ([]string, error) {
	entries, err := os.ReadDir(s.real(p))
	if err != nil {
		return nil, err
	}
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, nil
}

// spaceLimit is how long a file system may take to report its size.
const spaceLimit = 2 * time.Second

// Space asks the file system. One that does not answer, as those of a network
// do when their server is gone, is left to its own goroutine: the kernel lets
// nobody interrupt the call.
func (s *System) Space(p string) (size, free int64, err error) {
	type answer struct {
		st  syscall.Statfs_t
		err error
	}
	reported := make(chan answer, 1)
	go func() {
		var a answer
		a.err = syscall.Statfs(s.real(p), &a.st)
		reported <- a
	}()
	select {
	case a := <-reported:
		return int64(a.st.Blocks) * int64(a.st.Bsize), int64(a.st.Bavail) * int64(a.st.Bsize), a.err
	case <-time.After(spaceLimit):
		return 0, 0, fmt.Errorf("the file system at %s does not respond", p)
	}
}

// Lock takes a lock by flock(2), which the kernel drops with its holder. The
// folder is opened safely, and a link in the lock's place is refused.
func (s *System) Lock(p string) (io.Closer, error) {
	d, err := s.Dir(path.Dir(p))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	f, err := openHere(d.(*dir).root, path.Base(p), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, machine.ErrLocked
		}
		return nil, err
	}
	return f, nil
}

// searchPath is where programs are looked for, whatever the login has.
const searchPath = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

// Run starts a program with a small environment and waits for it.
func (s *System) Run(ctx context.Context, c machine.Command) (machine.Output, error) {
	program, err := find(c.Args[0])
	if err != nil {
		return machine.Output{}, err
	}
	limit := c.Limit
	if limit == 0 {
		limit = machine.DefaultLimit
	}
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("%s did not finish within %v", c.Args[0], limit))
	defer cancel()
	cmd := exec.CommandContext(ctx, program, c.Args[1:]...)
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) } // with all that it has started
	cmd.Args[0] = c.Args[0]
	cmd.Env = append([]string{"PATH=" + searchPath, "LC_ALL=C.UTF-8", "LANG=C.UTF-8", "HOME=" + s.Home()}, c.Env...)
	cmd.Dir = cmp.Or(c.Folder, "/")
	cmd.Stdin = strings.NewReader(c.Stdin)
	// what stops the worker must not stop a package manager midway
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if c.As != nil && c.As.UID != os.Geteuid() {
		groups := []uint32{}
		for _, g := range c.As.Groups {
			groups = append(groups, uint32(g))
		}
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(c.As.UID), Gid: uint32(c.As.GID), Groups: groups}
		cmd.Env = append(cmd.Env, "HOME="+c.As.Home, "USER="+c.As.Name, "LOGNAME="+c.As.Name)
	}
	// a program that leaves a child with its output open is not waited for
	cmd.WaitDelay = 2 * time.Second
	var both machine.Keep
	var out strings.Builder
	var errs io.Writer = &both
	if w := machine.Listener(ctx, c); w != nil {
		errs = io.MultiWriter(&both, w)
	}
	cmd.Stdout, cmd.Stderr = io.MultiWriter(errs, &limited{&out}), errs
	mark := markName + "=" + rand.Text()
	cmd.Env = append(cmd.Env, mark)
	err = cmd.Run()
	if err != nil && ctx.Err() != nil {
		sweep(mark)
		return machine.Output{}, context.Cause(ctx)
	}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return machine.Output{}, fmt.Errorf("run %s: %w", c.Args[0], err)
	}
	return machine.Output{Code: cmd.ProcessState.ExitCode(), Stdout: out.String(), Combined: both.Kept()}, nil
}

// markName is a variable in the environment of every command, which its own programs
// inherit.
const markName = "JADEKETTLE_COMMAND"

// sweep ends what a command that was cut off had started, also where it is no more of
// its process group: all that still has its mark, twice, since the first round may meet
// one that is just starting another.
func sweep(mark string) {
	for range 2 {
		processes, _ := filepath.Glob("/proc/[0-9]*/environ")
		for _, p := range processes {
			environment, err := os.ReadFile(p) // which only root, or the same user, can read
			if err != nil || !slices.Contains(strings.Split(string(environment), "\x00"), mark) {
				continue
			}
			if pid, err := strconv.Atoi(strings.Split(p, "/")[2]); err == nil {
				syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
}

type limited struct{ b *strings.Builder }

func (l *limited) Write(p []byte) (int, error) {
	if room := machine.MaxStdout - l.b.Len(); room > 0 {
		l.b.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

func find(program string) (string, error) {
	if strings.Contains(program, "/") {
		_, err := os.Stat(program)
		return program, err
	}
	for _, d := range strings.Split(searchPath, ":") {
		p := d + "/" + program
		if fi, err := os.Stat(p); err == nil && fi.Mode().IsRegular() && fi.Mode()&0o111 != 0 {
			return p, nil
		}
	}
	return "", fmt.Errorf("the program %s is not installed on this host", program)
}

// Connect works on a socket of its own, so that the worker needs no resolver.
func (s *System) Connect(ctx context.Context, to netip.AddrPort) error {
	family, addr := syscall.AF_INET6, syscall.Sockaddr(nil)
	if a := to.Addr().Unmap(); a.Is4() {
		family, addr = syscall.AF_INET, &syscall.SockaddrInet4{Port: int(to.Port()), Addr: a.As4()}
	} else {
		addr = &syscall.SockaddrInet6{Port: int(to.Port()), Addr: a.As16()}
	}
	fd, err := syscall.Socket(family, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	limit := time.Minute
	if deadline, ok := ctx.Deadline(); ok {
		limit = max(time.Second, time.Until(deadline))
	}
	// On Linux the limit on sending bounds a connect as well (socket(7)).
	tv := syscall.NsecToTimeval(limit.Nanoseconds())
	err = syscall.SetsockoptTimeval(fd, syscall.SOL_SOCKET, syscall.SO_SNDTIMEO, &tv)
	if err == nil {
		err = syscall.Connect(fd, addr)
	}
	if errors.Is(err, syscall.EINPROGRESS) {
		err = syscall.ETIMEDOUT
	}
	return errors.Join(err, syscall.Close(fd))
}

// KeepNoDumps has the kernel write no core of this program, and nobody but root look into its
// memory, in which secrets are. The programs that it starts are what they are. See prctl(2).
func KeepNoDumps() { unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) }

// Look says whether a program can be run.
func (s *System) Look(program string) bool {
	_, err := find(program)
	return err == nil
}

// Self gives this program's own path.
func (s *System) Self() string {
	p, err := os.Executable()
	if err != nil {
		return ""
	}
	return p
}

// UID gives the effective user.
func (s *System) UID() int { return os.Geteuid() }

// Home gives that user's folder.
func (s *System) Home() string {
	if os.Geteuid() == 0 {
		return "/root"
	}
	if h := os.Getenv("HOME"); strings.HasPrefix(h, "/") {
		return h
	}
	return "/tmp"
}

// Now gives the time.
func (s *System) Now() time.Time { return time.Now() }

// Wait sleeps.
func (s *System) Wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
