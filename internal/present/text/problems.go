package text

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Problems prints what is wrong in a project, each with its line, as a compiler
// does. Remedies are words by now.
func Problems(w io.Writer, src *Sources, width int, list []problem.Problem) {
	for _, p := range list {
		head := Line(p.What)
		if on := p.For(); on != "" {
			head += " (for " + Line(on) + ")"
		}
		io.WriteString(w, Head(p.Place, Bad, head, width))
		if !p.Quiet {
			src.Excerpt(w, p.Place)
		}
		for _, also := range p.Also {
			if also.Line > 0 {
				src.Excerpt(w, also)
			}
		}
		if p.Do != "" {
			io.WriteString(w, Wrap(Line(p.Do), remedyIndent, width))
		}
		fmt.Fprintln(w)
	}
}

// Head writes where something is and what it is, broken into lines at a width;
// 0 breaks none, so that programs find it in one.
func Head(at value.Place, m Mood, what string, width int) string {
	place := ""
	if at.File != "" {
		place = Line(at.String() + ": ")
	}
	text := Wrap(place+what, "", width)
	if strings.Count(text, "\n") > 1 { // the lines after the first are indented
		text = Wrap(place+what, "", width-len(remedyIndent))
	}
	var b strings.Builder
	for i, line := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		if i == 0 {
			rest, found := strings.CutPrefix(line, place)
			if !found { // the place alone fills the line
				rest, place = "", line
			}
			b.WriteString(Paint(Loud, place) + Paint(m, rest) + "\n")
			continue
		}
		b.WriteString(remedyIndent + Paint(m, line) + "\n")
	}
	return b.String()
}

// remedyIndent is before what follows the first line of a problem.
const remedyIndent = "        "

// Sources reads the project's files for excerpts, each once.
type Sources struct {
	Dir string // the project; empty for none
	// Text reads a file in the place of Dir; may be nil.
	Text  func(name string) ([]byte, error)
	lines map[string][]string
}

func (s *Sources) line(at value.Place) (string, bool) {
	if strings.HasSuffix(at.File, layers.Encrypted) {
		return "", false // the line is one of the decrypted text
	}
	if at.Line < 1 || at.File == "" || s.Dir == "" && s.Text == nil || !filepath.IsLocal(at.File) {
		return "", false
	}
	if s.lines == nil {
		s.lines = map[string][]string{}
	}
	if _, read := s.lines[at.File]; !read {
		var data []byte
		if s.Text != nil {
			data, _ = s.Text(at.File)
		} else {
			data, _ = os.ReadFile(filepath.Join(s.Dir, filepath.FromSlash(at.File)))
		}
		s.lines[at.File] = strings.Split(string(data), "\n")
	}
	if at.Line > len(s.lines[at.File]) {
		return "", false
	}
	return strings.TrimRight(s.lines[at.File][at.Line-1], "\r"), true
}

// Excerpt prints the line of a place with its number, and a mark below the
// column. Of what is encrypted nothing is shown.
func (s *Sources) Excerpt(w io.Writer, at value.Place) {
	line, ok := s.line(at)
	if !ok {
		return
	}
	number := Paint(Quiet, fmt.Sprintf("%5d |", at.Line))
	if at.Col < 1 {
		fmt.Fprintf(w, "%s %s\n", number, Block(strings.TrimPrefix(line, "\ufeff")))
		return
	}
	from, to := window([]rune(line), at.Col-1)
	var pad strings.Builder
	for _, r := range []rune(line)[from:min(at.Col-1, len([]rune(line)))] {
		if r == '\t' {
			pad.WriteRune('\t')
			continue
		}
		pad.WriteByte(' ')
	}
	fmt.Fprintf(w, "%s %s\n", number, Block(strings.TrimPrefix(string([]rune(line)[from:to]), "\ufeff")))
	fmt.Fprintf(w, "%s %s%s\n", Paint(Quiet, "      |"), pad.String(), Paint(Bad, "^"))
}

// window gives the part of a long line that holds a column.
func window(line []rune, col int) (from, to int) {
	const most = 160
	if len(line) <= most {
		return 0, len(line)
	}
	from = max(0, min(col-most/2, len(line)-most))
	return from, from + most
}
