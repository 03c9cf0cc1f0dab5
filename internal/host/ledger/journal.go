package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
)

// Record is one line of the journal: results of one run.
type Record struct {
	Run     plan.Run      `json:"run"`
	Results []plan.Result `json:"results"`
}

// journals of different projects do not mix, so that each collects its own.
func (s *Store) journalName() string {
	return "journal-" + s.project + ".jsonl"
}

// Collect reads the journal that an earlier run of this project left, because
// it was killed or its connection broke. The ledger learns what that run had
// not come to write into it. A last line that broke off is skipped.
func (s *Store) Collect() ([]Record, error) {
	f, err := s.dir.Open(s.journalName())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, 256<<20))
	if err != nil {
		return nil, err
	}
	var out []Record
	for line := range bytes.Lines(data) {
		var r Record
		if json.Unmarshal(line, &r) != nil {
			break
		}
		out = append(out, r)
		for _, res := range r.Results {
			if res.Again {
				withdraw(out[:len(out)-1], r.Run.ID, res.ID)
			}
			if res.Status == plan.Changed && !res.Gone {
				s.KeepUnseen(res.Ref, r.Run)
			}
		}
	}
	return out, nil
}

// withdraw takes a result out of earlier lines of a run which a later one is in the place of.
func withdraw(earlier []Record, run string, id int) {
	for i := range earlier {
		if earlier[i].Run.ID == run {
			earlier[i].Results = slices.DeleteFunc(earlier[i].Results, func(r plan.Result) bool { return r.ID == id })
		}
	}
}

// Begin opens the journal for this run. What was collected stays in it until
// all is delivered.
func (s *Store) Begin(collected []Record) error {
	var data []byte
	for _, r := range collected {
		line, err := json.Marshal(r)
		if err != nil {
			return err
		}
		data = append(append(data, line...), '\n')
	}
	temp := s.journalName() + ".new"
	s.dir.Remove(temp)
	f, err := s.dir.Create(temp, 0o600, -1, -1)
	if err != nil {
		return fmt.Errorf("open the journal in %s: %w", s.path, err)
	}
	s.journal = f // which Close closes, whatever becomes of it
	if _, err = f.Write(data); err == nil && len(data) > 0 {
		err = f.Sync()
	}
	if err == nil {
		err = s.dir.Rename(temp, s.journalName())
	}
	if s.unnamed = len(data) == 0; err == nil && !s.unnamed {
		err = s.dir.Sync()
	}
	if err != nil {
		return fmt.Errorf("open the journal in %s: %w", s.path, err)
	}
	return nil
}

// Note writes results into the journal before they are sent. What changed the
// host is on disk when it returns.
func (s *Store) Note(run plan.Run, results []plan.Result) error {
	line, err := json.Marshal(Record{run, results})
	if err != nil {
		return err
	}
	if _, err := s.journal.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("write the journal in %s: %w", s.path, err)
	}
	for _, r := range results {
		if r.Status == plan.Changed {
			return s.sync()
		}
	}
	return nil
}

// sync puts the journal on disk, its name with it the first time.
func (s *Store) sync() error {
	if err := s.journal.Sync(); err != nil || !s.unnamed {
		return err
	}
	s.unnamed = false
	return s.dir.Sync()
}

// Delivered removes the journal: the controller has everything.
func (s *Store) Delivered() { s.dir.Remove(s.journalName()) }

// Candidate notes a file before it is made beside its target, so that the next
// run can remove it when this one is killed.
func (s *Store) Candidate(p string) error {
	if s.straysFile == nil {
		s.dir.Remove("candidates")
		f, err := s.dir.Create("candidates", 0o600, -1, -1)
		if err != nil {
			return fmt.Errorf("record a candidate in %s: %w", s.path, err)
		}
		s.straysFile = f
		for _, old := range s.strays { // which could not be removed so far
			if _, err := io.WriteString(f, old+"\n"); err != nil {
				return err
			}
		}
		if err := s.dir.Sync(); err != nil {
			return err
		}
	}
	s.strays = append(s.strays, p)
	_, err := io.WriteString(s.straysFile, p+"\n")
	if err == nil {
		err = s.straysFile.Sync()
	}
	return err
}

// CandidateMark begins the name of every candidate, after the dot.
const CandidateMark = ".jadekettle-"

// sweep removes the candidates that a killed run left.
func (s *Store) sweep() error {
	f, err := s.dir.Open("candidates")
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	data, err := io.ReadAll(io.LimitReader(f, 16<<20))
	f.Close()
	if err != nil {
		return err
	}
	s.strays = s.left(strings.Split(string(data), "\n"))
	if len(s.strays) > 0 {
		return nil // they stay noted
	}
	return s.dir.Remove("candidates")
}

// left removes candidates, and gives those that stay all the same: somebody may have
// made their folder one to which things can only be added.
func (s *Store) left(candidates []string) []string {
	var out []string
	for _, p := range candidates {
		if !strings.HasPrefix(path.Base(p), CandidateMark) {
			continue
		}
		d, err := s.m.Dir(path.Dir(p))
		if err != nil {
			continue
		}
		if d.RemoveAll(path.Base(p)) != nil { // an archive is unpacked into a folder
			out = append(out, p)
		}
		d.Close()
	}
	return out
}

// Finish ends a run's bookkeeping: the ledger is saved and the list of
// candidates removed.
func (s *Store) Finish(run plan.Run) error {
	if s.straysFile != nil {
		if s.strays = s.left(s.strays); len(s.strays) == 0 {
			s.dir.Remove("candidates")
		}
	}
	if run.Preview {
		return nil
	}
	return s.Save()
}
