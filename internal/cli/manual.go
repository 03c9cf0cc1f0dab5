package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// A Manual describes every command of the program, from the texts that its help prints. ManPages and Markdown write it.
type Manual struct{ root *cobra.Command }

// NewManual makes the manual of these commands.
func NewManual(commands ...Commands) Manual {
	e := &Env{In: strings.NewReader(""), Getenv: func(string) string { return "" }, Args: []string{"add"}}
	return Manual{e.root(commands)}
}

// each calls do for every command, the program first, in the order of its help.
func (m Manual) each(do func(*cobra.Command)) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		do(c)
		if c == m.root {
			for _, g := range groups {
				for name := range strings.FieldsSeq(g.names) {
					if sub, _, err := c.Find([]string{name}); err == nil && sub != c {
						walk(sub)
					}
				}
			}
			return
		}
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() && !ofMany(c) {
				walk(sub)
			}
		}
	}
	walk(m.root)
}

// ofMany says whether the commands below c are alike: one for each kind, one for each shell. Its page covers them.
func ofMany(c *cobra.Command) bool { return c.Name() == "add" || c.Name() == "completion" }

// Markdown writes the manual as the sections of one page.
func (m Manual) Markdown(w io.Writer) {
	m.each(func(c *cobra.Command) {
		fmt.Fprintf(w, "\n## %s\n", c.CommandPath())
		for _, p := range paragraphs(c) {
			switch {
			case p.rows != nil:
				markdownTable(w, "name", "", p.rows)
			case p.literal:
				fmt.Fprintf(w, "\n```\n%s\n```\n", p.text)
			default:
				fmt.Fprintf(w, "\n%s\n", p.text)
			}
		}
		fmt.Fprintf(w, "\n```sh\n%s\n```\n", strings.Join(usage(c), "\n"))
		for _, g := range grouped(c) {
			markdownTable(w, "command", g.title, g.rows)
		}
		set, title := c.LocalNonPersistentFlags(), ""
		if c == m.root {
			set, title = c.LocalFlags(), "Global flags, which every command takes"
		}
		markdownTable(w, "flag", title, flags(set, nil))
		if more := outputs(c); len(more) > 2 {
			fmt.Fprintf(w, "\n`--output` takes %s.\n", strings.Join(more, ", "))
		}
		if c == m.root {
			markdownTable(w, "exit status", "", exits)
			fmt.Fprintf(w, "\n%s\n", variables)
		}
		if c.Example != "" {
			fmt.Fprintf(w, "\nExamples:\n\n```sh\n%s\n```\n", strings.ReplaceAll(c.Example[2:], "\n  ", "\n"))
		}
	})
}

// A paragraph of what a command is for. Lines that are indented there are literal; those of two columns are rows.
type paragraph struct {
	text    string
	literal bool
	rows    [][]string
}

func paragraphs(c *cobra.Command) []paragraph {
	var out []paragraph
	fresh := true
	for line := range strings.SplitSeq(strings.TrimSpace(about(c)), "\n") {
		text, literal := strings.CutPrefix(line, "  ")
		left, right, row := strings.Cut(text, "  ")
		switch last := len(out) - 1; {
		case line == "":
			fresh = true
			continue
		case literal && row && (fresh || out[last].rows == nil):
			out = append(out, paragraph{rows: [][]string{{left, strings.TrimSpace(right)}}})
		case literal && row:
			out[last].rows = append(out[last].rows, []string{left, strings.TrimSpace(right)})
		case fresh || literal != out[last].literal:
			out = append(out, paragraph{text: text, literal: literal})
		default:
			out[last].text += "\n" + text
		}
		fresh = false
	}
	return out
}

func markdownTable(w io.Writer, head, title string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	if title != "" {
		fmt.Fprintf(w, "\n%s:\n", title)
	}
	fmt.Fprintf(w, "\n| %s | description |\n|---|---|\n", head)
	for _, row := range rows {
		fmt.Fprintf(w, "| `%s` | %s |\n", strings.TrimSpace(row[0]), strings.ReplaceAll(row[1], "|", "\\|"))
	}
}

// ManPages gives the manual as man pages (man(7)) by file name, such as jadekettle-undo.1.
func (m Manual) ManPages(date time.Time) map[string]string {
	pages := map[string]string{}
	m.each(func(c *cobra.Command) {
		name := strings.ReplaceAll(c.CommandPath(), " ", "-")
		pages[name+".1"] = m.manPage(c, name, date)
	})
	return pages
}

