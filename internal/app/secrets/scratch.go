package secrets

import (
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// scratchMark begins the name of a scratch folder; the process behind it follows.
const scratchMark = "jadekettle-edit-"

// Scratch makes a folder for plain text that an editor is to open: one that only
// its owner can enter, in memory where there is such a place. done takes it away
// again, and so does whatever ends this process but a kill, whose remains the
// next call sweeps. The first Ctrl-C belongs to the editor.
func Scratch() (dir string, done func(), err error) {
	top := memory()
	sweep(top)
	dir, err = os.MkdirTemp(top, fmt.Sprintf("%s%d-*", scratchMark, os.Getpid()))
	if err != nil {
		return "", nil, err
	}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	over := make(chan struct{})
	go func() {
		interrupts := 0
		for {
			select {
			case s := <-signals:
				if interrupts++; s == syscall.SIGINT && interrupts == 1 {
					continue
				}
				os.RemoveAll(dir)
				os.Exit(130)
			case <-over:
				return
			}
		}
	}()
	return dir, sync.OnceFunc(func() {
		signal.Stop(signals)
		close(over)
		os.RemoveAll(dir)
	}), nil
}

// memory gives a folder that is not on a disk, where there is one.
func memory() string {
	for _, dir := range []string{os.Getenv("XDG_RUNTIME_DIR"), "/dev/shm"} {
		if info, err := os.Stat(dir); dir != "" && err == nil && info.IsDir() {
			return dir
		}
	}
	return os.TempDir()
}

// sweep removes what processes left that were killed.
func sweep(top string) {
	left, _ := filepath.Glob(filepath.Join(top, scratchMark+"*"))
	for _, dir := range left {
		id, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(dir), scratchMark), "-")
		pid, err := strconv.Atoi(id)
		info, statErr := os.Lstat(dir)
		if err != nil || statErr != nil || !info.IsDir() || info.Sys().(*syscall.Stat_t).Uid != uint32(os.Geteuid()) {
			continue
		}
		if syscall.Kill(pid, 0) == syscall.ESRCH {
			os.RemoveAll(dir)
		}
	}
}
