// Package scratch makes projects for a single call: what admits a host, enrolls it, proves a capture or tries a kind is
// declared like anything else, and done by the same runs.
package scratch

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/host/kinds"
)

// Folder is the folder of such a project, which only its owner can enter.
type Folder struct{ Dir string }

// New makes a folder with these files, by their paths in it. Close takes it away.
func New(name string, files map[string]string) (*Folder, error) {
	dir, err := os.MkdirTemp("", "jadekettle-"+name+"-*")
	if err != nil {
		return nil, err
	}
	f := &Folder{dir}
	if err := f.Write(files); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// OneHost gives the files of a project that declares one manifest for one host.
func OneHost(project, host, address, manifest string) map[string]string {
	at := ""
	if address != "" {
		at = fmt.Sprintf("address = %q\n", address)
	}
	return map[string]string{
		"jadekettle.toml": fmt.Sprintf("project = %q\n", project),
		"hosts.toml": fmt.Sprintf("[host.%q]\n%s[group.scratch]\nmembers = [%q]\nmanifests = [%q]\n", host, at, host,
			manifest),
	}
}

// Close takes the folder away.
func (f *Folder) Close() { os.RemoveAll(f.Dir) }

// Write adds files.
func (f *Folder) Write(files map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(files)) {
		full := filepath.Join(f.Dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(full), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(full, []byte(files[name]), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// Call is one run of such a project over its one host.
type Call struct {
	ID     plan.Run
	Open   func(ctx context.Context, first []byte) (*reach.Session, error) // starts a worker on the host
	Event  func(record.Event)                                              // takes what happens; nil for nobody
	Retire bool                                                            // nothing is declared
}

// Run runs the project. An error is what is wrong with it, or why the host was not gone through.
func (f *Folder) Run(ctx context.Context, c Call) (*record.Host, error) {
	own, err := compile.Load(os.DirFS(f.Dir), kinds.Schemas(), compile.Options{Scratch: true})
	if err != nil {
		return nil, err
	}
	fleet := &run.Fleet{Plans: &resolve.Plans{Project: own}, Parallel: 1, Notify: c.Event,
		Work: run.Work{Retire: c.Retire},
		Open: func(ctx context.Context, _ *inventory.Host, first []byte) (*reach.Session, error) {
			return c.Open(ctx, first)
		}}
	out := fleet.Run(ctx, own.Inventory.Hosts, c.ID)[0]
	switch {
	case out.Wrong != nil:
		return out, out.Wrong
	case out.State != record.Reached:
		return out, problem.Errorf("%s is %s: %s", out.Name, out.State, out.Message).Remedy("%s", out.Do)
	}
	return out, nil
}
