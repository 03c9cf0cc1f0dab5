package history

import (
	"strings"
	"time"

	"jadekettle/internal/core/record"
)

// File is one file of a project as a run found it.
type File struct {
	Path string `json:"path" doc:"The file, from the project's folder."`
	Size int64  `json:"size" doc:"Its size in bytes."`
	Sum  string `json:"sum" doc:"The SHA-256 of its text; empty where it is too large and not kept."`
}

// Hit is one place in which words were found.
type Hit struct {
	Number  int       `json:"number" doc:"The run's number."`
	Run     string    `json:"run" doc:"The run, a UUIDv7."`
	Mode    string    `json:"mode" doc:"What it was."`
	Started time.Time `json:"started" doc:"When it began, in UTC."`
	Who     string    `json:"who" doc:"Whose run it was."`
	Host    string    `json:"host" doc:"The host; empty where the run itself was found."`
	Kind    string    `json:"kind" doc:"The kind of the task; empty where the host or the run was found."`
	Name    string    `json:"name" doc:"Its name."`
	Status  string    `json:"status" doc:"How the task or the host ended."`
	Line    string    `json:"line" doc:"The line that holds the words."`
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
	Number      int         `json:"number" doc:"The run's number; of several, the newest."`
	Run         string      `json:"run" doc:"The run, a UUIDv7."`
	Mode        string      `json:"mode" doc:"What it was."`
	Started     time.Time   `json:"started" doc:"When it began, in UTC."`
	Who         string      `json:"who" doc:"Whose run it was."`
	Machine     string      `json:"machine" doc:"The machine that it was run from."`
	Revision    string      `json:"revision" doc:"The commit that the project was at; empty outside of git."`
	Edited      bool        `json:"edited" doc:"Whether its files were changed since that commit."`
	Runs        int         `json:"runs" doc:"How many runs in a row found it so."`
	Since       time.Time   `json:"since" doc:"When the oldest of these began."`
	SinceNumber int         `json:"since_number" doc:"Its number."`
	Task        record.Task `json:"task" doc:"What became of it."`
}
