// Package kinds is the list of all kinds.
package kinds

import (
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds/dir"
	"jadekettle/internal/host/kinds/file"
	"jadekettle/internal/host/kinds/group"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/kinds/user"
)

// All lists the kinds in the order in which they are documented.
func All() []kind.Kind {
	return []kind.Kind{packages.Kind{}, file.Kind{}, dir.Kind{}, service.Kind{}, user.Kind{}, group.Kind{}}
}

// Catalog gives their schemas, for the core.
func Catalog() schema.Catalog {
	var list []*schema.Kind
	for _, k := range All() {
		list = append(list, k.Schema())
	}
	return schema.NewCatalog(list...)
}

// Find gives a kind by name.
func Find(name string) (kind.Kind, bool) {
	for _, k := range All() {
		if k.Schema().Name == name {
			return k, true
		}
	}
	return nil, false
}
