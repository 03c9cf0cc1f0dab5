// Package machine is the seam between the worker and the computer it works on:
// a tree of files and a runner of commands, and nothing higher. Package system
// is the operating system; package folder is a simulated machine.
package machine

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"sync"
	"time"
)

// Machine is one computer.
type Machine interface {
	// Dir opens a folder by its absolute path for safe work in it. On the way,
	// symbolic links are followed only when root made them in a folder of
	// root's; any other is an error that wraps ErrLink.
	Dir(path string) (Dir, error)
	// Open opens a file of the system for reading, following links. It is for
	// what the operating system keeps (/proc, /etc/passwd, databases), not for
	// what ordinary users may have arranged.
	Open(path string) (File, error)
	// ReadDir lists the names in a folder of the system.
	ReadDir(path string) ([]string, error)
	// Space gives the size of the file system that holds a path, and what is
	// free of it for ordinary users, in bytes.
	Space(path string) (size, free int64, err error)
	// Lock takes the lock on a file, which is made when it is not there, and
	// which dies with its holder. Taken by another it gives ErrLocked.
	Lock(path string) (io.Closer, error)
	// Run runs a command to its end. An error means that it could not be run;
	// an exit code other than 0 is none.
	Run(ctx context.Context, c Command) (Output, error)
	// Look says whether a program of this name can be run.
	Look(program string) bool

	UID() int       // whose rights the worker has; 0 is root
	Home() string   // the folder of that user
	Now() time.Time // wall-clock time
	Wait(ctx context.Context, d time.Duration)
}

// Dir is an open folder. Names are single path elements.
type Dir interface {
	Lstat(name string) (Info, error)
	Open(name string) (File, error) // for reading; a link is an error that wraps ErrLink
	// Create makes a new file that did not exist, with exactly this mode and,
	// where the worker may, this owner and group; -1 leaves one as it comes.
	Create(name string, mode uint32, uid, gid int) (File, error)
	Mkdir(name string, mode uint32) error
	Rename(from, to string) error
	Remove(name string) error
	RemoveAll(name string) error
	Readlink(name string) (string, error)
	Chmod(name string, mode uint32) error
	Chown(name string, uid, gid int) error // -1 leaves one as it is
	Names() ([]string, error)
	Sync() error
	Close() error
}

// File is an open file.
type File interface {
	io.ReadWriteCloser
	Sync() error
}

// Info is what Lstat tells of a file.
type Info struct {
	Type  fs.FileMode // the type bits only
	Mode  uint32      // permission bits with setuid, setgid and sticky, as in 4755
	UID   int
	GID   int
	Size  int64
	Time  time.Time
	Inode uint64
}

// Command is a program with its arguments, never a shell line unless the
// program is a shell. Secrets belong on the standard input only.
type Command struct {
	Args  []string
	Env   []string // added to a small fixed environment
	Stdin string
}

// Output is what a command left.
type Output struct {
	Code     int
	Stdout   string // up to MaxStdout bytes
	Combined string // both streams as they came, at most MaxOutput: head and tail
}

// MaxOutput bounds the output that is kept of a command for people, and
// MaxStdout what a backend may read of one, in bytes.
const (
	MaxOutput = 64 << 10
	MaxStdout = 64 << 20
)

// Errors that machines wrap.
var (
	ErrLink   = fmt.Errorf("a symbolic link that root did not make is in the way")
	ErrLocked = fmt.Errorf("the lock is taken")
)

// ReadFile reads a file of the system whole.
func ReadFile(m Machine, path string) ([]byte, error) {
	f, err := m.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// Keep holds the head and the tail of what is written to it, up to MaxOutput
// bytes in all.
type Keep struct {
	mu         sync.Mutex
	head, tail []byte
	lost       int
}

// Write never fails and may be called from many goroutines.
func (k *Keep) Write(p []byte) (int, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	n := len(p)
	if room := MaxOutput/2 - len(k.head); room > 0 {
		take := min(room, len(p))
		k.head, p = append(k.head, p[:take]...), p[take:]
	}
	k.tail = append(k.tail, p...)
	if over := len(k.tail) - MaxOutput/2; over > 0 {
		k.lost += over
		k.tail = append(k.tail[:0], k.tail[over:]...)
	}
	return n, nil
}

// String gives what was kept, as valid text.
func (k *Keep) String() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	s := string(k.head)
	if k.lost > 0 {
		s += fmt.Sprintf("\n... %d bytes left out ...\n", k.lost)
	}
	return strings.ToValidUTF8(s+string(k.tail), "\uFFFD")
}

// Fault gives the error of a command that ended with a code other than 0, or
// nil. The message names the program and the last line it printed.
func (o Output) Fault(c Command) error {
	if o.Code == 0 {
		return nil
	}
	return &CommandError{Program: c.Args[0], Code: o.Code, Output: o.Combined, Last: telling(o.Combined)}
}

// telling picks the line that tells most: what dpkg says of the package that
// failed, the first error of apt or systemctl, or else the last line.
func telling(output string) string {
	lines := strings.Split(strings.TrimSpace(output), "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, "dpkg: error processing") && i+1 < len(lines) {
			return strings.TrimSpace(lines[i+1])
		}
	}
	for _, l := range lines {
		if strings.HasPrefix(l, "E: ") || strings.HasPrefix(l, "Failed to ") {
			return strings.TrimPrefix(l, "E: ")
		}
	}
	return strings.TrimSpace(lines[len(lines)-1])
}

// CommandError says that a command ended with a code other than 0.
type CommandError struct {
	Program string
	Code    int
	Last    string // the line that tells most
	Output  string
}

func (e *CommandError) Error() string {
	if e.Last == "" {
		return fmt.Sprintf("%s ended with code %d and said nothing", e.Program, e.Code)
	}
	return fmt.Sprintf("%s ended with code %d: %s", e.Program, e.Code, e.Last)
}
