package history

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Runs are the runs of a project that are kept, one file for each, beside what is known
// of its hosts. There is no secret in them.
type Runs struct{ dir string }

// OpenRuns gives the runs of a project. Nothing is made until one is kept.
func OpenRuns(project string) Runs { return Runs{filepath.Join(project, StateDir, "runs")} }

// Kept is one run as it is kept.
type Kept struct {
	Who     string   `json:"who"`
	Command []string `json:"command"` // as it was called, without the program's name
	Report
}

// maxRuns is how many runs are kept.
const maxRuns = 500

const runSuffix = ".json"

// numbers lists the numbers of the kept runs, lowest first.
func (r Runs) numbers() ([]int, error) {
	entries, err := os.ReadDir(r.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []int
	for _, e := range entries {
		if n, err := strconv.Atoi(strings.TrimSuffix(e.Name(), runSuffix)); err == nil && strings.HasSuffix(e.Name(), runSuffix) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out, err
}

// Reserve takes the next number, so that two runs at once do not have the same.
func (r Runs) Reserve() (int, error) {
	if err := makeState(r.dir); err != nil {
		return 0, err
	}
	have, err := r.numbers()
	if err != nil {
		return 0, err
	}
	n := 1
	if len(have) > 0 {
		n = have[len(have)-1] + 1
	}
	for ; ; n++ {
		f, err := os.OpenFile(r.file(n), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return 0, err
		}
		return n, f.Close()
	}
}

func (r Runs) file(n int) string { return filepath.Join(r.dir, strconv.Itoa(n)+runSuffix) }

// Keep writes a run under the number that was reserved for it, and lets the oldest go.
func (r Runs) Keep(k Kept) error {
	data, err := json.Marshal(k)
	if err != nil {
		return err
	}
	if err := Replace(r.file(k.Number), data, 0o600); err != nil {
		return fmt.Errorf("keep the run: %w", err)
	}
	have, err := r.numbers()
	for len(have) > maxRuns && err == nil {
		err = os.Remove(r.file(have[0]))
		have = have[1:]
	}
	return err
}

// Load reads one run.
func (r Runs) Load(n int) (Kept, error) {
	var k Kept
	data, err := os.ReadFile(r.file(n))
	if err != nil {
		return k, err
	}
	if len(data) == 0 {
		return k, errors.New("it was broken off before it ended")
	}
	if err := json.Unmarshal(data, &k); err != nil {
		return k, fmt.Errorf("read the run %d: %w", n, err)
	}
	return k, nil
}

// Last gives the newest run of an environment that is kept whole and is of one of these
// modes; ok is false when there is none.
func (r Runs) Last(env string, modes ...string) (k Kept, ok bool) {
	have, err := r.numbers()
	if err != nil {
		return k, false
	}
	for _, n := range slices.Backward(have) {
		if k, err = r.Load(n); err == nil && k.Env == env && slices.Contains(modes, k.Mode) {
			return k, true
		}
	}
	return Kept{}, false
}
