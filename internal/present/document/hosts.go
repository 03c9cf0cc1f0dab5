package document

import (
	"maps"
	"strings"

	"jadekettle/internal/app"
	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/inventory"
)

// NewHosts makes the document of hosts with their groups.
func NewHosts(list []app.Membership) Hosts {
	out := Hosts{Head: One}
	for _, s := range list {
		h := s.Host
		out.Hosts = append(out.Hosts, Host{Name: h.Name, Address: h.Address(), Groups: s.Names(), Maybe: s.Maybe(),
			Manifests: s.Manifests(), Disabled: h.Disabled, Own: own(h)})
	}
	return out
}

// NewShown makes the document of all that applies to a host.
func NewShown(e *explain.Explanation) Shown {
	out := Shown{Head: One, Host: e.Host.Name, Address: e.Host.Address(), Disabled: e.Host.Disabled, Own: own(e.Host),
		FactsKnown: e.Known, Declarations: e.Declared()}
	for _, g := range e.Groups {
		out.Groups = append(out.Groups, g.Name)
	}
	return out
}

// own gives the keys that a project gives a host, without those that every host has.
func own(h *inventory.Host) map[string]any {
	out := maps.Clone(h.Vars)
	if out == nil {
		out = map[string]any{}
	}
	for _, k := range []string{"name", "address", "groups"} {
		delete(out, k)
	}
	return out
}

// NewData makes the document of where a value of a host's data comes from.
func NewData(e *explain.Explanation, path []string) (*Data, error) {
	steps, v, there, err := e.Data(path)
	return &Data{Head: One, Host: e.Host.Name, Asked: "data." + strings.Join(path, "."), There: there, Value: v,
		Layers: steps}, err
}

// NewParam makes the document of where the value of a param can come from.
func NewParam(e *explain.Explanation, manifest, name string) (*Param, error) {
	steps, err := e.Param(manifest, name)
	return &Param{Head: One, Host: e.Host.Name, Asked: "param." + manifest + "." + name, Steps: steps}, err
}
