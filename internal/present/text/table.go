package text

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// Aligned writes rows as lines in which the cells of a column begin below one
// another. Cells may be text from elsewhere.
func Aligned(rows [][]string) []string {
	rows = slices.Clone(rows)
	for i, r := range rows {
		rows[i] = make([]string, len(r))
		for j, cell := range r {
			rows[i][j] = Line(cell)
		}
	}
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

// Table prints rows in columns, the first as the heading. A row with a note is
// dimmed and carries it at its end.
func Table(w io.Writer, rows [][]string, notes []string) {
	for i, line := range Aligned(headed(rows)) {
		m := Plain
		if i == 0 {
			m = Quiet
		}
		if i < len(notes) && notes[i] != "" {
			m = Quiet
			line += "  " + notes[i]
		}
		fmt.Fprintln(w, Paint(m, line))
	}
}

// headed writes the first row in capitals, as the headings of all tables are.
func headed(rows [][]string) [][]string {
	out := slices.Clone(rows)
	out[0] = slices.Clone(rows[0])
	for i, cell := range out[0] {
		out[0][i] = strings.ToUpper(cell)
	}
	return out
}

// Section prints a heading and rows below it, if there are any. What is skipped is dimmed.
func Section(w io.Writer, title string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", Paint(Quiet, title))
	for i, line := range Aligned(rows) {
		m := Plain
		if last := rows[i][len(rows[i])-1]; strings.HasPrefix(last, "skipped") {
			m = Quiet
		}
		fmt.Fprintln(w, Paint(m, line))
	}
}

// LineWidth is how wide a text is at most that is broken into lines.
const LineWidth = 110

// Columns prints rows in columns; the last may be long and is broken.
func Columns(w io.Writer, rows [][]string) { ColumnsIn(w, rows, LineWidth) }

// ColumnsIn is Columns within so many columns of a terminal.
func ColumnsIn(w io.Writer, rows [][]string, width int) {
	indent := 0
	last := len(rows[0]) - 1
	for _, w := range widths(rows)[:last] {
		indent += w + 2
	}
	for i, line := range Aligned(rows) {
		r := []rune(line)
		line = string(r[:min(indent, len(r))])
		for _, word := range strings.Fields(Line(rows[i][last])) {
			if utf8.RuneCountInString(line)+utf8.RuneCountInString(word) > max(width, indent+40) {
				fmt.Fprintln(w, strings.TrimRight(line, " "))
				line = strings.Repeat(" ", indent)
			}
			line += word + " "
		}
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}
