// Package review keeps a preview as a file that people can read, compare and agree to,
// and that an apply can be held to. It is TOML, and holds no secret.
package review

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
)

// Format is the number of the file's form.
const Format = 2

// Preview is what such a file holds.
type Preview struct {
	Format   int                `toml:"format"`
	Project  string             `toml:"project" comment:"the identity of the project, and its environment"`
	Env      string             `toml:"env"`
	Revision string             `toml:"revision" comment:"the commit of the project; edited: files have changed since"`
	Edited   bool               `toml:"edited"`
	Made     time.Time          `toml:"made"`
	By       string             `toml:"by"`
	Params   []string           `toml:"param,omitempty" comment:"params given with --param; never secret"`
	Part     *resolve.Selection `toml:"part,omitempty" comment:"the selected tasks"`
	Hosts    []Host             `toml:"host"`
}

// Host is what a preview showed of one host.
type Host struct {
	Name    string   `toml:"name"`
	Would   []Task   `toml:"task"`
	Right   []string `toml:"unchanged,multiline"`
	Skipped []string `toml:"skipped,multiline"`
}

// Task is one task that would change, or cannot be done.
type Task struct {
	Declared string `toml:"declared"` // kind and name
	Status   string `toml:"status"`
	Message  string `toml:"message,omitempty"`
	// Digest means all that is declared, also what is secret or not shown whole; the host alone
	// can make it.
	Digest  string   `toml:"digest"`
	Changes []Change `toml:"change"`
}

// Change is one difference.
type Change struct {
	What    string `toml:"what"`
	Was     string `toml:"was"`
	Becomes string `toml:"becomes"`
	Diff    string `toml:"diff,multiline,omitempty"`
}

// wouldChange is the status of a change in a preview.
const wouldChange = "would change"

// New makes the file of a preview.
func New(r *record.Run, project string, part resolve.Selection, revision string, edited bool, made time.Time) *Preview {
	p := &Preview{Format: Format, Project: project, Env: r.Env, Revision: revision, Edited: edited,
		Made: made.UTC().Truncate(time.Second), By: r.Who + "@" + r.Machine, Hosts: []Host{}}
	if !part.All() {
		p.Part = &part
	}
	foreseen := run.Foresee(r.Hosts)
	for _, name := range value.Keys(foreseen) {
		h := Host{Name: name, Would: []Task{}, Right: []string{}, Skipped: []string{}}
		for _, t := range foreseen[name] {
			switch t.Status {
			case plan.Unchanged:
				h.Right = append(h.Right, t.Ref().String())
			case plan.Skipped:
				h.Skipped = append(h.Skipped, t.Ref().String())
			default:
				h.Would = append(h.Would, task(t))
			}
		}
		p.Hosts = append(p.Hosts, h)
	}
	return p
}

func task(t record.Task) Task {
	out := Task{Declared: t.Ref().String(), Status: string(t.Status), Message: t.Message,
		Digest: hex.EncodeToString(t.Digest), Changes: []Change{}}
	if t.Status == plan.Changed {
		out.Status = wouldChange
	}
	for _, c := range t.Changes {
		out.Changes = append(out.Changes, Change{c.What, c.Was, c.Becomes, c.Diff})
	}
	return out
}

const head = `# What an apply would change on these hosts, for review. Written by
# jadekettle preview --save; jadekettle apply --reviewed does exactly this, and
# refuses hosts that have changed in the meantime.

`

// Bytes gives the file.
func (p *Preview) Bytes() ([]byte, error) {
	var b bytes.Buffer
	b.WriteString(head)
	e := toml.NewEncoder(&b)
	e.SetIndentTables(false)
	err := e.Encode(p)
	return b.Bytes(), err
}

// Read reads such a file; name is for messages.
func Read(name string, data []byte) (*Preview, error) {
	var p Preview
	d := toml.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&p); err != nil {
		return nil, wrong(name, err)
	}
	switch {
	case p.Format == 0:
		return nil, problem.Errorf("%s is not a saved preview: it has no format", name).
			Remedy("create one with `jadekettle preview --save`")
	case p.Format != Format:
		return nil, problem.Errorf("%s has format %d", name, p.Format).
			Remedy("this version supports %d: preview again", Format)
	case len(p.Hosts) == 0:
		return nil, problem.Errorf("%s contains no host", name).Remedy("preview again, with hosts that can be reached")
	}
	return &p, nil
}

// wrong gives an error of the library its place.
func wrong(name string, err error) error {
	var de *toml.DecodeError
	var strict *toml.StrictMissingError
	what, at := err.Error(), value.Place{File: name}
	switch {
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		de = &strict.Errors[0]
		what = "unknown key " + strings.Join(de.Key(), ".")
	case errors.As(err, &de):
		what = strings.TrimPrefix(de.Error(), "toml: ")
	}
	if de != nil {
		at.Line, at.Col = de.Position()
	}
	var ps problem.Problems
	ps.At(at, what, "do not edit a saved preview: preview again")
	return ps.Err()
}

// Selection gives the part that the preview is about.
func (p *Preview) Selection() resolve.Selection {
	if p.Part == nil {
		return resolve.Selection{}
	}
	return *p.Part
}

// Foreseen gives what an apply is held to.
func (p *Preview) Foreseen(parse func(string) (value.Ref, bool)) (run.Foreseen, error) {
	out := run.Foreseen{}
	for _, h := range p.Hosts {
		list := []record.Task{}
		add := func(ref string, r plan.Result) error {
			var ok bool
			if r.Ref, ok = parse(ref); !ok {
				return problem.Errorf("%s: %q is not a kind and a name", h.Name, ref).
					Remedy("do not edit a saved preview: preview again")
			}
			list = append(list, record.NewTask(r))
			return nil
		}
		for _, t := range h.Would {
			r := plan.Result{Status: plan.Status(t.Status)}
			var err error
			if r.Digest, err = hex.DecodeString(t.Digest); err != nil || len(r.Digest) != sha256.Size {
				return nil, problem.Errorf("%s: %s has no valid digest", h.Name, t.Declared).
					Remedy("do not edit a saved preview: preview again")
			}
			if t.Status == wouldChange {
				r.Status = plan.Changed
			}
			for _, c := range t.Changes {
				r.Changes = append(r.Changes, plan.Change{What: c.What, Was: c.Was, Becomes: c.Becomes, Diff: c.Diff})
			}
			if err := add(t.Declared, r); err != nil {
				return nil, err
			}
		}
		for ref, s := range statuses(h) {
			if err := add(ref, plan.Result{Status: s}); err != nil {
				return nil, err
			}
		}
		out[h.Name] = list
	}
	return out, nil
}

func statuses(h Host) map[string]plan.Status {
	out := map[string]plan.Status{}
	for _, ref := range h.Right {
		out[ref] = plan.Unchanged
	}
	for _, ref := range h.Skipped {
		out[ref] = plan.Skipped
	}
	return out
}

// Names lists the hosts that the preview is about.
func (p *Preview) Names() []string {
	var out []string
	for _, h := range p.Hosts {
		out = append(out, h.Name)
	}
	slices.Sort(out)
	return out
}

// Said names the state of the project that the preview is of.
func (p *Preview) Said() string {
	at := cmp.Or(p.Revision, "no revision")
	if p.Edited {
		at += ", with local edits"
	}
	return fmt.Sprintf("made %s by %s at %s", p.Made.Local().Format("2006-01-02 15:04 MST"), p.By, at)
}
