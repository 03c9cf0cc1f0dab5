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

const knownOfHost = `SELECT known.read, known.ran, known.groups, known.mac, content.packed FROM known
	JOIN content ON content.id = known.facts
	WHERE project = ? AND env = ? AND host = ?`

// Load reads what is known of a host. ok is false when there is nothing, or nothing that can
// be read.
func (k Known) Load(host string) (s HostState, ok bool) {
	db, err := k.p.reading()
	if err != nil {
		return s, false
	}
	s, err = k.load(host, db.QueryRow(knownOfHost, k.p.ID, k.env, host).Scan)
	return s, err == nil
}

func (k Known) load(host string, scan func(...any) error) (s HostState, err error) {
	var at, ran int64
	var groups sql.NullString
	var mac, packed []byte
	if err := scan(&at, &ran, &groups, &mac, &packed); err != nil {
		return s, err
	}
	text, err := unpack(packed)
	if err != nil {
		return s, err
	}
	s.Read, s.Ran = atMillis(at), atMillis(ran)
	s.Ours = hmac.Equal(mac, k.mac(host, at, text))
	if groups.Valid {
		s.Groups = []string{}
		if err := json.Unmarshal([]byte(groups.String), &s.Groups); err != nil {
			return s, err
		}
	}
	if err := wire.Unmarshal(text, &s.Facts); err != nil {
		return s, err
	}
	if s.Facts == nil {
		return s, errors.New("no facts are known")
	}
	return s, s.Facts.Validate()
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

// Keep notes what was learnt of hosts at a time, in one go.
func (k Known) Keep(list []Learnt, now time.Time) error {
	if len(list) == 0 {
		return nil
	}
	db, err := k.p.open()
	if err != nil {
		return err
	}
	return write(db, func(tx *transaction) error {
		for _, l := range list {
			if err := k.keep(tx, l, now); err != nil {
				return err
			}
		}
		return nil
	})
}

func (k Known) keep(tx *transaction, l Learnt, now time.Time) error {
	before, err := k.load(l.Host, tx.QueryRow(knownOfHost, k.p.ID, k.env, l.Host).Scan)
	f := l.Facts
	if err == nil && before.Ours && (f.Services == nil || f.Own == nil) { // asked for only when something reads them
		whole := *f
		if f.Services == nil {
			whole.Services = before.Facts.Services
		}
		if f.Own == nil {
			whole.Own, whole.OwnWrong = before.Facts.Own, before.Facts.OwnWrong
		}
		f = &whole
	}
	s := HostState{Read: now, Facts: f, Groups: before.Groups, Ran: before.Ran}
	if l.Groups != nil {
		s.Groups, s.Ran = l.Groups, now
	}
	return k.writeState(tx, l.Host, s)
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

// Forget drops what is known of hosts.
func (k Known) Forget(hosts ...string) error {
	db, err := k.p.reading()
	if errors.Is(err, ErrNone) || len(hosts) == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	return write(db, func(tx *transaction) error {
		for _, host := range hosts {
			if err := tx.Exec("DELETE FROM known WHERE project = ? AND env = ? AND host = ?", k.p.ID, k.env,
				host); err != nil {
				return err
			}
		}
		return nil
	})
}
