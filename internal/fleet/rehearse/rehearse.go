// Package rehearse applies a project to simulated hosts inside this program,
// twice, and holds what comes out to what a rehearsal file expects. Nothing is
// contacted and no real program is started.
package rehearse

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/plan"
	coreprobe "jadekettle/internal/core/probe"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/probe"
	"jadekettle/internal/host/machine/folder"
	"jadekettle/internal/host/worker"
)

// Dir is the project's folder of rehearsals.
const Dir = "rehearsal"

// Case is one thing that was held to what is expected.
type Case struct {
	File    string        `json:"rehearsal" doc:"The rehearsal's file."` // empty for the conditions of the project
	Host    string        `json:"host" doc:"The host of the rehearsal."`
	Name    string        `json:"case" doc:"What was expected."`
	Failure string        `json:"failure" doc:"What happened instead; empty if it passed."`
	Place   value.Place   `json:"place" doc:"Where it is written."`
	Took    time.Duration `json:"-"`
}

// Rehearsal is one file, read.
type Rehearsal struct {
	File      string
	About     string
	Env       string
	Hosts     []Part
	Encrypted map[string]map[string]any // values in the place of encrypted files, by layer
}

// Part is one simulated host and what is expected of it.
type Part struct {
	Name   string
	Place  value.Place
	Spec   folder.Spec
	Expect Expect
}

// Expect is what must be so after the first run. What is not said is not looked at.
type Expect struct {
	Place    value.Place
	Changed  []string // declarations, kind name
	Right    []string // unchanged in the first run already
	Skipped  []string
	Failed   []string // these fail, and nothing else
	Absent   []string // not declared on this host
	Packages []string // installed, name or name=version
	Running  []string // services
	Stopped  []string
	Users    []string
	Groups   []string
	Files    map[string]string // what a file must hold, as a part of it
	Missing  []string          // paths that must not be there
}

// Stage is what a rehearsal runs on.
type Stage struct {
	Project  fs.FS
	Kinds    schema.Kinds
	Options  compile.Options
	Folder   string // where the simulated hosts lie; made and removed by the caller
	Parallel int
}

// Run plays the rehearsals and gives every case. The error says what is wrong
// with the project itself.
func Run(ctx context.Context, s Stage, list []Rehearsal) ([]Case, error) {
	var out []Case
	outcomes := map[value.Place]*advice.Outcome{}
	var order []value.Place
	for i, r := range list {
		cases, asked, err := s.play(ctx, r, filepath.Join(s.Folder, fmt.Sprint(i)))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", r.File, err)
		}
		out = append(out, cases...)
		for _, o := range asked {
			have := outcomes[o.Place]
			if have == nil {
				outcomes[o.Place] = &o
				order = append(order, o.Place)
				continue
			}
			have.True, have.False = have.True || o.True, have.False || o.False
		}
	}
	for _, at := range order {
		out = append(out, condition(*outcomes[at]))
	}
	return out, nil
}

// condition holds a condition to having been both true and false.
func condition(o advice.Outcome) Case {
	c := Case{Name: "if " + o.Text, Place: o.Place}
	var never string
	switch {
	case o.Meant != "" || o.True && o.False:
		return c
	case o.True:
		never = "false"
	case o.False:
		never = "true"
	default:
		never = "asked"
	}
	c.Failure = fmt.Sprintf("it was never %s; add a host for which it is to a rehearsal, or write above it: # "+
		"jadekettle allow %s: reason", never, advice.OneSided)
	return c
}

