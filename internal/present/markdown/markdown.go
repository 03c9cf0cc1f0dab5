// Package markdown writes a run as Markdown (CommonMark, with tables), for a ticket or a chat.
package markdown

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/document"
)

// mostAlike is how many hosts or tasks a table of Markdown lists by name.
const mostAlike = 200

// Write writes a run: the sentence, what failed and why, and the hosts.
func Write(w io.Writer, r *record.Run) error {
	b := &strings.Builder{}
	fmt.Fprintf(b, "# Run %d: %s\n\n**%s**\n\n", r.Number, cell(r.Mode), cell(r.Sentence()))
	by := r.Who
	if r.Machine != "" {
		by += " on " + r.Machine
	}
	fmt.Fprintf(b, "- started by %s, %s, took %ss\n", cell(by), r.Started.UTC().
		Format(time.RFC3339), decimal(r.Seconds))
	if len(r.Command) > 0 {
		fmt.Fprintf(b, "- command %s\n", code("jadekettle "+strings.Join(r.Command, " ")))
	}
	if r.Revision != "" {
		edited := ""
		if r.Edited {
			edited = ", with modified files"
		}
		fmt.Fprintf(b, "- revision %s%s\n", code(r.Revision), edited)
	}
	failures(b, r)
	fmt.Fprint(b, "\n## Hosts\n\n| host | outcome | failed | blocked | changed | unchanged | seconds |\n"+
		"|---|---|---:|---:|---:|---:|---:|\n")
	for i, h := range r.Hosts {
		if i == mostAlike {
			fmt.Fprintf(b, "\nand %d more\n", len(r.Hosts)-i)
			break
		}
		fmt.Fprintf(b, "| %s | %s | %d | %d | %d | %d | %s |\n", cell(h.Name), cell(string(h.Outcome)), h.Failed,
			h.Blocked, h.Changed,
			h.Unchanged, decimal(h.Seconds))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// failures writes what failed, and hosts that could not be gone through, what is alike on several once.
func failures(b *strings.Builder, r *record.Run) {
	type story struct{ host, title, text string }
	var all []story
	for _, h := range r.Hosts {
		if h.Unwell() {
			all = append(all, story{h.Name, string(h.Outcome), document.Lines(h.Message, h.Do)})
		}
		if e := h.Executed; e != nil && h.Outcome == record.OutFailed {
			all = append(all, story{h.Name, fmt.Sprintf("exit status %d", e.Code), document.Lines(e.Wrong, e.Output)})
		}
		for _, t := range h.Tasks {
			if t.Status == plan.Failed {
				at := fmt.Sprintf("declared at %s:%d", t.Manifest, t.Line)
				all = append(all, story{h.Name, t.Kind + " " + t.Name, document.Lines(t.Message, t.Output, t.Do, at)})
			}
		}
	}
	groups := record.GroupBy(all, func(s story) story { return story{"", s.title, s.text} })
	if len(groups) == 0 {
		return
	}
	b.WriteString("\n## Failures\n")
	for i, g := range groups {
		if i == mostAlike {
			fmt.Fprintf(b, "\nand %d more\n", len(groups)-i)
			return
		}
		var hosts []string
		for _, s := range g.Items {
			hosts = append(hosts, s.host)
		}
		fmt.Fprintf(b, "\n### %s\n\non %s\n\n%s\n", cell(g.Key.title), cell(strings.Join(hosts, ", ")),
			fenced(g.Key.text))
	}
}

func decimal(seconds float64) string { return strconv.FormatFloat(seconds, 'f', 3, 64) }

// cell makes a text fit to stand in a line or a table of Markdown.
func cell(s string) string {
	return strings.NewReplacer("\\", "\\\\", "|", "\\|", "\n", " ", "\r", " ", "<", "&lt;", "*", "\\*", "_", "\\_",
		"`", "\\`", "[", "\\[", "#",
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
