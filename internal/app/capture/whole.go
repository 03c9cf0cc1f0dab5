package capture

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"jadekettle/internal/app"
	"jadekettle/internal/app/scratch"
	"jadekettle/internal/app/secrets"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/fleet/reach"
)

// wholeKinds are the kinds that a server is made of, in the order in which the
// manifest states them. The kernel's settings are reported as the files that set
// them, and so is what else these kinds cannot say.
var wholeKinds = []string{"hostname", "timezone", "locale", "hosts_entry", "repo", "package", "group", "user",
	"sudo_rule", "mount", "swap", "file", "firewall", "cron", "service"}

// Whole is a capture of all that people set up on a host.
type Whole struct {
	Manifest  string // the manifest, in the project
	Kinds     []Count
	Unsaid    []string // what is not said in it, a line each
	Encrypted string   // the file that holds what is secret; empty where nothing is
}

// Count is how many declarations of a kind it has.
type Count struct {
	Kind string
	N    int
}

// whole is one that is being made.
type whole struct {
	project *app.Project
	schemas schema.Kinds
	host    *inventory.Host
	dialer  *reach.Dialer
	name    string // of the manifest
	encrypt bool

	list   []setUp
	unsaid []string // a line each
}

// nameOfManifest is what a manifest's folder can be called here.
var nameOfManifest = lazy.Regexp(`^[A-Za-z0-9][A-Za-z0-9_-]*$`)

// setUp is one declaration of it.
type setUp struct {
	ref     value.Ref
	attrs   value.Attrs
	note    string
	content string // of a file
	files   []string
	secret  bool
}

// All writes a manifest of all that people set up on a host, once a preview
// of it on that host has said that nothing would change. to is its folder. With encrypt, what may hold secrets is
// encrypted in the data of the host.
func All(ctx context.Context, p *app.Project, h *inventory.Host, with app.Passwords, to string,
	encrypt bool) (*Whole, error) {
	name, ok := strings.CutPrefix(filepath.ToSlash(filepath.Clean(to)), manifest.Dir+"/")
	if !ok || !nameOfManifest().MatchString(name) {
		return nil, problem.Errorf("invalid --to %q", to).Remedy("use a directory such as %s/%s", manifest.Dir, h.Name)
	}
	for _, there := range []string{name, name + ".toml"} {
		if _, err := os.Lstat(filepath.Join(p.Root, manifest.Dir, there)); !errors.Is(err, fs.ErrNotExist) {
			return nil, problem.Errorf("%s/%s already exists", manifest.Dir, there).
				Remedy("choose another name with --to")
		}
	}
	d, err := p.Dialer(with)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	w := &whole{project: p, schemas: p.Site.Kinds(), host: h, dialer: d, name: name, encrypt: encrypt}
	if err := w.read(ctx); err != nil {
		return nil, err
	}
	dir, done, err := secrets.Scratch()
	if err != nil {
		return nil, err
	}
	defer done()
	// What would change is taken out, which may make something else stand alone.
	for range 4 {
		if again, err := w.prove(ctx, &scratch.Folder{Dir: dir}); err != nil {
			return nil, err
		} else if !again {
			return w.keep()
		}
	}
	return nil, problem.Errorf("%s keeps changing while it is read", h.Name).
		Remedy("try again when nothing else is changing it")
}

// Some captures things of one kind, or all of it without names, from a host.
func Some(ctx context.Context, p *app.Project, h *inventory.Host, with app.Passwords, kind string,
	names []string) (asked []value.Ref,
	found []plan.Captured, err error) {
	if asked, err = asks(p.Site.Kinds(), kind, names); err != nil {
		return nil, nil, err
	}
	d, err := p.Dialer(with)
	if err != nil {
		return nil, nil, err
	}
	defer d.Close()
	found, err = read(ctx, p, d, h, asked)
	return asked, found, err
}

