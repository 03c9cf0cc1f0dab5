package store

import (
	"errors"
	"os"
	"syscall"
)

// lives says whether a process is there: signal 0 only asks (kill(2)).
func lives(p *os.Process) bool {
	err := p.Signal(syscall.Signal(0))
	return err == nil || errors.Is(err, os.ErrPermission)
}
