package cli

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// aligned writes rows as lines in which the cells of a column begin below one
// another.
func aligned(rows [][]string) []string {
	wide := widths(rows)
	out := make([]string, len(rows))
	for i, r := range rows {
		var b strings.Builder
		for j, cell := range r {
			b.WriteString(cell + strings.Repeat(" ", wide[j]-utf8.RuneCountInString(cell)+2))
		}
		out[i] = strings.TrimRight(b.String(), " ")
	}
	return out
}

func widths(rows [][]string) []int {
	var wide []int
	for _, r := range rows {
		for j, cell := range r {
			if j == len(wide) {
				wide = append(wide, 0)
			}
			wide[j] = max(wide[j], utf8.RuneCountInString(cell))
		}
	}
	return wide
}

// table prints rows in columns, the first as the heading. A row with a note is
// dimmed and carries it at its end.
func (a *App) table(rows [][]string, notes []string) {
	for i, line := range aligned(rows) {
		m := plain
		if i == 0 {
			m = quiet
		}
		if i < len(notes) && notes[i] != "" {
			m = quiet
			line += "  " + notes[i]
		}
		fmt.Fprintln(a.Out, a.style(m).Render(line))
	}
}

// section prints a heading and rows below it, when there are any. What is left
// out is dimmed.
func (a *App) section(title string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n%s\n", a.style(quiet).Render(title))
	for i, line := range aligned(rows) {
		m := plain
		if last := rows[i][len(rows[i])-1]; strings.HasPrefix(last, "left out") {
			m = quiet
		}
		fmt.Fprintln(a.Out, a.style(m).Render(line))
	}
}

// columns prints rows in columns; the last may be long and is broken.
func (a *App) columns(rows [][]string) {
	indent := 0
	last := len(rows[0]) - 1
	for _, w := range widths(rows)[:last] {
		indent += w + 2
	}
	for i, line := range aligned(rows) {
		r := []rune(line)
		line = string(r[:min(indent, len(r))])
		for _, word := range strings.Fields(rows[i][last]) {
			if utf8.RuneCountInString(line)+utf8.RuneCountInString(word) >= max(lineWidth, indent+40) {
				fmt.Fprintln(a.Out, strings.TrimRight(line, " "))
				line = strings.Repeat(" ", indent)
			}
			line += word + " "
		}
		fmt.Fprintln(a.Out, strings.TrimRight(line, " "))
	}
}
