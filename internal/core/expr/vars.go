package expr

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Roots are the names that expressions and templates start from.
var Roots = []string{"host", "facts", "data", "param", "input", "env", "fleet"}

// Unknown is the value of what depends on facts while there are none, as when
// a project is checked without contacting its hosts.
type Unknown struct{}

// String says so.
func (Unknown) String() string { return "not known without facts" }

// MarshalJSON gives null: documents say elsewhere that facts are not known.
func (Unknown) MarshalJSON() ([]byte, error) { return []byte("null"), nil }

// Vars are the values of the roots for one host, or for one manifest on it. It
// must not be changed once something was evaluated, and belongs to one
// goroutine; the trees in it may be shared between many.
type Vars struct {
	Host  map[string]any
	Facts map[string]any // nil means not known
	Data  map[string]any
	Param map[string]any
	Input map[string]any // the answers to a job's questions; nil when no job was started
	Env   string
	Fleet *Fleet

	// Missing are the paths, each from its root on, that depend on facts not known.
	Missing [][]string
	// Blind says that some of the data could not be opened: what is missing
	// from it is not known, rather than wrong.
	Blind bool
	// Secrets are the paths to values that hold a value.Secret, each from its
	// root on; a list ends the path.
	Secrets [][]string

	locals   map[string]any
	variants []*Vars // with the secrets revealed, and with others in their place
	patterns []*cel.AttributePatternType
}

// With gives the same values and a further variable, as a loop makes it.
func (v *Vars) With(name string, val any) *Vars {
	out := v.copy()
	out.locals = make(map[string]any, len(v.locals)+1)
	for k, x := range v.locals {
		out.locals[k] = x
	}
	out.locals[name] = val
	if len(v.Secrets) > 0 { // else nothing can hold one
		out.Secrets = append(v.Secrets[:len(v.Secrets):len(v.Secrets)], SecretPaths(name, val)...)
		for i, as := range v.versions() { // the trees in them are made once, not for every item of a loop
			out.variants = append(out.variants, as.With(name, reveal(val, i)))
		}
	}
	return out
}

// WithParam gives the same values with the params of one manifest, and without
// the variables of loops around it. missing are the params that are not known.
func (v *Vars) WithParam(params map[string]any, missing [][]string) *Vars {
	out := v.copy()
	out.Param, out.locals = params, nil
	out.Missing = slices.DeleteFunc(slices.Clone(v.Missing), func(p []string) bool { return p[0] == "param" })
	out.Missing = append(out.Missing, missing...)
	out.Secrets = slices.DeleteFunc(slices.Clone(v.Secrets), func(p []string) bool { return p[0] == "param" })
	out.Secrets = append(out.Secrets, SecretPaths("param", params)...)
	return out
}

// WithFleet gives the values with other knowledge of all hosts.
func (v *Vars) WithFleet(f *Fleet) *Vars {
	out := v.copy()
	out.Fleet = f
	return out
}

func (v *Vars) copy() *Vars {
	return &Vars{Host: v.Host, Facts: v.Facts, Data: v.Data, Param: v.Param, Input: v.Input, Env: v.Env, Fleet: v.Fleet,
		Missing: v.Missing, Blind: v.Blind, Secrets: v.Secrets, locals: v.locals}
}

// Fleet is what is known of all hosts, read once before a run. Each host is a
// table of its name, address, groups and own keys, and, when it was read, of
// facts and facts_age in seconds.
type Fleet struct {
	Hosts  []any
	Groups map[string][]any // the members of every group
	Known  bool             // facts and the groups that depend on them are there
	Sure   bool             // no group depends on facts
	// All is this with facts that another controller wrote as well, for manifests that trust them; nil where none does.
	All *Fleet
}

// fleetUse is what an expression or a template wants of other hosts besides
// what the inventory says.
type fleetUse struct{ facts, members bool }

// noFleet is where there is none.
var noFleet = &Fleet{}

func (f *Fleet) tree() map[string]any {
	if f == nil {
		f = noFleet
	}
	return map[string]any{"hosts": f.Hosts, "groups": f.Groups}
}

