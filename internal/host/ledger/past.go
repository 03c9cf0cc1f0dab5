package ledger

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/machine"
)

// Moved is what a task of a run found before its first change, and what it left. Of the
// lines that a run has of one task the earliest Before and the latest After count.
type Moved struct {
	Task     value.Ref      `json:"task"`
	Before   []plan.Prior   `json:"before,omitempty"`
	After    []plan.Prior   `json:"after,omitempty"`
	Triggers []plan.Pending `json:"triggers,omitempty"` // what its change made due
	Entry    *plan.Entry    `json:"entry,omitempty"`    // what the ledger had of it before
	Why      string         `json:"why,omitempty"`      // why nothing can be put back
}

// Past is what was there before the runs of this host, in a folder of its own: for each run a
// file of lines, and one of what files held, packed one behind the other. The zero Past keeps
// nothing.
type Past struct {
	s     *Store
	dir   machine.Dir
	lines machine.File // of the run at hand
	bytes machine.File
	end   int64           // of bytes
	kept  int64           // bytes of content that the run has kept, unpacked
	fresh []line          // contents that no line names yet
	named bool            // both files have their names on disk
	at    map[string]spot // where contents are, by hash, of the run that was read
	until time.Time       // when that was last written to

	Age  time.Duration // how long a run is kept
	Size int64         // how many bytes all of it may take; 0 keeps nothing
}

// spot is where a content lies.
type spot struct {
	file string
	at   int64
}

// line is one of a run's lines: of a task, or of where a content lies.
type line struct {
	Moved
	Content string `json:"content,omitempty"` // by hash
	At      int64  `json:"at,omitempty"`
}

// The names in the folder of what was there before.
const (
	pastFolder  = "before"
	runSuffix   = ".jsonl"
	bytesSuffix = ".gz"
)

// ErrNotKept says that nothing is kept of a run.
var ErrNotKept = errors.New("the state before that run is not kept")

// TooLargeError says that a content is not kept for its size.
type TooLargeError struct{ Size int64 }

func (e *TooLargeError) Error() string {
	return fmt.Sprintf("its %d bytes exceed the limit for previous states", e.Size)
}

// OpenPast gives what was there before the runs of the host. Nothing is made until something is
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
	for _, f := range []machine.File{p.lines, p.bytes} {
		if f != nil {
			f.Close()
		}
	}
	if p.dir != nil {
		p.dir.Close()
	}
	p.lines, p.bytes, p.dir = nil, nil, nil
}

// Keep keeps a content of so many bytes for a run, and names it. It is on disk with the
// next Note.
func (p *Past) Keep(run plan.Run, r io.Reader, size int64) (plan.Content, error) {
	most := p.Size / 4
	if size > most || p.kept+size > p.Size {
		return plan.Content{}, &TooLargeError{size}
	}
	if err := p.begin(run); err != nil {
		return plan.Content{}, err
	}
	counted := &counter{w: p.bytes}
	c, err := pack(counted, io.LimitReader(r, most+1))
	if err == nil && c.Size > most {
		err = &TooLargeError{c.Size}
	}
	at := p.end
	p.end += counted.n // what broke off is passed over
	if err != nil {
		return c, err
	}
	p.fresh = append(p.fresh, line{Content: c.SHA256, At: at})
	p.kept += c.Size
	return c, nil
}

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

// pack writes a content packed, and gives its hash.
func pack(to io.Writer, r io.Reader) (plan.Content, error) {
	zip, err := gzip.NewWriterLevel(to, gzip.BestSpeed)
	if err != nil {
		return plan.Content{}, err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(zip, h), r)
	return plan.Content{SHA256: hex.EncodeToString(h.Sum(nil)), Size: n}, errors.Join(err, zip.Close())
}

// Open gives a content of the run that was read by Of. The error wraps fs.ErrNotExist
// where it is not kept.
func (p *Past) Open(c plan.Content) (io.ReadCloser, error) {
	where, ok := p.at[c.SHA256]
	if !ok {
		return nil, fs.ErrNotExist
	}
	f, err := p.dir.Open(where.file)
	if err != nil {
		return nil, err
	}
	info, err := f.Info()
	if err == nil && info.Size <= where.at {
		err = io.ErrUnexpectedEOF
	}
	var zip *gzip.Reader
	if err == nil {
		zip, err = gzip.NewReader(bufio.NewReader(io.NewSectionReader(f, where.at, info.Size-where.at)))
	}
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("read a file's previous content: %w", err)
	}
	zip.Multistream(false) // the next one begins where this one ends
	return unpacked{zip, f}, nil
}

type unpacked struct {
	io.Reader
	io.Closer
}

