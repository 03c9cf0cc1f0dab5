package rehearse

import (
	"errors"
	"fmt"
	"io/fs"
	"path"

	"github.com/pelletier/go-toml/v2"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// encode writes values as TOML, as a sealed file holds them.
func encode(values map[string]any) ([]byte, error) { return toml.Marshal(values) }

// HostKeys and ExpectKeys are what [host.NAME] and [host.NAME.expect] take.
var (
	HostKeys = []schema.Key{
		{Name: "os", Takes: schema.TakesText, Doc: "The id of the system, debian by default."},
		{Name: "version", Takes: schema.TakesText, Doc: "The version of the system."},
		{Name: "like", Takes: schema.TakesText, Doc: "The systems that it is like, as os-release has it."},
		{Name: "address", Takes: schema.TakesText, Doc: "Its IPv4 address; that of the inventory by default."},
		{Name: "memory", Takes: schema.TakesSize, Doc: "Its memory, such as \"2 GiB\"."},
		{Name: "disk", Takes: schema.TakesSize, Doc: "The size of its disk."},
		{Name: "cpus", Takes: schema.TakesInt, Doc: "How many processors it has."},
		{Name: "packages", Takes: schema.TakesList, Doc: "Packages that are installed, name or name=version."},
		{Name: "available", Takes: schema.TakesList,
			Doc: "Packages that can be installed, name=version; any other comes in the version 1.0-1."},
		{Name: "services", Takes: schema.TakesList, Doc: "Services that are there, run, and start at boot."},
		{Name: "users", Takes: schema.TakesList, Doc: "Accounts that are there."},
		{Name: "groups", Takes: schema.TakesList, Doc: "Groups that are there."},
		{Name: "files", Takes: schema.TakesTable, Doc: "Files that are there, by path with their text."},
		{Name: "expect", Takes: schema.TakesTable, Doc: "What must be so after the first run."},
	}
	ExpectKeys = []schema.Key{
		{Name: "changed", Takes: schema.TakesList, Doc: "Declarations that the first run changes, kind name."},
		{Name: "unchanged", Takes: schema.TakesList, Doc: "Declarations that are right before it."},
		{Name: "left_out", Takes: schema.TakesList, Doc: "Declarations that their condition leaves out."},
		{Name: "failed", Takes: schema.TakesList, Doc: "Declarations that fail; any other failure is one of the " +
			"rehearsal."},
		{Name: "not_declared", Takes: schema.TakesList, Doc: "Declarations that the host does not have at all."},
		{Name: "packages", Takes: schema.TakesList, Doc: "Packages that are installed then, name or name=version."},
		{Name: "running", Takes: schema.TakesList, Doc: "Services that run then."},
		{Name: "stopped", Takes: schema.TakesList, Doc: "Services that do not."},
		{Name: "users", Takes: schema.TakesList, Doc: "Accounts that are there then."},
		{Name: "groups", Takes: schema.TakesList, Doc: "Groups that are there then."},
		{Name: "files", Takes: schema.TakesTable, Doc: "What files hold then, as a part of their text, by path."},
		{Name: "missing", Takes: schema.TakesList, Doc: "Paths at which nothing is then."},
	}
)

// Load reads the rehearsal files of a project, or those that are named.
func Load(project fs.FS, names []string) ([]Rehearsal, error) {
	var ps problem.Problems
	if len(names) == 0 {
		entries, err := fs.ReadDir(project, Dir)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for _, e := range entries {
			if path.Ext(e.Name()) == ".toml" && !e.IsDir() {
				names = append(names, path.Join(Dir, e.Name()))
			}
		}
	}
	if len(names) == 0 {
		return nil, problem.Errorf("there is no rehearsal").Remedy("write %s/NAME.toml with a table [host.NAME]", Dir)
	}
	var out []Rehearsal
	for _, name := range names {
		data, err := fs.ReadFile(project, name)
		if err != nil {
			ps.At(value.Place{File: name}, "the rehearsal cannot be read: "+err.Error(), "")
			continue
		}
		root, _ := manifest.ParseTOML(name, data, &ps)
		out = append(out, read(name, root, &ps))
	}
	return out, ps.Err()
}

func read(file string, root *manifest.Node, ps *problem.Problems) Rehearsal {
	r := Rehearsal{File: file, Sealed: map[string]map[string]any{}}
	root.Decode("a rehearsal", nil, manifest.Fields{"about": &r.About, "env": &r.Env,
		"sealed": func(n *manifest.Node) {
			for _, l := range n.Tables(ps, "table of a layer", "write [sealed.LAYER] and the values below it") {
				r.Sealed[l.Name], _ = l.Node.Plain().(map[string]any)
			}
		},
		"host": func(n *manifest.Node) {
			for _, h := range n.Keys {
				r.Hosts = append(r.Hosts, readHost(h, ps))
			}
		}}, ps)
	if len(r.Hosts) == 0 {
		ps.At(value.Place{File: file}, "the rehearsal has no host",
			"write [host.NAME] with the name of a host of the inventory")
	}
	return r
}

// texts reads a table of absolute paths with a text each.
func texts(name string, to *map[string]string) func(*manifest.Node, *problem.Problems) {
	return func(n *manifest.Node, ps *problem.Problems) {
		if n.Kind != manifest.Table {
			ps.At(n.Place, name+" takes a table of paths", `write { "/etc/motd" = "text" }`)
			return
		}
		*to = map[string]string{}
		for _, f := range n.Keys {
			s, ok := f.Node.Value.(string)
			if !ok || !path.IsAbs(f.Name) {
				ps.At(f.Place, name+" takes absolute paths with a text", `write "/etc/motd" = "text"`)
			}
			(*to)[f.Name] = s
		}
	}
}

func readHost(k manifest.Key, ps *problem.Problems) Part {
	h := Part{Name: k.Name, Place: k.Place}
	if k.Node.Kind != manifest.Table {
		ps.At(k.Place, fmt.Sprintf("host.%s is no table", k.Name), "write [host."+k.Name+"]")
		return h
	}
	s := &h.Spec
	k.Node.Decode("a host of a rehearsal", HostKeys, manifest.Fields{"os": &s.OS, "version": &s.Version,
		"like":    &s.Like,
		"address": &s.Address, "memory": &s.Memory, "disk": &s.Disk,
		"cpus":     manifest.Number{To: &s.CPUs, Min: 1, Max: 4096},
		"packages": &s.Packages, "available": &s.Available, "services": &s.Services, "users": &s.Users,
		"groups": &s.Groups, "files": texts("files", &s.Files),
		"expect": func(n *manifest.Node) { h.Expect = readExpect(n, ps) }}, ps)
	return h
}

func readExpect(n *manifest.Node, ps *problem.Problems) Expect {
	e := Expect{Place: n.Place}
	if n.Kind != manifest.Table {
		ps.At(n.Place, "expect is no table", "write [host.NAME.expect]")
		return e
	}
	n.Decode("expect", ExpectKeys, manifest.Fields{"changed": &e.Changed, "unchanged": &e.Right, "left_out": &e.LeftOut,
		"failed": &e.Failed, "not_declared": &e.Absent, "packages": &e.Packages, "running": &e.Running,
		"stopped": &e.Stopped, "users": &e.Users, "groups": &e.Groups, "missing": &e.Missing,
		"files": texts("files", &e.Files)}, ps)
	return e
}
