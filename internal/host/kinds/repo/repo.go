// Package repo is the kind of repositories that packages come from.
package repo

import (
	"context"
	"errors"
	"net/url"
	"path"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages"
	"jadekettle/internal/host/kinds/packages/backend"
)

var about = &schema.Kind{
	Signs: true,
	Name:  "repo",
	Area:  "software",
	About: "A package repository and its signing key.",
	Doc: "For apt, dnf and zypper. The package lists of a new or changed repository are fetched immediately to " +
		"verify its address and key; if that fails, the previous state is restored. All lists are refreshed before " +
		"the next package is installed.",
	Attrs: []schema.Attr{
		{Name: "urls", Type: schema.Text, List: true, Required: true, Doc: "The addresses.",
			Examples: []string{`["https://packages.example.org/debian"]`}},
		{Name: "suites", Type: schema.Text, List: true,
			Doc:      "For apt only: its suites; one that ends in a slash has no components.",
			Examples: []string{`["bookworm"]`, `["./"]`}},
		{Name: "components", Type: schema.Text, List: true, Doc: "For apt only: its components.",
			Examples: []string{`["main"]`}},
		{Name: "architectures", Type: schema.Text, List: true, Default: "those of the host",
			Doc:      "For apt only: its architectures.",
			Examples: []string{`["amd64"]`}},
		{Name: "key", Type: schema.Body, Doc: "The public signing key, as text.",
			Examples: []string{`"${data.repo.key}"`}},
		{Name: "key_file", Type: schema.Copy, Doc: "A file in the manifest's directory with the key.",
			Examples: []string{`"tides.asc"`}},
		{Name: "insecure_without_key", Type: schema.Bool, Default: "false",
			Doc: "Accept unsigned packages.", Examples: []string{"true"}},
	},
	Examples: []schema.Example{
		{About: "An unsigned repository on the host itself", TOML: `[repo.local]
urls = ["file:/srv/repo"]
suites = ["./"]
insecure_without_key = true
`},
		{About: "A repository with its key", TOML: `[repo.tides]
urls = ["https://packages.example.org/debian"]
suites = ["bookworm"]
components = ["main"]
key = """
-----BEGIN PGP PUBLIC KEY BLOCK-----

mDMEZ0AAABYJKwYBBAHaRw8BAQdA
-----END PGP PUBLIC KEY BLOCK-----
"""
`},
	},
	Captures: []string{"urls", "suites", "components", "architectures", "key", "insecure_without_key"},
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) {
			return "", problem.Errorf("invalid repository name %q", name).
				Remedy("use lower-case letters, digits, dashes and underscores")
		}
		return name, nil
	},
	Needs: func(schema.Needer) []value.Ref {
		return []value.Ref{{Kind: "dir", Name: "/etc/apt/keyrings"}, {Kind: "package", Name: "ca-certificates"}}
	},
	Check: check,
}

var nameForm = lazy.Regexp(`^[a-z0-9][a-z0-9_-]{0,60}$`)

func check(_ string, a value.Attrs) (string, error) {
	given := 0
	for _, name := range []string{"key", "key_file", "insecure_without_key"} {
		if a.Has(name) && a[name] != false {
			given++
		}
	}
	switch {
	case a.Bool("absent"):
		return "", nil
	case given == 0:
		return "", problem.Errorf("the signing key is missing").
			Remedy("set key or key_file, or insecure_without_key = true if this is intended")
	case given > 1:
		return "", problem.Errorf("key, key_file and insecure_without_key cannot be combined").
			Remedy("keep one of them")
	case a.Has("urls") && len(a.Texts("urls")) == 0:
		return "urls", problem.Errorf("urls is required").Remedy("add its address")
	}
	for _, u := range a.Texts("urls") {
		p, err := url.Parse(u)
		if err != nil || p.Scheme == "" || strings.Contains(u, " ") || value.HasControl(u) {
			return "urls", problem.Errorf("invalid address %q", u).
				Remedy("use one such as https://packages.example.org/debian")
		}
		if p.User != nil {
			return "urls", problem.Errorf("the address contains a user name, and every user of the host can read it").
				Remedy("store the login where the package manager expects it")
		}
	}
	for _, name := range []string{"suites", "components", "architectures"} {
		for _, word := range a.Texts(name) {
			if word == "" || strings.Contains(word, " ") || value.HasControl(word) {
				return name, problem.Errorf("%q contains white space", word).Remedy("list each separately")
			}
		}
	}
	return "", nil
}

