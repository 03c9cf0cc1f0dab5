// Package resolve turns a project into one plan per host. It is a function of
// the project's files, the catalogue of kinds, a host and its facts: it reads
// no clock, no network, and no disk but the project through an fs.FS.
package resolve

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Project is a project read once and compiled, ready to give the plan of any
// number of hosts, from many goroutines.
type Project struct {
	Settings  Settings
	Inventory *inventory.Inventory

	files    fs.FS
	catalog  schema.Catalog
	data     *layers.Data
	decls    map[string][]*decl // by manifest
	services bool
	// Project files, each read once, by path: of func() (plan.Content, error)
	// and func() (*expr.Template, error).
	copies, templates sync.Map
}

// Load reads and compiles a project. The error holds every problem that can be
// seen without a host; the project that comes with an error is only good for
// Check, and nil when too little could be read.
func Load(files fs.FS, catalog schema.Catalog) (*Project, error) {
	var ps value.Problems
	p := &Project{files: files, catalog: catalog, decls: map[string][]*decl{}}
	p.Settings = loadSettings(files, &ps)
	inv, whole := inventory.Load(files, p.Settings.Inventory, &ps)
	p.Inventory = inv
	data, ok := layers.Load(files, &ps)
	p.data, whole = data, whole && ok
	manifests, ok := manifest.Load(files, catalog, &ps)
	whole = whole && ok
	for _, name := range value.Keys(manifests) {
		for _, d := range manifests[name].Decls {
			p.decls[name] = append(p.decls[name], p.compile(manifests[name], d, &ps))
		}
	}
	for _, g := range inv.Groups {
		for _, use := range g.Manifests {
			if _, ok := manifests[use.Manifest]; !ok {
				ps.At(use.Place, fmt.Sprintf("group %s names the manifest %q, which is not there", g.Name, use.Manifest),
					value.Meant(use.Manifest, value.Keys(manifests), "make "+path.Join(manifest.Dir, use.Manifest+".toml")))
			}
		}
	}
	for _, name := range data.Hosts() {
		if _, ok := inv.Host(name); !ok && whole {
			ps.At(value.Place{File: path.Join(layers.Dir, "host", name+".toml")}, fmt.Sprintf("this is data for %q, which is no host", name),
				value.Meant(name, inv.HostNames(), "declare the host or remove the file"))
		}
	}
	if !whole {
		return nil, ps.Err()
	}
	return p, ps.Err()
}

// Check resolves every host without facts and gives every problem that this
// shows, on top of those that Load gave.
func Check(files fs.FS, catalog schema.Catalog) (*Project, error) {
	p, err := Load(files, catalog)
	if p == nil {
		return nil, err
	}
	var ps value.Problems
	ps.AddErr(value.Place{}, err)
	ps.AddErr(value.Place{}, p.CheckHosts(p.Inventory.Hosts))
	return p, ps.Err()
}

// CheckHosts resolves hosts as far as that goes without facts, and gives every
// problem that this shows.
func (p *Project) CheckHosts(hosts []*inventory.Host) error {
	var ps value.Problems
	for _, h := range hosts {
		_, err := p.Plan(h, nil)
		ps.AddErr(h.Place, err)
	}
	return ps.Err()
}

// ReadsServices says whether anything reads facts.services, which a host reads
// only when asked to.
func (p *Project) ReadsServices() bool { return p.services }

// Declarations counts what the project's manifests declare.
func (p *Project) Declarations() (manifests, declarations int) {
	for _, list := range p.decls {
		declarations += len(list)
	}
	return len(p.decls), declarations
}

// Open gives the bytes of a content.
func (p *Project) Open(s plan.Source) (io.ReadCloser, error) {
	if s.Path == "" {
		return io.NopCloser(strings.NewReader(s.Text)), nil
	}
	return p.files.Open(s.Path)
}

// decl is a declaration compiled: what does not depend on the host is
// evaluated already.
type decl struct {
	*manifest.Decl
	dir   string
	cond  *expr.Program
	name  *expr.Text // nil when Decl.Name is final
	attrs []attr
}

type attr struct {
	manifest.Attr
	fixed    any // the checked value, when it is the same for every host
	dynamic  func(*expr.Vars) (any, error)
	template *expr.Template // of a fixed template path
	bad      bool           // reported already
}

func (p *Project) compile(m *manifest.Manifest, d *manifest.Decl, ps *value.Problems) *decl {
	out := &decl{Decl: d, dir: m.Dir}
	if manifest.Interpolated(d.Name) {
		var err error
		out.name, err = expr.ParseText(d.Name, func(int) value.Place { return d.Place }, "")
		ps.AddErr(d.Place, err)
		if err == nil && out.name.ReadsFact("services") {
			p.services = true
		}
	}
	for _, a := range d.Attrs {
		switch a.Schema.Name {
		case "about":
			continue
		case "if":
			text, ok := a.Node.Value.(string)
			if !ok {
				continue // its type was reported
			}
			prog, err := expr.Compile(text, a.Node.At)
			ps.AddErr(a.Node.Place, err)
			if err == nil {
				out.cond = prog
				p.services = p.services || prog.ReadsFact("services")
			}
			continue
		}
		out.attrs = append(out.attrs, p.compileAttr(out, a, ps))
	}
	return out
}

