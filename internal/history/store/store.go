// Package store keeps runs in one SQLite file, or in a PostgreSQL database to which several
// controllers write: every run with its hosts, their facts, every task and what the project
// said, and what is known of hosts between calls. It is written while a run goes, by
// [Recorder], which never holds a run up: whatever is wrong with the database is an error
// that the run reports at its end.
//
// One file or database serves many projects; a [Project] is the part of one. There is no
// secret in it.
package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"io/fs"
	"os"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"jadekettle/internal/core/problem"
)

// Store is one file, or one database of a server. It is opened by the first thing that needs it.
type Store struct {
	File string // the path; nothing is made until something is kept
	URL  string // of a PostgreSQL database, in the place of a file
	// Key is what facts are encrypted with that are read from here: whoever can write to a database that
	// several share must not say what hosts are. None encrypts nothing, as in a private file.
	Key []byte

	// Report receives what is lost that the caller should know of. May be nil.
	Report func(text string)

	mu   sync.Mutex
	db   *database
	err  error
	file os.FileInfo // that was opened
	copy *database   // which is read where the disk is full
	dir  string      // that it is in
}

// patience is how long one statement waits for another process that holds what it needs.
const patience = 2 * time.Second

// ErrNone says that there is no file yet.
var ErrNone = errors.New("there are no runs yet")

// Place names the file or the database, for people.
func (s *Store) Place() string {
	if s.URL != "" {
		return shown(s.URL)
	}
	return s.File
}

// reading gives the database for questions; ErrNone when there is no file.
func (s *Store) reading() (*database, error) {
	if s.URL == "" && (inFile{path: s.File}).none() {
		return nil, ErrNone
	}
	db, err := s.open()
	if s.URL != "" || !errors.Is(err, errFull) {
		return db, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.copy == nil {
		if s.copy, s.dir, err = (inFile{path: s.File}).copied(); err != nil {
			return nil, err
		}
	}
	return s.copy, nil
}

// open opens the database, makes its file where there is none, and brings it forward. What
// was wrong once stays so: nobody is to wait for a lock again at each question.
func (s *Store) open() (*database, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db == nil && s.err == nil {
		s.db, s.err = s.start()
	}
	return s.db, s.err
}

// openAgain is open, where it was only for now that it could not be.
func (s *Store) openAgain() (*database, error) {
	s.mu.Lock()
	if passes(s.err) {
		s.err = nil
	}
	s.mu.Unlock()
	return s.open()
}

func (s *Store) start() (*database, error) {
	if s.URL != "" {
		return startServer(s.URL)
	}
	if s.File == "" {
		return nil, problem.Errorf("no location for the history: neither XDG_STATE_HOME nor HOME is set").
			Remedy(`set one of them, or [history] file in jadekettle.toml`)
	}
	f := inFile{s.File, s.Report}
	db, err := f.open()
	if err != nil {
		return nil, err
	}
	s.file, _ = os.Stat(s.File)
	if err := f.forward(db); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// tooNew says that a newer program wrote the history, in a file or a database.
func tooNew(place string, have, knows int, sort string) error {
	return problem.Errorf("history database %s was written by a newer jadekettle: it has format %d, and this "+
		"version supports up to %d",
		place, have, knows).Remedy("use the newer version, or change %s in [history] of jadekettle.toml", sort)
}

// Close lets the database go.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.copy != nil {
		s.copy.Close()
		os.RemoveAll(s.dir)
		s.copy = nil
	}
	if s.db == nil {
		return nil
	}
	return s.db.Close()
}

// End is Close for a process that ends. What was written is on the disk then, but not in the file itself, beside which
// SQLite keeps it: to bring it there takes longer than to read it there, which the next process does while it waits for
// a host.
func (s *Store) End() error {
	s.mu.Lock()
	written := s.db != nil && s.copy == nil && s.URL == ""
	s.mu.Unlock()
	if !written {
		return s.Close()
	}
	wal, err := os.Open(s.File + "-wal")
	if errors.Is(err, fs.ErrNotExist) {
		return s.Close() // it is a file that can only be read
	}
	if err != nil {
		return err
	}
	defer wal.Close()
	return wal.Sync()
}

// wrong puts an error of the database into words.
func (s *Store) wrong(err error) error {
	if err == nil || s.db == nil {
		return err
	}
	return s.db.wrong(err)
}

// write does something in one transaction.
func write(db *database, do func(*transaction) error) error {
	ctx, cancel := context.WithTimeout(context.Background(), db.longest())
	defer cancel()
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return db.wrong(err)
	}
	defer tx.Rollback()
	if err := do(&transaction{Tx: tx, dialect: db.dialect}); err != nil {
		return db.wrong(err)
	}
	return db.wrong(tx.Commit())
}

// What may be over the next time: errLocked and errAway are wrapped by errors of which passes
// is true.
var (
	errLocked = errors.New("another process has locked it")
	errAway   = errors.New("the server is not available")
	errFull   = errors.New("") // which passes only when somebody makes room
)

func passes(err error) bool { return errors.Is(err, errLocked) || errors.Is(err, errAway) }

// Project is the part of a store that is about one project.
type Project struct {
	*Store
	ID string // of the project, from jadekettle.toml
	// Keep is how long runs are kept: a Recorder lets earlier ones go while it has nothing to write. 0 is for good.
	Keep time.Duration
}

// pack makes a text small: a byte that says how, and the text.
func pack(text []byte) []byte {
	const small = 160 // below that nothing is won
	if len(text) < small {
		return append([]byte{0}, text...)
	}
	return zstdWriter().EncodeAll(text, []byte{1})
}

var zstdWriter = sync.OnceValue(func() *zstd.Encoder {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic(err) // options are constants: this is a mistake in this file
	}
	return e
})

// maxText bounds what one packed text may come to.
const maxText = 64 << 20

var zstdReader = sync.OnceValue(func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxText))
	if err != nil {
		panic(err) // as above
	}
	return d
})

func unpack(data []byte) ([]byte, error) {
	switch {
	case len(data) == 0:
		return nil, nil
	case data[0] == 0:
		return data[1:], nil
	case data[0] == 1:
		return zstdReader().DecodeAll(data[1:], nil)
	}
	return nil, errors.New("it has an unknown compression")
}

// content keeps a text once, and gives its number.
func content(tx *transaction, text []byte) (int64, error) {
	sum := sha256.Sum256(text)
	var id int64
	err := tx.QueryRow("SELECT id FROM content WHERE sha256 = ?", sum[:]).Scan(&id)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, err
	}
	return tx.numbered("SELECT id FROM content WHERE sha256 = ?1", "INSERT INTO content (sha256, size, packed) "+
		"VALUES (?1, ?2, ?3)",
		sum[:], len(text), pack(text))
}

func millis(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func atMillis(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}
