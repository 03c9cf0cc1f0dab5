package history

import (
	"strings"
	"time"

	"jadekettle/internal/core/record"
)

// File is one file of a project as a run found it.
type File struct {
	Path string `json:"path" doc:"The file, relative to the project."`
	Size int64  `json:"size" doc:"Its size in bytes."`
	Sum  string `json:"sum" doc:"The SHA-256 of its text; empty if it was too large to keep."`
}

// Hit is one place in which words were found.
type Hit struct {
	Number  int       `json:"number" doc:"The run's number."`
	Run     string    `json:"run" doc:"The run, a UUIDv7."`
	Mode    string    `json:"mode" doc:"What kind of run it was."`
	Started time.Time `json:"started" doc:"The start time, in UTC."`
	Who     string    `json:"who" doc:"The user who started it."`
	Host    string    `json:"host" doc:"The host; empty if the run itself matches."`
	Kind    string    `json:"kind" doc:"The kind of the task; empty if the host or the run matches."`
	Name    string    `json:"name" doc:"Its name."`
	Status  string    `json:"status" doc:"The result of the task or the host."`
	Line    string    `json:"line" doc:"The matching line."`
}

// LineWith gives the first line of some texts that holds one of the words, and of a long
// line the part around it.
func LineWith(words []string, texts ...string) string {
	for _, word := range words {
		word = strings.ToLower(word)
		for _, text := range texts {
			for line := range strings.Lines(text) {
				if at := strings.Index(strings.ToLower(line), word); at >= 0 {
					return around(strings.TrimRight(line, "\r\n"), at)
				}
			}
		}
	}
	for _, text := range texts { // its parts are there, with something else between
		if text = strings.TrimSpace(text); text != "" && text != ":" {
			return around(firstLine(text), 0)
		}
	}
	return ""
}

// around gives the part of a line around a place.
func around(line string, at int) string {
	const most, before = 160, 60
	if len(line) <= most {
		return strings.TrimSpace(line)
	}
	from := max(0, min(at-before, len(line)-most))
	return strings.TrimSpace(strings.ToValidUTF8(line[from:min(len(line), from+most)], ""))
}

// Moment is one run in the life of a thing on a host, or several in a row in which it was
// found right.
type Moment struct {
	Number      int         `json:"number" doc:"The run's number; the newest of several."`
	Run         string      `json:"run" doc:"The run, a UUIDv7."`
	Mode        string      `json:"mode" doc:"What kind of run it was."`
	Started     time.Time   `json:"started" doc:"The start time, in UTC."`
	Who         string      `json:"who" doc:"The user who started it."`
	Machine     string      `json:"machine" doc:"The machine it was started from."`
	Revision    string      `json:"revision" doc:"The commit of the project; empty outside of git."`
	Edited      bool        `json:"edited" doc:"Whether files were modified since that commit."`
	Runs        int         `json:"runs" doc:"The number of consecutive runs with this result."`
	Since       time.Time   `json:"since" doc:"The start time of the oldest of these."`
	SinceNumber int         `json:"since_number" doc:"Its number."`
	Task        record.Task `json:"task" doc:"Its result."`
}
