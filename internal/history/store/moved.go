package store

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/history"
)

// Where earlier versions kept what is kept here, in a folder of the project.
const formerly = ".jadekettle"

// MoveIn takes over what earlier versions kept in a folder of the project: a file of JSON
// for each run, and one of CBOR with what was known of each host. What is taken over, or
// is none of these, is removed there; where a file cannot be read all stays.
func (p Project) MoveIn(dir string) error {
	old := filepath.Join(dir, formerly)
	if _, err := os.Stat(old); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	db, err := p.open()
	if err != nil {
		return err
	}
	if err := write(db, func(tx *transaction) error {
		if err := p.moveRuns(tx, filepath.Join(old, "runs")); err != nil {
			return err
		}
		return p.moveHosts(tx, filepath.Join(old, "hosts"))
	}); err != nil {
		return err
	}
	for _, name := range []string{"runs", "hosts", ".gitignore"} {
		if err := os.RemoveAll(filepath.Join(old, name)); err != nil {
			return err
		}
	}
	os.Remove(old) // unless something else lies there
	return nil
}

func (p Project) moveRuns(tx *transaction, dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var list []int
	for _, e := range entries {
		if n, err := strconv.Atoi(strings.TrimSuffix(e.Name(), ".json")); err == nil {
			list = append(list, n)
		}
	}
	slices.Sort(list)
	for _, n := range list {
		var k struct {
			Who     string   `json:"who"`
			Command []string `json:"command"`
			history.Report
		}
		data, err := os.ReadFile(filepath.Join(dir, strconv.Itoa(n)+".json"))
		if err != nil {
			return err
		}
		if json.Unmarshal(data, &k) != nil || k.Run == "" {
			continue // one that was broken off
		}
		if err := p.move(tx, n, k.Who, k.Command, &k.Report); err != nil {
			return err
		}
	}
	return nil
}

// move keeps a run of an earlier version, unless it is there.
func (p Project) move(tx *transaction, n int, who string, command []string, r *history.Report) error {
	have := 0
	err := tx.QueryRow("SELECT count(*) FROM run WHERE uuid = ? OR project = ? AND number = ?", r.Run, p.ID, n).Scan(&have)
	if err != nil || have > 0 {
		return err
	}
	h := history.Head{Number: n, Run: r.Run, Mode: r.Mode, Env: r.Env, Started: r.Started, Seconds: r.Seconds, Who: who,
		Command: command, Whole: true, Declared: r.Mode == history.ModeApply}
	id, err := p.insert(tx, &h, false)
	if err != nil {
		return err
	}
	w := writer{tx: tx, project: p.ID, run: id, number: n, started: r.Started}
	for i, host := range r.Hosts {
		visit, err := w.visit(host.Name, i)
		if err != nil {
			return err
		}
		for _, t := range host.Tasks {
			if err := w.task(visit, t); err != nil {
				return err
			}
		}
		host.Outcome = host.Judged()
		if err := w.visited(visit, history.KeptHost{Host: host}, nil); err != nil {
			return err
		}
	}
	return w.put()
}

func (p Project) moveHosts(tx *transaction, dir string) error {
	envs, err := filepath.Glob(filepath.Join(dir, "*", "*.cbor"))
	if err != nil {
		return err
	}
	flat, err := filepath.Glob(filepath.Join(dir, "*.cbor"))
	if err != nil {
		return err
	}
	for _, file := range slices.Concat(flat, envs) {
		env := ""
		if d := filepath.Dir(file); d != dir {
			env = filepath.Base(d)
		}
		var s struct {
			Read   time.Time    `cbor:"2,keyasint"`
			Facts  *facts.Facts `cbor:"3,keyasint"`
			Groups []string     `cbor:"4,keyasint"`
			Ran    time.Time    `cbor:"5,keyasint"`
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		if wire.Unmarshal(data, &s) != nil || s.Facts == nil || s.Facts.Validate() != nil {
			continue
		}
		k, host := p.Known(env), strings.TrimSuffix(filepath.Base(file), ".cbor")
		have := 0
		if err := tx.QueryRow("SELECT count(*) FROM known WHERE project = ? AND env = ? AND host = ?", p.ID, env, host).
			Scan(&have); err != nil {
			return err
		}
		if have > 0 {
			continue
		}
		if err := k.put(tx, host, HostState{Read: s.Read, Facts: s.Facts, Groups: s.Groups, Ran: s.Ran}); err != nil {
			return err
		}
	}
	return nil
}
