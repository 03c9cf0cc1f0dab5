// Package download is the kind of files that a host fetches by HTTP.
package download

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/fetch"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "download",
	Area:  "files",
	Tools: []schema.Tool{fetch.Tool(nil, "existence", "content")},
	Space: schema.Paths,
	About: "A file that the host downloads from a web server.",
	Doc: "The host uses curl, wget or apt's helper. The file is put in place only once it is complete and its " +
		"SHA-256 matches; interrupted downloads resume. An existing file with this SHA-256 is not downloaded " +
		"again. Without a SHA-256, an existing file is never downloaded again.",
	Attrs: append(append([]schema.Attr{
		{Name: "url", Type: schema.Text, Required: true, Doc: "The HTTP or HTTPS address.",
			Examples: []string{`"https://charts.example.org/coast.pdf"`}},
	}, fetch.Attrs...), kind.OwnerAttrs...),
	Examples: []schema.Example{
		{About: "A file with a known checksum", TOML: `[download."/srv/tide-tables.txt"]
url = "https://charts.example.org/tide-tables.txt"
sha256 = "f589fa43fe9f5ff9ccbe84df2ccd0b4e6e4a5b73db017a1b1b5e70d964fff686"
owner = "root"
mode = "0644"
`},
		{About: "A file that changes often, downloaded once without a checksum", TOML: `[download."/srv/coast.svg"]
url = "https://charts.example.org/coast.svg"
insecure_without_checksum = true
owner = "root"
mode = "0644"
`},
	},
	Canon: schema.FilePath,
	Needs: func(n schema.Needer) []value.Ref {
		return append(kind.OwnerNeeds(n), value.Ref{Kind: "package", Name: "curl"},
			value.Ref{Kind: "package", Name: "wget"},
			value.Ref{Kind: "package", Name: "ca-certificates"})
	},
	Check: func(_ string, a value.Attrs) (string, error) {
		if u := a.Text("url"); u != "" {
			if err := schema.CheckAddress(u); err != nil {
				return "url", err
			}
		}
		return fetch.Check(a, true)
	},
}

// Kind is the kind of downloads.
func Kind() kind.Kind { return kind.Each(downloads{}) }

type downloads struct{}

func (downloads) Schema() *schema.Kind { return about }

type state struct {
	there bool
	right bool // it has the declared checksum, or none is declared
	own   kind.Ownership
}

// Read looks at the file.
func (downloads) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	var noOwner error // the rest is read all the same, for a preview
	if !t.Absent {
		_, _, noOwner = env.IDs(t)
	}
	d, name, err := env.Split(t.Ref.Name)
	if errors.Is(err, kind.ErrNotYet) && t.Absent {
		return st, nil
	}
	if err != nil {
		return st, err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return st, noOwner
	case err != nil:
		return st, err
	case !info.Type.IsRegular() && !t.Absent:
		return st, problem.Errorf("%s exists but is not a regular file", t.Ref.Name).Remedy("move it away by hand")
	}
	st.there = true
	if t.Absent {
		return st, nil
	}
	if st.own, err = env.OwnershipOf(d, info); err != nil {
		return st, err
	}
	want := t.Attrs.Text("sha256")
	if st.right = want == ""; !st.right {
		sum, err := fetch.Sum(d, name)
		if err != nil {
			return st, err
		}
		st.right = sum == want
	}
	err = st.own.Refused(env, t, !st.right)
	switch {
	case err != nil:
	case !st.right:
		err = env.Rewritten(d, name, t.Ref.Name, &st.own, "")
	case len(st.own.Compare(t, false)) > 0:
		err = env.ReadExtras(d, name, &st.own)
	}
	return st, cmp.Or(err, noOwner)
}

// Compare says what differs.
func (downloads) Compare(t plan.Task, st state) []plan.Change {
	switch {
	case t.Absent && st.there:
		return []plan.Change{kind.Existence(true)}
	case t.Absent:
		return nil
	case !st.there:
		return kind.Made(t, "url", "owner", "group", "mode")
	}
	var out []plan.Change
	if !st.right {
		out = append(out, plan.Change{What: "content", Was: "another", Becomes: "that of " + t.Attrs.Text("url")})
	}
	return append(out, st.own.Compare(t, !st.right)...)
}

// Write fetches the file and puts it in place.
func (downloads) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	d, name, err := env.Split(w.Task.Ref.Name)
	if err != nil {
		return err
	}
	defer d.Close()
	switch {
	case w.Task.Absent:
		if err := d.Remove(name); err != nil {
			return err
		}
		return d.Sync()
	case w.State.there && w.State.right:
		return env.Own(d, name, w.Task, w.State.own)
	}
	got, err := fetch.File(ctx, env, w.Task, w.Task.Attrs.Text("url"))
	if err != nil {
		return err
	}
	var current *kind.Ownership
	if w.State.there {
		current = &w.State.own
	}
	mode, uid, gid, err := env.Target(w.Task, current, 0o644)
	if err != nil {
		return err
	}
	err = env.Place(ctx, kind.Placement{Task: w.Task, Dir: d, Name: name, At: w.Task.Ref.Name, Mode: mode, UID: uid,
		GID: gid, Over: current, Fill: func(f machine.File) error { return copyOf(env, f, got) }})
	if err == nil {
		fetch.Drop(env, got)
	}
	return err
}

// Prior gives the file.
func (downloads) Prior(_ context.Context, env *kind.Env, t plan.Task, _ state) ([]plan.Prior, error) {
	return env.PriorAt(t.Ref.Name)
}

func copyOf(env *kind.Env, to io.Writer, p string) error {
	d, name, err := env.Split(p)
	if err != nil {
		return err
	}
	defer d.Close()
	f, err := d.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(to, f)
	return err
}
