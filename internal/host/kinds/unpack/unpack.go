// Package unpack is the kind of archives that are unpacked on a host.
package unpack

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/fetch"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name: "unpack",
	Area: "files",
	Tools: []schema.Tool{fetch.Tool(func(a value.Attrs) bool { return schema.Remote(a.Text("from")) }, "archive",
		"contents")},
	About: "An archive to unpack into a directory.",
	Doc: "The name is the directory, which is created if it does not exist. The archive is zip, or tar, " +
		"optionally compressed with gzip, xz, zstd or bzip2; the format is detected from its content. It is " +
		"unpacked to a temporary directory first: an archive that is broken, does not fit, or would write anywhere " +
		"else changes nothing. The unpacked files are remembered: if one is modified or removed, the archive is " +
		"unpacked again, and files that a newer archive no longer contains are removed. Other files in the " +
		"directory are left alone.",
	Attrs: append([]schema.Attr{
		{Name: "from", Type: schema.Origin, Required: true,
			Doc: "The archive: a file in the manifest's directory, a URL, or a path on the host.",
			Examples: []string{`"viewer.tar.gz"`, `"https://charts.example.org/viewer-2.1.tar.xz"`,
				`"/srv/parcels/viewer.zip"`}},
		{Name: "strip_components", Type: schema.Int, Default: "0",
			Doc:      "The number of leading path components to remove from every name in the archive.",
			Examples: []string{"1"}},
		{Name: "done_if_exists", Type: schema.Path, Doc: "A path that exists if there is nothing to do.",
			Examples: []string{`"/opt/viewer/bin/viewer"`}},
		{Name: "owner", Type: schema.Name, Default: "the login user (root when elevated)",
			Doc: "The owner of all unpacked files.", Examples: []string{`"root"`}},
		{Name: "group", Type: schema.Name, Default: "the login user's (root's when elevated)",
			Doc: "The group of all unpacked files.", Examples: []string{`"adm"`}},
	}, fetch.Attrs...),
	Examples: []schema.Example{
		{About: "An archive from a web server", TOML: `[unpack."/opt/viewer"]
from = "https://charts.example.org/viewer-2.1.tar"
sha256 = "119c084898227d30c6855f4350c207e14aba40c8709f6d0bc679056a08f73cbd"
strip_components = 1
`},
		{About: "An archive next to the manifest", TOML: `[unpack."/srv/plots"]
from = "plots.zip"
owner = "root"
`, Files: map[string]string{"plots.zip": tinyZip}},
	},
	Canon: schema.CleanPath,
	Needs: func(n schema.Needer) []value.Ref {
		out := append(kind.OwnerNeeds(n), value.Ref{Kind: "dir", Name: n.Ref.Name})
		switch from := n.Attrs.Text("from"); {
		case schema.Remote(from):
			out = append(out, value.Ref{Kind: "package", Name: "curl"}, value.Ref{Kind: "package", Name: "wget"},
				value.Ref{Kind: "package", Name: "ca-certificates"})
		case !schema.Beside(from):
			out = append(out, value.Ref{Kind: "file", Name: from}, value.Ref{Kind: "download", Name: from})
		}
		return out
	},
	Check: func(name string, a value.Attrs) (string, error) {
		if n, _ := a.Int("strip_components"); n < 0 || n > 50 {
			return "strip_components", problem.Errorf("invalid value %d", n).Remedy("use a number from 0 to 50")
		}
		if name == "/" {
			return "", problem.Errorf("an archive cannot be unpacked over the whole system").
				Remedy("use a directory below it")
		}
		from := a.Text("from")
		return fetch.Check(a, from == "" || schema.Remote(from)) // which it may be where it is not known yet
	},
}

// tinyZip is an archive with one small file in it, for the example.
const tinyZip = "PK\x03\x04\x14\x00\x00\x00\x00\x00\x00\x00!\x5c\x5cF{=\x07\x00\x00\x00\x07\x00\x00\x00\x08\x00\x00" +
	"\x00week.svg<svg/>\nPK\x01\x02\x14\x03\x14\x00\x00\x00\x00\x00\x00\x00!\x5c\x5cF{=\x07\x00\x00\x00" +
	"\x07\x00\x00\x00\x08\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\xa4\x81\x00\x00\x00\x00week.svgPK" +
	"\x05\x06\x00\x00\x00\x00\x01\x00\x01\x006\x00\x00\x00-\x00\x00\x00\x00\x00"

// Kind is the kind of unpacked archives.
func Kind() kind.Kind { return kind.Each(archives{}) }

type archives struct{}

func (archives) Schema() *schema.Kind { return about }

// record is what is remembered of an archive that was unpacked.
type record struct {
	Source  string  `json:"source"`
	Members []piece `json:"members"`
}

// piece is one thing that was unpacked, as it was once it lay in its place.
type piece struct {
	Name string      `json:"name"`
	Type fs.FileMode `json:"type,omitempty"`
	Mode uint32      `json:"mode,omitempty"`
	UID  int         `json:"uid"`
	GID  int         `json:"gid"`
	Size int64       `json:"size,omitempty"`
	Time time.Time   `json:"time,omitzero"`
	Link string      `json:"link,omitempty"`
}

type state struct {
	skipped bool // done_if_exists says so
	source  string
	old     record
	known   bool
	wrong   []string // what is not as it was unpacked
}