func (p *Project) compileAttr(d *decl, a manifest.Attr, ps *value.Problems) attr {
	out := attr{Attr: a}
	keep := ""
	if a.Schema.Type == schema.Command {
		keep = expr.Candidate
	}
	if a.Schema.Name == schema.Labels { // words, not evaluated
		out.fixed = a.Node.Plain()
		return out
	}
	eval, err := p.compileNode(a.Node, keep)
	if err != nil {
		ps.AddErr(a.Node.Place, err)
		out.bad = true
		return out
	}
	if eval.dynamic {
		out.dynamic = eval.value
		p.services = p.services || a.Schema.Type == schema.Template // which one, and what it reads, a host will tell
		return out
	}
	v, _ := eval.value(nil) // a literal needs no variables and cannot fail
	out.fixed, err = a.Schema.Value(v)
	if err != nil {
		ps.AddErr(a.Node.Place, err)
		out.bad = true
		return out
	}
	if rel, ok := out.fixed.(string); ok && a.Schema.Type == schema.Template {
		out.template, err = p.template(path.Join(d.dir, rel))
		ps.AddErr(a.Node.Place, err)
		out.bad = err != nil
		p.services = p.services || err == nil && out.template.ReadsFact("services")
	}
	if rel, ok := out.fixed.(string); ok && a.Schema.Type == schema.Copy {
		if _, err := p.copyOf(path.Join(d.dir, rel)); err != nil {
			ps.AddErr(a.Node.Place, err)
			out.bad = true
		}
	}
	return out
}

// evaluator is a value that may depend on the host.
type evaluator struct {
	value   func(*expr.Vars) (any, error)
	dynamic bool
}

func (p *Project) compileNode(n *manifest.Node, keep string) (evaluator, error) {
	if text, ok := n.Value.(string); ok && n.Kind == manifest.Scalar && manifest.Interpolated(text) {
		t, err := expr.ParseText(text, n.At, keep)
		if err != nil {
			return evaluator{}, err
		}
		p.services = p.services || t.ReadsFact("services")
		return evaluator{t.Eval, true}, nil
	}
	if n.Kind != manifest.List {
		v := n.Plain()
		return evaluator{func(*expr.Vars) (any, error) { return v, nil }, false}, nil
	}
	var items []evaluator
	dynamic := false
	for _, item := range n.Items {
		e, err := p.compileNode(item, keep)
		if err != nil {
			return evaluator{}, err
		}
		items = append(items, e)
		dynamic = dynamic || e.dynamic
	}
	return evaluator{func(vars *expr.Vars) (any, error) {
		out := make([]any, len(items))
		for i, item := range items {
			v, err := item.value(vars)
			if err != nil {
				return nil, err
			}
			if _, ok := v.(expr.Unknown); ok {
				return v, nil
			}
			out[i] = v
		}
		return out, nil
	}, dynamic}, nil
}

// maxTemplate bounds a template's source, in bytes.
const maxTemplate = 4 << 20

// template compiles a template of the project. An error of the template itself
// has its place; any other is one of whatever names it.
func (p *Project) template(name string) (*expr.Template, error) {
	t, _ := p.templates.LoadOrStore(name, sync.OnceValues(func() (*expr.Template, error) {
		info, err := fs.Stat(p.files, name)
		if err != nil {
			return nil, fmt.Errorf("the template %s cannot be read; %s", name, nearestFile(p.files, name))
		}
		if info.IsDir() || info.Size() > maxTemplate {
			return nil, fmt.Errorf("the template %s is a folder or larger than 4 MiB; use copy for large files", name)
		}
		text, err := fs.ReadFile(p.files, name)
		if err != nil {
			return nil, err
		}
		return expr.ParseTemplate(name, string(text))
	}))
	return t.(func() (*expr.Template, error))()
}

func nearestFile(files fs.FS, name string) string {
	entries, _ := fs.ReadDir(files, path.Dir(name))
	var names []string
	for _, e := range entries {
		if !e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return value.Meant(path.Base(name), names, "it is looked for in "+path.Dir(name))
}

// copyOf gives the hash of a project file, reading each file once.
func (p *Project) copyOf(name string) (plan.Content, error) {
	f, _ := p.copies.LoadOrStore(name, sync.OnceValues(func() (plan.Content, error) {
		f, err := p.files.Open(name)
		if err != nil {
			return plan.Content{}, fmt.Errorf("the file %s cannot be read; %s", name, nearestFile(p.files, name))
		}
		defer f.Close()
		if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
			return plan.Content{}, fmt.Errorf("%s is no regular file", name)
		}
		h := sha256.New()
		n, err := io.Copy(h, f)
		if err != nil {
			return plan.Content{}, fmt.Errorf("read %s: %w", name, err)
		}
		return plan.Content{SHA256: hex.EncodeToString(h.Sum(nil)), Size: n}, nil
	}))
	return f.(func() (plan.Content, error))()
}

func contentOf(text string) plan.Content {
	sum := sha256.Sum256([]byte(text))
	return plan.Content{SHA256: hex.EncodeToString(sum[:]), Size: int64(len(text))}
}

// manifestsOf lists the manifests of a host in the order of its groups, each once.
func manifestsOf(h *inventory.Host) []string {
	var out []string
	for _, g := range h.Groups {
		for _, use := range g.Manifests {
			if !slices.Contains(out, use.Manifest) {
				out = append(out, use.Manifest)
			}
		}
	}
	return out
}