// root gives the value that a path starts from.
func (v *Vars) root(name string) (any, bool) {
	if val, ok := v.locals[name]; ok {
		return val, true
	}
	switch name {
	case "host":
		return v.Host, true
	case "facts":
		return v.Facts, true
	case "data":
		return v.Data, true
	case "param":
		return v.Param, true
	case "input":
		return v.Input, true
	case "env":
		return v.Env, true
	case "fleet":
		return v.Fleet.tree(), true
	}
	return nil, false
}

// ResolveName and Parent make Vars what CEL reads its variables from.
func (v *Vars) ResolveName(name string) (any, bool) { return v.root(name) }

// Parent says that there is nothing behind these values.
func (v *Vars) Parent() cel.Activation { return nil }

// partial is Vars with the marks of what is not known.
type partial struct {
	*Vars
	patterns []*cel.AttributePatternType
}

// UnknownAttributePatterns declares what is not known to CEL.
func (p partial) UnknownAttributePatterns() []*cel.AttributePatternType { return p.patterns }

// AsPartialActivation is how CEL asks for those marks.
func (p partial) AsPartialActivation() (cel.PartialActivation, bool) { return p, true }

func (v *Vars) partial(fleet bool) partial {
	if v.patterns == nil {
		if v.Facts == nil {
			v.patterns = append(v.patterns, cel.AttributePattern("facts"))
		}
		for _, path := range v.Missing {
			p := cel.AttributePattern(path[0])
			for _, name := range path[1:] {
				p = p.QualString(name)
			}
			v.patterns = append(v.patterns, p)
		}
	}
	out := partial{v, v.patterns}
	if fleet {
		out.patterns = append(slices.Clone(v.patterns), cel.AttributePattern("fleet"))
	}
	return out
}

// unknown says whether one of the paths meets something that is not known.
func (v *Vars) unknown(chains []chain, fleet fleetUse) bool {
	if v.Facts != nil && len(v.Missing) == 0 && !v.fleetUnknown(fleet) {
		return false
	}
	for _, c := range chains {
		if c.path[0] == "facts" && v.Facts == nil || slices.ContainsFunc(v.Missing,
			func(m []string) bool { return meet(m, c.path) }) {
			return true
		}
	}
	return v.fleetUnknown(fleet)
}

// fleetUnknown says whether the fleet is not known well enough for a use of it.
func (v *Vars) fleetUnknown(use fleetUse) bool {
	if v.Facts != nil || v.Fleet != nil && v.Fleet.Known {
		return false
	}
	return use.facts || use.members && (v.Fleet == nil || !v.Fleet.Sure)
}

// unopened says whether an evaluation failed for the want of data that could
// not be opened.
func (v *Vars) unopened(chains []chain, err error) bool {
	if !v.Blind || !readsRoot(chains, "data") {
		return false
	}
	return strings.Contains(err.Error(), "no such key") || strings.Contains(err.Error(), "map has no entry")
}

// meet says whether one path leads to or through the end of the other.
func meet(a, b []string) bool {
	n := min(len(a), len(b))
	return slices.Equal(a[:n], b[:n])
}

// touches says whether one of the paths leads to a secret.
func (v *Vars) touches(chains []chain) bool {
	if len(v.Secrets) == 0 {
		return false
	}
	return slices.ContainsFunc(chains, func(c chain) bool { return !c.asked && v.leadsToSecret(c.path) })
}

func (v *Vars) leadsToSecret(path []string) bool {
	return slices.ContainsFunc(v.Secrets, func(s []string) bool { return meet(s, path) })
}

// Touches says whether one of the paths leads to a secret.
func (v *Vars) Touches(paths [][]string) bool {
	return slices.ContainsFunc(paths, v.leadsToSecret)
}

// SecretPaths lists the paths in a tree that lead to secrets, each beginning
// with the name of its root. A list ends a path.
func SecretPaths(root string, v any) [][]string {
	var out [][]string
	var walk func(at []string, v any)
	walk = func(at []string, v any) {
		switch v := v.(type) {
		case value.Secret:
			out = append(out, slices.Clone(at))
		case []any:
			if value.HoldsSecret(v) {
				out = append(out, slices.Clone(at))
			}
		case map[string]any:
			for _, k := range value.Keys(v) {
				walk(append(at, k), v[k])
			}
		}
	}
	walk([]string{root}, v)
	return out
}