// play applies the project twice to the hosts of one rehearsal.
func (s Stage) play(ctx context.Context, r Rehearsal, dir string) ([]Case, []advice.Outcome, error) {
	o := s.Options
	if r.Env != "" {
		o.Env = r.Env
	}
	o.Open = r.open(o.Open)
	p, err := compile.Load(s.Project, s.Kinds, o)
	if err != nil {
		return nil, nil, err
	}
	machines, hosts, err := r.build(p, dir)
	if err != nil {
		return nil, nil, err
	}
	plans := &resolve.Plans{Project: p}
	fleet := &run.Fleet{Plans: plans, Parallel: max(1, s.Parallel), Ask: askHost(machines),
		Open: func(_ context.Context, h *inventory.Host,
			first []byte) (*reach.Session, error) {
			m := machines[h.Name]
			return reach.InProcess(first, func(in io.Reader, out io.Writer) error {
				return worker.Serve(ctx, m, in,
					out, 0)
			}), nil
		}}
	if p.Reads("fleet") {
		known := map[string]*facts.Facts{}
		for _, h := range fleet.Facts(ctx, hosts) {
			known[h.Name] = h.Facts
		}
		plans.Fleet = resolve.Snapshot(p, func(name string) (*facts.Facts, int64, bool) {
			return known[name], 0, known[name] != nil
		})
	}
	tally := &advice.Tally{}
	plans.Asked = tally.Asked
	id := plan.Run{Project: p.Settings.Project, Env: p.Settings.Env, Who: "rehearsal",
		ListAge: p.Settings.PackageListAge}
	id.ID = "first"
	first := fleet.Run(ctx, hosts, id)
	if ctx.Err() != nil {
		return nil, nil, ctx.Err()
	}
	var out []Case
	for i, h := range first {
		e := r.Hosts[i]
		out = append(out, r.firstRun(e, h))
		out = append(out, r.expectations(e, h, machines[h.Name])...)
	}
	id.ID = "second"
	for i, h := range fleet.Run(ctx, hosts, id) {
		out = append(out, r.secondRun(r.Hosts[i], h))
	}
	return out, tally.Outcomes(p), ctx.Err()
}

// askHost asks a probe of the controller's from the simulated host itself: a rehearsal contacts
// nothing, and what answers is simulated in the host.
func askHost(machines map[string]*folder.Machine) func(context.Context, *inventory.Host, value.Attrs) error {
	return func(ctx context.Context, h *inventory.Host, a value.Attrs) error {
		a = maps.Clone(a)
		delete(a, coreprobe.AskedFrom)
		return probe.Kind().Read(ctx, &kind.Env{Machine: machines[h.Name]}, []plan.Task{{Attrs: a}})[0].Err
	}
}

// open gives the rehearsal's own values in the place of an encrypted file. One for
// which it has none is opened for its keys only: no real secret comes into a
// simulated host, whose files lie on a disk and are shown.
func (r Rehearsal) open(real func(string, []byte) ([]byte, error)) func(string, []byte) ([]byte, error) {
	return func(name string, encrypted []byte) ([]byte, error) {
		layer, _ := layers.LayerOf(name)
		if values, ok := r.Encrypted[layer]; ok {
			return encode(values)
		}
		if real == nil {
			return nil, problem.Errorf("this file is encrypted").
				Remedy("set its values in the rehearsal: [encrypted.%q]", layer)
		}
		text, err := real(name, encrypted)
		if err != nil {
			return nil, problem.From(err).Remedy("set made-up values in the rehearsal: [encrypted.%q]", layer)
		}
		var ps problem.Problems
		root, _ := manifest.ParseTOML(name, text, &ps)
		if ps.Err() != nil {
			return nil, problem.Errorf("the decrypted text is not valid").
				Remedy("fix it with `jadekettle secret edit`")
		}
		return encode(madeUp("", root.Plain()).(map[string]any))
	}
}

// madeUp puts the name of each value in its place.
func madeUp(name string, v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, item := range v {
			out[k] = madeUp(k, item)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, item := range v {
			out[i] = madeUp(fmt.Sprintf("%s %d", name, i+1), item)
		}
		return out
	}
	return "made-up " + name
}

// build makes the simulated hosts. They are those of the inventory, whether
// these are off or not.
func (r Rehearsal) build(p *compile.Project, dir string) (map[string]*folder.Machine, []*inventory.Host, error) {
	machines := map[string]*folder.Machine{}
	var hosts []*inventory.Host
	var ps problem.Problems
	for _, e := range r.Hosts {
		h, ok := p.Inventory.Host(e.Name)
		if !ok {
			ps.At(e.Place, fmt.Sprintf("the rehearsal has the host %q, which is not in the inventory", e.Name),
				problem.Meant(e.Name, p.Inventory.HostNames(), "use a host from the inventory"))
			continue
		}
		on := *h
		on.Disabled = ""
		spec := e.Spec
		spec.Name, spec.Lenient = e.Name, true
		if spec.Address == "" && strings.Count(h.Address(), ".") == 3 {
			spec.Address = h.Address()
		}
		root := filepath.Join(dir, e.Name)
		if err := os.MkdirAll(root, 0o755); err != nil {
			return nil, nil, err
		}
		m, err := folder.New(root, spec)
		if err != nil {
			return nil, nil, err
		}
		machines[e.Name] = m
		hosts = append(hosts, &on)
	}
	return machines, hosts, ps.Err()
}

func (r Rehearsal) firstRun(e Part, h *record.Host) Case {
	c := Case{File: r.File, Host: h.Name, Name: "the first run", Place: e.Place, Took: record.Length(h.Seconds)}
	c.Failure = strings.Join(wrong(e, h), "\n")
	return c
}

