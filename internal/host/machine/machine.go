// Package machine is the seam between the worker and the computer it works on:
// a tree of files and a runner of commands, and nothing higher. Package system
// is the operating system; package folder is a simulated machine.
package machine

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"slices"
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
	// As does something with the rights of an account as far as files go, so that
	// what is in its folders is read and written as by itself.
	As(r Rights, do func() error) error
	// Connect makes a TCP connection and closes it again.
	Connect(ctx context.Context, to netip.AddrPort) error
	// Look says whether a program of this name can be run.
	Look(program string) bool

	// Self is the path of the program that runs as a worker; empty where it is none of
	// the machine's own.
	Self() string
	UID() int       // whose rights the worker has; 0 is root
	Home() string   // the folder of that user
	Now() time.Time // wall-clock time
	Wait(ctx context.Context, d time.Duration)
}

// Dir is an open folder. Names are single path elements, but for "." of Lstat,
// which is the folder itself.
type Dir interface {
	Lstat(name string) (Info, error)
	// Open opens a file or a folder for reading; a link is an error that wraps
	// ErrLink.
	Open(name string) (File, error)
	// Create makes a new file that did not exist, with exactly this mode and,
	// where the worker may, this owner and group; -1 leaves one as it comes.
	Create(name string, mode uint32, uid, gid int) (File, error)
	// Rewrite opens an existing file for writing over what it holds, which all its
	// names have then.
	Rewrite(name string) (File, error)
	// Mkdir makes a new folder, as Create makes a file.
	Mkdir(name string, mode uint32, uid, gid int) error
	Rename(from, to string) error
	// Move renames into another open folder of the same file system.
	Move(from string, to Dir, name string) error
	Remove(name string) error
	RemoveAll(name string) error
	Readlink(name string) (string, error)
	// Symlink makes a new symbolic link, which may lead to nothing.
	Symlink(to, name string) error
	// Lchown gives a symbolic link itself an owner and a group; -1 leaves one as it is.
	Lchown(name string, uid, gid int) error
	// Follow reads a link that may be followed: one that Trusted trusts. Any
	// other is an error that wraps ErrLink.
	Follow(name string) (string, error)
	Sync() error
	Close() error
}

// File is an open file or folder. Owner and mode are those of what was opened,
// whatever is at its name by now.
type File interface {
	io.ReadWriteCloser
	io.ReaderAt
	Info() (Info, error)
	Chown(uid, gid int) error // -1 leaves one as it is
	Chmod(mode uint32) error
	Truncate(size int64) error
	// Extras gives the extended attributes (xattr(7)) by name, ACLs and file
	// capabilities among them. None where the file system has none.
	Extras() (map[string][]byte, error)
	SetExtra(name string, value []byte) error
	Sync() error
}

// Info is what Lstat reports of a file.
type Info struct {
	Type  fs.FileMode // the type bits only
	Mode  uint32      // permission bits with setuid, setgid and sticky, as in 4755
	UID   int
	GID   int
	Size  int64
	Time  time.Time
	Dev   uint64 // of the file system; with Inode it identifies a file
	Inode uint64
	Links uint64 // how many names it has
}

// Same says whether both are of one file, with one owner and mode.
func (i Info) Same(o Info) bool {
	return i.Dev == o.Dev && i.Inode == o.Inode && i.Type == o.Type && i.UID == o.UID && i.GID == o.GID &&
		i.Mode == o.Mode
}

// OnlyBy says whether nobody can put anything into a folder, or exchange what
// is in it, but root and the user me.
func (i Info) OnlyBy(me int) bool {
	return (i.UID == 0 || i.UID == me) && i.Mode&0o022 == 0
}

// Trusted is the rule by which links are followed: root, or the worker's own
// user, made the link in a folder that nobody else can write.
func Trusted(folder, link Info, me int) bool {
	return folder.OnlyBy(me) && (link.UID == 0 || link.UID == me)
}

// Command is a program with its arguments, never a shell line unless the
// program is a shell. Secrets belong on the standard input only.
type Command struct {
	Args  []string
	Env   []string // added to a small fixed environment
	Stdin string
	Limit time.Duration // how long it may take; DefaultLimit when 0
	// Folder is where it starts; / when empty.
	Folder string
	// As is whose rights it has; the worker's own when nil.
	As *Rights
	// Quiet says that nobody may listen to what it prints.
	Quiet bool
}

// listening is the key of what Listen adds to a context.
type listening struct{}

// Listen lets a writer have what commands print while they run, besides what is kept of
// it. It must take it without waiting, and from several goroutines.
func Listen(ctx context.Context, w io.Writer) context.Context {
	return context.WithValue(ctx, listening{}, w)
}

// Listener gives what is to have the output of a command while it runs; nil for nobody.
func Listener(ctx context.Context, c Command) io.Writer {
	w, _ := ctx.Value(listening{}).(io.Writer)
	if c.Quiet {
		return nil
	}
	return w
}

// Rights are those of one account.
type Rights struct {
	Name     string
	UID, GID int
	Groups   []int
	Home     string
}

// DefaultLimit is how long a command may take that says nothing else.
const DefaultLimit = 10 * time.Minute

// Output is what a command left.
type Output struct {
	Code     int
	Stdout   string // up to MaxStdout bytes
	Combined Kept   // both streams as they came
}

// MaxOutput bounds the output that is kept of a command for people, and
// MaxStdout what a backend may read of one, in bytes.
const (
	MaxOutput = 64 << 10
	MaxStdout = 64 << 20
)

// Errors that machines wrap.
var (
	ErrLink   = fmt.Errorf("a symlink that root did not create is in the way")
	ErrLocked = fmt.Errorf("the lock is taken")
)