// Kind is the kind of repositories.
func Kind() kind.Kind { return kind.Each(repos{}) }

type repos struct{}

func (repos) Schema() *schema.Kind { return about }

// Stale says that the host knows other packages now.
func (repos) Stale() []kind.Topic { return []kind.Topic{kind.ThePackages} }

type state struct {
	by          backend.Repositories
	source, key backend.File // as declared
	old, oldKey kind.Text    // as they stand
}

// Keeps gives the files that define the repository.
func (repos) Keeps(env *kind.Env, t plan.Task) []string {
	m, err := packages.ManagerOf(env)
	by, ok := m.(backend.Repositories)
	if err != nil || !ok {
		return nil
	}
	source, key := by.SourceFiles(backend.Source{Name: t.Ref.Name})
	return []string{source.Path, key.Path}
}

// maxKey bounds a key, in bytes.
const maxKey = 256 << 10

// Read reads the files that define the repository.
func (repos) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	m, err := packages.ManagerOf(env)
	if err != nil {
		return state{}, err
	}
	by, ok := m.(backend.Repositories)
	if !ok {
		return state{}, problem.Errorf("repositories are not supported for %s", m.Program()).
			Remedy("declare their files instead")
	}
	st := state{by: by}
	s := backend.Source{Name: t.Ref.Name, Signature: kind.Signature(t), URLs: t.Attrs.Texts("urls"),
		Suites:     t.Attrs.Texts("suites"),
		Components: t.Attrs.Texts("components"), Architectures: t.Attrs.Texts("architectures")}
	if !t.Absent && len(s.URLs) > 0 { // without, nothing is declared: a capture looks for itself
		if s.Key, err = keyOf(env, t); err != nil {
			return st, err
		}
		if err := by.CheckSource(s); err != nil {
			return st, err
		}
	}
	st.source, st.key = by.SourceFiles(s)
	if st.old, err = env.ReadOptional(st.source.Path); err != nil {
		return st, err
	}
	st.oldKey, err = env.ReadOptional(st.key.Path)
	return st, err
}

// keyOf fetches the declared key.
func keyOf(env *kind.Env, t plan.Task) (string, error) {
	if t.Content == nil {
		return "", nil
	}
	if t.Content.Size > maxKey {
		return "", problem.Errorf("the key has %d bytes", t.Content.Size).Remedy("use only the public key")
	}
	texts, err := env.Texts([]plan.Content{*t.Content})
	if err != nil {
		return "", err
	}
	key := texts[t.Content.SHA256]
	if !strings.Contains(key, armour) {
		return "", problem.Errorf("the key is not an ASCII-armored public key").
			Remedy("export it with `gpg --armor --export`")
	}
	return strings.TrimSpace(key) + "\n", nil
}

// Compare says what differs.
func (repos) Compare(t plan.Task, st state) []plan.Change {
	if t.Absent {
		if st.old.There || st.oldKey.There {
			return []plan.Change{kind.Existence(true)}
		}
		return nil
	}
	out := st.old.Change(st.source.Text)
	if st.key.Text != st.oldKey.Text {
		c := plan.Change{What: "key", Was: "none", Becomes: "as declared"}
		if st.oldKey.There {
			c.Was = "another"
		}
		if st.key.Text == "" {
			c.Becomes = "none"
		}
		out = append(out, c)
	}
	return out
}

