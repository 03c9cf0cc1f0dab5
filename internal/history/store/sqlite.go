package store

import (
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"jadekettle/internal/core/problem"
)

// inFile is SQLite with one file.
type inFile struct {
	path   string
	report func(text string) // may be nil
}

// fileHeader is how many bytes each file of SQLite begins with, see https://sqlite.org/fileformat2.html
const fileHeader = 100

func init() {
	sqlite.MustRegisterScalarFunction("now_ms", 0, func(*sqlite.FunctionContext, []driver.Value) (driver.Value, error) {
		return time.Now().UnixMilli(), nil
	})
}

// open makes the file where there is none.
func (f inFile) open() (*database, error) {
	if err := os.MkdirAll(filepath.Dir(f.path), 0o700); err != nil {
		return nil, err
	}
	mode := "rw"
	if info, err := os.Stat(f.path); err == nil && info.Size() < fileHeader && f.report != nil {
		f.report(fmt.Sprintf("history database %s has only %d bytes: its content is lost, and a new one is created",
			f.path, info.Size()))
		if info.Size() > 0 { // which is not a database
			if err := os.Truncate(f.path, 0); err != nil {
				return nil, fmt.Errorf("history database: %w", err)
			}
		}
	}
	made, err := os.OpenFile(f.path, os.O_CREATE|os.O_RDWR, 0o600) // for its mode, which SQLite would take from umask
	if err == nil {
		err = made.Close()
	} else if readable, e := os.Open(f.path); e == nil {
		readable.Close()
		mode, err = "ro", nil
	}
	if err != nil {
		return nil, fmt.Errorf("history database: %w", err)
	}
	pragmas := fmt.Sprintf("?mode=%s&_pragma=busy_timeout(%d)&_txlock=immediate&_time_format=sqlite",
		mode, patience.Milliseconds())
	if mode == "rw" {
		pragmas += "&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)"
	}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: f.path}).EscapedPath()+pragmas)
	if err != nil {
		return nil, f.wrong(err)
	}
	return &database{db, f}, nil
}

// forward brings a file to the form that this program knows, one migration at a time.
func (f inFile) forward(db *database) error {
	have := 0
	if err := db.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
		return f.wrong(err)
	}
	if have > len(fileForms) {
		return tooNew(f.path, have, len(fileForms), "file")
	}
	if have == len(fileForms) {
		return nil
	}
	return write(db, func(tx *transaction) error {
		// another process may have been faster
		if err := tx.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
			return err
		}
		for ; have < len(fileForms); have++ {
			if _, err := tx.Tx.Exec(fileForms[have] + fmt.Sprintf("PRAGMA user_version = %d", have+1)); err != nil {
				return err
			}
		}
		return nil
	})
}

func (inFile) statement(query string, args []any) (string, []any) { return query, args }

func (inFile) prepares() bool { return true }

func (inFile) longest() time.Duration { return time.Minute } // a disk may stand still

func (inFile) alone(*transaction, string) error { return nil } // a transaction that writes always is

// wrong puts an error of the file into words.
func (f inFile) wrong(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff { // the first byte, see https://sqlite.org/rescode.html
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return problem.Errorf("history database %s is locked: %w", f.path, errLocked).Remedy("try again later")
	case sqlite3.SQLITE_FULL:
		return f.full()
	case sqlite3.SQLITE_IOERR:
		if room(filepath.Dir(f.path)) < leastRoom {
			return f.full()
		}
		return problem.Errorf("history database %s cannot be read or written: %s", f.path, plainly(e)).
			Remedy("check the system log for errors of that disk")
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_CANTOPEN:
		return problem.Errorf("history database %s cannot be written: %s", f.path, plainly(e)).
			Remedy("make it writable for this user, or change [history] file in jadekettle.toml")
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return problem.Errorf("history database %s is corrupted: %s", f.path, plainly(e)).
			Remedy("see `jadekettle runs check`; if you move the file away, a new one is created")
	}
	return fmt.Errorf("history database %s: %w", f.path, err)
}

func (f inFile) full() error {
	return problem.Errorf("the disk of the history database %s is full%w", f.path, errFull).
		Remedy("free some space; `jadekettle runs prune` deletes old runs")
}

// leastRoom is what SQLite needs beside a file to read it, in bytes.
const leastRoom = 256 << 10

// room is how many bytes are free in a folder.
func room(dir string) int64 {
	var s syscall.Statfs_t
	if syscall.Statfs(dir, &s) != nil {
		return math.MaxInt64
	}
	return int64(s.Bavail) * int64(s.Bsize)
}

// mostCopied bounds the file of which a copy is read, in bytes.
const mostCopied = 1 << 30

