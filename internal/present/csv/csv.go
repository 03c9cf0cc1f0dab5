// Package csv writes runs as CSV (RFC 4180), for spreadsheets and for programs that read tables.
package csv

import (
	"encoding/csv"
	"io"
	"strconv"
	"strings"

	"jadekettle/internal/core/record"
)

// Write writes every task of a run as a row of CSV (RFC 4180), and a row without a task
// for each host that has none. A cell that a spreadsheet would take for a formula begins with
// an apostrophe.
func Write(w io.Writer, r *record.Run) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	rows := [][]string{{"run", "mode", "host", "state", "outcome", "kind", "name", "status", "began_after_seconds",
		"seconds", "file",
		"line", "labels", "message"}}
	for _, h := range r.Hosts {
		head := []string{strconv.Itoa(r.Number), r.Mode, h.Name, string(h.State), string(h.Outcome)}
		if len(h.Tasks) == 0 {
			rows = append(rows, append(head, "", "", "", decimal(h.After), decimal(h.Seconds), "", "", "", h.Message))
		}
		for _, t := range h.Tasks {
			rows = append(rows, append(head[:len(head):len(head)], t.Kind, t.Name, string(t.Status),
				decimal(t.After), decimal(t.Seconds),
				t.Manifest, strconv.Itoa(t.Line), strings.Join(t.Labels, " "), t.Message))
		}
	}
	for _, row := range rows {
		for i := range row {
			row[i] = plainCell(row[i])
		}
	}
	return c.WriteAll(rows)
}

func decimal(seconds float64) string { return strconv.FormatFloat(seconds, 'f', 3, 64) }

// plainCell keeps a text from being a formula.
func plainCell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}
