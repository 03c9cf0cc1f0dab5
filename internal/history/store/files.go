package store

import (
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"io/fs"
	"slices"
	"sync"

	"jadekettle/internal/core/value"
)

// Files are a project's files, of which it is noted what is read: that is what a run was
// made of.
type Files struct {
	from fs.FS

	mu   sync.Mutex
	seen map[string]*read
}

// read is one file that was read.
type read struct {
	text []byte // nil when it was only opened, which streams what may be large
	size int64
	sum  []byte // of its text, once that was asked for; nil for what is not kept
	done bool   // it was asked for
}

// Watch gives the files of a project as Files.
func Watch(from fs.FS) *Files { return &Files{from: from, seen: map[string]*read{}} }

// maxFile is the size up to which a file is kept with a run, in bytes. Of a larger one only
// the size is.
const maxFile = 1 << 20

// Open implements fs.FS.
func (f *Files) Open(name string) (fs.File, error) {
	file, err := f.from.Open(name)
	if err != nil {
		return nil, err
	}
	if info, err := file.Stat(); err == nil && info.Mode().IsRegular() {
		f.note(name, &read{size: info.Size()})
	}
	return file, nil
}

// ReadFile implements fs.ReadFileFS.
func (f *Files) ReadFile(name string) ([]byte, error) {
	text, err := fs.ReadFile(f.from, name)
	if err == nil {
		r := &read{size: int64(len(text))}
		if r.size <= maxFile {
			r.text = slices.Clip(text)
		}
		f.note(name, r)
	}
	return text, err
}

// ReadDir implements fs.ReadDirFS.
func (f *Files) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(f.from, name) }

// Stat implements fs.StatFS.
func (f *Files) Stat(name string) (fs.FileInfo, error) { return fs.Stat(f.from, name) }

func (f *Files) note(name string, r *read) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if have := f.seen[name]; have == nil || have.text == nil {
		f.seen[name] = r
	}
}

// count is how many files were read so far.
func (f *Files) count() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.seen)
}

// taken gives the text of a file as it was read, and nil where it is too large or gone.
func (f *Files) taken(name string, r *read) []byte {
	if r.text != nil || r.size > maxFile {
		return r.text
	}
	text, err := fs.ReadFile(f.from, name)
	if err != nil || len(text) > maxFile {
		return nil
	}
	return text
}

// summed gives the hash of a file's text, which is made once; nil where it is not kept.
func (f *Files) summed(name string, r *read) []byte {
	if !r.done {
		r.done = true
		if text := f.taken(name, r); text != nil || r.size == 0 {
			sum := sha256.Sum256(text)
			r.sum = sum[:]
		}
	}
	return r.sum
}

// tree keeps the files that were read, each text once, and gives the number of the whole.
func (f *Files) tree(tx *transaction) (int64, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	names := value.Keys(f.seen)
	sum := sha256.New()
	for _, name := range names {
		r := f.seen[name]
		sum.Write(binary.BigEndian.AppendUint64(nil, uint64(len(name))))
		sum.Write([]byte(name))
		sum.Write(binary.BigEndian.AppendUint64(nil, uint64(r.size)))
		sum.Write(f.summed(name, r))
	}
	var id int64
	err := tx.QueryRow("SELECT id FROM tree WHERE sha256 = ?", sum.Sum(nil)).Scan(&id)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, err
	}
	err = tx.QueryRow("INSERT INTO tree (sha256) VALUES (?) RETURNING id", sum.Sum(nil)).Scan(&id)
	if err != nil {
		return 0, err
	}
	for _, name := range names {
		if err := f.leaf(tx, id, name); err != nil {
			return 0, err
		}
	}
	return id, nil
}

// leaf keeps one file of a tree.
func (f *Files) leaf(tx *transaction, tree int64, name string) error {
	r := f.seen[name]
	var of any // NULL where the text is not kept
	if r.sum != nil {
		var id int64
		err := tx.QueryRow("SELECT id FROM content WHERE sha256 = ?", r.sum).Scan(&id)
		if errors.Is(err, sql.ErrNoRows) {
			id, err = content(tx, f.taken(name, r))
		}
		if err != nil {
			return err
		}
		of = id
	}
	return tx.Exec("INSERT INTO leaf (tree, path, size, content) VALUES (?, ?, ?, ?)", tree, name, r.size, of)
}