// Note writes lines of a run. What they say is on disk when it returns, if it is to be,
// with the contents that they name.
func (p *Past) Note(run plan.Run, sync bool, list ...Moved) error {
	if err := p.begin(run); err != nil {
		return err
	}
	var b bytes.Buffer
	add := func(v any) error {
		data, err := json.Marshal(v)
		b.Write(append(data, '\n'))
		return err
	}
	for _, l := range p.fresh {
		if err := add(struct {
			Content string `json:"content"`
			At      int64  `json:"at"`
		}{l.Content, l.At}); err != nil {
			return err
		}
	}
	for _, m := range list {
		if err := add(m); err != nil {
			return err
		}
	}
	if sync && len(p.fresh) > 0 {
		if err := p.bytes.Sync(); err != nil {
			return err
		}
	}
	p.fresh = nil
	if _, err := p.lines.Write(b.Bytes()); err != nil || !sync {
		return err
	}
	err := p.lines.Sync()
	if err == nil && !p.named {
		p.named, err = true, p.dir.Sync()
	}
	return err
}

// begin opens the files of a run, of whose lines the first says which one it is. A run that
// was rebooted goes on in files of their own.
func (p *Past) begin(run plan.Run) error {
	if p.lines != nil {
		return nil
	}
	if err := p.open(); err != nil {
		return err
	}
	first, err := json.Marshal(holder{run, p.s.m.Now().UTC().Truncate(time.Second)})
	if err != nil {
		return err
	}
	for part := 0; ; part++ {
		name := fileOf(run.ID, part)
		f, err := p.dir.Create(name+runSuffix, 0o600, -1, -1)
		if errors.Is(err, fs.ErrExist) && part < maxParts {
			continue
		}
		if err != nil {
			return err
		}
		p.lines = f
		if p.bytes, err = p.dir.Create(name+bytesSuffix, 0o600, -1, -1); err == nil {
			_, err = f.Write(append(first, '\n'))
		}
		return err
	}
}

// maxParts bounds the files of one run: it has more for each reboot.
const maxParts = 100

func fileOf(run string, part int) string {
	if part == 0 {
		return run
	}
	return fmt.Sprintf("%s-%d", run, part)
}

// Of gives what a run of this project moved, in order. Without any the error is
// ErrNotKept. A last line that broke off is skipped.
func (p *Past) Of(run string) ([]Moved, error) {
	if !plainID(run) {
		return nil, ErrNotKept
	}
	if err := p.open(); err != nil {
		return nil, err
	}
	var out []Moved
	p.at = map[string]spot{}
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
		for _, l := range list {
			if l.Content != "" {
				p.at[l.Content] = spot{fileOf(run, part) + bytesSuffix, l.At}
				continue
			}
			out = append(out, l.Moved)
		}
	}
	return out, nil
}

// Until is when the run that Of read was over.
func (p *Past) Until() time.Time { return p.until }

// plainID says whether a run's id can be a part of a file's name.
func plainID(id string) bool {
	return id != "" && strings.Trim(id, "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ-") == ""
}

// read reads the lines of a file.
func (p *Past) read(name string) (list []line, of holder, err error) {
	f, err := p.dir.Open(name + runSuffix)
	if err != nil {
		return nil, of, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, 256<<20))
	if err != nil {
		return nil, of, err
	}
	if info, err := f.Info(); err == nil {
		p.until = info.Time
	}
	first := true
	for text := range bytes.Lines(data) {
		if first {
			if err := json.Unmarshal(text, &of); err != nil {
				return nil, of, problem.Errorf("read %s: %w", path.Join(p.s.Path(pastFolder), name+runSuffix), err).
					Remedy("it was damaged by hand; restore it from a copy, or revert the changes of that run by hand")
			}
			first = false
			continue
		}
		var l line
		if json.Unmarshal(text, &l) != nil {
			break
		}
		list = append(list, l)
	}
	return list, of, nil
}

// Prune lets go, at the end of a run, what is older than it is kept, and of the rest the
// oldest runs until all takes no more room than it may.
func (p *Past) Prune(run plan.Run) error {
	names, err := p.s.m.ReadDir(p.s.Path(pastFolder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = p.open()
	}
	if err != nil {
		return err
	}
	runs := map[string][]string{} // the files of each
	for _, name := range names {
		id := strings.TrimSuffix(strings.TrimSuffix(name, runSuffix), bytesSuffix)
		runs[id] = append(runs[id], name)
	}
	ids := slices.Sorted(maps.Keys(runs))
	if old := born(run.ID, time.Time{}); p.lines == nil && p.Size > 0 && len(ids) > 0 && !old.IsZero() {
		// A run that kept nothing only makes the others older, which their names show.
		if first := born(ids[0], time.Time{}); !first.IsZero() && old.Sub(first) <= p.Age {
			return nil
		}
	}
	var total int64
	full := false
	for _, id := range slices.Backward(ids) { // UUIDv7: newest first
		size, last := int64(0), time.Time{}
		for _, name := range runs[id] {
			if info, err := p.dir.Lstat(name); err == nil {
				size, last = size+info.Size, info.Time
			}
		}
		full = full || total+size > p.Size
		if !full && born(run.ID, p.s.m.Now()).Sub(born(id, last)) <= p.Age {
			total += size
			continue
		}
		for _, name := range runs[id] {
			if err := p.dir.Remove(name); err != nil {
				return err
			}
		}
	}
	return nil
}

// born is when a run began, from its id, a UUIDv7 (RFC 9562, 5.7), which has the time of the
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
