package advice

import (
	"slices"
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/value"
)

// marks are the comments of a project that silence advice, by file and line.
type marks struct {
	p     *compile.Project
	files map[string]map[int][]mark
}

// meant gives the reason by which a mark says that something is meant.
func (ms *marks) meant(at value.Place, code string) (reason string, marked bool) {
	if ms.files == nil {
		ms.files = map[string]map[int][]mark{}
	}
	lines, read := ms.files[at.File]
	if !read {
		lines = ms.read(at.File)
		ms.files[at.File] = lines
	}
	for _, m := range slices.Concat(lines[at.Line], lines[wholeFile]) {
		if m.code == code {
			return m.reason, true
		}
	}
	return "", false
}

// mark is a comment that silences a piece of advice:
//
//	# jadekettle allow CODE: reason
//	# jadekettle allow CODE in this file: reason
//
// It holds for its own line, and when it is alone for the next line that
// is not a comment; above the header of a table, for all of the table.
type mark struct{ code, reason string }

const wholeFile = -1

var markForm = lazy.Regexp(`#\s*jadekettle allow ([a-z-]+)( in this file)?:\s*(\S.*?)\s*$`)

func (ms *marks) read(file string) map[int][]mark {
	out := map[int][]mark{}
	data, err := ms.p.ReadFile(file)
	if err != nil {
		return out
	}
	var waiting, table []mark
	for i, line := range strings.Split(string(data), "\n") {
		text := strings.TrimSpace(line)
		if m := markForm().FindStringSubmatch(text); m != nil {
			switch {
			case m[2] != "":
				out[wholeFile] = append(out[wholeFile], mark{m[1], m[3]})
			case strings.HasPrefix(text, "#"):
				waiting = append(waiting, mark{m[1], m[3]})
			default:
				out[i+1] = append(out[i+1], mark{m[1], m[3]})
			}
		}
		if text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		if strings.HasPrefix(text, "[") {
			table = waiting
		} else {
			out[i+1] = append(out[i+1], table...)
		}
		out[i+1] = append(out[i+1], waiting...)
		waiting = nil
	}
	return out
}
