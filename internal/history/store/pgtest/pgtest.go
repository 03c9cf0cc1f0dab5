// Package pgtest starts a PostgreSQL server of its own for tests, from the programs that a
// distribution's package brings, in a temporary folder and without a port.
package pgtest

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// Server is one that runs.
type Server struct {
	dir  string // with the data, and the socket
	bin  string
	who  *syscall.Credential // nil for the account of the test
	cmd  *exec.Cmd
	made atomic.Int32 // databases
}

// login is the server's only user.
const login = "tidekeeper"

// Start starts a server, which ends with the test. Where its programs are not installed the
// test is skipped.
func Start(tb testing.TB) *Server {
	tb.Helper()
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	s := &Server{}
	for _, dir := range slices.Backward(dirs) {
		if _, err := os.Stat(filepath.Join(dir, "initdb")); err == nil && s.bin == "" {
			s.bin = dir
		}
	}
	if s.bin == "" {
		tb.Skip("no PostgreSQL server (Debian's package postgresql)")
	}
	dir, err := os.MkdirTemp("", "jadekettle-pg") // short, since a socket's path is
	if err != nil {
		tb.Fatal(err)
	}
	s.dir = dir
	tb.Cleanup(func() {
		s.Kill()
		os.RemoveAll(dir)
	})
	if os.Getuid() == 0 { // as which it does not run
		s.lower(tb)
	}
	if out, err := s.program("initdb", "-D", s.data(), "-U", login, "-A", "trust", "-E", "UTF8", "--locale=C",
		"--no-sync").
		CombinedOutput(); err != nil {
		tb.Fatalf("initdb: %v\n%s", err, out)
	}
	s.Begin(tb)
	return s
}

// lower has the server run as an account that may do nothing else.
func (s *Server) lower(tb testing.TB) {
	tb.Helper()
	u, err := user.Lookup("nobody")
	if err != nil {
		tb.Fatal(err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(s.dir, uid, gid); err != nil {
		tb.Fatal(err)
	}
	s.who = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

func (s *Server) program(name string, args ...string) *exec.Cmd {
	c := exec.Command(filepath.Join(s.bin, name), args...)
	c.Dir, c.SysProcAttr = s.dir, &syscall.SysProcAttr{Credential: s.who}
	return c
}

// Begin starts the server, again after Kill, and waits until it answers.
func (s *Server) Begin(tb testing.TB) {
	tb.Helper()
	// the lock of one that was killed; its number may be another process's by now
	os.Remove(filepath.Join(s.data(), "postmaster.pid"))
	s.cmd = s.program("postgres", "-D", s.data(), "-k", s.dir, "-c", "listen_addresses=", "-c", "fsync=off")
	log, err := os.Create(filepath.Join(s.dir, "log"))
	if err != nil {
		tb.Fatal(err)
	}
	defer log.Close()
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		tb.Fatal(err)
	}
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		_, err := s.ask("postgres", "SELECT 1")
		if err == nil {
			return
		}
		if time.Now().After(deadline) {
			reported, _ := os.ReadFile(log.Name())
			tb.Fatalf("the server does not respond: %v\n%s", err, reported)
		}
	}
}

// Kill ends the server at once, with all connections.
func (s *Server) Kill() {
	if s.cmd == nil {
		return
	}
	s.cmd.Process.Signal(syscall.SIGQUIT)
	s.cmd.Wait()
	s.cmd = nil
}

// Refuse takes the place of a server that was killed until somebody has asked it for a connection, and hangs up.
func (s *Server) Refuse(tb testing.TB) {
	tb.Helper()
	socket := filepath.Join(s.dir, ".s.PGSQL.5432")
	os.Remove(socket) // of a server that was killed
	l, err := net.Listen("unix", socket)
	if err != nil {
		tb.Fatal(err)
	}
	defer l.Close()
	c, err := l.Accept()
	if err != nil {
		tb.Fatal(err)
	}
	c.Close()
}

// Database makes a database and gives its URL.
func (s *Server) Database(tb testing.TB) string {
	tb.Helper()
	name := fmt.Sprintf("tides%d", s.made.Add(1))
	if out, err := s.ask("postgres", "CREATE DATABASE "+name); err != nil {
		tb.Fatalf("%v\n%s", err, out)
	}
	return s.URL(name, login)
}

// URL names a database, and who asks for it.
func (s *Server) URL(name, who string) string {
	u := url.URL{Scheme: "postgres", Path: "/" + name, RawQuery: url.Values{"host": {s.dir}, "user": {who}}.Encode()}
	return u.String()
}

// Ask asks a database, given by its URL, and gives the rows, their columns with a bar between.
func (s *Server) Ask(tb testing.TB, database, query string) string {
	tb.Helper()
	u, err := url.Parse(database)
	if err != nil {
		tb.Fatal(err)
	}
	out, err := s.ask(strings.TrimPrefix(u.Path, "/"), query)
	if err != nil {
		tb.Fatalf("%s: %v\n%s", query, err, out)
	}
	return strings.TrimSpace(out)
}

func (s *Server) ask(database, query string) (string, error) {
	c := s.program("psql", "-X", "-At", "-h", s.dir, "-U", login, "-d", database, "-c", query)
	out, err := c.CombinedOutput()
	return string(out), err
}