// Full says whether something failed since a file system, or somebody's part of it, has
// no room left.
func Full(err error) bool { return says(err, "no space left on device", "disk quota exceeded") }

// ReadOnly says whether something failed since a file system takes no change.
func ReadOnly(err error) bool { return says(err, "read-only file system") }

// says looks for the texts of errno(3) as Go has them, since the numbers are the
// operating system's own.
func says(err error, texts ...string) bool {
	return err != nil && slices.ContainsFunc(texts, func(t string) bool { return strings.Contains(err.Error(), t) })
}

// ReadFile reads a file of the system whole.
func ReadFile(m Machine, path string) ([]byte, error) {
	f, err := m.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// Keep holds the head and the tail of what is written to it: of each twice what
// is shown, so that what is to be masked is whole where it is cut.
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
	if room := MaxOutput - len(k.head); room > 0 {
		take := min(room, len(p))
		k.head, p = append(k.head, p[:take]...), p[take:]
	}
	k.tail = append(k.tail, p...)
	if over := len(k.tail) - MaxOutput; over > 0 {
		k.lost += over
		k.tail = append(k.tail[:0], k.tail[over:]...)
	}
	return n, nil
}

// Kept gives what was kept so far.
func (k *Keep) Kept() Kept {
	k.mu.Lock()
	defer k.mu.Unlock()
	return Kept{string(k.head), string(k.tail), k.lost}
}

// String gives what is shown of it.
func (k *Keep) String() string { return k.Kept().String() }

// Kept is the head and the tail of an output.
type Kept struct {
	head, tail string
	lost       int // bytes between them
}

// KeptText is a short output that is there whole.
func KeptText(text string) Kept { return Kept{head: text} }

// Clean gives what is shown of the output: at most MaxOutput bytes of what mask
// leaves, as valid text.
func (k Kept) Clean(mask func(string) string) string {
	head, tail, lost := k.head, k.tail, k.lost
	if lost == 0 {
		head, tail = mask(head+tail), ""
		if len(head) <= MaxOutput {
			return strings.ToValidUTF8(head, "\uFFFD")
		}
		head, tail = head[:len(head)/2], head[len(head)/2:]
	} else {
		head, tail = mask(head), mask(tail)
	}
	if over := len(head) - MaxOutput/2; over > 0 {
		head, lost = head[:MaxOutput/2], lost+over
	}
	if over := len(tail) - MaxOutput/2; over > 0 {
		tail, lost = tail[over:], lost+over
	}
	return strings.ToValidUTF8(fmt.Sprintf("%s\n... %d bytes omitted ...\n%s", head, lost, tail), "\uFFFD")
}

// String gives what is shown of an output in which nothing is to be masked.
func (k Kept) String() string { return k.Clean(func(s string) string { return s }) }

// Do runs a command for its effect: one that ends with a code other than 0 is a
// *CommandError, whose line is the one that pick takes from the output. Nil
// takes the last one.
func Do(ctx context.Context, m Machine, c Command, pick func(output string) string) (Output, error) {
	out, err := m.Run(ctx, c)
	if err != nil || out.Code == 0 {
		return out, err
	}
	if pick == nil {
		pick = LastLine
	}
	return out, &CommandError{Program: c.Args[0], Code: out.Code, Output: out.Combined,
		Last: pick(out.Combined.String())}
}

// ErrorLine returns a function that picks the line that says most of a program's output: the first line that starts
// with the first of these marks that occurs at all, without the mark. If that line ends with a colon, or is empty,
// the next line is appended. Without any mark, it is the last line.
func ErrorLine(marks ...string) func(output string) string {
	return func(output string) string {
		text, next, mark := marked(output, marks)
		text = strings.TrimSpace(text[len(mark):])
		if mark != "" && (text == "" || strings.HasSuffix(text, ":")) {
			text = strings.TrimSpace(text + " " + next)
		}
		return text
	}
}

// FirstLine is like ErrorLine, but keeps the mark and never appends a line.
func FirstLine(words ...string) func(output string) string {
	return func(output string) string {
		text, _, _ := marked(output, words)
		return strings.TrimSpace(text)
	}
}

// marked returns the line with the first mark that occurs, the line after it, and the mark.
func marked(output string, marks []string) (line, next, mark string) {
	lines := append(strings.Split(strings.TrimSpace(output), "\n"), "")
	for _, mark := range marks {
		for i, line := range lines {
			if line = strings.TrimLeft(line, " \t"); strings.HasPrefix(line, mark) {
				return line, strings.TrimSpace(lines[i+1]), mark
			}
		}
	}
	return LastLine(output), "", ""
}

// LastLine gives the last line of an output that says anything.
func LastLine(output string) string {
	output = strings.TrimSpace(output)
	return strings.TrimSpace(output[strings.LastIndexByte(output, '\n')+1:])
}

// Pretender is a simulated Machine on which any program may succeed though nothing simulates it.
type Pretender interface {
	Pretends() bool
	// Leave creates an empty file, as a program would have left it behind.
	Leave(path string) error
}

// PrintedError is an error of which something was printed that says more.
type PrintedError struct {
	Err    error
	Output Kept
}

func (e *PrintedError) Error() string { return e.Err.Error() }

func (e *PrintedError) Unwrap() error { return e.Err }

// CommandError says that a command ended with a code other than 0.
type CommandError struct {
	Program string
	Code    int
	Last    string // the line that says most
	Then    string // what came of it; may be empty
	Output  Kept
}

func (e *CommandError) Error() string {
	text := fmt.Sprintf("%s failed (exit status %d)", e.Program, e.Code)
	if e.Then != "" {
		text += ", so " + e.Then
	}
	if e.Last == "" {
		return text + "; it printed nothing"
	}
	return text + ": " + e.Last
}
