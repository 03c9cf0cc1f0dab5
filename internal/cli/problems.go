package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/value"
)

// problems prints what is wrong in a project, each with its line, as a
// compiler does.
func (a *App) problems(list []value.Problem) {
	dir, _ := a.folder()
	src := &sources{dir: dir}
	for _, p := range list {
		head := p.What
		if on := p.For(); on != "" {
			head += " (for " + on + ")"
		}
		at := p.Place.String()
		if at != "" {
			at += ": "
		}
		fmt.Fprintf(a.Err, "%s%s\n", a.style(loud).Render(at), a.style(bad).Render(head))
		fmt.Fprint(a.Err, a.excerpt(src, p.Place))
		for _, also := range p.Also {
			if also.Line > 0 {
				fmt.Fprint(a.Err, a.excerpt(src, also))
			}
		}
		if p.Do != "" {
			fmt.Fprintf(a.Err, "        %s\n", p.Do)
		}
		fmt.Fprintln(a.Err)
	}
	fmt.Fprintln(a.Err, count(len(list), "problem"))
}

// sources reads the project's files for excerpts, each once.
type sources struct {
	dir   string
	lines map[string][]string
}

func (s *sources) line(at value.Place) (string, bool) {
	if strings.HasSuffix(at.File, layers.Sealed) {
		return "", false // the line is one of the decrypted text
	}
	if at.Line < 1 || at.File == "" || s.dir == "" || !filepath.IsLocal(at.File) {
		return "", false
	}
	if s.lines == nil {
		s.lines = map[string][]string{}
	}
	if _, read := s.lines[at.File]; !read {
		data, _ := os.ReadFile(filepath.Join(s.dir, filepath.FromSlash(at.File)))
		s.lines[at.File] = strings.Split(string(data), "\n")
	}
	if at.Line > len(s.lines[at.File]) {
		return "", false
	}
	return strings.TrimRight(s.lines[at.File][at.Line-1], "\r"), true
}

// excerpt gives the line of a place with its number, and a mark below the
// column.
func (a *App) excerpt(src *sources, at value.Place) string {
	line, ok := src.line(at)
	if !ok {
		return ""
	}
	out := fmt.Sprintf("%s %s\n", a.style(quiet).Render(fmt.Sprintf("%5d |", at.Line)), value.Printable(strings.TrimPrefix(line, "\ufeff")))
	if at.Col < 1 {
		return out
	}
	var pad strings.Builder
	for i, r := range []rune(line) {
		if i >= at.Col-1 {
			break
		}
		if r == '\t' {
			pad.WriteRune('\t')
			continue
		}
		pad.WriteByte(' ')
	}
	return out + fmt.Sprintf("%s %s%s\n", a.style(quiet).Render("      |"), pad.String(), a.style(bad).Render("^"))
}
