package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"golang.org/x/text/unicode/norm"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// onServer is PostgreSQL, 12 or later. place names the database without what is secret.
type onServer struct{ place string }

// shown names a database for people: without a password, and what else its URL asks for.
func shown(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "of [history] url"
	}
	u.RawQuery = ""
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	return u.String()
}

// ownSchema is where tables are made, unless the URL names another search_path.
const ownSchema = "jadekettle"

// connections bounds those of one controller.
const connections = 4

// startServer opens a database and brings it forward. The password comes from where programs
// of PostgreSQL look for one: PGPASSWORD or ~/.pgpass.
func startServer(address string) (*database, error) {
	o := onServer{shown(address)}
	conf, err := pgx.ParseConfig(address)
	if err == nil {
		conf, err = checked(address, conf)
	}
	if err != nil {
		return nil, problem.Errorf("invalid PostgreSQL address in [history] url: %s", plainURL(err)).
			Remedy("set [history] url in jadekettle.toml to the form postgres://USER@HOST/DATABASE")
	}
	if conf.ConnectTimeout == 0 {
		conf.ConnectTimeout = 5 * time.Second
	}
	for key, otherwise := range map[string]string{"application_name": "jadekettle", "search_path": ownSchema,
		"jit":          "off", // which takes longer than it spares here
		"lock_timeout": strconv.FormatInt(patience.Milliseconds(), 10)} {
		if conf.RuntimeParams[key] == "" {
			conf.RuntimeParams[key] = otherwise
		}
	}
	pool := stdlib.OpenDB(*conf)
	pool.SetMaxOpenConns(connections)
	pool.SetConnMaxIdleTime(time.Minute)
	db := &database{pool, o}
	if err := o.forward(db, conf.RuntimeParams["search_path"]); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// checked has a server on another machine prove who it is, by a certificate for its name, unless the
// URL says otherwise: else a password, and what runs report, would go in the clear to whoever answers.
func checked(address string, conf *pgx.ConnConfig) (*pgx.ConnConfig, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	q := u.Query()
	hosts := []string{conf.Host}
	for _, f := range conf.Fallbacks {
		hosts = append(hosts, f.Host)
	}
	if q.Has("sslmode") || !slices.ContainsFunc(hosts, elsewhere) {
		return conf, nil
	}
	q.Set("sslmode", "verify-full")
	u.RawQuery = q.Encode()
	return pgx.ParseConfig(u.String())
}

// elsewhere says whether a server is on another machine.
func elsewhere(host string) bool {
	at, err := netip.ParseAddr(host)
	return !strings.HasPrefix(host, "/") && host != "localhost" && (err != nil || !at.IsLoopback())
}

// plainURL leaves the URL itself out of what is wrong with it, which may hold a password.
func plainURL(err error) string {
	if e := (*pgconn.ParseConfigError)(nil); errors.As(err, &e) {
		if inner := e.Unwrap(); inner != nil {
			if u := (*url.Error)(nil); errors.As(inner, &u) {
				return u.Err.Error()
			}
			return inner.Error()
		}
	}
	return "it cannot be read"
}

// forwardLock is the key under which one controller at a time brings the database forward.
const forwardLock = 0x6a61_6465

// forward brings the database to the form that this program knows.
func (o onServer) forward(db *database, schema string) error {
	have, err := o.form(db)
	if err != nil {
		return o.wrong(err)
	}
	if have > len(serverForms) {
		return tooNew(o.place, have, len(serverForms), "database")
	}
	if have == len(serverForms) {
		return nil
	}
	return write(db, func(tx *transaction) error {
		if _, err := tx.Tx.Exec("SELECT pg_advisory_xact_lock($1)", forwardLock); err != nil {
			return err
		}
		if have, err = o.form(tx); err != nil {
			return err
		}
		for ; have < len(serverForms); have++ {
			if have == 0 {
				if err := o.begin(tx, schema); err != nil {
					return err
				}
			}
			if _, err := tx.Tx.Exec(serverForms[have]); err != nil {
				return err
			}
			if err := tx.Exec("UPDATE form SET version = ?", have+1); err != nil {
				return err
			}
		}
		return nil
	})
}

// form reads which form the tables have; 0 when there are none.
func (onServer) form(db asker) (int, error) {
	have := 0
	// which to_regclass would not do: it may not see yet what another has just made
	if err := db.QueryRow(`SELECT count(*) FROM pg_class JOIN pg_namespace ON pg_namespace.oid = relnamespace WHERE
		nspname = current_schema() AND relname = 'form'`).Scan(&have); err != nil || have == 0 {
		return 0, err
	}
	return have, db.QueryRow("SELECT version FROM form").Scan(&have)
}

// begin makes a place for the tables where there is none yet.
func (onServer) begin(tx *transaction, schema string) error {
	there := false
	if err := tx.QueryRow("SELECT current_schema() IS NOT NULL").Scan(&there); err != nil {
		return err
	}
	if there {
		return nil
	}
	first, _, _ := strings.Cut(schema, ",")
	_, err := tx.Tx.Exec("CREATE SCHEMA " + pgx.Identifier{strings.Trim(strings.TrimSpace(first), `"`)}.Sanitize())
	return err
}

// rewritten is a statement in PostgreSQL's words.
type rewritten struct {
	text  string
	most  int   // how many arguments it takes
	globs []int // which of them are patterns
}

var rewrites sync.Map // from statements as this package writes them

// place is where an argument is, with its number where that is said, and whether it is a
// pattern.
var place = lazy.Regexp(`(GLOB )?\?(\d*)`)

func (onServer) statement(query string, args []any) (string, []any) {
	kept, ok := rewrites.Load(query)
	if !ok {
		kept = rewrite(query)
		rewrites.Store(query, kept)
	}
	r := kept.(*rewritten)
	out := make([]any, min(r.most, len(args)))
	for i := range out {
		out[i] = args[i]
		if text, ok := args[i].(string); ok {
			out[i] = storable(text)
		}
	}
	for _, i := range r.globs {
		if text, ok := out[i].(string); ok {
			out[i] = globbed(text)
		}
	}
	return r.text, out
}

func rewrite(query string) *rewritten {
	r, next := &rewritten{}, 0
	r.text = place().ReplaceAllStringFunc(query, func(found string) string {
		part := place().FindStringSubmatch(found)
		n, err := strconv.Atoi(part[2])
		if err != nil {
			next++
			n = next
		}
		r.most = max(r.most, n)
		if part[1] == "" {
			return fmt.Sprintf("$%d", n)
		}
		r.globs = append(r.globs, n-1)
		return fmt.Sprintf("~ $%d", n)
	})
	return r
}

// storable puts a sign into the place of what a text of PostgreSQL cannot hold: bytes that
// are no UTF-8, and the NUL.
func storable(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "\uFFFD")
}

