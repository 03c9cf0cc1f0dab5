package ledger

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/machine"
)

// Moved is what a task of a run found before its first change, and what it left. Of the
// lines that a run has of one task the earliest Before and the latest After count.
type Moved struct {
	Task   value.Ref    `json:"task"`
	Before []plan.Stood `json:"before,omitempty"`
	After  []plan.Stood `json:"after,omitempty"`
	Owes   []plan.Owed  `json:"owes,omitempty"`  // what its change made due
	Entry  *plan.Entry  `json:"entry,omitempty"` // what the ledger had of it before
	Why    string       `json:"why,omitempty"`   // why nothing can be put back
}

// Past is what stood before the runs of this host, in a folder of its own: a file of lines
// for each run, and the contents of files by their hash, packed. The zero Past keeps
// nothing.
type Past struct {
	s    *Store
	dir  machine.Dir
	file machine.File // of the run at hand
	kept int64        // bytes of content that it has kept

	Age  time.Duration // how long a run is kept
	Size int64         // how many bytes all of it may take; 0 keeps nothing
}

// The names in the folder of what stood before.
const (
	pastFolder  = "before"
	runSuffix   = ".jsonl"
	bytesSuffix = ".gz"
)

// ErrNotKept says that nothing is kept of a run.
var ErrNotKept = errors.New("nothing is kept of what stood before that run")

// TooLargeError says that a content is not kept for its size.
type TooLargeError struct{ Size, Most int64 }

func (e *TooLargeError) Error() string {
	return fmt.Sprintf("its %d bytes are more than are kept of what stood before", e.Size)
}

// OpenPast gives what stood before the runs of the host. Nothing is made until something is
// kept.
func (s *Store) OpenPast(age time.Duration, size int64) *Past {
	return &Past{s: s, Age: age, Size: size}
}

