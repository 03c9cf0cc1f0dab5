//go:build !386 && !arm

package system

import "syscall"

const (
	sysSetfsuid  = syscall.SYS_SETFSUID
	sysSetgroups = syscall.SYS_SETGROUPS
)
