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

// encode writes values as TOML, as an encrypted file holds them.
func encode(values map[string]any) ([]byte, error) { return toml.Marshal(values) }

// HostKeys and ExpectKeys are what [host.NAME] and [host.NAME.expect] take.
var (
	HostKeys = []schema.Key{
		{Name: "os", Takes: schema.TakesText, Doc: "The ID of the operating system, debian by default."},
		{Name: "version", Takes: schema.TakesText, Doc: "The version of the operating system."},
		{Name: "like", Takes: schema.TakesText, Doc: "The systems it derives from, as in ID_LIKE of os-release."},
		{Name: "address", Takes: schema.TakesText, Doc: "Its IPv4 address; by default, that of the inventory."},
		{Name: "memory", Takes: schema.TakesSize, Doc: "Its memory, such as \"2 GiB\"."},
		{Name: "disk", Takes: schema.TakesSize, Doc: "The size of its disk."},
		{Name: "cpus", Takes: schema.TakesInt, Doc: "The number of processors."},
		{Name: "packages", Takes: schema.TakesList, Doc: "Installed packages, as NAME or NAME=VERSION."},
		{Name: "available", Takes: schema.TakesList,
			Doc: "Available packages, as NAME=VERSION; all others are available in version 1.0-1."},
		{Name: "services", Takes: schema.TakesList, Doc: "Services that exist, are running and start at boot."},
		{Name: "users", Takes: schema.TakesList, Doc: "Existing users."},
		{Name: "groups", Takes: schema.TakesList, Doc: "Existing groups."},
		{Name: "files", Takes: schema.TakesTable, Doc: "Existing files, by path with their content."},
		{Name: "expect", Takes: schema.TakesTable, Doc: "The expected result of the first run."},
	}
	ExpectKeys = []schema.Key{
		{Name: "changed", Takes: schema.TakesList, Doc: "Declarations that the first run changes, as KIND NAME."},
		{Name: "unchanged", Takes: schema.TakesList, Doc: "Declarations that are already as declared."},
		{Name: "skipped", Takes: schema.TakesList, Doc: "Declarations that a condition skips."},
		{Name: "failed", Takes: schema.TakesList,
			Doc: "Declarations that fail; any other failure fails the rehearsal."},
		{Name: "not_declared", Takes: schema.TakesList, Doc: "Declarations that the host does not have."},
		{Name: "packages", Takes: schema.TakesList, Doc: "Packages that are installed afterwards, as NAME or " +
			"NAME=VERSION."},
		{Name: "running", Takes: schema.TakesList, Doc: "Services that are running afterwards."},
		{Name: "stopped", Takes: schema.TakesList, Doc: "Services that are not running afterwards."},
		{Name: "users", Takes: schema.TakesList, Doc: "Users that exist afterwards."},
		{Name: "groups", Takes: schema.TakesList, Doc: "Groups that exist afterwards."},
		{Name: "files", Takes: schema.TakesTable, Doc: "Text that files contain afterwards, by path."},
		{Name: "missing", Takes: schema.TakesList, Doc: "Paths that do not exist afterwards."},
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
		return nil, problem.Errorf("this project has no rehearsals").
			Remedy("create %s/NAME.toml with a table [host.NAME]", Dir)
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
	r := Rehearsal{File: file, Encrypted: map[string]map[string]any{}}
	root.Decode("a rehearsal", nil, manifest.Fields{"about": &r.About, "env": &r.Env,
		"encrypted": func(n *manifest.Node) {
			for _, l := range n.Tables(ps, "table of a layer", "write [encrypted.LAYER] and the values below it") {
				r.Encrypted[l.Name], _ = l.Node.Plain().(map[string]any)
			}
		},
		"host": func(n *manifest.Node) {
			for _, h := range n.Keys {
				r.Hosts = append(r.Hosts, readHost(h, ps))
			}
		}}, ps)
	if len(r.Hosts) == 0 {
		ps.At(value.Place{File: file}, "the rehearsal has no host",
			"add [host.NAME] with the name of a host in the inventory")
	}
	return r
}

// texts reads a table of absolute paths with a text each.
func texts(name string, to *map[string]string) func(*manifest.Node, *problem.Problems) {
	return func(n *manifest.Node, ps *problem.Problems) {
		if n.Kind != manifest.Table {
			ps.At(n.Place, name+" must be a table of paths", `write { "/etc/motd" = "text" }`)
			return
		}
		*to = map[string]string{}
		for _, f := range n.Keys {
			s, ok := f.Node.Value.(string)
			if !ok || !path.IsAbs(f.Name) {
				ps.At(f.Place, name+" must contain absolute paths with a string", `write "/etc/motd" = "text"`)
			}
			(*to)[f.Name] = s
		}
	}
}

func readHost(k manifest.Key, ps *problem.Problems) Part {
	h := Part{Name: k.Name, Place: k.Place}
	if k.Node.Kind != manifest.Table {
		ps.At(k.Place, fmt.Sprintf("host.%s must be a table", k.Name), "write [host."+k.Name+"]")
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
		ps.At(n.Place, "expect must be a table", "write [host.NAME.expect]")
		return e
	}
	n.Decode("expect", ExpectKeys, manifest.Fields{"changed": &e.Changed, "unchanged": &e.Right, "skipped": &e.Skipped,
		"failed": &e.Failed, "not_declared": &e.Absent, "packages": &e.Packages, "running": &e.Running,
		"stopped": &e.Stopped, "users": &e.Users, "groups": &e.Groups, "missing": &e.Missing,
		"files": texts("files", &e.Files)}, ps)
	return e
}
