//go:build 386 || arm

package system

import "syscall"

const (
	sysSetfsuid  = syscall.SYS_SETFSUID32
	sysSetgroups = syscall.SYS_SETGROUPS32
)
