package reach

import (
	"fmt"
	"io"
	"os/exec"

	"jadekettle/internal/host/machine"
)

// local runs the same scripts on this machine.
type local struct{ pipes []io.Closer }

func (l *local) start(command string) (*process, error) {
	cmd := exec.Command("sh", "-c", command)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	p := &process{in: in, out: out, errs: &machine.Keep{}, wait: cmd.Wait}
	cmd.Stderr = p.errs
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start sh on this machine: %w", err)
	}
	l.pipes = append(l.pipes, in)
	return p, nil
}

// InProcess makes a session with a worker that serve runs in this process.
func InProcess(serve func(r io.Reader, w io.Writer) error) *Session {
	fromUs, toWorker := io.Pipe()
	fromWorker, toUs := io.Pipe()
	errs := &machine.Keep{}
	go func() {
		if err := serve(fromUs, toUs); err != nil {
			fmt.Fprintln(errs, err)
		}
		toUs.Close()
		fromUs.Close()
	}()
	return &Session{Reader: fromWorker, Writer: toWorker, in: toWorker, tr: &local{pipes: []io.Closer{toWorker, fromWorker}}, errs: errs}
}

// close lets a worker see the end of its input. It is not killed: it finishes
// the task in hand.
func (l *local) close() {
	for _, p := range l.pipes {
		p.Close()
	}
}
