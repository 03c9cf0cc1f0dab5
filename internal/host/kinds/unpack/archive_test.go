package unpack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/machine"
)

// opened is an archive at hand.
type opened struct {
	machine.File
	data *bytes.Reader
}

func (o opened) Read(p []byte) (int, error)             { return o.data.Read(p) }
func (o opened) ReadAt(p []byte, at int64) (int, error) { return o.data.ReadAt(p, at) }

func tarOf(headers ...tar.Header) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		text := "text of " + h.Name
		if h.Typeflag == tar.TypeReg {
			h.Size = int64(len(text))
		}
		w.WriteHeader(&h)
		if h.Typeflag == tar.TypeReg {
			io.WriteString(w, text)
		}
	}
	w.Close()
	return b.Bytes()
}

// members lists what an archive gives, or the error.
func members(data []byte, without int64) string {
	var out []string
	err := each(opened{data: bytes.NewReader(data)}, int64(len(data)), without, func(m member, r io.Reader) error {
		text, err := io.ReadAll(r)
		what := fmt.Sprintf("%s %s%o", m.Name, strings.Trim(m.Type.String(), "-"), m.Mode)
		if m.Link+m.Same != "" {
			what += " -> " + m.Link + m.Same
		}
		if m.Type == 0 && m.Same == "" && len(text) == 0 {
			what += " empty"
		}
		out = append(out, what)
		return err
	})
	if err != nil {
		return "error: " + problem.From(err).What
	}
	return strings.Join(out, "; ")
}

func TestMembers(t *testing.T) {
	file := func(name string) tar.Header { return tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o6777} }
	dir := func(name string) tar.Header { return tar.Header{Typeflag: tar.TypeDir, Name: name, Mode: 0o777} }
	link := func(name, to string) tar.Header {
		return tar.Header{Typeflag: tar.TypeSymlink, Name: name, Linkname: to}
	}
	hard := func(name, to string) tar.Header { return tar.Header{Typeflag: tar.TypeLink, Name: name, Linkname: to} }
	for _, c := range []struct {
		data    []byte
		without int64
		want    string
	}{
		{tarOf(dir("v/"), file("v/bin/x"), link("v/y", "bin/x"), hard("v/z", "v/bin/x")), 0,
			"v d755; v/bin/x 755; v/y L400 -> bin/x; v/z 400 -> v/bin/x"},
		{tarOf(dir("./"), file("./v/bin/x"), file("./v/y")), 1, "bin/x 755; y 755"},
		{tarOf(file("v/x")), 5, ""},
		{tarOf(file("../etc/passwd")), 0,
			`error: "../etc/passwd" in the archive would be written outside the directory: ` +
				"its name points elsewhere"},
		{tarOf(file("a/../../x")), 0, `error: "a/../../x" in the archive would be written outside the directory: ` +
			"its name points elsewhere"},
		{tarOf(file("/etc/passwd")), 0, `error: "/etc/passwd" in the archive would be written outside the directory: ` +
			"its name points elsewhere"},
		{tarOf(link("a", "/etc")), 0,
			`error: "a" in the archive would be written outside the directory: it is a link to "/etc"`},
		{tarOf(link("v/a", "../../x")), 0, `error: "v/a" in the archive would be written outside the directory: ` +
			`it is a link to "../../x"`},
		{tarOf(link("v/a", "../x")), 1, `error: "v/a" in the archive would be written outside the directory: ` +
			`it is a link to "../x"`},
		{tarOf(link("a", "b"), file("a/x")), 0, `error: "a/x" in the archive would be written outside the directory: ` +
			"it would be written through the link a"},
		{tarOf(link("a", "b"), hard("c", "a")), 0,
			`error: "c" in the archive would be written outside the directory: ` +
				"it is a hard link to something that is not unpacked as a file"},
		{tarOf(hard("c", "../../etc/shadow")), 0, `error: "../../etc/shadow" in the archive would be written outside ` +
			"the directory: its name points elsewhere"},
		{tarOf(tar.Header{Typeflag: tar.TypeBlock, Name: "sda"}), 0,
			"error: the archive contains sda, which is not a file, directory or link"},
		{tarOf(file("x"))[:515], 0, "error: the archive cannot be read: unexpected EOF"},
		{[]byte("no archive at all, but some text that is long enough"), 0, "error: the archive cannot be read: " +
			"unexpected EOF"},
		{nil, 0, "error: the archive cannot be read: it is empty"},
		{[]byte(tinyZip), 0, "week.svg 644"},
	} {
		if got := members(c.data, c.without); got != c.want {
			t.Errorf("got  %s\nwant %s", got, c.want)
		}
	}
}

func TestCompressions(t *testing.T) {
	plain := tarOf(tar.Header{Typeflag: tar.TypeReg, Name: "x", Mode: 0o640})
	for name, open := range map[string]func(io.Writer) (io.WriteCloser, error){
		"gzip": func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil },
		"zstd": func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) },
		"xz":   func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) },
	} {
		var b bytes.Buffer
		w, err := open(&b)
		if err != nil {
			t.Fatal(err)
		}
		w.Write(plain)
		w.Close()
		if got := members(b.Bytes(), 0); got != "x 640" {
			t.Errorf("%s gives %q", name, got)
		}
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	z.Create("../x")
	z.Close()
	if got := members(b.Bytes(), 0); !strings.HasPrefix(got, `error: "../x" in the archive would`) &&
		!strings.Contains(got, "insecure") {
		t.Errorf("zip gives %q", got)
	}
}

// FuzzMembers feeds whatever comes: no archive makes it panic or lead outside.
func FuzzMembers(f *testing.F) {
	f.Add(tarOf(tar.Header{Typeflag: tar.TypeReg, Name: "x"}))
	f.Add([]byte(tinyZip))
	f.Fuzz(func(t *testing.T, data []byte) {
		each(opened{data: bytes.NewReader(data)}, int64(len(data)), 1, func(m member, r io.Reader) error {
			if !fs.ValidPath(m.Name) {
				t.Errorf("it leads to %q", m.Name)
			}
			_, err := io.Copy(io.Discard, io.LimitReader(r, 1<<20))
			return err
		})
	})
}
