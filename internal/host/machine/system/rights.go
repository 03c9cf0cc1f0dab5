package system

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"syscall"
	"unsafe"

	"jadekettle/internal/host/machine"
)

// As does something with the rights of an account as far as files go: the kernel
// then asks whether that account might, so that a link it planted leads nowhere
// that it could not go by itself (setfsuid(2)). Only one thread takes them on, and
// that one ends afterwards.
func (s *System) As(r machine.Rights, do func() error) error {
	if r.UID == os.Geteuid() {
		return do()
	}
	if os.Geteuid() != 0 {
		return fmt.Errorf("only root can act as %s", r.Name)
	}
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with this goroutine
		if err := assume(r); err != nil {
			done <- fmt.Errorf("switch to the user %s: %w", r.Name, err)
			return
		}
		defer func() {
			if r := recover(); r != nil { // which nobody else could, on this goroutine
				done <- fmt.Errorf("internal error in the worker: %v", r)
			}
		}()
		done <- do()
	}()
	return <-done
}

// assume gives this thread the rights of an account.
func assume(r machine.Rights) error {
	groups := make([]uint32, 0, len(r.Groups)+1)
	for _, g := range append([]int{r.GID}, r.Groups...) {
		groups = append(groups, uint32(g))
	}
	// What package syscall has for this would change all threads.
	if err := setThreadGroups(groups); err != nil {
		return err
	}
	if err := errors.Join(syscall.Setfsgid(r.GID), syscall.Setfsuid(r.UID)); err != nil {
		return err
	}
	if acting() != r.UID {
		return errors.New("the kernel did not allow it")
	}
	return nil
}

// acting is whose files this thread makes.
func acting() int {
	uid, _, _ := syscall.RawSyscall(sysSetfsuid, ^uintptr(0), 0, 0) // reports, and changes nothing
	return int(int32(uid))
}

// setThreadGroups is setgroups(2) for this thread alone.
func setThreadGroups(groups []uint32) error {
	if _, _, e := syscall.RawSyscall(sysSetgroups, uintptr(len(groups)),
		uintptr(unsafe.Pointer(&groups[0])), 0); e != 0 {
		return e
	}
	return nil
}
