package store

import (
	"database/sql"
	"errors"
	"time"
)

// dialect is what SQLite and PostgreSQL do otherwise. All other statements of this package
// are what both take: placeholders are question marks, GLOB matches a name with a pattern,
// and the function now_ms gives the time in milliseconds, by the database's clock where that
// is one for several machines.
type dialect interface {
	// statement writes a statement, and what is in its places, in the database's words.
	statement(query string, args []any) (string, []any)
	// prepares says whether a transaction prepares each statement once; a driver may do so itself.
	prepares() bool
	// longest is how long one transaction may take that writes.
	longest() time.Duration
	// wrong puts an error of the database into words.
	wrong(err error) error
	// alone makes a transaction the only one that gives numbers to runs of a project.
	alone(tx *transaction, project string) error
	// tasks keeps tasks, and words what is found by its words.
	tasks(tx *transaction, rows []taskRow) error
	words(tx *transaction, rows []wordsRow) error
	// matching gives the tables in which words are found, the condition on them and its argument.
	matching(words []string) (from, cond, arg string)
	// joined is the function that puts the texts of rows together, with semicolons in between.
	joined(column string) string
	// unsaid lets go of what is found of a run by its words.
	unsaid(tx *transaction, run int64) error
	// size is how many bytes the history takes.
	size(db *database) (int64, error)
	// tidy gives back room that nothing takes any more.
	tidy(db *database) error
	// sound reports what the database itself finds wrong.
	sound(db *database, say func(format string, args ...any)) error
}

// taskRow is a row of the table task.
type taskRow struct {
	visit, nth, thing, place int64
	labels                   sql.NullInt64
	status                   int
	began, took              int64
	detail                   []byte // nil for none
}

// wordsRow is a text by which a run (visit 0), a host (nth -1) or a task is found.
type wordsRow struct {
	run, visit, nth int64
	text            string
}

// asker is asked: a database, or a transaction.
type asker interface {
	Query(query string, args ...any) (*sql.Rows, error)
	QueryRow(query string, args ...any) *sql.Row
}

// database is one that speaks a dialect.
type database struct {
	*sql.DB
	dialect
}

func (d *database) Query(query string, args ...any) (*sql.Rows, error) {
	query, args = d.statement(query, args)
	return d.DB.Query(query, args...)
}

func (d *database) QueryRow(query string, args ...any) *sql.Row {
	query, args = d.statement(query, args)
	return d.DB.QueryRow(query, args...)
}

// transaction is one in a database that speaks a dialect.
type transaction struct {
	*sql.Tx
	dialect
	statements map[string]*sql.Stmt
}

func (t *transaction) Query(query string, args ...any) (*sql.Rows, error) {
	query, args = t.statement(query, args)
	if s := t.prepared(query); s != nil {
		return s.Query(args...)
	}
	return t.Tx.Query(query, args...)
}

func (t *transaction) QueryRow(query string, args ...any) *sql.Row {
	query, args = t.statement(query, args)
	if s := t.prepared(query); s != nil {
		return s.QueryRow(args...)
	}
	return t.Tx.QueryRow(query, args...)
}

// Exec does a statement that gives no rows.
func (t *transaction) Exec(query string, args ...any) error {
	query, args = t.statement(query, args)
	if s := t.prepared(query); s != nil {
		_, err := s.Exec(args...)
		return err
	}
	_, err := t.Tx.Exec(query, args...)
	return err
}

// prepared gives a statement that is read once in a transaction, however often it is used;
// nil where that is not needed, or cannot be done, which the statement itself then reports.
func (t *transaction) prepared(query string) *sql.Stmt {
	if !t.prepares() {
		return nil
	}
	if s := t.statements[query]; s != nil {
		return s
	}
	s, err := t.Prepare(query)
	if err != nil {
		return nil
	}
	remember(&t.statements, query, s)
	return s
}

// numbered gives the number of a text that is stored once, and stores it if it is new.
// insert does nothing where another was faster.
func (t *transaction) numbered(find, insert string, args ...any) (int64, error) {
	for {
		var id int64
		err := t.QueryRow(find, args...).Scan(&id)
		if !errors.Is(err, sql.ErrNoRows) {
			return id, err
		}
		err = t.QueryRow(insert+" ON CONFLICT DO NOTHING RETURNING id", args...).Scan(&id)
		if !errors.Is(err, sql.ErrNoRows) {
			return id, err
		}
	}
}

// each does something with every row that a query gives.
func each(db asker, do func(scan func(...any) error) error, query string, args ...any) error {
	rows, err := db.Query(query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := do(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

// remember notes something in a map, which is made where there is none.
func remember[K comparable, V any](in *map[K]V, key K, v V) {
	if *in == nil {
		*in = map[K]V{}
	}
	(*in)[key] = v
}
