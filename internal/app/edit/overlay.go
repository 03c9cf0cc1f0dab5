package edit

import (
	"io/fs"
	"path"
	"strings"
	"time"
)

// overlay is a project's files with another text in one of them.
type overlay struct {
	fs.FS
	name, text string
}

// Open opens the one file from the text, and any other as it is.
func (o overlay) Open(name string) (fs.File, error) {
	if name == o.name {
		return &textFile{Reader: strings.NewReader(o.text), name: path.Base(name)}, nil
	}
	return o.FS.Open(name)
}

// textFile is a file made of a text.
type textFile struct {
	*strings.Reader
	name string
}

func (f *textFile) Stat() (fs.FileInfo, error) { return f, nil }
func (f *textFile) Close() error               { return nil }
func (f *textFile) Name() string               { return f.name }
func (f *textFile) Mode() fs.FileMode          { return 0o644 }
func (f *textFile) ModTime() time.Time         { return time.Time{} }
func (f *textFile) IsDir() bool                { return false }
func (f *textFile) Sys() any                   { return nil }