// asks reads what is to be captured: things of one kind, or all of it.
func asks(schemas schema.Kinds, kind string, names []string) ([]value.Ref, error) {
	k, ok := schemas.Kind(kind)
	if !ok {
		return nil, problem.Errorf("unknown kind %q", kind).
			Meant(kind, schemas.Names(), "available: "+strings.Join(schemas.Names(), ", "))
	}
	if len(names) == 0 && k.TooMany != "" {
		return nil, problem.Errorf("a host has too many resources of the kind %s", kind).
			Remedy("name one, such as %s", k.TooMany)
	}
	if len(names) == 0 {
		return []value.Ref{{Kind: kind}}, nil
	}
	var out []value.Ref
	for _, name := range names {
		ref, err := schemas.ParseRef(kind + " " + name)
		if err != nil {
			return nil, err
		}
		out = append(out, ref)
	}
	return out, nil
}

// read captures from a host.
func read(ctx context.Context, p *app.Project, d *reach.Dialer, h *inventory.Host,
	asked []value.Ref) ([]plan.Captured, error) {
	out := p.Fleet(d, 1).Capture(ctx, h, asked)
	if out.State != record.Reached {
		return nil, problem.Errorf("%s is %s: %s", out.Name, out.State, out.Message).Remedy("%s", out.Do)
	}
	return out.Captured, nil
}

// read captures all kinds, and once more by name what may hold a secret, where it
// is to be encrypted.
func (w *whole) read(ctx context.Context) error {
	var asked []value.Ref
	for _, k := range wholeKinds {
		asked = append(asked, value.Ref{Kind: k})
	}
	list, err := read(ctx, w.project, w.dialer, w.host, asked)
	if err != nil {
		return err
	}
	var guarded []value.Ref
	for _, c := range list {
		if c.Guarded && w.encrypt && c.Ref.Kind == "file" && c.Ref.Name != "" {
			guarded = append(guarded, c.Ref)
			continue
		}
		w.add(asked, c, false)
	}
	if len(guarded) == 0 {
		return nil
	}
	if list, err = read(ctx, w.project, w.dialer, w.host, guarded); err != nil {
		return err
	}
	for _, c := range list {
		w.add(guarded, c, true)
	}
	return nil
}

// add notes one thing that was captured, or why it cannot be said.
func (w *whole) add(asked []value.Ref, c plan.Captured, secret bool) {
	attrs, err := Check(w.schemas, asked, &c)
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
	w.unsaid = append(w.unsaid, visible.Line(strings.TrimSpace(ref.String())+": "+why))
}

// write puts the manifest and the files of it below a folder. With plain, secrets
// stand in it as they are.
func (w *whole) write(dir string, plain bool) error {
	var b strings.Builder
	fmt.Fprintf(&b, "about = %s\n", value.Quote("What was set up by hand on "+w.host.Name))
	for _, line := range w.unsaid {
		fmt.Fprintf(&b, "# not captured: %s\n", line)
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
		k, _ := w.schemas.Kind(f.ref.Kind)
		b.WriteString("\n" + Text(k, Literal(f.ref.Name), attrs, f.note))
	}
	return os.WriteFile(filepath.Join(at, "manifest.toml"), []byte(b.String()), 0o644)
}

// knownByFiles says whether the files that a declaration is about were captured,
// and say the same.
func (w *whole) knownByFiles(ref value.Ref) bool {
	i := slices.IndexFunc(w.list, func(f setUp) bool { return f.ref == ref })
	return i >= 0 && len(w.list[i].files) > 0 && !slices.ContainsFunc(w.list[i].files, func(p string) bool {
		return !slices.ContainsFunc(w.list, func(f setUp) bool { return f.ref == value.Ref{Kind: "file", Name: p} })
	})
}

