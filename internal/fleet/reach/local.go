package reach

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"time"

	"jadekettle/internal/host/machine"
)

// local runs the same scripts on this machine, or in the shell that a command run
// here gives. Its commands see the end of
// their input when it is closed, and may finish what they have in hand.
type local struct {
	through string   // that gives a shell elsewhere; empty for this machine
	env     []string // of that command

	mu    sync.Mutex
	pipes []io.Closer
	done  bool
}

// start runs a command. Its output is read through a pipe of ours and not
// through one that Wait would close, so that both can go on side by side.
func (l *local) start(command string, listen func(in, keep io.Writer) io.Writer) (*process, error) {
	cmd := exec.Command("sh", "-c", command)
	if l.through != "" {
		cmd = exec.Command("sh", "-c", l.through)
		cmd.Env = append(os.Environ(), l.env...)
	}
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, theirs := io.Pipe()
	errs := &machine.Keep{}
	cmd.Stdout, cmd.Stderr = theirs, errs
	if listen != nil {
		cmd.Stderr = listen(in, errs)
	}
	cmd.WaitDelay = 2 * time.Second // a program that leaves a child with its output open is not waited for
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start sh on this machine: %w", err)
	}
	ended := make(chan struct{})
	var failed error
	go func() {
		failed = cmd.Wait()
		theirs.Close()
		close(ended)
	}()
	l.keep(in, out)
	if l.through != "" {
		// It is the only line that the shell gets: what follows is the script's.
		if _, err := io.WriteString(in, "exec "+command+"\n"); err != nil {
			return nil, fmt.Errorf("the connect.command: %w", err)
		}
	}
	return &process{in: in, out: out, errs: errs, wait: func() error { <-ended; return failed }}, nil
}

// keep notes what close is to close.
func (l *local) keep(pipes ...io.Closer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.pipes = append(l.pipes, pipes...)
	if l.done {
		l.closeAll()
	}
}

// close ends reads and writes that wait, and lets a worker see the end of its
// input. It is not killed: it finishes the task in hand.
func (*local) ready() {}

func (l *local) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.done = true
	l.closeAll()
}

func (l *local) closeAll() {
	for _, p := range l.pipes {
		p.Close()
	}
	l.pipes = nil
}

// InProcess makes a session with a worker that serve runs in this process. first
// is what the worker receives first.
func InProcess(first []byte, serve func(r io.Reader, w io.Writer) error) *Session {
	fromUs, toWorker := io.Pipe()
	fromWorker, toUs := io.Pipe()
	errs := &machine.Keep{}
	go func() {
		if err := serve(io.MultiReader(bytes.NewReader(first), fromUs), toUs); err != nil {
			fmt.Fprintln(errs, err)
		}
		toUs.Close()
		fromUs.Close()
	}()
	tr := &local{}
	tr.keep(toWorker, fromWorker)
	return &Session{Reader: fromWorker, Writer: toWorker, in: toWorker, tr: tr, errs: errs}
}