// globbed writes a pattern of GLOB as a regular expression.
func globbed(pattern string) string {
	var b strings.Builder
	b.WriteString("^")
	for i := 0; i < len(pattern); i++ {
		switch c := pattern[i]; c {
		case '*':
			b.WriteString(".*")
		case '?':
			b.WriteString(".")
		case '[':
			end := strings.IndexByte(pattern[i+1:], ']')
			if end < 1 {
				b.WriteString(`\[`)
				continue
			}
			b.WriteString("[" + strings.NewReplacer(`\`, `\\`, "[", `\[`).Replace(pattern[i+1:i+1+end]) + "]")
			i += end + 1
		default:
			b.WriteString(regexp.QuoteMeta(pattern[i : i+1]))
		}
	}
	return b.String() + "$"
}

func (onServer) prepares() bool { return false } // the driver remembers statements by itself

func (onServer) longest() time.Duration { return 10 * time.Second }

func (onServer) alone(tx *transaction, project string) error {
	return tx.Exec("SELECT pg_advisory_xact_lock(hashtext(?))", project)
}

// wrong puts an error of the server, or of the way there, into words. Codes are those of
// https://www.postgresql.org/docs/current/errcodes-appendix.html
func (o onServer) wrong(err error) error {
	if e := (*pgconn.PgError)(nil); errors.As(err, &e) {
		switch {
		case e.Code == "40001", e.Code == "40P01", e.Code == "55P03", e.Code == "23505", e.Code == "23503":
			return problem.Errorf("history database %s is locked: %w", o.place, errLocked).
				Remedy("try again later")
		case strings.HasPrefix(e.Code, "28"):
			return problem.Errorf("history database %s rejected the user or password: %s", o.place, e.Message).
				Remedy("put the password in ~/.pgpass or PGPASSWORD, or set the user in [history] url")
		case e.Code == "3D000":
			return problem.Errorf("history database %s does not exist", o.place).
				Remedy("create it, for example with `createdb`, or change [history] url in jadekettle.toml")
		case e.Code == "42501":
			return problem.Errorf("history database %s cannot be written: %s", o.place, e.Message).
				Remedy("the user of [history] url makes a schema %s and tables in it: give it CREATE on the "+
					"database", ownSchema)
		case e.Code == "25006":
			return problem.Errorf("history database %s cannot be written: %s", o.place, e.Message).
				Remedy("set [history] url in jadekettle.toml to the server that accepts writes")
		case strings.HasPrefix(e.Code, "53"):
			return problem.Errorf("the server of the history database %s is out of space: %s", o.place, e.Message).
				Remedy("free some space there; `jadekettle runs prune` deletes old runs")
		case strings.HasPrefix(e.Code, "57P"), strings.HasPrefix(e.Code, "08"):
			return o.away(errors.New(e.Message))
		}
		return fmt.Errorf("history database %s: %w", o.place, err)
	}
	if e := (*pgconn.ConnectError)(nil); errors.As(err, &e) {
		return o.away(lastOf(e))
	}
	if n := net.Error(nil); errors.As(err, &n) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, driver.ErrBadConn) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, sql.ErrTxDone) ||
		err != nil && strings.Contains(err.Error(), "conn closed") {
		return o.away(err)
	}
	return err
}

func (o onServer) away(err error) error {
	if text := err.Error(); strings.Contains(text, "certificate") || strings.Contains(text, "refused TLS") {
		return problem.Errorf("history database %s: %w (%s)", o.place, errAway, err).
			Remedy("give the server a certificate for its name, or set ?sslrootcert=FILE or another sslmode in " +
				"[history] url")
	}
	return problem.Errorf("history database %s: %w (%s)", o.place, errAway, err).
		Remedy("check that PostgreSQL is running there and can be reached from here")
}

// lastOf gives the innermost error, which has the reason.
func lastOf(err error) error {
	for {
		next := errors.Unwrap(err)
		if many, ok := err.(interface{ Unwrap() []error }); ok && len(many.Unwrap()) > 0 {
			next = many.Unwrap()[0]
		}
		if next == nil {
			return err
		}
		err = next
	}
}

func (onServer) tasks(tx *transaction, rows []taskRow) error {
	if len(rows) == 0 {
		return nil
	}
	var cols [7][]int64
	labels, details := make([]*int64, len(rows)), make([][]byte, len(rows))
	for i, r := range rows {
		for c, n := range [7]int64{r.visit, r.nth, r.thing, r.place, int64(r.status), r.began, r.took} {
			cols[c] = append(cols[c], n)
		}
		if r.labels.Valid {
			labels[i] = &r.labels.Int64
		}
		details[i] = r.detail
	}
	_, err := tx.Tx.Exec(`INSERT INTO task (visit, nth, thing, place, status, began, took, labels, detail) SELECT * FROM
		unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[],
		$8::bigint[], $9::bytea[])`,
		cols[0], cols[1], cols[2], cols[3], cols[4], cols[5], cols[6], labels, details)
	return err
}

func (onServer) joined(column string) string { return "string_agg(" + column + ", ';')" }

func (onServer) words(tx *transaction, rows []wordsRow) error {
	if len(rows) == 0 {
		return nil
	}
	var cols [3][]int64
	var texts []string
	for _, r := range rows {
		for c, n := range [3]int64{r.run, r.visit, r.nth} {
			cols[c] = append(cols[c], n)
		}
		texts = append(texts, vector(r.text))
	}
	_, err := tx.Tx.Exec(`INSERT INTO said (run, visit, nth, words) SELECT r, v, n, w::tsvector FROM
		unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[]) AS t(r, v, n, w)`, cols[0], cols[1],
		cols[2], texts)
	return err
}

// parts splits a text as FTS5's tokenizer unicode61 does, so that both databases find the same:
// runs of letters and digits, small and without accents (https://sqlite.org/fts5.html, 4.3.1).
func parts(text string) []string {
	var plain strings.Builder
	for _, r := range norm.NFD.String(text) {
		if !unicode.Is(unicode.Mn, r) {
			plain.WriteRune(unicode.ToLower(r))
		}
	}
	return strings.FieldsFunc(plain.String(), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsNumber(r) && !unicode.Is(unicode.Co, r)
	})
}

// Bounds of a tsvector, see https://www.postgresql.org/docs/current/textsearch-limitations.html:
// how long a word may be in bytes, how often the place of one is given, and the last place.
const (
	longestPart = 2000
	mostPlaces  = 250
	lastPlace   = 16383
)

// vector writes a text as a tsvector. Its parts hold nothing but letters and digits.
func vector(text string) string {
	at := map[string][]int{}
	for i, p := range parts(text) {
		if len(p) <= longestPart && len(at[p]) < mostPlaces {
			at[p] = append(at[p], min(i+1, lastPlace))
		}
	}
	var b strings.Builder
	for _, p := range value.Keys(at) {
		fmt.Fprintf(&b, "'%s':", p)
		for i, n := range at[p] {
			if i > 0 {
				b.WriteByte(',')
			}
			b.WriteString(strconv.Itoa(n))
		}
		b.WriteByte(' ')
	}
	return b.String()
}

func (onServer) matching(words []string) (from, cond, arg string) {
	var all []string
	for _, w := range words {
		list := parts(w)
		for i := range list {
			list[i] = "'" + list[i] + "'"
		}
		if len(list) > 0 {
			all = append(all, "("+strings.Join(list, " <-> ")+":*)")
		}
	}
	return "said", "said.words @@ (?::text)::tsquery", strings.Join(all, " & ")
}

func (onServer) unsaid(tx *transaction, run int64) error {
	return tx.Exec("DELETE FROM said WHERE run = ?", run)
}

func (onServer) size(db *database) (n int64, err error) {
	return n, db.QueryRow(`SELECT coalesce(sum(pg_total_relation_size(pg_class.oid)), 0)::bigint FROM pg_class
		JOIN pg_namespace ON
		pg_namespace.oid = relnamespace WHERE nspname = current_schema() AND relkind = 'r'`).Scan(&n)
}

// tidy leaves room for what comes: giving it back to the server's disk would lock all
// controllers out.
func (onServer) tidy(db *database) error {
	_, err := db.Exec("VACUUM run, visit, task, note, content, tree, leaf, said")
	return err
}

// sound finds nothing: the server holds rows to each other at every write, and pages to their
// checksums where it was made with them.
func (onServer) sound(*database, func(format string, args ...any)) error { return nil }