// versions gives the values three times: with the secrets as they are, and
// twice with others in their place. What comes out different depends on a
// secret, and is one.
func (v *Vars) versions() []*Vars {
	if v.variants == nil {
		for i := range 3 {
			as := func(x any) any { return reveal(x, i) }
			out := v.copy()
			out.Secrets, out.locals = nil, map[string]any{}
			out.Data, _ = as(v.Data).(map[string]any)
			out.Param, _ = as(v.Param).(map[string]any)
			out.Input, _ = as(v.Input).(map[string]any)
			for k, x := range v.locals {
				out.locals[k] = as(x)
			}
			v.variants = append(v.variants, out)
		}
	}
	return v.variants
}

// reveal puts text in the place of secrets: their own for variant 0.
func reveal(v any, variant int) any {
	switch v := v.(type) {
	case value.Secret:
		if variant == 0 {
			return v.Scalar()
		}
		switch n := v.Scalar().(type) { // another of its type
		case bool:
			return n != (variant == 1)
		case int64:
			return n/2 + 7919*int64(variant)
		case float64:
			return n/2 + 7919.5*float64(variant)
		}
		sum := sha256.Sum256([]byte(strings.Repeat("x", variant) + v.Reveal()))
		return hex.EncodeToString(sum[:])[:8*variant] + strings.Repeat("-", variant)
	case []any:
		out := make([]any, len(v))
		for i, item := range v {
			out[i] = reveal(item, variant)
		}
		return out
	case map[string]any:
		if v == nil {
			return v
		}
		out := make(map[string]any, len(v))
		for k, item := range v {
			out[k] = reveal(item, variant)
		}
		return out
	}
	return v
}

// errSecretKey says that a secret came into a place that is shown.
var errSecretKey = problem.Errorf("the keys of the table depend on a secret, but keys are shown").
	Remedy("use the secret as a value")

// blend gives the first value, with a secret wherever the others differ from it.
func blend(a any, others []any) (any, error) {
	same := true
	for _, o := range others {
		same = same && value.Equal(a, o)
	}
	if same {
		return a, nil
	}
	switch a := a.(type) {
	case []any:
		out := make([]any, len(a))
		for i := range a {
			var err error
			out[i], err = blend(a[i], each(others, func(o any) any {
				if l, ok := o.([]any); ok && len(l) == len(a) {
					return l[i]
				}
				return Unknown{}
			}))
			if err != nil {
				return nil, err
			}
		}
		return out, nil
	case map[string]any:
		for _, o := range others {
			if m, ok := o.(map[string]any); ok && !slices.Equal(value.Keys(m), value.Keys(a)) {
				return nil, errSecretKey
			}
		}
		out := make(map[string]any, len(a))
		for k := range a {
			var err error
			out[k], err = blend(a[k], each(others, func(o any) any {
				if m, ok := o.(map[string]any); ok {
					return m[k]
				}
				return Unknown{}
			}))
			if err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	return value.SecretOf(a), nil
}

func each(list []any, do func(any) any) []any {
	out := make([]any, len(list))
	for i, x := range list {
		out[i] = do(x)
	}
	return out
}

// Lookup gives the value at a path from its root on; false when a step of it
// is not there.
func (v *Vars) Lookup(path []string) (any, bool) { return lookup(path, v) }

// SecretsIn lists the secrets whose text occurs in a text.
func (v *Vars) SecretsIn(text string) []value.Secret {
	var out []value.Secret
	var walk func(x any)
	walk = func(x any) {
		switch x := x.(type) {
		case value.Secret:
			if x.Reveal() != "" && strings.Contains(text, x.Reveal()) && !slices.Contains(out, x) {
				out = append(out, x)
			}
		case []any:
			for _, item := range x {
				walk(item)
			}
		case map[string]any:
			for _, k := range value.Keys(x) {
				walk(x[k])
			}
		}
	}
	for _, path := range v.Secrets {
		if x, ok := lookup(path, v); ok {
			walk(x)
		}
	}
	return out
}
