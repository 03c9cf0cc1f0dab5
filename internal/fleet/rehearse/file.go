package rehearse

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/measure"
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
	for _, k := range root.Keys {
		switch k.Name {
		case "about":
			r.About, _ = k.Node.Value.(string)
		case "env":
			var ok bool
			if r.Env, ok = k.Node.Value.(string); !ok {
				ps.At(k.Node.Place, "env takes the name of an environment", "write it in quotes")
			}
		case "sealed":
			for _, l := range k.Node.Keys {
				values, ok := l.Node.Plain().(map[string]any)
				if r.Sealed[l.Name] = values; !ok {
					ps.At(l.Place, "sealed takes a table for each layer",
						fmt.Sprintf("write [sealed.%q] and the values below it", l.Name))
				}
			}
		case "host":
			for _, h := range k.Node.Keys {
				r.Hosts = append(r.Hosts, readHost(h, ps))
			}
		default:
			ps.At(k.Place, fmt.Sprintf("a rehearsal has no %q", k.Name), problem.Meant(k.Name, []string{"about", "env",
				"sealed", "host"}, "it has about, env, [sealed.LAYER] and [host.NAME]"))
		}
	}
	if len(r.Hosts) == 0 {
		ps.At(value.Place{File: file}, "the rehearsal has no host",
			"write [host.NAME] with the name of a host of the inventory")
	}
	return r
}

// reader takes typed values out of a table.
type reader struct {
	table string
	keys  []schema.Key
	ps    *problem.Problems
}

func (r reader) known(k manifest.Key) bool {
	if slices.ContainsFunc(r.keys, func(have schema.Key) bool { return have.Name == k.Name }) {
		return true
	}
	var names []string
	for _, have := range r.keys {
		names = append(names, have.Name)
	}
	r.ps.At(k.Place, fmt.Sprintf("%s has no %q", r.table, k.Name), problem.Meant(k.Name, names,
		"it has "+strings.Join(names, ", ")))
	return false
}

func (r reader) text(k manifest.Key) string {
	s, ok := k.Node.Value.(string)
	if !ok {
		r.ps.At(k.Node.Place, k.Name+" takes text", "write it in quotes")
	}
	return s
}

func (r reader) number(k manifest.Key) int {
	n, ok := k.Node.Value.(int64)
	if !ok || n < 1 || n > 4096 {
		r.ps.At(k.Node.Place, k.Name+" takes a whole number", "write it without quotes")
	}
	return int(n)
}

func (r reader) size(k manifest.Key) int64 {
	if n, ok := k.Node.Value.(int64); ok && n > 0 {
		return n
	}
	text, _ := k.Node.Value.(string)
	n, err := measure.ParseBytes(text)
	if err != nil {
		r.ps.AddErr(k.Node.Place, err)
	}
	return n
}

func (r reader) list(k manifest.Key) []string {
	var out []string
	for _, item := range k.Node.Items {
		s, ok := item.Value.(string)
		if !ok {
			r.ps.At(item.Place, k.Name+" takes a list of texts", "write it in quotes")
		}
		out = append(out, s)
	}
	if k.Node.Kind != manifest.List {
		r.ps.At(k.Node.Place, k.Name+" takes a list of texts", "put it in brackets")
	}
	return out
}

func (r reader) texts(k manifest.Key) map[string]string {
	out := map[string]string{}
	for _, f := range k.Node.Keys {
		s, ok := f.Node.Value.(string)
		if !ok || !path.IsAbs(f.Name) {
			r.ps.At(f.Place, k.Name+" takes absolute paths with a text", `write "/etc/motd" = "text"`)
		}
		out[f.Name] = s
	}
	if k.Node.Kind != manifest.Table {
		r.ps.At(k.Node.Place, k.Name+" takes a table of paths", `write { "/etc/motd" = "text" }`)
	}
	return out
}

func readHost(k manifest.Key, ps *problem.Problems) Part {
	h := Part{Name: k.Name, Place: k.Place}
	if k.Node.Kind != manifest.Table {
		ps.At(k.Place, fmt.Sprintf("host.%s is no table", k.Name), "write [host."+k.Name+"]")
		return h
	}
	r := reader{"a host of a rehearsal", HostKeys, ps}
	for _, a := range k.Node.Keys {
		if !r.known(a) {
			continue
		}
		switch a.Name {
		case "os":
			h.Spec.OS = r.text(a)
		case "version":
			h.Spec.Version = r.text(a)
		case "like":
			h.Spec.Like = r.text(a)
		case "address":
			h.Spec.Address = r.text(a)
		case "memory":
			h.Spec.Memory = r.size(a)
		case "disk":
			h.Spec.Disk = r.size(a)
		case "cpus":
			h.Spec.CPUs = r.number(a)
		case "packages":
			h.Spec.Packages = r.list(a)
		case "available":
			h.Spec.Available = r.list(a)
		case "services":
			h.Spec.Services = r.list(a)
		case "users":
			h.Spec.Users = r.list(a)
		case "groups":
			h.Spec.Groups = r.list(a)
		case "files":
			h.Spec.Files = r.texts(a)
		case "expect":
			h.Expect = readExpect(a, ps)
		}
	}
	return h
}

func readExpect(k manifest.Key, ps *problem.Problems) Expect {
	e := Expect{Place: k.Place}
	if k.Node.Kind != manifest.Table {
		ps.At(k.Place, "expect is no table", "write [host.NAME.expect]")
		return e
	}
	r := reader{"expect", ExpectKeys, ps}
	lists := map[string]*[]string{"changed": &e.Changed, "unchanged": &e.Right, "left_out": &e.LeftOut,
		"failed": &e.Failed, "not_declared": &e.Absent,
		"packages": &e.Packages, "running": &e.Running, "stopped": &e.Stopped, "users": &e.Users, "groups": &e.Groups,
		"missing": &e.Missing}
	for _, a := range k.Node.Keys {
		switch to := lists[a.Name]; {
		case !r.known(a):
		case to != nil:
			*to = r.list(a)
		default:
			e.Files = r.texts(a)
		}
	}
	return e
}