// Write writes the files and fetches the lists; when that fails the files are
// what they were.
func (repos) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	st := w.State
	env.ListsRefreshed = false
	if w.Task.Absent {
		return errors.Join(env.PutText(ctx, w.Task, st.old, ""), env.PutText(ctx, w.Task, st.oldKey, ""))
	}
	for _, f := range []backend.File{st.source, st.key} {
		if f.Text == "" {
			continue
		}
		if err := folder(env, path.Dir(f.Path)); err != nil {
			return err
		}
	}
	if err := env.PutText(ctx, w.Task, st.oldKey, st.key.Text); err != nil {
		return err
	}
	err := env.PutText(ctx, w.Task, st.old, st.source.Text)
	if err == nil {
		err = st.by.TrySource(ctx, env, w.Task.Ref.Name)
	}
	if err == nil {
		return nil
	}
	for _, f := range []kind.Text{st.old, st.oldKey} {
		now, e := env.ReadText(f.Path)
		if e == nil {
			e = env.PutText(ctx, w.Task, now, f.Text)
		}
		if e != nil {
			return errors.Join(err, e)
		}
	}
	return problem.Errorf("its package lists cannot be fetched, so the previous state was restored: %w", err).
		Remedy("check the address, the suites and the key, and that the host can reach it")
}

// Names lists the sources that stand in a file each, as this kind writes them.
func (repos) Names(_ context.Context, env *kind.Env) ([]string, error) {
	m, err := packages.ManagerOf(env)
	if err != nil {
		return nil, err
	}
	by, ok := m.(backend.Repositories)
	if !ok {
		return nil, nil
	}
	folder, suffix := by.Sources()
	list, _ := env.Machine.ReadDir(strings.TrimSuffix(folder, "/"))
	var out []string
	for _, file := range list {
		name, fits := strings.CutSuffix(file, suffix)
		if !fits || !nameForm().MatchString(name) {
			continue
		}
		if st, err := env.ReadText(folder + file); err == nil {
			if _, _, ok := by.ParseSource(name, st.Text); ok {
				out = append(out, name)
			}
		}
	}
	return out, nil
}

// Prior gives the files that define the source.
func (repos) Prior(_ context.Context, env *kind.Env, _ plan.Task, st state) ([]plan.Prior, error) {
	return env.PriorAt(st.old.Path, st.oldKey.Path)
}

// Capture declares a source that is in a file of its own.
func (repos) Capture(_ context.Context, env *kind.Env, t plan.Task, st state) (plan.Captured, error) {
	if !st.old.There {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	s, keyFile, ok := st.by.ParseSource(t.Ref.Name, st.old.Text)
	if !ok {
		return plan.Captured{}, problem.Errorf("%s has more settings than this kind supports", st.old.Path).
			Remedy("capture the file")
	}
	c := plan.Captured{Attrs: map[string]any{"urls": list(s.URLs)}, Files: []string{st.old.Path}}
	for name, words := range map[string][]string{"suites": s.Suites, "components": s.Components,
		"architectures": s.Architectures} {
		if len(words) > 0 {
			c.Attrs[name] = list(words)
		}
	}
	if keyFile == "" {
		c.Attrs["insecure_without_key"] = true
	} else {
		key, err := env.ReadText(keyFile)
		if err != nil {
			return c, err
		}
		if !strings.Contains(key.Text, armour) {
			return c, problem.Errorf("its key %s is not ASCII-armored", keyFile).Remedy("capture the files")
		}
		s.Key, c.Attrs["key"], c.Files = key.Text, key.Text, append(c.Files, keyFile)
	}
	if source, key := st.by.SourceFiles(s); source.Text != st.old.Text || key.Path != keyFile && keyFile != "" {
		c.Note = "an apply rewrites its file, and moves its key to a separate file"
	}
	return c, nil
}

func list(words []string) []any {
	var out []any
	for _, w := range words {
		out = append(out, w)
	}
	return out
}

const armour = "-----BEGIN PGP PUBLIC KEY BLOCK-----"

// folder makes the folder of sources or of keys, which not every system has.
func folder(env *kind.Env, p string) error {
	d, name, err := env.Split(p)
	if errors.Is(err, kind.ErrNotYet) {
		if err = folder(env, path.Dir(p)); err == nil {
			d, name, err = env.Split(p)
		}
	}
	if err != nil {
		return err
	}
	defer d.Close()
	if _, err := d.Lstat(name); err == nil {
		return nil
	}
	return d.Mkdir(name, 0o755, -1, -1)
}
