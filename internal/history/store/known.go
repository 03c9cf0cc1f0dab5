package store

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/fxamacker/cbor/v2"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/wire"
)

// Known is what is known of a project's hosts in one environment between calls: their facts
// as they were last read, and the groups that they were in at the last run.
type Known struct {
	p   Project
	env string
}

// Known gives what is known in an environment.
func (p Project) Known(env string) Known { return Known{p, env} }

// HostState is what is known of one host.
type HostState struct {
	Read   time.Time // when the facts were read
	Facts  *facts.Facts
	Groups []string  // at the last run; nil when there was none
	Ran    time.Time // when that was
	Ours   bool      // the facts were read from here, or nobody else can write them
}

const (
	knownOfAll = `SELECT known.read, known.ran, known.groups, known.mac, content.packed, known.host, known.facts
		FROM known JOIN content ON content.id = known.facts WHERE project = ? AND env = ?`
	knownOfHost = knownOfAll + ` AND host = ?`
)

// Load reads what is known of a host. ok is false when there is nothing, or nothing that can
// be read.
func (k Known) Load(host string) (s HostState, ok bool) { return k.Of(1)(host) }

// Of gives what Load does, for calls about so many hosts: what is known of many is read at once.
func (k Known) Of(hosts int) func(host string) (HostState, bool) {
	db, err := k.p.reading()
	if err != nil {
		return func(string) (HostState, bool) { return HostState{}, false }
	}
	return k.of(db, hosts)
}

// few is up to how many hosts are asked for one by one.
const few = 10

func (k Known) of(db asker, hosts int) func(host string) (HostState, bool) {
	if hosts <= few {
		return func(host string) (HostState, bool) {
			_, s, err := k.load(db.QueryRow(knownOfHost, k.p.ID, k.env, host).Scan, &sharedFacts{})
			return s, err == nil
		}
	}
	all, last := map[string]HostState{}, sharedFacts{}
	err := each(db, func(scan func(...any) error) error {
		host, s, err := k.load(scan, &last)
		if err == nil {
			all[host] = s
		}
		if host == "" {
			return err
		}
		return nil // of one host, of which nothing is known then
	}, knownOfAll+" ORDER BY known.facts", k.p.ID, k.env)
	if err != nil {
		clear(all) // as where one host cannot be read
	}
	return func(host string) (s HostState, ok bool) {
		s, ok = all[host]
		return s, ok
	}
}

// sharedFacts are facts that hosts may have in common, which are unpacked and decoded once.
type sharedFacts struct {
	id    int64
	text  []byte
	facts *facts.Facts
	err   error
}

// read makes them those of a text.
func (f *sharedFacts) read(id int64, packed []byte) error {
	if f.facts != nil && f.id == id {
		return f.err
	}
	*f = sharedFacts{id: id}
	if f.text, f.err = unpack(packed); f.err != nil {
		return f.err
	}
	if f.err = wire.Unmarshal(f.text, &f.facts); f.err != nil {
		return f.err
	}
	if f.facts == nil {
		return errors.New("no facts are known")
	}
	f.err = f.facts.Validate()
	return f.err
}

// load reads a row of knownOfAll. last is what the row before it had. The host is empty where the row cannot be read.
func (k Known) load(scan func(...any) error, last *sharedFacts) (host string, s HostState, err error) {
	var at, ran, id int64
	var groups sql.NullString
	var mac, packed []byte
	if err := scan(&at, &ran, &groups, &mac, &packed, &host, &id); err != nil {
		return "", s, err
	}
	if err := last.read(id, packed); err != nil {
		return host, s, err
	}
	s.Read, s.Ran, s.Facts = atMillis(at), atMillis(ran), last.facts
	s.Ours = hmac.Equal(mac, k.mac(host, at, last.text))
	if groups.Valid {
		s.Groups = []string{}
		if err := json.Unmarshal([]byte(groups.String), &s.Groups); err != nil {
			return host, s, err
		}
	}
	return host, s, nil
}

