package worker

import (
	"context"
	"fmt"
	"io"

	"jadekettle/internal/host/guard"
	"jadekettle/internal/host/machine/system"
)

// Argument is the first argument with which a program is started as a worker;
// the nonce of the session follows.
const Argument = "worker-session"

// GuardArgument is the first argument with which a program is started to put back what a
// change has cut us off by.
const GuardArgument = guard.Argument

// Guard does that and gives the exit code.
func Guard(what string) int {
	_, _, errs := system.Stdio()
	if err := guard.Main(context.Background(), system.New(), what); err != nil {
		fmt.Fprintln(errs, "jadekettle-worker:", err)
		return 1
	}
	return 0
}

// Ready is the line that the worker says first, with the session's nonce, so
// that it can be separated from whatever a login shell printed before it.
func Ready(nonce string) string { return "jadekettle " + nonce + " ready\n" }

// Main serves one session on this process's standard input and output and
// gives the exit code.
func Main(nonce string) int {
	in, out, errs := system.Stdio()
	if _, err := io.WriteString(out, Ready(nonce)); err != nil {
		return 1
	}
	if err := Serve(context.Background(), system.New(), in, out, Silence); err != nil {
		fmt.Fprintln(errs, "jadekettle-worker:", err)
		return 1
	}
	return 0
}
