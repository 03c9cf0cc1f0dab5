package unpack

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/machine"
)

// member is one thing in an archive. Its name is below the folder that it is
// unpacked in, clean, and leads nowhere else.
type member struct {
	Name string
	Type fs.FileMode // 0, fs.ModeDir or fs.ModeSymlink
	Mode uint32      // permission bits that an archive may give
	Link string      // of a symbolic link
	Same string      // of a hard link: the member that it is another name of
	Time time.Time
}

// maxMembers bounds an archive.
const maxMembers = 1_000_000

// allowed are the bits of a mode that an archive may give: what others can write
// and what gives rights away is not its to say.
const allowed = 0o755

// magic are the bytes by which compressions and zip are known.
var magic = []struct {
	bytes string
	open  func(io.Reader) (io.Reader, error)
}{
	{"\x1f\x8b", func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) }},
	{"\x28\xb5\x2f\xfd", func(r io.Reader) (io.Reader, error) {
		return zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	}},
	{"\xfd7zXZ\x00", func(r io.Reader) (io.Reader, error) { return xz.NewReader(r) }},
	{"BZh", func(r io.Reader) (io.Reader, error) { return bzip2.NewReader(r), nil }},
}

// each gives every member of an archive, and the content of files, as they come.
// What it is packed with is seen from its first bytes, not by its name.
func each(f machine.File, size int64, without int64, take func(member, io.Reader) error) error {
	head := make([]byte, 8)
	n, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	head = head[:n]
	w := &walk{without: without, take: take, links: map[string]bool{}}
	if bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06")) {
		return w.zip(f, size)
	}
	var r io.Reader = bufio.NewReaderSize(io.NewSectionReader(f, 0, size), 1<<18)
	for _, m := range magic {
		if bytes.HasPrefix(head, []byte(m.bytes)) {
			if r, err = m.open(r); err != nil {
				return broken(err)
			}
			if z, ok := r.(*zstd.Decoder); ok {
				defer z.Close()
			}
			break
		}
	}
	return w.tar(r)
}

func broken(err error) error {
	return problem.Errorf("the archive cannot be read: %w", err).
		Remedy("use a complete zip or tar archive; tar may be compressed with gzip, xz, zstd or bzip2")
}

// walk holds what was seen of an archive so far.
type walk struct {
	without int64 // folders at the front of each name that are skipped
	take    func(member, io.Reader) error
	links   map[string]bool // symbolic links: nothing may lie below one
	count   int
}

func (w *walk) tar(r io.Reader) error {
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			if w.count == 0 {
				return broken(errors.New("it is empty"))
			}
			return nil
		}
		if err != nil {
			return broken(err)
		}
		m := member{Name: h.Name, Mode: uint32(h.Mode) & allowed, Time: h.ModTime}
		switch h.Typeflag {
		case tar.TypeReg:
		case tar.TypeDir:
			m.Type = fs.ModeDir
		case tar.TypeSymlink:
			m.Type, m.Link = fs.ModeSymlink, h.Linkname
		case tar.TypeLink:
			m.Same = h.Linkname
		case tar.TypeXGlobalHeader:
			continue
		default:
			return problem.Errorf("the archive contains %s, which is not a file, directory or link", h.Name).
				Remedy("remove it from the archive; devices and other special files are not unpacked")
		}
		if err := w.one(m, t); err != nil {
			return err
		}
	}
}

func (w *walk) zip(f io.ReaderAt, size int64) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return broken(err)
	}
	for _, e := range z.File {
		m := member{Name: e.Name, Type: e.Mode().Type(), Mode: uint32(e.Mode().Perm()) & allowed, Time: e.Modified}
		if m.Mode == 0 { // packed where there are no modes
			m.Mode = 0o644
		}
		if m.Type&^(fs.ModeDir|fs.ModeSymlink) != 0 {
			return problem.Errorf("the archive contains %s, which is not a file, directory or link", e.Name).
				Remedy("remove it from the archive; devices and other special files are not unpacked")
		}
		r, err := e.Open()
		if err != nil {
			return broken(err)
		}
		if m.Type == fs.ModeSymlink {
			to, err := io.ReadAll(io.LimitReader(r, 4096))
			if err != nil {
				r.Close()
				return broken(err)
			}
			m.Link = string(to)
		}
		err = w.one(m, r)
		r.Close()
		if err != nil {
			return err
		}
	}
	if w.count == 0 {
		return broken(errors.New("it is empty"))
	}
	return nil
}

// one checks where a member would come to lie, and passes it on.
func (w *walk) one(m member, r io.Reader) error {
	w.count++
	if w.count > maxMembers {
		return problem.Errorf("the archive contains more than %d entries", maxMembers).Remedy("split it")
	}
	shown := m.Name
	name, err := w.inside(m.Name)
	if err != nil || name == "" {
		return err
	}
	m.Name = name
	for up := name; up != "."; up = path.Dir(up) {
		if w.links[up] {
			return outside(shown, "it would be written through the link "+up)
		}
	}
	if m.Type == fs.ModeDir {
		m.Mode |= 0o700
	} else {
		m.Mode |= 0o400
	}
	switch {
	case m.Same != "":
		if m.Same, err = w.inside(m.Same); err != nil {
			return err
		}
		if m.Same == "" || w.links[m.Same] {
			return outside(shown, "it is a hard link to something that is not unpacked as a file")
		}
	case m.Type == fs.ModeSymlink:
		if m.Link == "" || path.IsAbs(m.Link) || !fs.ValidPath(path.Join(path.Dir(name), m.Link)) {
			return outside(shown, fmt.Sprintf("it is a link to %q", m.Link))
		}
		w.links[name] = true
	}
	return w.take(m, content{r})
}

// content is what a member holds: where it cannot be read, the archive is broken.
type content struct{ from io.Reader }

func (c content) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		err = broken(err)
	}
	return n, err
}

// inside gives a member's name without the folders that are skipped; "" for
// what is nothing but those.
func (w *walk) inside(name string) (string, error) {
	clean := path.Clean(strings.TrimSuffix(name, "/"))
	if strings.ContainsAny(name, "\x00\\") || path.IsAbs(name) || !fs.ValidPath(clean) {
		return "", outside(name, "its name points elsewhere")
	}
	for range w.without {
		_, rest, more := strings.Cut(clean, "/")
		if !more {
			return "", nil
		}
		clean = rest
	}
	if clean == "." {
		return "", nil
	}
	return clean, nil
}

func outside(name, why string) error {
	return problem.Errorf("%q in the archive would be written outside the directory: %s", name, why).
		Remedy("do not trust this archive; nothing was unpacked")
}