// wrong lists what did not go well in a run, besides what is expected to fail.
func wrong(e Part, h *record.Host) []string {
	var bad []string
	switch {
	case h.Wrong != nil:
		bad = append(bad, h.Wrong.Error())
	case h.State != record.Reached:
		bad = append(bad, h.Message)
	}
	for _, t := range h.Tasks {
		if t.Status == plan.Failed && !slices.Contains(e.Expect.Failed, t.Ref().String()) {
			bad = append(bad, fmt.Sprintf("%s failed: %s", t.Ref(), t.Message))
		}
	}
	return bad
}

func (r Rehearsal) secondRun(e Part, h *record.Host) Case {
	c := Case{File: r.File, Host: h.Name, Name: "the second run changes nothing", Place: e.Place,
		Took: record.Length(h.Seconds)}
	bad := wrong(e, h)
	for _, t := range h.Tasks {
		if t.Status != plan.Changed {
			continue
		}
		what := t.Ref().String() + " changed again"
		for _, ch := range t.Changes {
			what += fmt.Sprintf("; %s: was %s, became %s", ch.What, ch.Was, ch.Becomes)
		}
		bad = append(bad, what)
	}
	c.Failure = strings.Join(bad, "\n")
	return c
}

// expectations holds a host to its file's [host.NAME.expect].
func (r Rehearsal) expectations(e Part, h *record.Host, m *folder.Machine) []Case {
	var out []Case
	add := func(name, failure string) {
		out = append(out, Case{File: r.File, Host: h.Name, Name: name, Failure: failure, Place: e.Expect.Place})
	}
	status := map[string]plan.Status{}
	for _, t := range h.Tasks {
		status[t.Ref().String()] = t.Status
	}
	for _, want := range []struct {
		list   []string
		status plan.Status
	}{{e.Expect.Changed, plan.Changed}, {e.Expect.Right, plan.Unchanged}, {e.Expect.Skipped, plan.Skipped},
		{e.Expect.Failed, plan.Failed}, {e.Expect.Absent, ""}} {
		for _, ref := range want.list {
			name, failure := fmt.Sprintf("%s is %s", ref, want.status), ""
			if want.status == "" {
				name = ref + " is not declared"
			}
			if got := status[ref]; got != want.status {
				if failure = "it is " + string(got); got == "" {
					failure = "it is not declared on this host; " +
						problem.Meant(ref, value.Keys(status), "nothing with that name is")
				}
			}
			add(name, failure)
		}
	}
	for _, p := range e.Expect.Packages {
		name, version, exact := strings.Cut(p, "=")
		failure := ""
		switch got := m.Installed(name); {
		case got == "":
			failure = "it is not installed"
		case exact && got != version:
			failure = "the version is " + got
		}
		add("package "+p+" is installed", failure)
	}
	for _, list := range []struct {
		names []string
		run   bool
	}{{e.Expect.Running, true}, {e.Expect.Stopped, false}} {
		for _, name := range list.names {
			unit := name
			if !strings.Contains(unit, ".") {
				unit += ".service"
			}
			running, _ := m.Unit(unit)
			is := map[bool]string{true: "running", false: "stopped"}
			add("service "+name+" is "+is[list.run], says(running != list.run, "it is "+is[running]))
		}
	}
	for _, name := range e.Expect.Users {
		add("user "+name+" exists", says(!m.HasAccount("passwd", name), "it does not exist"))
	}
	for _, name := range e.Expect.Groups {
		add("group "+name+" exists", says(!m.HasAccount("group", name), "it does not exist"))
	}
	for _, name := range value.Keys(e.Expect.Files) {
		text, err := os.ReadFile(filepath.Join(m.Root, filepath.FromSlash(name)))
		want := e.Expect.Files[name]
		failure := ""
		switch {
		case errors.Is(err, fs.ErrNotExist):
			failure = "the file does not exist"
		case err != nil:
			failure = err.Error()
		case !strings.Contains(string(text), want):
			failure = "it contains:\n" + string(text)
		}
		add(fmt.Sprintf("file %s contains %q", name, want), failure)
	}
	for _, name := range e.Expect.Missing {
		_, err := os.Lstat(filepath.Join(m.Root, filepath.FromSlash(name)))
		add(name+" does not exist", says(err == nil, "it exists"))
	}
	return out
}

func says(bad bool, what string) string {
	if bad {
		return what
	}
	return ""
}