func (m Manual) manPage(c *cobra.Command, name string, date time.Time) string {
	b := &strings.Builder{}
	fmt.Fprintf(b, ".TH %s 1 %s \"jadekettle %s\" \"Jade Kettle\"\n", roff(strings.ToUpper(name)),
		roff(date.UTC().Format(time.DateOnly)), roff(Version))
	fmt.Fprintf(b, ".SH NAME\n%s \\- %s\n", roff(name), roff(c.Short))
	fmt.Fprintf(b, ".SH SYNOPSIS\n.nf\n%s\n.fi\n", roff(strings.Join(usage(c), "\n")))
	b.WriteString(".SH DESCRIPTION\n")
	for i, p := range paragraphs(c) {
		if i > 0 {
			b.WriteString(".PP\n")
		}
		switch {
		case p.rows != nil:
			roffRows(b, p.rows)
		case p.literal:
			fmt.Fprintf(b, ".nf\n%s\n.fi\n", roff("  "+strings.ReplaceAll(p.text, "\n", "\n  ")))
		default:
			fmt.Fprintf(b, "%s\n", roff(p.text))
		}
	}
	for _, g := range grouped(c) {
		roffList(b, g.title, g.rows)
	}
	if c != m.root {
		roffList(b, "Options", flags(c.LocalNonPersistentFlags(), nil))
		if more := outputs(c); len(more) > 2 {
			fmt.Fprintf(b, ".PP\n\\fB\\-\\-output\\fR takes %s.\n", roff(strings.Join(more, ", ")))
		}
	} else {
		roffList(b, "Global options", flags(c.LocalFlags(), nil))
		roffList(b, "Exit status", exits)
		roffList(b, "Environment", environment)
		roffList(b, "Files", files)
	}
	if c.Example != "" {
		fmt.Fprintf(b, ".SH EXAMPLES\n.nf\n%s\n.fi\n", roff(c.Example))
	}
	var also []string
	for up := c.Parent(); up != nil; up = up.Parent() {
		also = append(also, "\\fB"+roff(strings.ReplaceAll(up.CommandPath(), " ", "-"))+"\\fR(1)")
	}
	if len(also) > 0 {
		fmt.Fprintf(b, ".SH SEE ALSO\n%s\n", strings.Join(also, ",\n"))
	}
	return b.String()
}

// environment and files are what jadekettle(1) says besides its help.
var (
	environment = [][]string{
		{"JADEKETTLE_FLAG", "Sets the flag --flag where it is not given, for most flags: JADEKETTLE_PARALLEL=8, " +
			"JADEKETTLE_PLAIN=1. Not for flags that confirm, select more or unlock something."},
		{"JADEKETTLE_IDENTITY", "The age identity that decrypts secrets, or the file that contains it."},
		{"NO_COLOR", "If set, no colors are printed."}, {"PAGER", "Shows output that is longer than the screen."},
		{"VISUAL, EDITOR", "Opens the file of `jadekettle secret edit`."},
		{"SSH_AUTH_SOCK", "The SSH agent that keys are taken from."}}
	files = [][]string{
		{"jadekettle.toml, hosts.toml, jobs.toml, manifests/, data/", "The project."},
		{"~/.config/jadekettle/identity.txt", "The identity that decrypts secrets."},
		{"~/.local/state/jadekettle/history.db", "The run history."},
		{"~/.ssh/config, ~/.ssh/known_hosts", "Read for what the inventory does not set, and to verify hosts."},
		{"/var/lib/jadekettle", "On a host: the worker, the ledger, and what undo restores."}}
)

func roffList(b *strings.Builder, title string, rows [][]string) {
	if len(rows) > 0 {
		fmt.Fprintf(b, ".SH %s\n", strings.ToUpper(title))
		roffRows(b, rows)
	}
}

func roffRows(b *strings.Builder, rows [][]string) {
	for _, row := range rows {
		fmt.Fprintf(b, ".TP\n\\fB%s\\fR\n%s\n", roff(strings.TrimSpace(row[0])), roff(row[1]))
	}
}

// roff escapes a text: a backslash, a hyphen, which would become another character, and a line that would be a request.
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`, "`", "").Replace(s)
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			lines[i] = `\&` + line
		}
	}
	return strings.Join(lines, "\n")
}