// Hosts lists the hosts of which something is known; none where that cannot be read.
func (k Known) Hosts() []string {
	db, err := k.p.reading()
	if err != nil {
		return nil
	}
	var out []string
	if each(db, func(scan func(...any) error) error {
		var name string
		err := scan(&name)
		out = append(out, name)
		return err
	}, "SELECT host FROM known WHERE project = ? AND env = ? ORDER BY host", k.p.ID, k.env) != nil {
		return nil
	}
	return out
}

// Learnt is what a call has learnt of one host.
type Learnt struct {
	Host   string
	Facts  *facts.Facts
	Groups []string // that it is in; nil outside of a run
}

// News is what a call has learnt of hosts.
type News struct {
	At    time.Time // when, of the moves as well
	Hosts []Learnt
	Gone  []string // hosts of which nothing is to be known any more
	Moves []Move
}

// Keep keeps what was learnt, in one go.
func (k Known) Keep(n News) error {
	if len(n.Hosts)+len(n.Gone)+len(n.Moves) == 0 {
		return nil
	}
	db, err := k.p.open()
	if err != nil {
		return err
	}
	return write(db, func(tx *transaction) error { return k.keep(tx, n, 0) })
}

// keep keeps what a run has learnt; 0 is for a call that is none.
func (k Known) keep(tx *transaction, n News, run int) error {
	known := k.of(tx, len(n.Hosts))
	for _, l := range n.Hosts {
		before, ok := known(l.Host)
		if err := k.writeState(tx, l.Host, l.state(before, ok, n.At)); err != nil {
			return err
		}
	}
	for _, host := range n.Gone {
		if err := tx.Exec("DELETE FROM known WHERE project = ? AND env = ? AND host = ?", k.p.ID, k.env,
			host); err != nil {
			return err
		}
	}
	return k.moved(tx, n, run)
}

// state is what is known of a host from now on; before is what was, if ok.
func (l *Learnt) state(before HostState, ok bool, now time.Time) HostState {
	f := l.Facts
	if ok && before.Ours && (f.Services == nil || f.Own == nil) { // asked for only when something reads them
		whole := *f
		if f.Services == nil {
			whole.Services = before.Facts.Services
		}
		if f.Own == nil {
			whole.Own, whole.OwnWrong = before.Facts.Own, before.Facts.OwnWrong
		}
		f = &whole
	}
	if l.Groups == nil {
		return HostState{Read: now, Facts: f, Groups: before.Groups, Ran: before.Ran}
	}
	return HostState{Read: now, Facts: f, Groups: l.Groups, Ran: now}
}

// writeState keeps what is known of a host in the place of what was.
func (k Known) writeState(tx *transaction, host string, s HostState) error {
	text, err := cbor.Marshal(s.Facts)
	if err != nil {
		return err
	}
	of, err := content(tx, text)
	if err != nil {
		return err
	}
	var groups any
	if s.Groups != nil {
		list, err := json.Marshal(s.Groups)
		if err != nil {
			return err
		}
		groups = string(bytes.TrimSpace(list))
	}
	return tx.Exec(`INSERT INTO known (project, env, host, read, facts, groups, ran, mac)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT
		(project, env, host) DO UPDATE
		SET read = excluded.read, facts = excluded.facts, groups = excluded.groups, ran = excluded.ran,
		mac = excluded.mac`, k.p.ID, k.env, host, millis(s.Read), of, groups, millis(s.Ran),
		k.mac(host, millis(s.Read), text))
}

// mac is an HMAC over the facts of a host and when they were read; nothing without a key.
func (k Known) mac(host string, read int64, text []byte) []byte {
	if len(k.p.Key) == 0 {
		return []byte{}
	}
	h := hmac.New(sha256.New, k.p.Key)
	for _, part := range []string{k.p.ID, k.env, host, strconv.FormatInt(read, 10), string(text)} {
		fmt.Fprintf(h, "%d:%s", len(part), part)
	}
	return h.Sum(nil)
}

// Forget drops what is known of a host.
func (k Known) Forget(host string) error {
	if k.p.URL == "" && (inFile{path: k.p.File}).none() {
		return nil
	}
	return k.Keep(News{Gone: []string{host}})
}