// copied opens a copy, for questions alone: beside a file on a full disk there is no room for what SQLite reads it by.
func (f inFile) copied() (db *database, dir string, err error) {
	for _, folder := range []string{os.TempDir(), "/dev/shm"} {
		info, err := os.Stat(f.path)
		if err != nil || info.Size() > mostCopied || room(folder) < 2*info.Size()+leastRoom {
			continue
		}
		if dir, err = os.MkdirTemp(folder, "jadekettle-history-"); err != nil {
			continue
		}
		at := inFile{path: filepath.Join(dir, "history.db")}
		for _, suffix := range []string{"", "-wal"} {
			data, err := os.ReadFile(f.path + suffix)
			if err == nil {
				err = os.WriteFile(at.path+suffix, data, 0o600)
			}
			if err != nil && suffix == "" {
				os.RemoveAll(dir)
				return nil, "", err
			}
		}
		if db, err = at.open(); err == nil {
			err = at.forward(db)
		}
		if err != nil {
			os.RemoveAll(dir)
		}
		return db, dir, err
	}
	return nil, "", f.full()
}

// taken says whether another file is at the path by now, or none: what is written goes nowhere.
func (f inFile) taken(was os.FileInfo) bool {
	now, err := os.Stat(f.path)
	return was != nil && (errors.Is(err, fs.ErrNotExist) || err == nil && !os.SameFile(was, now))
}

// plainly leaves out the code that SQLite's words end in.
func plainly(e *sqlite.Error) string {
	text, _, _ := strings.Cut(e.Error(), " (")
	return text
}

func (inFile) tasks(tx *transaction, rows []taskRow) error {
	for _, r := range rows {
		var detail any
		if r.detail != nil {
			detail = r.detail
		}
		if err := tx.Exec(`INSERT INTO task (visit, nth, thing, place, labels, status, began, took, detail)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, r.visit, r.nth, r.thing, r.place, r.labels, r.status, r.began,
			r.took, detail); err != nil {
			return err
		}
	}
	return nil
}

func (inFile) words(tx *transaction, rows []wordsRow) error {
	for _, r := range rows {
		var id int64
		err := tx.QueryRow("INSERT INTO said (run, visit, nth) VALUES (?, ?, ?) RETURNING id", r.run, r.visit,
			r.nth).Scan(&id)
		if err != nil {
			return err
		}
		if err := tx.Exec("INSERT INTO words (rowid, text) VALUES (?, ?)", id, r.text); err != nil {
			return err
		}
	}
	return nil
}

// matching writes words for FTS5: each is looked for as a phrase, the last of its parts as
// the beginning of a word.
func (inFile) matching(words []string) (from, cond, arg string) {
	var all []string
	for _, w := range words {
		if strings.TrimSpace(w) != "" {
			all = append(all, `"`+strings.ReplaceAll(w, `"`, `""`)+`"*`)
		}
	}
	return "words JOIN said ON said.id = words.rowid", "words MATCH ?", strings.Join(all, " AND ")
}

func (inFile) joined(column string) string { return "group_concat(" + column + ", ';')" }

func (inFile) unsaid(tx *transaction, run int64) error {
	if err := tx.Exec("DELETE FROM words WHERE rowid IN (SELECT id FROM said WHERE run = ?)", run); err != nil {
		return err
	}
	return tx.Exec("DELETE FROM said WHERE run = ?", run)
}

// settle has what was written lately in the file itself; it is beside it until then.
const settle = "PRAGMA wal_checkpoint(TRUNCATE)"

func (f inFile) size(db *database) (int64, error) {
	db.Exec(settle) // which a file that cannot be written does not need
	info, err := os.Stat(f.path)
	if err != nil {
		return 0, fmt.Errorf("history database: %w", err)
	}
	return info.Size(), nil
}

func (inFile) tidy(db *database) error {
	_, err := db.Exec("VACUUM")
	return err
}

func (inFile) sound(db *database, say func(format string, args ...any)) error {
	if err := each(db, func(scan func(...any) error) error {
		text := ""
		err := scan(&text)
		if text != "ok" {
			say("%s", text)
		}
		return err
	}, "PRAGMA integrity_check"); err != nil {
		return err
	}
	return each(db, func(scan func(...any) error) error {
		var table string
		var row, parent, key any
		err := scan(&table, &row, &parent, &key)
		say("a row of %s is orphaned", table)
		return err
	}, "PRAGMA foreign_key_check")
}

// none says whether there is no file yet.
func (f inFile) none() bool {
	_, err := os.Stat(f.path)
	return errors.Is(err, fs.ErrNotExist)
}
