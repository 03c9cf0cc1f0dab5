package history

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/fleet/run"
)

// WriteCSV writes every task of a run as a row of CSV (RFC 4180), and a row without a task
// for each host that has none. A cell that a spreadsheet would take for a formula begins with
// an apostrophe.
func WriteCSV(w io.Writer, k *Kept) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	rows := [][]string{{"run", "mode", "host", "state", "outcome", "kind", "name", "status", "began_after_seconds", "seconds", "file",
		"line", "labels", "message"}}
	for _, h := range k.Hosts {
		head := []string{strconv.Itoa(k.Number), k.Mode, h.Name, string(h.State), string(h.Outcome)}
		if len(h.Tasks) == 0 {
			rows = append(rows, append(head, "", "", "", decimal(h.After), decimal(h.Seconds), "", "", "", h.Message))
		}
		for _, t := range h.Tasks {
			rows = append(rows, append(head[:len(head):len(head)], t.Kind, t.Name, string(t.Status), decimal(t.After), decimal(t.Seconds),
				t.Manifest, strconv.Itoa(t.Line), strings.Join(t.Labels, " "), t.Message))
		}
	}
	for _, r := range rows {
		for i := range r {
			r[i] = plainCell(r[i])
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

// Suites gives a run as suites of cases: one for each host, a case for each task.
func (k *Kept) Suites() []Suite {
	var out []Suite
	for _, h := range k.Hosts {
		s := Suite{Name: h.Name}
		if h.State != run.Reached && h.State != run.Off || h.Outcome == run.OutWrong {
			s.Cases = append(s.Cases, SuiteCase{Class: h.Name, Name: "the host itself", Failure: joined(string(h.Outcome), h.Message, h.Do)})
		}
		if e := h.Executed; e != nil {
			c := SuiteCase{Class: h.Name, Name: "the command", Took: length(h.Seconds)}
			if h.Outcome == run.OutFailed {
				c.Failure = joined(fmt.Sprintf("ended with %d", e.Code), e.Wrong, e.Output)
			}
			s.Cases = append(s.Cases, c)
		}
		for _, t := range h.Tasks {
			if t.Status == plan.LeftOut {
				continue
			}
			c := SuiteCase{Class: h.Name, Name: t.Kind + " " + t.Name, File: t.Manifest, Line: t.Line, Took: length(t.Seconds)}
			switch {
			case t.Status == plan.Failed:
				c.Failure = joined(t.Message, t.Output, t.Do)
			case t.Status == plan.Blocked && t.BlockedBy != nil:
				c.Failure = "blocked by " + t.BlockedBy.Kind + " " + t.BlockedBy.Name
			}
			s.Cases = append(s.Cases, c)
		}
		out = append(out, s)
	}
	return out
}

func joined(texts ...string) string {
	var out []string
	for _, t := range texts {
		if t = strings.TrimSpace(t); t != "" {
			out = append(out, t)
		}
	}
	return strings.Join(out, "\n")
}

// mostAlike is how many hosts or tasks a table of Markdown lists by name.
const mostAlike = 200

// WriteMarkdown writes a run as Markdown (CommonMark, with tables), for a ticket or a chat:
// the sentence, what failed and why, and the hosts.
func WriteMarkdown(w io.Writer, k *Kept, sentence string) error {
	b := &strings.Builder{}
	fmt.Fprintf(b, "# Run %d: %s\n\n**%s**\n\n", k.Number, cell(k.Mode), cell(sentence))
	by := k.Who
	if k.Machine != "" {
		by += " on " + k.Machine
	}
	fmt.Fprintf(b, "- by %s, %s, took %ss\n", cell(by), k.Started.UTC().Format(time.RFC3339), decimal(k.Seconds))
	if len(k.Command) > 0 {
		fmt.Fprintf(b, "- call %s\n", code("jadekettle "+strings.Join(k.Command, " ")))
	}
	if k.Revision != "" {
		edited := ""
		if k.Edited {
			edited = ", and files changed since"
		}
		fmt.Fprintf(b, "- revision %s%s\n", code(k.Revision), edited)
	}
	k.failures(b)
	fmt.Fprint(b, "\n## Hosts\n\n| host | outcome | failed | blocked | changed | unchanged | seconds |\n|---|---|---:|---:|---:|---:|---:|\n")
	for i, h := range k.Hosts {
		if i == mostAlike {
			fmt.Fprintf(b, "\nand %d more\n", len(k.Hosts)-i)
			break
		}
		fmt.Fprintf(b, "| %s | %s | %d | %d | %d | %d | %s |\n", cell(h.Name), cell(string(h.Outcome)), h.Failed, h.Blocked, h.Changed,
			h.Unchanged, decimal(h.Seconds))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func (k *Kept) failures(b *strings.Builder) {
	type story struct {
		title, text string
		hosts       []string
	}
	var order []*story
	at := map[string]*story{}
	tell := func(host, title, text string) {
		key := title + "\x00" + text
		if at[key] == nil {
			at[key] = &story{title: title, text: text}
			order = append(order, at[key])
		}
		at[key].hosts = append(at[key].hosts, host)
	}
	for _, h := range k.Hosts {
		if h.State != run.Reached && h.State != run.Off || h.Outcome == run.OutWrong {
			tell(h.Name, string(h.Outcome), joined(h.Message, h.Do))
		}
		if e := h.Executed; e != nil && h.Outcome == run.OutFailed {
			tell(h.Name, fmt.Sprintf("ended with %d", e.Code), joined(e.Wrong, e.Output))
		}
		for _, t := range h.Tasks {
			if t.Status == plan.Failed {
				tell(h.Name, t.Kind+" "+t.Name, joined(t.Message, t.Output, t.Do, fmt.Sprintf("declared at %s:%d", t.Manifest, t.Line)))
			}
		}
	}
	if len(order) == 0 {
		return
	}
	b.WriteString("\n## What failed\n")
	for i, s := range order {
		if i == mostAlike {
			fmt.Fprintf(b, "\nand %d more\n", len(order)-i)
			return
		}
		fmt.Fprintf(b, "\n### %s\n\non %s\n\n%s\n", cell(s.title), cell(strings.Join(s.hosts, ", ")), fenced(s.text))
	}
}

// cell makes a text fit to stand in a line or a table of Markdown.
func cell(s string) string {
	return strings.NewReplacer("\\", "\\\\", "|", "\\|", "\n", " ", "\r", " ", "<", "&lt;", "*", "\\*", "_", "\\_", "`", "\\`", "[", "\\[", "#",
		"\\#").Replace(s)
}

// code writes a text as code in a line.
func code(s string) string {
	marks := "`"
	for strings.Contains(s, marks) {
		marks += "`"
	}
	return marks + " " + strings.ReplaceAll(s, "\n", " ") + " " + marks
}

// fenced writes a text as a block of code.
func fenced(s string) string {
	fence := "```"
	for strings.Contains(s, fence) {
		fence += "`"
	}
	return fence + "\n" + s + "\n" + fence
}