// open makes the folder, which only root may read, and opens it.
func (p *Past) open() error {
	if p.dir != nil {
		return nil
	}
	err := p.s.dir.Mkdir(pastFolder, 0o700, -1, -1)
	if err == nil {
		err = p.s.dir.Sync()
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	p.dir, err = p.s.m.Dir(p.s.Path(pastFolder))
	return err
}

// Close closes what is open.
func (p *Past) Close() {
	if p == nil {
		return
	}
	if p.file != nil {
		p.file.Close()
	}
	if p.dir != nil {
		p.dir.Close()
	}
	p.file, p.dir = nil, nil
}

// Keep keeps a content, and names it. One that is there is not written again.
func (p *Past) Keep(r io.Reader, size int64) (plan.Content, error) {
	most := p.Size / 4
	if size > most || p.kept+size > p.Size {
		return plan.Content{}, &TooLargeError{size, most}
	}
	if err := p.open(); err != nil {
		return plan.Content{}, err
	}
	const temp = "content.new"
	p.dir.Remove(temp) // which a killed worker left
	f, err := p.dir.Create(temp, 0o600, -1, -1)
	if err != nil {
		return plan.Content{}, err
	}
	c, err := pack(f, io.LimitReader(r, most+1))
	if err == nil && c.Size > most {
		err = &TooLargeError{c.Size, most}
	}
	if err == nil {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	name := c.SHA256 + bytesSuffix
	if err == nil {
		if _, there := p.dir.Lstat(name); there == nil {
			return c, p.dir.Remove(temp)
		}
		err = p.dir.Rename(temp, name)
	}
	if err != nil {
		p.dir.Remove(temp)
		return c, err
	}
	p.kept += c.Size
	return c, nil // whose name is on disk with the next Note
}

// pack writes a content packed, and tells its hash.
func pack(to io.Writer, r io.Reader) (plan.Content, error) {
	zip, err := gzip.NewWriterLevel(to, gzip.BestSpeed)
	if err != nil {
		return plan.Content{}, err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(zip, h), r)
	return plan.Content{SHA256: hex.EncodeToString(h.Sum(nil)), Size: n}, errors.Join(err, zip.Close())
}

// Open gives a content that is kept. The error wraps fs.ErrNotExist where it is not.
func (p *Past) Open(c plan.Content) (io.ReadCloser, error) {
	if err := p.open(); err != nil {
		return nil, err
	}
	f, err := p.dir.Open(c.SHA256 + bytesSuffix)
	if err != nil {
		return nil, err
	}
	zip, err := gzip.NewReader(bufio.NewReader(f))
	if err != nil {
		f.Close()
		return nil, err
	}
	return unpacked{io.LimitReader(zip, c.Size), f}, nil
}

type unpacked struct {
	io.Reader
	io.Closer
}

// Note writes lines of a run. What they say is on disk when it returns, if it is to be.
func (p *Past) Note(run plan.Run, sync bool, list ...Moved) error {
	if err := p.open(); err != nil {
		return err
	}
	if p.file == nil {
		if err := p.begin(run); err != nil {
			return err
		}
	}
	var b bytes.Buffer
	for _, m := range list {
		line, err := json.Marshal(m)
		if err != nil {
			return err
		}
		b.Write(append(line, '\n'))
	}
	if _, err := p.file.Write(b.Bytes()); err != nil || !sync {
		return err
	}
	return errors.Join(p.file.Sync(), p.dir.Sync())
}

// begin opens the file of a run, whose first line says which one it is. A run that was
// rebooted goes on in a file of its own.
func (p *Past) begin(run plan.Run) error {
	line, err := json.Marshal(holder{run, p.s.m.Now().UTC().Truncate(time.Second)})
	if err != nil {
		return err
	}
	for part := 0; ; part++ {
		f, err := p.dir.Create(fileOf(run.ID, part), 0o600, -1, -1)
		if errors.Is(err, fs.ErrExist) && part < maxParts {
			continue
		}
		if err != nil {
			return err
		}
		p.file = f
		_, err = f.Write(append(line, '\n'))
		return err
	}
}

// maxParts bounds the files of one run: it has one more for each reboot.
const maxParts = 100

func fileOf(run string, part int) string {
	if part == 0 {
		return run + runSuffix
	}
	return fmt.Sprintf("%s-%d%s", run, part, runSuffix)
}

// Of gives what a run of this project moved, in order. Without any the error is
// ErrNotKept. A last line that broke off is left out.
func (p *Past) Of(run string) ([]Moved, error) {
	if !plainID(run) {
		return nil, ErrNotKept
	}
	if err := p.open(); err != nil {
		return nil, err
	}
	var out []Moved
	for part := 0; part <= maxParts; part++ {
		list, of, err := p.read(fileOf(run, part))
		if errors.Is(err, fs.ErrNotExist) {
			if part == 0 {
				return nil, ErrNotKept
			}
			break
		}
		if err != nil {
			return nil, err
		}
		if of.ID != run || of.Project != p.s.project {
			return nil, ErrNotKept
		}
		out = append(out, list...)
	}
	return out, nil
}

// plainID says whether a run's id can be a part of a file's name.
func plainID(id string) bool {
	return id != "" && strings.Trim(id, "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ-") == ""
}

// read reads one file.
func (p *Past) read(name string) (list []Moved, of holder, err error) {
	f, err := p.dir.Open(name)
	if err != nil {
		return nil, of, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, 256<<20))
	if err != nil {
		return nil, of, err
	}
	first := true
	for line := range bytes.Lines(data) {
		if first {
			if err := json.Unmarshal(line, &of); err != nil {
				return nil, of, fmt.Errorf("read %s: %w", path.Join(p.s.Path(pastFolder), name), err)
			}
			first = false
			continue
		}
		var m Moved
		if json.Unmarshal(line, &m) != nil {
			break
		}
		list = append(list, m)
	}
	return list, of, nil
}

// Prune lets go, at the end of a run, what is older than it is kept, and of the rest the oldest runs until all
// takes no more room than it may. Contents that no run names any more go with them.
func (p *Past) Prune(run plan.Run) error {
	at := p.s.Path(pastFolder)
	names, err := p.s.m.ReadDir(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = p.open()
	}
	if err != nil {
		return err
	}
	sizes := map[string]int64{}
	var runs []string
	var total int64
	gone := false
	for _, name := range names {
		info, err := p.dir.Lstat(name)
		if err != nil {
			continue
		}
		isRun := strings.HasSuffix(name, runSuffix)
		if isRun && (p.Size == 0 || born(run.ID, p.s.m.Now()).Sub(born(name, info.Time)) > p.Age) {
			if err := p.dir.Remove(name); err != nil {
				return err
			}
			gone = true
			continue
		}
		if isRun {
			runs = append(runs, name)
		}
		sizes[name] = info.Size
		total += info.Size
	}
	if !gone && total <= p.Size {
		return nil
	}
	return p.sweep(runs, sizes)
}

// born tells when a run began by its id, a UUIDv7 (RFC 9562, 5.7), which has the time of the
// controller: a host whose clock is wrong for a day forgets nothing. For any other id it is a
// time by the host's own clock.
func born(id string, otherwise time.Time) time.Time {
	digits := strings.Replace(id, "-", "", 1)
	if len(id) < 36 || id[14] != '7' {
		return otherwise
	}
	ms, err := strconv.ParseInt(digits[:12], 16, 64)
	if err != nil {
		return otherwise
	}
	return time.UnixMilli(ms)
}

// sweep keeps the newest runs that there is room for, and the contents that they name.
func (p *Past) sweep(runs []string, sizes map[string]int64) error {
	slices.SortFunc(runs, func(a, b string) int { return cmp.Compare(b, a) }) // UUIDv7: newest first
	named := map[string]bool{}
	var room int64
	full := false
	for _, name := range runs {
		list, _, err := p.read(name)
		need := sizes[name]
		var more []string
		for _, m := range list {
			for _, s := range m.Before {
				if s.As == nil || s.As.Content == nil {
					continue
				}
				file := s.As.Content.SHA256 + bytesSuffix
				if !named[file] && !slices.Contains(more, file) {
					more = append(more, file)
					need += sizes[file]
				}
			}
		}
		if full = full || err != nil || room+need > p.Size; full {
			if err := p.dir.Remove(name); err != nil {
				return err
			}
			continue
		}
		room += need
		for _, file := range more {
			named[file] = true
		}
	}
	for name := range sizes {
		if strings.HasSuffix(name, bytesSuffix) && !named[name] {
			if err := p.dir.Remove(name); err != nil {
				return err
			}
		}
	}
	return nil
}
