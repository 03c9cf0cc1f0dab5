// Package layers reads the data of a project: one tree of values per host,
// made of layers laid over one another, the general one first.
package layers

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/value"
)

// Dir is the project's folder of data.
const Dir = "data"

// Data is the data of a project, read once.
type Data struct {
	shared *manifest.Node
	plain  map[string]any
	hosts  map[string]*manifest.Node
}

// Load reads data/shared.toml and data/host/NAME.toml. whole is false when a
// file could not be read to its end.
func Load(project fs.FS, problems *value.Problems) (d *Data, whole bool) {
	d = &Data{plain: map[string]any{}, hosts: map[string]*manifest.Node{}}
	shared, whole := read(project, path.Join(Dir, "shared.toml"), problems)
	if shared != nil {
		d.shared = shared
		d.plain = shared.Plain().(map[string]any)
	}
	entries, err := fs.ReadDir(project, path.Join(Dir, "host"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		problems.At(value.Place{File: path.Join(Dir, "host")}, err.Error(), "")
	}
	for _, e := range entries {
		name, ok := strings.CutSuffix(e.Name(), ".toml")
		if !ok {
			continue
		}
		node, all := read(project, path.Join(Dir, "host", e.Name()), problems)
		whole = whole && all
		if node == nil {
			continue
		}
		d.hosts[name] = node
		if d.shared != nil {
			clashes("data", d.shared, node, problems)
		}
	}
	return d, whole
}

// Hosts lists the hosts that have a layer of their own.
func (d *Data) Hosts() []string { return value.Keys(d.hosts) }

func read(project fs.FS, name string, problems *value.Problems) (*manifest.Node, bool) {
	text, err := fs.ReadFile(project, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, true
	}
	if err != nil {
		problems.At(value.Place{File: name}, err.Error(), "")
		return nil, false
	}
	return manifest.ParseTOML(name, text, problems)
}

// clashes reports where one layer has a table and the other has none.
func clashes(at string, under, over *manifest.Node, problems *value.Problems) {
	for _, k := range over.Keys {
		below := under.Get(k.Name)
		if below == nil {
			continue
		}
		name := at + "." + k.Name
		if (below.Kind == manifest.Table) != (k.Node.Kind == manifest.Table) {
			problems.Add(value.Problem{Place: k.Place, What: fmt.Sprintf("%s is a table in one layer and none in another, at %s", name, below.Place),
				Do: "make it the same in both", Also: []value.Place{below.Place}})
			continue
		}
		if below.Kind == manifest.Table {
			clashes(name, below, k.Node, problems)
		}
	}
}

// For gives the tree of one host. The result is shared between hosts and must
// not be changed.
func (d *Data) For(host string) map[string]any {
	over := d.hosts[host]
	if over == nil {
		return d.plain
	}
	return merge(d.plain, over.Plain().(map[string]any))
}

// merge lays one tree over another: tables key by key, the rest replaced.
func merge(under, over map[string]any) map[string]any {
	out := make(map[string]any, len(under)+len(over))
	for k, v := range under {
		out[k] = v
	}
	for k, v := range over {
		a, ok1 := out[k].(map[string]any)
		b, ok2 := v.(map[string]any)
		if ok1 && ok2 {
			out[k] = merge(a, b)
			continue
		}
		out[k] = v
	}
	return out
}
