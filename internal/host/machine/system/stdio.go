package system

import (
	"io"
	"os"
	"os/signal"
	"syscall"
)

// Stdio gives this process's standard streams and makes it outlive a broken
// connection: a worker finishes the task in hand before it ends. The signals
// are caught and dropped rather than ignored, since programs that it starts
// would inherit that they are ignored, and pipes need SIGPIPE.
func Stdio() (in io.Reader, out, errs io.Writer) {
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE, syscall.SIGHUP, syscall.SIGINT)
	return os.Stdin, os.Stdout, os.Stderr
}
