package backend

import (
	"io"
	"path"
	"strings"
	"time"

	"jadekettle/internal/host/machine"
)

// Report is what a manager knows of a service that does not run though it was started.
type Report struct {
	Why   string // in a few words; empty where the manager does not know
	Lines string // what the service last logged; empty where it has no log
}

// MostLines is how many lines of a log a Report has.
const MostLines = 20

// tailBytes is how much of the end of a log file is read for them.
const tailBytes = 8 << 10

// Tail gives the last lines of the first log file of several that was written to since a time.
func Tail(m machine.Machine, since time.Time, paths ...string) string {
	for _, p := range paths {
		d, err := m.Dir(path.Dir(p))
		if err != nil {
			continue
		}
		text, ok := tail(d, path.Base(p), since)
		d.Close()
		if ok {
			return text
		}
	}
	return ""
}

func tail(d machine.Dir, name string, since time.Time) (string, bool) {
	info, err := d.Lstat(name)
	if err != nil || !info.Type.IsRegular() || info.Links > 1 || info.Time.Before(since) {
		return "", false
	}
	f, err := d.Open(name)
	if err != nil {
		return "", false
	}
	defer f.Close()
	if _, err := io.CopyN(io.Discard, f, max(0, info.Size-tailBytes)); err != nil {
		return "", false
	}
	data, err := io.ReadAll(io.LimitReader(f, tailBytes))
	if err != nil {
		return "", false
	}
	lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	return strings.Join(lines[max(0, len(lines)-MostLines):], "\n"), true
}
