package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	captured "jadekettle/internal/app/capture"
	sealed "jadekettle/internal/app/secrets"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/host/kinds"
	screen "jadekettle/internal/present/text"
)

// wholeKinds are the kinds that a server is made of, in the order in which the
// manifest tells of them. The kernel's settings are told as the files that say
// them, and so is what else these kinds cannot say.
var wholeKinds = []string{"hostname", "timezone", "locale", "hosts_entry", "repo", "package", "group", "user",
	"sudo_rule", "mount", "swap", "file", "firewall", "cron", "service"}

// whole is a capture of all that people set up on a host.
type whole struct {
	app     *App
	project *project
	host    *inventory.Host
	dialer  *reach.Dialer
	name    string // of the manifest
	seal    bool

	list   []setUp
	unsaid []string // a line each
}

// nameOfManifest is what a manifest's folder can be called here.
var nameOfManifest = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]*$`)

// setUp is one declaration of it.
type setUp struct {
	ref     value.Ref
	attrs   value.Attrs
	note    string
	content string // of a file
	files   []string
	secret  bool
}

// captureAll writes a manifest of all that people set up on a host, once a preview
// of it on that host has said that nothing would change.
func (a *App) captureAll(ctx context.Context, p *project, to string, seal bool) error {
	name, ok := strings.CutPrefix(filepath.ToSlash(filepath.Clean(to)), manifest.Dir+"/")
	if !ok || !nameOfManifest.MatchString(name) {
		return problem.Errorf("--to is %q", to).Remedy("name a folder such as %s/%s", manifest.Dir, p.hosts[0].Name)
	}
	for _, there := range []string{name, name + ".toml"} {
		if _, err := os.Lstat(filepath.Join(p.dir, manifest.Dir, there)); !errors.Is(err, fs.ErrNotExist) {
			return problem.Errorf("%s/%s is there already", manifest.Dir, there).Remedy("give another name with --to")
		}
	}
	d, err := a.dialer(p)
	if err != nil {
		return err
	}
	defer d.Close()
	w := &whole{app: a, project: p, host: p.hosts[0], dialer: d, name: name, seal: seal}
	if err := w.read(ctx); err != nil {
		return err
	}
	scratch, done, err := sealed.Scratch()
	if err != nil {
		return err
	}
	defer done()
	// What would change is taken out, which may make something else stand alone.
	for range 4 {
		if again, err := w.prove(ctx, scratch); err != nil {
			return err
		} else if !again {
			return w.keep()
		}
	}
	return problem.Errorf("what was read of %s keeps changing", w.host.Name).
		Remedy("try again when nobody is at work there")
}

// ask captures from the host.
func (w *whole) ask(ctx context.Context, asked []value.Ref) ([]plan.Captured, error) {
	fleet, err := w.app.fleet(w.project, 1)
	if err != nil {
		return nil, err
	}
	fleet.Chosen = nil
	out := fleet.Capture(ctx, w.host, asked)
	if out.State != record.Reached {
		return nil, problem.Errorf("%s is %s: %s", out.Name, out.State, out.Message).Remedy("%s", out.Do)
	}
	return out.Captured, nil
}

// read captures all kinds, and once more by name what may hold a secret, where it
// is to be sealed.
func (w *whole) read(ctx context.Context) error {
	var asked []value.Ref
	for _, k := range wholeKinds {
		asked = append(asked, value.Ref{Kind: k})
	}
	list, err := w.ask(ctx, asked)
	if err != nil {
		return err
	}
	var guarded []value.Ref
	for _, c := range list {
		if c.Guarded && w.seal && c.Ref.Kind == "file" && c.Ref.Name != "" {
			guarded = append(guarded, c.Ref)
			continue
		}
		w.take(asked, c, false)
	}
	if len(guarded) == 0 {
		return nil
	}
	if list, err = w.ask(ctx, guarded); err != nil {
		return err
	}
	for _, c := range list {
		w.take(guarded, c, true)
	}
	return nil
}

// take notes one thing that was captured, or why it cannot be said.
func (w *whole) take(asked []value.Ref, c plan.Captured, secret bool) {
	schemas := w.app.kinds()
	attrs, err := captured.Check(schemas, asked, &c)
	content, _ := c.Attrs["content"].(string)
	switch _, text := c.Attrs["content"]; {
	case c.Problem != "":
		err = errors.New(c.Problem)
	case c.Ref.Kind != "file" || err != nil || text || attrs["absent"] != nil:
	case len(c.Bytes) > 0 && !secret:
		content = string(c.Bytes)
	default:
		err = errors.New(c.Note)
	}
	if err != nil {
		w.leave(c.Ref, problem.From(err).What)
		return
	}
	delete(attrs, "content")
	w.list = append(w.list, setUp{c.Ref, attrs, c.Note, content, c.Files, secret})
}

func (w *whole) leave(ref value.Ref, why string) {
	w.unsaid = append(w.unsaid, screen.Line(strings.TrimSpace(ref.String())+": "+why))
}

// write puts the manifest and the files of it below a folder. With plain, secrets
// stand in it as they are.
func (w *whole) write(dir string, plain bool) error {
	schemas := w.app.kinds()
	var b strings.Builder
	fmt.Fprintf(&b, "about = %s\n", value.Quote("What people set up on "+w.host.Name))
	for _, line := range w.unsaid {
		fmt.Fprintf(&b, "# not said: %s\n", line)
	}
	at := filepath.Join(dir, manifest.Dir, w.name)
	if err := os.MkdirAll(at, 0o755); err != nil {
		return err
	}
	said := w.said()
	for _, f := range w.list {
		if said[f.ref] {
			continue
		}
		attrs := value.Attrs{}
		for k, v := range f.attrs {
			attrs[k] = v
		}
		if f.ref.Kind == "file" && attrs["absent"] == nil {
			inside := path.Join("files", f.ref.Name)
			switch {
			case f.secret && !plain:
				attrs["content"] = fmt.Sprintf("${data.captured[%s]}", value.Quote(f.ref.Name))
			default:
				attrs["copy"] = strings.ReplaceAll(inside, "${", "$${")
				full := filepath.Join(at, filepath.FromSlash(inside))
				if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
					return err
				}
				mode := fs.FileMode(0o644)
				if plain {
					mode = 0o600
				}
				if err := os.WriteFile(full, []byte(f.content), mode); err != nil {
					return err
				}
			}
		}
		k, _ := schemas.Kind(f.ref.Kind)
		b.WriteString("\n" + captured.Text(k, captured.Literal(f.ref.Name), attrs, f.note))
	}
	return os.WriteFile(filepath.Join(at, "manifest.toml"), []byte(b.String()), 0o644)
}

// toldByFiles says whether the files that a declaration is about were captured,
// and say the same.
func (w *whole) toldByFiles(ref value.Ref) bool {
	i := slices.IndexFunc(w.list, func(f setUp) bool { return f.ref == ref })
	return i >= 0 && len(w.list[i].files) > 0 && !slices.ContainsFunc(w.list[i].files, func(p string) bool {
		return !slices.ContainsFunc(w.list, func(f setUp) bool { return f.ref == value.Ref{Kind: "file", Name: p} })
	})
}

// said gives what is said by something else as well: a file that declarations of
// other kinds tell all of, or else those that tell a part of it.
func (w *whole) said() map[value.Ref]bool {
	out, parts := map[value.Ref]bool{}, map[string][]value.Ref{}
	schemas := w.app.kinds()
	for _, f := range w.list {
		for _, p := range f.files {
			out[value.Ref{Kind: "file", Name: p}] = true
		}
		if k, _ := schemas.Kind(f.ref.Kind); k.Part != nil && len(f.files) == 0 {
			parts[k.Part(f.ref.Name)] = append(parts[k.Part(f.ref.Name)], f.ref)
		}
	}
	for _, f := range w.list {
		refs := parts[f.ref.Name]
		switch {
		case f.ref.Kind != "file" || len(refs) == 0:
		case len(refs) < entries(f.content):
			for _, ref := range refs {
				out[ref] = true
			}
		default:
			out[f.ref] = true
		}
	}
	return out
}

// entries counts the lines that are neither empty nor comments.
func entries(text string) (n int) {
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			n++
		}
	}
	return n
}

// prove previews what was captured on the host that it is of, and takes out what
// would not be unchanged. again says that something was.
func (w *whole) prove(ctx context.Context, scratch string) (again bool, err error) {
	if err := os.RemoveAll(filepath.Join(scratch, manifest.Dir)); err != nil {
		return false, err
	}
	if err := w.write(scratch, true); err != nil {
		return false, err
	}
	for name, text := range map[string]string{
		"jadekettle.toml": "project = \"capture\"\n",
		"hosts.toml": fmt.Sprintf("[host.%q]\n[group.captured]\nmembers = [%q]\nmanifests = [%q]\n", w.host.Name,
			w.host.Name, w.name),
	} {
		if err := os.WriteFile(filepath.Join(scratch, name), []byte(text), 0o600); err != nil {
			return false, err
		}
	}
	own, err := compile.Load(os.DirFS(scratch), kinds.Schemas(), compile.Options{})
	if err != nil {
		return false, err
	}
	hosts, err := own.Inventory.Select([]string{w.host.Name}, nil)
	if err != nil {
		return false, err
	}
	id, _, err := w.app.newRun(ctx, w.project, true)
	if err != nil {
		return false, err
	}
	id.Passing = true
	fleet := &run.Fleet{Plans: &resolve.Plans{Project: own}, Parallel: 1,
		Open: func(ctx context.Context, _ *inventory.Host, first []byte) (*reach.Session, error) {
			return w.app.connect(ctx, w.project, w.dialer, w.host, first)
		}}
	out := fleet.Run(ctx, hosts, id)[0]
	switch {
	case out.Wrong != nil:
		return false, out.Wrong
	case out.State != record.Reached:
		return false, problem.Errorf("%s is %s: %s", out.Name, out.State, out.Message).Remedy("%s", out.Do)
	}
	for _, t := range out.Tasks {
		if t.Status == plan.Unchanged {
			continue
		}
		why := t.Message
		if len(t.Changes) > 0 {
			c := t.Changes[0]
			why = strings.TrimSpace(c.What + " " + c.Was)
		}
		again = true
		if !w.toldByFiles(t.Ref()) {
			w.leave(t.Ref(), "it cannot be declared as it is ("+why+")")
		}
		w.list = slices.DeleteFunc(w.list, func(f setUp) bool { return f.ref == t.Ref() })
	}
	return again, nil
}

// keep writes the manifest into the project, whole or not at all, and seals what is
// secret before that.
func (w *whole) keep() error {
	if err := w.sealSecrets(); err != nil {
		return err
	}
	at := filepath.Join(w.project.dir, manifest.Dir)
	if err := os.MkdirAll(at, 0o755); err != nil {
		return err
	}
	beside, err := os.MkdirTemp(at, ".jadekettle-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(beside)
	if err := w.write(beside, false); err != nil {
		return err
	}
	if err := os.Rename(filepath.Join(beside, manifest.Dir, w.name), filepath.Join(at, w.name)); err != nil {
		return err
	}
	count, said := map[string]int{}, w.said()
	for _, f := range w.list {
		if !said[f.ref] {
			count[f.ref.Kind]++
		}
	}
	var kinds []string
	for _, k := range wholeKinds {
		if n := count[k]; n > 0 {
			kinds = append(kinds, fmt.Sprintf("%d %s", n, k))
		}
	}
	fmt.Fprintf(w.app.Out, "%s  is in %s/%s: %s\n", w.host.Name, manifest.Dir, w.name, strings.Join(kinds, ", "))
	fmt.Fprintln(w.app.Out, "a preview of it on that host changes nothing")
	if len(w.unsaid) > 0 {
		fmt.Fprintf(w.app.Out, "\nnot said in it:\n  %s\n", strings.Join(w.unsaid, "\n  "))
	}
	return nil
}

// sealSecrets seals what may hold secrets, in the host's own layer.
func (w *whole) sealSecrets() error {
	layer := "host/" + w.host.Name
	var v *sealedData
	var file string
	var text []byte
	for _, f := range w.list {
		if !f.secret {
			continue
		}
		var err error
		if v == nil {
			if v, file, text, err = w.app.sealed(layer); err != nil {
				return err
			}
		}
		if text, err = manifest.SetKey(file, text, []string{"captured"}, f.ref.Name, manifest.QuoteKey(f.ref.Name)+" = "+
			value.Quote(f.content)); err != nil {
			return err
		}
	}
	if v == nil {
		return nil
	}
	if err := v.write(file, text); err != nil {
		return err
	}
	fmt.Fprintf(w.app.Out, "sealed what only its owner may read, below data.captured in %s\n", file)
	return nil
}