func memory(t plan.Task) string {
	sum := sha256.Sum256([]byte(t.Ref.Name))
	return "unpacked-" + hex.EncodeToString(sum[:12]) + ".json"
}

// Read compares what was unpacked with what is there.
func (archives) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	err := env.Store.Recall(memory(t), &st.old)
	st.known = err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return st, fmt.Errorf("read its record: %w", err)
	}
	if t.Absent {
		return st, nil
	}
	if p := t.Attrs.Text("done_if_exists"); p != "" {
		if st.skipped, err = env.Exists(p); st.skipped || err != nil {
			return st, err
		}
	}
	var notYet error
	if _, _, notYet = env.IDs(t); notYet != nil && !errors.Is(notYet, kind.ErrNotYet) {
		return st, notYet
	}
	if st.source, err = source(env, t); err != nil {
		return st, err
	}
	if st.known {
		st.wrong, err = damage(env, t, st.old.Members)
	}
	return st, errors.Join(err, notYet)
}

// source distinguishes archives: what they hold, and how they are unpacked.
func source(env *kind.Env, t plan.Task) (string, error) {
	from := t.Attrs.Text("from")
	sum := "address " + from
	switch {
	case t.Content != nil:
		sum = t.Content.SHA256
	case t.Attrs.Text("sha256") != "":
		sum = t.Attrs.Text("sha256")
	case !schema.Remote(from):
		d, name, err := env.Split(from)
		if err != nil {
			return "", err
		}
		defer d.Close()
		sum, err = fetch.Sum(d, name)
		if errors.Is(err, fs.ErrNotExist) {
			return "", kind.NotYet(problem.Errorf("the archive %s does not exist", from).
				Remedy("declare what provides it before this"))
		}
		if err != nil {
			return "", err
		}
	}
	without, _ := t.Attrs.Int("strip_components")
	return fmt.Sprintf("%s, %d components removed, owner %s:%s", sum, without, t.Attrs.Text("owner"),
		t.Attrs.Text("group")), nil
}

// damage names what is not any more as it was unpacked.
func damage(env *kind.Env, t plan.Task, list []piece) ([]string, error) {
	var out []string
	for _, p := range list {
		now, err := look(env, path.Join(t.Ref.Name, p.Name))
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, kind.ErrNotYet) &&
			!errors.Is(err, machine.ErrLink) {
			return nil, err
		}
		now.Name = p.Name
		same := now.Time.Equal(p.Time)
		now.Time, p.Time = time.Time{}, time.Time{}
		if err != nil || !same || now != p {
			out = append(out, p.Name)
		}
	}
	return out, nil
}

// look reads what is remembered of one thing.
func look(env *kind.Env, at string) (piece, error) {
	d, name, err := env.Split(at)
	if err != nil {
		return piece{}, err
	}
	defer d.Close()
	return pieceOf(d, name)
}

func pieceOf(d machine.Dir, name string) (piece, error) {
	info, err := d.Lstat(name)
	if err != nil {
		return piece{}, err
	}
	p := piece{Type: info.Type, Mode: info.Mode, UID: info.UID, GID: info.GID}
	switch {
	case info.Type.IsRegular():
		p.Size, p.Time = info.Size, info.Time
	case info.Type == fs.ModeSymlink:
		p.Mode = 0
		p.Link, err = d.Readlink(name)
	}
	return p, err
}

// Compare says what differs.
func (archives) Compare(t plan.Task, st state) []plan.Change {
	switch {
	case t.Absent && st.known:
		return []plan.Change{{What: "existence", Was: fmt.Sprintf("%d entries unpacked", len(st.old.Members)),
			Becomes: "absent"}}
	case t.Absent, st.skipped:
		return nil
	case !st.known:
		return []plan.Change{{What: "archive", Was: "not unpacked", Becomes: "unpacked from " + t.Attrs.Text("from")}}
	case st.old.Source != st.source:
		return []plan.Change{{What: "archive", Was: "another one", Becomes: "unpacked from " + t.Attrs.Text("from")}}
	case len(st.wrong) > 0:
		return []plan.Change{{What: "contents", Was: "modified since: " + kind.Some(st.wrong),
			Becomes: "as in the archive"}}
	}
	return nil
}

// Write unpacks the archive beside the folder and then moves what it holds into
// its place.
func (archives) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	t := w.Task
	if t.Absent {
		return takeAway(env, t, w.State.old.Members, nil)
	}
	at, mine, err := archive(ctx, env, t)
	if err != nil {
		return err
	}
	job := &job{env: env, task: t, old: w.State.old.Members}
	if err := job.do(at); err != nil {
		return err
	}
	if mine {
		fetch.Drop(env, at)
	}
	return env.Store.Remember(memory(t), record{Source: w.State.source, Members: job.pieces})
}

// archive gives the path of the archive on the host; mine says that it is only
// there for this.
func archive(ctx context.Context, env *kind.Env, t plan.Task) (at string, mine bool, err error) {
	from := t.Attrs.Text("from")
	switch {
	case t.Content != nil:
		at, err = fetch.Kept(env, *t.Content)
		return at, true, err
	case schema.Remote(from):
		at, err = fetch.File(ctx, env, t, from)
		return at, true, err
	}
	return from, false, nil
}
