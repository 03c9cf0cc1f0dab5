// Package compile reads a project once, manifests, inventory, data and all, and
// makes of it what the plan of any host can be resolved from: expressions
// compiled, params and kinds looked up, and what is the same for every host
// evaluated. It reads no disk but the project, through an fs.FS, and knows of
// no host more than the inventory says.
package compile

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
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/ownkind"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/source"
	"jadekettle/internal/core/value"
)

// Options are what a call adds to a project.
type Options struct {
	Env    string            // the environment; empty means the default one
	Params map[string]string // values for params, by manifest.name
	Input  map[string]any    // the answers to a job's questions; nil where no job is started
	// Open decrypts an encrypted file of data. Nil means that nothing can be.
	Open func(name string, encrypted []byte) ([]byte, error)
	// Reading receives the settings and the inventory as soon as both are known,
	// while manifests are still to be read. May be nil.
	Reading func(settings.Settings, *inventory.Inventory)
	// Blind checks a project although some of its encrypted files cannot be opened
	// here: what depends on them is left open.
	Blind bool
	// AnyEnv takes a project that has no environment of the name as one without: another revision
	// of it may have none.
	AnyEnv bool
	// Scratch says that the project is made up for one call: no file on a host names it.
	Scratch bool
}

// Project is a project read once and compiled. Nothing in it changes after
// Load, so that many goroutines may resolve hosts from it.
type Project struct {
	Settings  settings.Settings
	Inventory *inventory.Inventory
	Data      *layers.Data
	Jobs      []*job.Job
	Sources   []source.Pin
	Kinds     schema.Kinds
	Units     map[string]*Unit // by manifest
	Scratch   bool             // it is made up for one call
	// Given are the values that groups and hosts give to params, by the node
	// that says them.
	Given   map[*manifest.Node]Evaluator
	Remarks problem.Problems // what is not a mistake and had better be otherwise

	files fs.FS
	// Facts are the custom ones, by whatever manifest they are declared.
	Facts []manifest.Fact

	options Options
	sound   map[string]string // folders of the sources that are as pinned
	reads   Reads
	// Project files, each read once, by path: of func() (plan.Content, error)
	// and func() (*expr.Template, error).
	copies, templates sync.Map
}

// Load reads and compiles a project. The error holds every problem that can be
// seen without a host; the project that comes with an error is only good for
// Check, and nil when too little could be read.
func Load(files fs.FS, kinds schema.Kinds, options Options) (*Project, error) {
	var ps problem.Problems
	p := &Project{Scratch: options.Scratch, files: files, Kinds: kinds, options: options, Units: map[string]*Unit{},
		Given: map[*manifest.Node]Evaluator{}}
	p.Settings = settings.Load(files, &ps)
	if _, there := p.Settings.Envs[options.Env]; options.AnyEnv && !there {
		options.Env = ""
	}
	if err := p.Settings.Choose(options.Env); err != nil {
		ps.AddErr(value.Place{}, err)
		return nil, ps.Err()
	}
	inv, whole := inventory.Load(files, p.Settings.Inventory, p.Settings.Env, &ps)
	p.Inventory = inv
	p.checkMembers(&ps)
	if options.Reading != nil && whole && ps.Err() == nil {
		options.Reading(p.Settings, inv)
	}
	p.Data = layers.Load(files, layers.Config{Layers: p.Settings.Layers, Places: p.Settings.LayerPlaces,
		Lists: p.Settings.Lists, Env: p.Settings.Env, Open: options.Open, Blind: options.Blind}, &ps)
	p.Jobs = job.Load(files, &ps)
	p.Sources = source.Read(files, &ps)
	p.sound = source.Load(files, p.Sources, &ps)
	folders := []string{""}
	for _, name := range value.Keys(p.sound) {
		folders = append(folders, p.sound[name])
	}
	p.Kinds = kinds.With(ownkind.Load(files, folders, kinds, &ps))
	manifests, ok := manifest.Load(files, p.sound, p.Kinds, &ps)
	whole = whole && ok
	p.Facts = manifest.LoadFacts(files, &ps)
	for _, name := range value.Keys(manifests) {
		p.Facts = append(p.Facts, manifests[name].Facts...)
	}
	manifest.UniqueFacts(p.Facts, &ps)
	p.compileAll(manifests, &ps)
	p.checkGiven(&ps)
	for _, g := range inv.Groups {
		for _, use := range g.Manifests {
			if _, ok := manifests[use.Manifest]; !ok && !p.unsound(use.Manifest) {
				ps.At(use.Place, fmt.Sprintf("group %s refers to the manifest %q, which does not exist", g.Name,
					use.Manifest),
					p.noManifest(use.Manifest))
			}
		}
	}
	if whole {
		p.checkHostData(&ps)
	}
	p.look()
	p.checkJobs(&ps)
	wrong, advice := ps.Split()
	p.Remarks.AddErr(value.Place{}, advice.Err())
	if !whole {
		return nil, wrong.Err()
	}
	return p, wrong.Err()
}

