// Package store keeps runs in one SQLite file: every run with its hosts, their facts, every
// task and what the project said, and what is known of hosts between calls. It is written
// while a run goes, by [Recorder], which never holds a run up: whatever is wrong with the
// file is an error that the run tells at its end.
//
// One file serves all projects of a user; a [Project] is the part of one. There is no secret
// in it.
package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"jadekettle/internal/core/problem"
)

// Store is one file. It is opened by the first thing that needs it.
type Store struct {
	File string // the path; nothing is made until something is kept

	mu  sync.Mutex
	db  *sql.DB
	err error
}

// patience is how long one statement waits for another process that holds the file.
const patience = 2 * time.Second

// ErrNone says that there is no file yet.
var ErrNone = errors.New("no run is kept yet")

// reading gives the file for questions; ErrNone when there is none.
func (s *Store) reading() (*sql.DB, error) {
	if _, err := os.Stat(s.File); errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	return s.open()
}

// open opens the file, makes it where there is none, and brings it forward. What was wrong
// once stays so: nobody is to wait for a lock again at each question.
func (s *Store) open() (*sql.DB, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db != nil || s.err != nil {
		return s.db, s.err
	}
	if s.File == "" {
		s.err = problem.Errorf("there is no place for the history: neither XDG_STATE_HOME nor HOME is set").
			Remedy(`set one of them, or [history] file in jadekettle.toml`)
		return nil, s.err
	}
	s.db, s.err = s.start()
	return s.db, s.err
}

// openAgain is open, where another process held the file before.
func (s *Store) openAgain() (*sql.DB, error) {
	s.mu.Lock()
	if errors.Is(s.err, errLocked) {
		s.err = nil
	}
	s.mu.Unlock()
	return s.open()
}

func (s *Store) start() (*sql.DB, error) {
	if err := os.MkdirAll(filepath.Dir(s.File), 0o700); err != nil {
		return nil, err
	}
	mode := "rw"
	f, err := os.OpenFile(s.File, os.O_CREATE|os.O_RDWR, 0o600) // for its mode, which SQLite would take from umask
	if err == nil {
		err = f.Close()
	} else if readable, e := os.Open(s.File); e == nil {
		readable.Close()
		mode, err = "ro", nil
	}
	if err != nil {
		return nil, fmt.Errorf("the history: %w", err)
	}
	pragmas := fmt.Sprintf("?mode=%s&_pragma=busy_timeout(%d)&_txlock=immediate&_time_format=sqlite",
		mode, patience.Milliseconds())
	if mode == "rw" {
		pragmas += "&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)"
	}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: s.File}).EscapedPath()+pragmas)
	if err != nil {
		return nil, s.wrong(err)
	}
	if err := s.forward(db); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// Close lets the file go.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db == nil {
		return nil
	}
	return s.db.Close()
}

// forward brings a file to the form that this program knows, one migration at a time.
func (s *Store) forward(db *sql.DB) error {
	have := 0
	if err := db.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
		return s.wrong(err)
	}
	if have > len(migrations) {
		return problem.Errorf("the history %s was written by a newer jadekettle: its form is %d, and this one knows up to %d",
			s.File, have, len(migrations)).Remedy("use the newer program, or name another file as [history] file in jadekettle.toml")
	}
	if have == len(migrations) {
		return nil
	}
	return s.write(db, func(tx *sql.Tx) error {
		// another process may have been faster
		if err := tx.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
			return err
		}
		for ; have < len(migrations); have++ {
			if _, err := tx.Exec(migrations[have]); err != nil {
				return err
			}
			if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", have+1)); err != nil {
				return err
			}
		}
		return nil
	})
}

// write does something in one transaction.
func (s *Store) write(db *sql.DB, do func(*sql.Tx) error) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return s.wrong(err)
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return s.wrong(err)
	}
	return s.wrong(tx.Commit())
}

// errLocked is wrapped by an error that may be over the next time.
var errLocked = errors.New("another process holds it")

// wrong puts an error of the file into words.
func (s *Store) wrong(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff { // the first byte, see https://sqlite.org/rescode.html
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return problem.Errorf("the history %s is locked: %w", s.File, errLocked).Remedy("try again once that is done")
	case sqlite3.SQLITE_FULL:
		return problem.Errorf("the disk of the history %s is full", s.File).
			Remedy("make room; `jadekettle runs prune` lets old runs go")
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_CANTOPEN:
		return problem.Errorf("the history %s cannot be written: %s", s.File, plainly(e)).
			Remedy("make it writable for this account, or name another file as [history] file in jadekettle.toml")
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return problem.Errorf("the history %s is broken: %s", s.File, plainly(e)).
			Remedy("`jadekettle runs check` tells more; moved away, it is begun anew")
	}
	return fmt.Errorf("the history %s: %w", s.File, err)
}

// plainly leaves out the code that SQLite's words end in.
func plainly(e *sqlite.Error) string {
	text, _, _ := strings.Cut(e.Error(), " (")
	return text
}

// Project is the part of a store that is about one project.
type Project struct {
	*Store
	ID string // of the project, from jadekettle.toml
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
	return nil, errors.New("it is packed in a way that is not known")
}

// content keeps a text once, and gives its number.
func content(tx *sql.Tx, text []byte) (int64, error) {
	sum := sha256.Sum256(text)
	var id int64
	err := tx.QueryRow("SELECT id FROM content WHERE sha256 = ?", sum[:]).Scan(&id)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, err
	}
	res, err := tx.Exec("INSERT INTO content (sha256, size, packed) VALUES (?, ?, ?)", sum[:], len(text), pack(text))
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
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
