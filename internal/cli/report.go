package cli

import (
	"bytes"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
	"jadekettle/internal/history/store"
	"jadekettle/internal/present/csv"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/html"
	"jadekettle/internal/present/junit"
	"jadekettle/internal/present/markdown"
	screen "jadekettle/internal/present/text"
)

func (a *App) reportCommand() *cobra.Command {
	s := &sift{}
	to, all := "", false
	c := &cobra.Command{
		Use: "report RUN | --all --to DIR", Short: "Write a run for others to read: text, Markdown, JSON, CSV, JUnit or a web page",
		GroupID:     "work",
		Annotations: map[string]string{moreOutputs: "markdown csv junit html"},
		Long: "Report writes one run as --output says: text, markdown for a ticket, json, csv and junit for programs, or html: one\n" +
			"page that needs no network, with what failed on top, tables that filter, a time line, the manifests and the\n" +
			"facts. With --all it writes a folder of pages, a front page over runs and hosts and one page for each, which any\n" +
			"web server or file manager shows; --since, --host and the like say which runs.",
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case all && (len(args) > 0 || to == ""):
				return problem.Errorf("--all takes no run, and wants to know where").Remedy("write `jadekettle report --all --to DIR`")
			case all:
				return a.reportAll(to, s)
			case len(args) != 1:
				return problem.Errorf("report wants to know which run").Remedy("give its number, last, last-failed or -1, or say --all --to DIR")
			}
			p, n, err := a.named(args[0])
			if err != nil {
				return err
			}
			k, err := p.Load(n)
			if err != nil {
				return err
			}
			if to == "" {
				return a.report(a.Out, a.output, p, k)
			}
			var b bytes.Buffer
			if err := a.report(&b, a.output, p, k); err != nil {
				return err
			}
			return atomicfile.Write(to, b.Bytes(), 0o644)
		},
	}
	s.flags(c, 0)
	c.Flags().StringVar(&to, "to", "", "write it into this `FILE`, or with --all into this folder")
	c.Flags().BoolVar(&all, "all", false, "a folder of pages over all runs that are meant")
	return c
}

// report writes a run in a form.
func (a *App) report(w io.Writer, form string, p store.Project, k *record.Run) error {
	if w == a.Out && form != "text" && !(a.Width > 0 && (form == "csv" || form == "markdown")) {
		w = a.raw // where nothing is escaped twice: only these two leave to the screen what steers it
	}
	switch form {
	case "json":
		return document.Write(w, document.RunShown{Head: document.One, Run: *k})
	case "csv":
		return csv.Write(w, k)
	case "junit":
		return junit.Write(w, junit.Suites(k))
	case "markdown":
		return markdown.Write(w, k)
	case "html":
		return html.WriteRun(w, a.page(p, k))
	}
	if w != a.Out {
		w = screen.New(w, false)
	}
	a.showRun(w, p, k, false)
	return nil
}

// page gives a run as its page tells it.
func (a *App) page(p store.Project, k *record.Run) *html.Page {
	if k.Number == 0 { // it could not be kept
		return &html.Page{Run: k}
	}
	return &html.Page{Run: k,
		Text: func(path string) ([]byte, error) { return p.Text(k.Number, path) },
		Facts: func(host string) (map[string]string, error) {
			f, err := p.Facts(k.Number, host)
			if f == nil || err != nil {
				return nil, err
			}
			return history.FlatFacts(f), nil
		}}
}

// reportAll writes a folder of pages.
func (a *App) reportAll(dir string, s *sift) error {
	p, err := a.load(nil, nil)
	if err != nil {
		return err
	}
	f, err := s.filter(p.Settings.Env, time.Now())
	if err != nil {
		return err
	}
	list, err := p.runs.List(f)
	if err != nil {
		return err
	}
	stands, err := a.statusOf(p)
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
		_, text := screen.Outcome(&list[i])
		rows[i] = html.Row{Summary: list[i], Folded: inventory.Fold(list[i].Hosts), Outcome: text, Class: worst(&list[i])}
		for _, h := range list[i].Hosts {
			of[h] = append(of[h], rows[i])
		}
		if err := a.writeRun(dir, p.runs, list[i].Number); err != nil {
			return err
		}
	}
	for _, h := range stands {
		one := &html.Front{Title: h.Host, Sentence: string(h.Condition) + ". " + h.Why, Stands: []history.HostStatus{h}, Runs: of[h.Host],
			One: h.Host, Up: "../index.html", RunPage: func(n int) string { return fmt.Sprintf("../runs/%d.html", n) }}
		if err := writePage(filepath.Join(dir, "hosts", h.Host+".html"), func(w io.Writer) error { return html.WriteFront(w, one) }); err != nil {
			return err
		}
	}
	front := &html.Front{Title: "Hosts and runs", Sentence: screen.Conditions(stands), Stands: stands, Runs: rows,
		RunPage:  func(n int) string { return fmt.Sprintf("runs/%d.html", n) },
		HostPage: func(name string) string { return "hosts/" + url.PathEscape(name) + ".html" }}
	index := filepath.Join(dir, "index.html")
	if err := writePage(index, func(w io.Writer) error { return html.WriteFront(w, front) }); err != nil {
		return err
	}
	fmt.Fprintf(a.Err, "%s  %s, %s\n", screen.Line(index), screen.Count(len(list), "run"), screen.Count(len(stands), "host"))
	return nil
}

// writeRun writes the page of one run of a folder.
func (a *App) writeRun(dir string, p store.Project, n int) error {
	k, err := p.Load(n)
	if err != nil {
		return err
	}
	page := a.page(p, k)
	page.Up = "../index.html"
	return writePage(filepath.Join(dir, "runs", fmt.Sprintf("%d.html", n)), func(w io.Writer) error { return html.WriteRun(w, page) })
}

func writePage(name string, write func(io.Writer) error) error {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		return fmt.Errorf("the page %s: %w", name, err)
	}
	return atomicfile.Write(name, b.Bytes(), 0o644)
}

// worst gives the outcome by which a run has its colour.
func worst(b *record.Summary) string {
	switch mood, _ := screen.Outcome(b); mood {
	case screen.Bad:
		return "failed"
	case screen.Loud:
		return "changed"
	}
	return "unchanged"
}