// unsound says whether a manifest is of a source whose copy is not as pinned,
// which is reported already.
func (p *Project) unsound(name string) bool {
	src, _, ok := strings.Cut(name, "/")
	return ok && p.sound[src] == "" && slices.ContainsFunc(p.Sources, func(s source.Pin) bool { return s.Name == src })
}

func (p *Project) noManifest(name string) string {
	do := "make " + path.Join(manifest.Dir, name+".toml")
	if src, _, ok := strings.Cut(name, "/"); ok {
		do = "add the source " + src + ", which contains it"
	}
	return problem.Meant(name, value.Keys(p.Units), do)
}

// hostsAnywhere names the hosts of every environment.
func (p *Project) hostsAnywhere() []string {
	names := p.Inventory.HostNames()
	if len(p.Settings.Envs) == 0 {
		return names
	}
	lists := [][]string{settings.Glance(p.files).Inventory} // of the environments that name none
	for _, e := range p.Settings.Envs {
		if len(e.Inventory) > 0 {
			lists = append(lists, e.Inventory)
		}
	}
	for _, files := range lists {
		other, _ := inventory.Load(p.files, files, "", &problem.Problems{})
		names = append(names, other.HostNames()...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// checkMembers reports members of groups that are hosts of no environment.
func (p *Project) checkMembers(ps *problem.Problems) {
	strangers := p.Inventory.Strangers()
	if len(strangers) == 0 {
		return // the other environments' inventories need not be read
	}
	names := p.hostsAnywhere()
	nowhere := "not a host"
	if len(p.Settings.Envs) > 0 {
		nowhere = "not a host in any environment"
	}
	for _, m := range strangers {
		if !slices.Contains(names, m.Text) {
			ps.At(m.Place, fmt.Sprintf("group %s has the member %q, which is %s", m.Group, m.Text, nowhere),
				problem.Meant(m.Text, names, "declare [host."+m.Text+"]"))
		}
	}
}

// checkHostData reports data for hosts that no environment has.
func (p *Project) checkHostData(ps *problem.Problems) {
	if !slices.Contains(p.Settings.Layers, hostLayer) {
		return
	}
	var unknown []string
	for _, layer := range p.Data.Names() {
		if name, ok := strings.CutPrefix(layer, "host/"); ok {
			if _, there := p.Inventory.Host(name); !there {
				unknown = append(unknown, name)
			}
		}
	}
	if len(unknown) == 0 {
		return // the other environments' inventories need not be read
	}
	names := p.hostsAnywhere()
	for _, name := range unknown {
		if !slices.Contains(names, name) {
			ps.At(value.Place{File: p.Data.Files("host/" + name)[0]}, fmt.Sprintf("this is data for %q, which is "+
				"not a host", name),
				problem.Meant(name, names, "declare the host or remove the file"))
		}
	}
}

const hostLayer = "host/${host.name}"

// checkGiven compiles the values that groups and hosts give to params, and the
// call's own.
func (p *Project) checkGiven(ps *problem.Problems) {
	scope := expr.Scope{Roots: []string{"host", "facts", "data", "input", "env"}, What: "a value for a param"}
	take := func(list []inventory.Given, who string) {
		for _, g := range list {
			if _, done := p.Given[g.Node]; done {
				continue
			}
			u := p.Units[g.Manifest]
			switch {
			case u == nil:
				ps.At(g.Node.Place, fmt.Sprintf("%s sets params of the manifest %q, which does not exist",
					who, g.Manifest),
					problem.Meant(g.Manifest, value.Keys(p.Units), "remove them"))
				continue
			case u.Param(g.Param) == nil:
				ps.At(g.Node.Place, fmt.Sprintf("unknown param %[2]q in the manifest %[1]s", g.Manifest, g.Param),
					problem.Meant(g.Param, u.ParamNames(), "available: "+OrNone(u.ParamNames())))
				continue
			}
			s := scope
			if g.Ranged {
				s = s.And("n")
			}
			e, err := p.compileNode(g.Node, "", s)
			if err != nil {
				ps.AddErr(g.Node.Place, err)
			}
			if err != nil || e.Dynamic {
				p.Given[g.Node] = e
				continue
			}
			v, _ := e.Value(nil) // a literal needs no variables and cannot fail
			if text, ok := v.(string); ok && text != "" && u.Param(g.Param).Type == "secret" {
				p.Remarks.Add(problem.Problem{Place: g.Node.Place, Code: "plain-secret",
					What: fmt.Sprintf("the value of the secret param %s.%s is stored in plain text",
						g.Manifest, g.Param),
					Do: "encrypt it and use ${data.NAME} here: `jadekettle secret set LAYER NAME`"})
			}
			if _, err := u.Param(g.Param).Check(v); err != nil {
				ps.AddErr(g.Node.Place, fmt.Errorf("the param %s.%s: %w", g.Manifest, g.Param, err))
				e.Failed = true
			}
			p.Given[g.Node] = e
		}
	}
	for _, g := range p.Inventory.Groups {
		take(g.Params, "group "+g.Name)
	}
	for _, h := range p.Inventory.Hosts {
		take(h.Params, "host "+h.Name)
	}
	for _, key := range value.Keys(p.options.Params) {
		at := strings.LastIndexByte(key, '.')
		u := p.Units[key[:max(at, 0)]]
		if u == nil || u.Param(key[at+1:]) == nil {
			ps.AddErr(value.Place{}, problem.Errorf("unknown parameter %q", key).
				Remedy("use `--param MANIFEST.NAME=VALUE`"))
			continue
		}
		v, err := u.Param(key[at+1:]).FromText(p.options.Params[key])
		if u.Param(key[at+1:]).Type == "secret" {
			err = problem.Errorf("a secret on a command line is visible to every user of this machine").
				Remedy("encrypt it: `jadekettle secret set LAYER NAME`")
		}
		if err == nil {
			_, err = u.Param(key[at+1:]).Check(v)
		}
		if err != nil {
			ps.AddErr(value.Place{}, fmt.Errorf("--param %s: %w", key, err))
		}
	}
}

// Input gives the answers to the questions of the job that was started; nil where none was.
func (p *Project) Input() map[string]any { return p.options.Input }

// checkJobs holds jobs to the rest of the project, and what reads answers to the questions.
func (p *Project) checkJobs(ps *problem.Problems) {
	for _, j := range p.Jobs {
		if j.Source != "" {
			continue // what it is about is there
		}
		for _, name := range j.Manifests {
			if p.Units[name] == nil && !p.unsound(name) {
				ps.At(j.Place, fmt.Sprintf("the job %s refers to the manifest %q, which does not exist", j.Name, name),
					p.noManifest(name))
			}
		}
		if _, there := p.Settings.Envs[j.Env]; j.Env != "" && !there {
			names := value.Keys(p.Settings.Envs)
			ps.At(j.Place, fmt.Sprintf("the job %s is for the environment %q, which does not exist", j.Name, j.Env),
				problem.Meant(j.Env, names, "available: "+OrNone(names)))
		}
		var reports []string
		for _, t := range p.Settings.Notify {
			reports = append(reports, t.Name)
		}
		for _, name := range j.Notify {
			if !slices.Contains(reports, name) {
				ps.At(j.Place, fmt.Sprintf("the job %s notifies %q, which jadekettle.toml does not define",
					j.Name, name),
					problem.Meant(name, reports, "available: "+OrNone(reports)))
			}
		}
	}
	asked := job.Inputs(p.Jobs)
	for _, name := range value.Keys(p.Units) {
		reported := map[string]bool{}
		for _, path := range p.Units[name].Reads().Paths {
			if path[0] != "input" || len(path) < 2 || slices.Contains(asked, path[1]) || reported[path[1]] {
				continue
			}
			reported[path[1]] = true
			ps.At(value.Place{File: p.Units[name].File}, fmt.Sprintf("the manifest %s reads input.%s, but no job "+
				"has this input", name, path[1]),
				problem.Meant(path[1], asked, "define it: [job.NAME.input."+path[1]+"] in "+job.File))
		}
	}
}

// Called gives the text that the call itself gives to a param.
func (p *Project) Called(manifest, param string) (text string, given bool) {
	text, given = p.options.Params[manifest+"."+param]
	return text, given
}

// ReadFile gives a file of the project, by its path inside it.
func (p *Project) ReadFile(name string) ([]byte, error) { return fs.ReadFile(p.files, name) }

// Open gives the bytes of a content.
func (p *Project) Open(s plan.Bytes) (io.ReadCloser, error) {
	if s.Path == "" {
		return io.NopCloser(strings.NewReader(s.Text)), nil
	}
	return p.files.Open(s.Path)
}

// maxTemplate bounds a template's source, in bytes.
const maxTemplate = 4 << 20

// Template compiles a template of the project. An error of the template itself
// has its place; any other is one of whatever names it.
func (p *Project) Template(name string) (*expr.Template, error) {
	t, _ := p.templates.LoadOrStore(name, sync.OnceValues(func() (*expr.Template, error) {
		info, err := fs.Stat(p.files, name)
		if err != nil {
			return nil, problem.Errorf("the template %s cannot be read", name).Remedy("%s", nearestFile(p.files, name))
		}
		if !info.Mode().IsRegular() || info.Size() > maxTemplate {
			return nil, problem.Errorf("the template %s is not a file, or larger than 4 MiB", name).
				Remedy("use copy for large files")
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
	return problem.Meant(path.Base(name), names, "it is expected in "+path.Dir(name))
}

// Copy gives the hash of a project file, reading each file once.
func (p *Project) Copy(name string) (plan.Content, error) {
	f, _ := p.copies.LoadOrStore(name, sync.OnceValues(func() (plan.Content, error) {
		info, err := fs.Stat(p.files, name)
		if err == nil && !info.Mode().IsRegular() { // to open a named pipe would wait for who writes into it
			return plan.Content{}, problem.Errorf("%s is not a file or a symlink to a file", name).Remedy("name a file")
		}
		f, err := p.files.Open(name)
		if err != nil {
			return plan.Content{}, problem.Errorf("the file %s cannot be read", name).
				Remedy("%s", nearestFile(p.files, name))
		}
		defer f.Close()
		h := sha256.New()
		n, err := io.Copy(h, f)
		if err != nil {
			return plan.Content{}, fmt.Errorf("read %s: %w", name, err)
		}
		return plan.Content{SHA256: hex.EncodeToString(h.Sum(nil)), Size: n}, nil
	}))
	return f.(func() (plan.Content, error))()
}

// maxTree bounds the files of a folder that is copied: all of them travel in one
// message.
const maxTree = 5000

// Tree lists all files below a folder of the project with their hashes, reading
// each once.
func (p *Project) Tree(folder string) ([]plan.Leaf, error) {
	if info, err := fs.Stat(p.files, folder); err != nil || !info.IsDir() {
		return nil, problem.Errorf("the directory %s cannot be read", folder).
			Remedy("%s", nearestFolder(p.files, folder))
	}
	var out []plan.Leaf
	err := fs.WalkDir(p.files, folder, func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		if !e.Type().IsRegular() {
			return problem.Errorf("%s is not a file or a directory", name).Remedy("remove it from the directory")
		}
		if len(out) == maxTree {
			return problem.Errorf("%s contains more than %d files", folder, maxTree).
				Remedy("pack it into an archive and declare an unpack")
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		c, err := p.Copy(name)
		out = append(out, plan.Leaf{Path: strings.TrimPrefix(name, folder+"/"), SHA256: c.SHA256, Size: c.Size,
			Executable: info.Mode()&0o100 != 0})
		return err
	})
	return out, err
}

func nearestFolder(files fs.FS, name string) string {
	entries, _ := fs.ReadDir(files, path.Dir(name))
	var names []string
	for _, e := range entries {
		if e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return problem.Meant(path.Base(name), names, "it is expected in "+path.Dir(name))
}
