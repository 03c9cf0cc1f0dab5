// Package accounts finds the programs that manage a host's accounts.
package accounts

import (
	"jadekettle/internal/host/kinds/accounts/backend"
	"jadekettle/internal/host/kinds/accounts/busybox"
	"jadekettle/internal/host/kinds/accounts/shadow"
	"jadekettle/internal/host/machine"
)

// Of gives what manages the accounts of a host: busybox's programs only where
// there are no others.
func Of(m machine.Machine) backend.Manager {
	if !m.Look("useradd") && m.Look("adduser") {
		return busybox.Manager{}
	}
	return shadow.Manager{}
}
