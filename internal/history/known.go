package history

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"

	"jadekettle/internal/core/facts"
)

// Known is what is kept of hosts between calls, one file for each, in a folder
// of the project that is not for version control: its facts as they were last
// read, and the groups that it was in at the last run.
type Known struct{ dir string }

// StateDir is that folder inside a project.
const StateDir = ".jadekettle"

// OpenKnown gives what is kept for a project's environment. Nothing is made
// until something is kept.
func OpenKnown(project, env string) Known {
	return Known{filepath.Join(project, StateDir, "hosts", env)}
}

// HostState is what is kept of one host.
type HostState struct {
	Format int          `cbor:"1,keyasint"`
	Read   time.Time    `cbor:"2,keyasint"` // when the facts were read
	Facts  *facts.Facts `cbor:"3,keyasint"`
	Groups []string     `cbor:"4,keyasint"` // at the last run; nil when there was none
	Ran    time.Time    `cbor:"5,keyasint"` // when that was
}

const knownFormat = 1

// Load reads what is kept of a host. ok is false when there is nothing, or
// nothing that can be read.
func (k Known) Load(host string) (s HostState, ok bool) {
	data, err := os.ReadFile(k.file(host))
	if err != nil || cbor.Unmarshal(data, &s) != nil || s.Format != knownFormat || s.Facts == nil ||
		s.Facts.Validate() != nil {
		return HostState{}, false
	}
	return s, true
}

func (k Known) file(host string) string { return filepath.Join(k.dir, host+".cbor") }

// Hosts lists the hosts of which something is kept.
func (k Known) Hosts() []string {
	entries, _ := os.ReadDir(k.dir)
	var out []string
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), ".cbor"); ok && !e.IsDir() {
			out = append(out, name)
		}
	}
	return out
}

// Keep notes a host's facts, and with a run its groups.
func (k Known) Keep(host string, f *facts.Facts, groups []string, run bool, now time.Time) error {
	s, _ := k.Load(host)
	if s.Facts != nil && (f.Services == nil || f.Own == nil) { // asked for only when something reads them
		whole := *f
		if f.Services == nil {
			whole.Services = s.Facts.Services
		}
		if f.Own == nil {
			whole.Own, whole.OwnWrong = s.Facts.Own, s.Facts.OwnWrong
		}
		f = &whole
	}
	s.Format, s.Read, s.Facts = knownFormat, now, f
	if run {
		s.Groups, s.Ran = append([]string{}, groups...), now
	}
	data, err := cbor.Marshal(s)
	if err != nil {
		return fmt.Errorf("keep the facts of %s: %w", host, err)
	}
	if err := makeState(k.dir); err != nil {
		return err
	}
	return Replace(k.file(host), data, 0o600)
}

// Forget drops what is kept of a host.
func (k Known) Forget(host string) error {
	err := os.Remove(k.file(host))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// makeState makes a folder inside StateDir, which keeps itself out of version control.
func makeState(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for top := dir; top != filepath.Dir(top); top = filepath.Dir(top) {
		if filepath.Base(top) != StateDir {
			continue
		}
		ignore := filepath.Join(top, ".gitignore")
		if _, err := os.Stat(ignore); errors.Is(err, fs.ErrNotExist) {
			return os.WriteFile(ignore, []byte("*\n"), 0o644)
		}
		break
	}
	return nil
}

// Replace puts a file in place in one step.
func Replace(name string, data []byte, mode os.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(name), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	if e := f.Chmod(mode); err == nil {
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}