// said gives what is said by something else as well: a file that declarations of
// other kinds describe all of, or else those that describe a part of it.
func (w *whole) said() map[value.Ref]bool {
	out, parts := map[value.Ref]bool{}, map[string][]value.Ref{}
	for _, f := range w.list {
		for _, p := range f.files {
			out[value.Ref{Kind: "file", Name: p}] = true
		}
		if k, _ := w.schemas.Kind(f.ref.Kind); k.Part != nil && len(f.files) == 0 {
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
func (w *whole) prove(ctx context.Context, work *scratch.Folder) (again bool, err error) {
	if err := os.RemoveAll(filepath.Join(work.Dir, manifest.Dir)); err != nil {
		return false, err
	}
	if err := w.write(work.Dir, true); err != nil {
		return false, err
	}
	if err := work.Write(scratch.OneHost("capture", w.host.Name, "", w.name)); err != nil {
		return false, err
	}
	id, _, err := w.project.NewRun(ctx)
	if err != nil {
		return false, err
	}
	id.Preview, id.Passing = true, true
	out, err := work.Run(ctx, scratch.Call{ID: id, Open: func(ctx context.Context,
		first []byte) (*reach.Session, error) {
		return w.project.Connect(ctx, w.dialer, w.host, first)
	}})
	if err != nil {
		return false, err
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
		if !w.knownByFiles(t.Ref()) {
			w.leave(t.Ref(), "it cannot be declared as it is ("+why+")")
		}
		w.list = slices.DeleteFunc(w.list, func(f setUp) bool { return f.ref == t.Ref() })
	}
	return again, nil
}

// keep writes the manifest into the project, whole or not at all, and encrypts what is
// secret before that.
func (w *whole) keep() (*Whole, error) {
	encrypted, err := w.encryptSecrets()
	if err != nil {
		return nil, err
	}
	at := filepath.Join(w.project.Root, manifest.Dir)
	if err := os.MkdirAll(at, 0o755); err != nil {
		return nil, err
	}
	beside, err := os.MkdirTemp(at, ".jadekettle-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(beside)
	if err := w.write(beside, false); err != nil {
		return nil, err
	}
	if err := os.Rename(filepath.Join(beside, manifest.Dir, w.name), filepath.Join(at, w.name)); err != nil {
		return nil, err
	}
	out := &Whole{Manifest: manifest.Dir + "/" + w.name, Unsaid: w.unsaid, Encrypted: encrypted}
	count, said := map[string]int{}, w.said()
	for _, f := range w.list {
		if !said[f.ref] {
			count[f.ref.Kind]++
		}
	}
	for _, k := range wholeKinds {
		if n := count[k]; n > 0 {
			out.Kinds = append(out.Kinds, Count{k, n})
		}
	}
	return out, nil
}

// encryptSecrets encrypts what may hold secrets, in the host's own layer, and gives that file; empty where there is
// nothing.
func (w *whole) encryptSecrets() (file string, err error) {
	v := w.project.Vault()
	var text []byte
	for _, f := range w.list {
		if !f.secret {
			continue
		}
		if file == "" {
			if file, text, err = v.Open("host/" + w.host.Name); err != nil {
				return "", err
			}
		}
		if text, err = secrets.SetKey(file, text, []string{"captured"}, f.ref.Name, f.content); err != nil {
			return "", err
		}
	}
	if file == "" {
		return "", nil
	}
	return file, v.Write(file, text)
}

// Thing is one thing that a host has reported, held to what was asked.
type Thing struct {
	Ref     value.Ref
	Attrs   value.Attrs
	Note    string
	Text    string // as a manifest declares it
	Guarded bool   // it is only reported when it is asked for by name
	Err     error  // why it cannot be captured
}

// Checked holds what a host reported to what was asked, like what a person writes, since a host may say anything.
func Checked(schemas schema.Kinds, asked []value.Ref, list []plan.Captured) []Thing {
	var out []Thing
	for _, c := range list {
		attrs, err := Check(schemas, asked, &c)
		if c.Problem != "" {
			err = problem.Errorf("%s", c.Problem).Remedy("%s", c.Do)
		}
		t := Thing{Ref: c.Ref, Attrs: attrs, Note: c.Note, Guarded: c.Guarded, Err: err}
		if err == nil {
			kind, _ := schemas.Kind(c.Ref.Kind)
			t.Text = Text(kind, Literal(c.Ref.Name), attrs, c.Note)
		}
		out = append(out, t)
	}
	return out
}
