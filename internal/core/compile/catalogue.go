package compile

import (
	"slices"

	"jadekettle/internal/core/param"
	"jadekettle/internal/core/value"
)

// Refs lists what is declared anywhere in the project under a name that is not
// made of expressions, for completion.
func (p *Project) Refs() []string {
	var out []string
	for _, name := range value.Keys(p.Units) {
		for _, en := range p.Units[name].Entries {
			if en.Decl != nil && en.Decl.Naming == nil {
				out = append(out, value.Ref{Kind: en.Decl.Kind.Name, Name: en.Decl.Name}.String())
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Manifests lists the project's manifests with what each is for.
func (p *Project) Manifests() []string { return value.Keys(p.Units) }

// ManifestDoc is what a manifest says of itself.
type ManifestDoc struct {
	Name   string
	About  string
	Params []*param.Decl
}

// Of tells of the manifests of one source, or with an empty name of the
// project's own.
func (p *Project) Of(source string) []ManifestDoc {
	var out []ManifestDoc
	for _, name := range value.Keys(p.Units) {
		if u := p.Units[name]; u.Source == source {
			out = append(out, ManifestDoc{name, u.About, u.Params})
		}
	}
	return out
}

// ManifestFile gives the file of a manifest.
func (p *Project) ManifestFile(name string) (string, bool) {
	u := p.Units[name]
	if u == nil {
		return "", false
	}
	return u.File, true
}

// Declarations counts what the project's manifests declare.
func (p *Project) Declarations() (manifests, declarations int) {
	for _, u := range p.Units {
		for _, e := range u.Entries {
			if e.Decl != nil {
				declarations++
			}
		}
	}
	return len(p.Units), declarations
}
