package system

import (
	"io"
	"os"
	"os/signal"
	"syscall"
)

// Stdio gives this process's standard streams and makes it outlive a broken
// connection: a worker finishes the task in hand before it ends.
func Stdio() (in io.Reader, out, errs io.Writer) {
	signal.Ignore(syscall.SIGPIPE, syscall.SIGHUP, syscall.SIGINT)
	return os.Stdin, os.Stdout, os.Stderr
}
