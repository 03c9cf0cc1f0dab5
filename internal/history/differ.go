// Package history finds things out about runs that are over: where the time went, what differs between two, and how
// hosts are by all that their runs have reported. It keeps none of them; package store does.
package history

import (
	"fmt"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

// Differences is what differs between two runs.
type Differences struct {
	A     record.Head `json:"a" doc:"The first run."`
	B     record.Head `json:"b" doc:"The second run."`
	Hosts []HostDiff  `json:"hosts" doc:"The hosts with a different result, or in only one of the runs."`
	Tasks []TaskDiff  `json:"tasks" doc:"The tasks with a different result, on hosts in both runs."`
	Files []FileDiff  `json:"files" doc:"The project files that differ."`
	Facts []FactDiff  `json:"facts" doc:"The facts that differ, for hosts in both runs."`
	Times []TimeDiff  `json:"times" doc:"The tasks that took much longer or shorter, largest difference first."`
}

// HostDiff is a host that fared otherwise.
type HostDiff struct {
	Host string         `json:"host" doc:"The host."`
	A    record.Outcome `json:"a" doc:"Its result in the first run; empty if not in it."`
	B    record.Outcome `json:"b" doc:"Its result in the second run."`
}

// TaskDiff is a task that ended otherwise.
type TaskDiff struct {
	Host    string `json:"host" doc:"The host."`
	Kind    string `json:"kind" doc:"The task's kind."`
	Name    string `json:"name" doc:"Its name."`
	A       string `json:"a" doc:"Its result in the first run; empty if not in it."`
	B       string `json:"b" doc:"Its result in the second run."`
	Message string `json:"message" doc:"Why it failed, in the later of the two runs in which it did."`
}

// FileDiff is a file of the project that differs.
type FileDiff struct {
	Path string `json:"path" doc:"The file."`
	How  string `json:"how" doc:"new, gone or differs."`
	Diff string `json:"diff" doc:"A unified diff; empty for files that are not text or not kept."`
}

// FactDiff is a fact that differs.
type FactDiff struct {
	Host string `json:"host" doc:"The host."`
	Fact string `json:"fact" doc:"The fact, without the leading facts."`
	A    string `json:"a" doc:"Its value in the first run."`
	B    string `json:"b" doc:"Its value in the second run."`
}

// TimeDiff is a task that took much longer, or shorter.
type TimeDiff struct {
	Host string  `json:"host" doc:"The host."`
	Kind string  `json:"kind" doc:"The task's kind."`
	Name string  `json:"name" doc:"Its name."`
	A    float64 `json:"a" doc:"Its duration in the first run, in seconds."`
	B    float64 `json:"b" doc:"Its duration in the second run."`
}

// Side is one of two runs that are compared.
type Side struct {
	*record.Run
	Files []File
	Text  func(path string) ([]byte, error)
	Facts func(host string) (*facts.Facts, error)
}

// Differ finds what differs between two runs.
func Differ(a, b Side) (*Differences, error) {
	out := &Differences{A: a.Head, B: b.Head, Hosts: []HostDiff{}, Tasks: []TaskDiff{}, Files: []FileDiff{},
		Facts: []FactDiff{},
		Times: []TimeDiff{}}
	before := map[string]*record.Host{}
	for _, h := range a.Hosts {
		before[h.Name] = h
	}
	for _, h := range b.Hosts {
		was := before[h.Name]
		if was == nil {
			out.Hosts = append(out.Hosts, HostDiff{Host: h.Name, B: h.Outcome})
			continue
		}
		delete(before, h.Name)
		if was.Outcome != h.Outcome {
			out.Hosts = append(out.Hosts, HostDiff{h.Name, was.Outcome, h.Outcome})
		}
		out.tasks(was, h)
		if err := out.facts(a, b, h.Name); err != nil {
			return nil, err
		}
	}
	for _, h := range a.Hosts {
		if before[h.Name] != nil {
			out.Hosts = append(out.Hosts, HostDiff{Host: h.Name, A: h.Outcome})
		}
	}
	slices.SortStableFunc(out.Times, func(x, y TimeDiff) int { return -compareAbs(x.B-x.A, y.B-y.A) })
	return out, out.files(a, b)
}

func compareAbs(x, y float64) int {
	x, y = max(x, -x), max(y, -y)
	switch {
	case x < y:
		return -1
	case x > y:
		return 1
	}
	return 0
}

// tasks compares those of a host. A length counts as another where it is another second and
// half as much again.
func (d *Differences) tasks(a, b *record.Host) {
	was := map[value.Ref]*record.Task{}
	for i, t := range a.Tasks {
		was[t.Ref()] = &a.Tasks[i]
	}
	for _, t := range b.Tasks {
		before := was[t.Ref()]
		if before == nil {
			d.Tasks = append(d.Tasks, TaskDiff{b.Name, t.Kind, t.Name, "", string(t.Status), t.Message})
			continue
		}
		delete(was, t.Ref())
		if before.Status != t.Status {
			message := t.Message
			if message == "" {
				message = before.Message
			}
			d.Tasks = append(d.Tasks, TaskDiff{b.Name, t.Kind, t.Name, string(before.Status),
				string(t.Status), message})
		}
		if low, high := min(before.Seconds, t.Seconds), max(before.Seconds, t.Seconds); high-low >= 1 &&
			high >= 1.5*low {
			d.Times = append(d.Times, TimeDiff{b.Name, t.Kind, t.Name, before.Seconds, t.Seconds})
		}
	}
	for _, t := range a.Tasks {
		if was[t.Ref()] != nil {
			d.Tasks = append(d.Tasks, TaskDiff{a.Name, t.Kind, t.Name, string(t.Status), "", t.Message})
		}
	}
}

func (d *Differences) facts(a, b Side, host string) error {
	fa, err := a.Facts(host)
	if err != nil {
		return err
	}
	fb, err := b.Facts(host)
	if err != nil || fa == nil || fb == nil {
		return err
	}
	la, lb := FlatFacts(fa), FlatFacts(fb)
	for _, name := range value.Keys(union(la, lb)) {
		if la[name] != lb[name] && !strings.HasSuffix(name, ".free") { // which is never the same
			d.Facts = append(d.Facts, FactDiff{host, name, la[name], lb[name]})
		}
	}
	return nil
}

func union(a, b map[string]string) map[string]string {
	out := map[string]string{}
	for k := range a {
		out[k] = ""
	}
	for k := range b {
		out[k] = ""
	}
	return out
}

// FlatFacts gives facts as lines: each by its path, with a list by its places.
func FlatFacts(f *facts.Facts) map[string]string {
	out := map[string]string{}
	flatten("", f.Tree(), out)
	return out
}

func flatten(at string, v any, out map[string]string) {
	below := func(name string) string { return strings.TrimPrefix(at+"."+name, ".") }
	switch v := v.(type) {
	case map[string]any:
		for name, one := range v {
			flatten(below(name), one, out)
		}
	case []any:
		for i, one := range v {
			flatten(fmt.Sprintf("%s[%d]", at, i), one, out)
		}
	case nil:
	default:
		out[at] = fmt.Sprint(v)
	}
}

func (d *Differences) files(a, b Side) error {
	was := map[string]File{}
	for _, f := range a.Files {
		was[f.Path] = f
	}
	for _, f := range b.Files {
		before, there := was[f.Path]
		delete(was, f.Path)
		if there && before.Sum == f.Sum && before.Size == f.Size {
			continue
		}
		one := FileDiff{Path: f.Path, How: "differs"}
		if !there {
			one.How = "new"
		}
		var err error
		if one.Diff, err = textDiff(a, b, f.Path, there, true); err != nil {
			return err
		}
		d.Files = append(d.Files, one)
	}
	for _, f := range a.Files {
		if _, gone := was[f.Path]; gone {
			d.Files = append(d.Files, FileDiff{Path: f.Path, How: "gone"})
		}
	}
	return nil
}

// maxDiff bounds the texts of which a diff is made, in bytes.
const maxDiff = 256 << 10

func textDiff(a, b Side, path string, inA, inB bool) (string, error) {
	var texts [2]string
	for i, side := range []Side{a, b} {
		if i == 0 && !inA || i == 1 && !inB {
			continue
		}
		text, err := side.Text(path)
		if err != nil {
			return "", err
		}
		texts[i] = string(text)
	}
	if len(texts[0])+len(texts[1]) > maxDiff || strings.ContainsRune(texts[0]+texts[1], 0) {
		return "", nil
	}
	return udiff.Unified(path+" in run "+fmt.Sprint(a.Number), path+" in run "+fmt.Sprint(b.Number), texts[0],
		texts[1]), nil
}
