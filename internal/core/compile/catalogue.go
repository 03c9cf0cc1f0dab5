package compile

import (
	"slices"

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
	Name   string     `json:"name" doc:"Its name."`
	About  string     `json:"about" doc:"A description."`
	Params []ParamDoc `json:"params" doc:"Its params."`
}

// ParamDoc says how a param of a manifest is used.
type ParamDoc struct {
	Name     string `json:"name" doc:"Its name."`
	Type     string `json:"type" doc:"Its type."`
	Default  any    `json:"default" doc:"Its default; null when it has none."`
	Required bool   `json:"required" doc:"Whether it is required."`
	About    string `json:"about" doc:"A description."`
}

// Of lists the manifests of one source, or with an empty name of the
// project's own.
func (p *Project) Of(source string) []ManifestDoc {
	var out []ManifestDoc
	for _, name := range value.Keys(p.Units) {
		if u := p.Units[name]; u.Source == source {
			m := ManifestDoc{Name: name, About: u.About}
			for _, d := range u.Params {
				m.Params = append(m.Params, ParamDoc{d.Name, d.Type, d.Default, !d.HasDefault, d.About})
			}
			out = append(out, m)
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
