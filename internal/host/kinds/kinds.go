// Package kinds is the list of all kinds.
package kinds

import (
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds/block"
	"jadekettle/internal/host/kinds/checkout"
	"jadekettle/internal/host/kinds/command"
	"jadekettle/internal/host/kinds/cron"
	"jadekettle/internal/host/kinds/dir"
	"jadekettle/internal/host/kinds/download"
	"jadekettle/internal/host/kinds/file"
	"jadekettle/internal/host/kinds/firewall"
	"jadekettle/internal/host/kinds/group"
	"jadekettle/internal/host/kinds/hostname"
	"jadekettle/internal/host/kinds/hostsentry"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/kmod"
	"jadekettle/internal/host/kinds/lines"
	"jadekettle/internal/host/kinds/link"
	"jadekettle/internal/host/kinds/locale"
	"jadekettle/internal/host/kinds/mount"
	"jadekettle/internal/host/kinds/own"
	"jadekettle/internal/host/kinds/packages"
	"jadekettle/internal/host/kinds/probe"
	"jadekettle/internal/host/kinds/reboot"
	"jadekettle/internal/host/kinds/repo"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/kinds/settings"
	"jadekettle/internal/host/kinds/sudorule"
	"jadekettle/internal/host/kinds/swap"
	"jadekettle/internal/host/kinds/sysctl"
	"jadekettle/internal/host/kinds/timezone"
	"jadekettle/internal/host/kinds/unpack"
	"jadekettle/internal/host/kinds/user"
)

// All lists the kinds in the order in which they are documented.
func All() []kind.Kind {
	return all
}

// all is made once: a kind holds nothing but its schema.
var all = []kind.Kind{
	packages.Kind(), repo.Kind(),
	file.Kind(), dir.Kind(), download.Kind(), unpack.Kind(), checkout.Kind(), link.Kind(), lines.Kind(), block.Kind(),
	settings.Kind(),
	service.Kind(),
	user.Kind(), group.Kind(), sudorule.Kind(),
	command.Kind(), cron.Kind(), sysctl.Kind(), kmod.Kind(), mount.Kind(),
	swap.Kind(), firewall.Kind(),
	hostname.Kind(), timezone.Kind(), locale.Kind(), hostsentry.Kind(),
	reboot.Kind(),
	probe.Kind(),
}

// Schemas gives their schemas, for the core.
func Schemas() schema.Kinds {
	var list []*schema.Kind
	for _, k := range All() {
		list = append(list, k.Schema())
	}
	return schema.NewKinds(list...)
}

// Of gives the kind of a task, which may be one of a custom kind.
func Of(t plan.Task) (kind.Kind, bool) {
	if t.Program != nil {
		return own.Kind(t.Ref.Kind), true
	}
	return Find(t.Ref.Kind)
}

// Find gives a kind by name.
func Find(name string) (kind.Kind, bool) {
	i := slices.IndexFunc(all, func(k kind.Kind) bool { return k.Schema().Name == name })
	if i < 0 {
		return nil, false
	}
	return all[i], true
}
