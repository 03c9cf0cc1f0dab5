package runscmd

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/atomicfile"
	appstatus "jadekettle/internal/app/status"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present"
	"jadekettle/internal/present/html"
	"jadekettle/internal/present/text"
)

func report(e *cli.Env) *cobra.Command {
	to := ""
	c := &cobra.Command{
		Use: "report RUN", Short: "Export a run as text, Markdown, JSON, CSV, JUnit or HTML", Args: cli.Args(1, 1),
		Annotations: map[string]string{cli.MoreOutputs: "markdown csv junit html"},
		Long: "Exports a run in the format given with --output: text, markdown for a ticket, json, csv or junit for " +
			"programs, or html, a single page that works offline, with failures first, filters, a timeline, the " +
			"manifests and the facts.",
		RunE: func(c *cobra.Command, args []string) error {
			p, n, err := named(c.Context(), e, args[0])
			if err != nil {
				return err
			}
			k, err := p.Load(n)
			if err != nil {
				return err
			}
			if to == "" || to == "-" {
				return printed(e, p, k)
			}
			return writeFile(to, func(w io.Writer) error { return present.Write(w, e.Output, p, k) })
		},
		ValidArgsFunction: e.CompleteRuns(),
	}
	c.Flags().StringVar(&to, "to", "", "write to `FILE`, or - for standard output")
	c.AddCommand(pages(e))
	return c
}

func pages(e *cli.Env) *cobra.Command {
	s := &sift{}
	c := &cobra.Command{
		Use: "pages DIR", Short: "Export many runs as a directory of web pages", Args: cli.Args(1, 1),
		Long: "Writes a directory of web pages: a front page with all hosts and runs, and one page for each, which " +
			"any web server or file manager can show.",
		RunE: func(c *cobra.Command, args []string) error { return folder(c.Context(), e, args[0], s) },
	}
	s.flags(c, 0)
	return c
}

// printed prints a run. Nothing is escaped twice: only two forms leave to the screen what steers it.
func printed(e *cli.Env, p app.Runs, k *record.Run) error {
	switch {
	case e.Output == "text":
		text.RunShown(e.Out, e.Width, p, k, false)
		return nil
	case e.Width > 0 && (e.Output == "csv" || e.Output == "markdown"):
		return present.Write(e.Out, e.Output, p, k)
	}
	return present.Write(e.Raw, e.Output, p, k)
}

// folder writes a folder of pages.
func folder(ctx context.Context, e *cli.Env, dir string, s *sift) error {
	p, err := e.Open(ctx)
	if err != nil {
		return err
	}
	f, err := s.filter(p.Settings.Env)
	if err != nil {
		return err
	}
	list, err := p.Kept.List(f)
	if err != nil {
		return err
	}
	current, err := appstatus.Of(p, nil, nil)
	if err != nil {
		return err
	}
	for _, sub := range []string{"runs", "hosts"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return err
		}
	}
	rows := make([]html.Row, len(list))
	of := map[string][]html.Row{}
	for i := range list {
		_, outcome := text.Outcome(&list[i])
		rows[i] = html.Row{Summary: list[i], Folded: app.Folded(list[i].Hosts), Outcome: outcome,
			Class: worst(&list[i])}
		for _, h := range list[i].Hosts {
			of[h] = append(of[h], rows[i])
		}
		if err := runPage(dir, p.Kept, list[i].Number); err != nil {
			return err
		}
	}
	for i := range current {
		h := &current[i]
		one := &html.Front{Title: h.Host, Sentence: string(h.Condition) + ". " + h.Why, Hosts: current[i : i+1],
			Runs: of[h.Host],
			One:  h.Host, Up: "../index.html", RunPage: func(n int) string { return fmt.Sprintf("../runs/%d.html", n) }}
		if err := front(filepath.Join(dir, "hosts", h.Host+".html"), one); err != nil {
			return err
		}
	}
	index := filepath.Join(dir, "index.html")
	if err := front(index, &html.Front{Title: "Hosts and runs", Sentence: text.Conditions(current),
		Hosts: current, Runs: rows,
		RunPage:  func(n int) string { return fmt.Sprintf("runs/%d.html", n) },
		HostPage: func(name string) string { return "hosts/" + url.PathEscape(name) + ".html" }}); err != nil {
		return err
	}
	fmt.Fprintf(e.Err, "%s  %s, %s\n", text.Line(index), text.Count(len(list), "run"), text.Count(len(current), "host"))
	return nil
}

// runPage writes the page of one run of a folder.
func runPage(dir string, p app.Runs, n int) error {
	k, err := p.Load(n)
	if err != nil {
		return err
	}
	page := present.Page(p, k)
	page.Up = "../index.html"
	return writeFile(filepath.Join(dir, "runs", fmt.Sprintf("%d.html", n)),
		func(w io.Writer) error { return html.WriteRun(w, page) })
}

func front(name string, f *html.Front) error {
	return writeFile(name, func(w io.Writer) error { return html.WriteFront(w, f) })
}

func writeFile(name string, write func(io.Writer) error) error {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		return fmt.Errorf("the page %s: %w", name, err)
	}
	return atomicfile.Write(name, b.Bytes(), 0o644)
}

// worst gives the outcome by which a run has its colour.
func worst(s *record.Summary) string {
	switch mood, _ := text.Outcome(s); mood {
	case text.Bad:
		return "failed"
	case text.Loud:
		return "changed"
	}
	return "unchanged"
}
