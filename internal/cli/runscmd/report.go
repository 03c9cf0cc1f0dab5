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
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present"
	"jadekettle/internal/present/html"
	"jadekettle/internal/present/text"
)

func report(e *cli.Env) *cobra.Command {
	s := &sift{}
	to, all := "", false
	c := &cobra.Command{
		Use: "report RUN | --all --to DIR", Short: "Write a run for others to read: text, Markdown, JSON, CSV, " +
			"JUnit or a web page",
		GroupID:     cli.Grow,
		Annotations: map[string]string{cli.MoreOutputs: "markdown csv junit html"},
		Long: "Report writes one run as --output says: text, markdown for a ticket, json, csv and junit for " +
			"programs, or html: one\npage that needs no network, with what failed on top, tables that filter, a " +
			"time line, the manifests and the\nfacts. With --all it writes a folder of pages, a front page over " +
			"runs and hosts and one page for each, which any\nweb server or file manager shows; --since, --host " +
			"and the like say which runs.",
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case all && (len(args) > 0 || to == ""):
				return problem.Errorf("--all takes no run, and wants to know where").
					Remedy("write `jadekettle report --all --to DIR`")
			case all:
				return folder(c.Context(), e, to, s)
			case len(args) != 1:
				return problem.Errorf("report wants to know which run").
					Remedy("give its number, last, last-failed or -1, or say --all --to DIR")
			}
			p, n, err := named(c.Context(), e, args[0])
			if err != nil {
				return err
			}
			k, err := p.Load(n)
			if err != nil {
				return err
			}
			if to == "" {
				return printed(e, p, k)
			}
			return writeFile(to, func(w io.Writer) error { return present.Write(w, e.Output, p, k) })
		},
	}
	s.flags(c, 0)
	c.Flags().StringVar(&to, "to", "", "write it into this `FILE`, or with --all into this folder")
	c.Flags().BoolVar(&all, "all", false, "a folder of pages over all runs that are meant")
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
	stands, err := appstatus.Of(p, nil, nil)
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
	for i := range stands {
		h := &stands[i]
		one := &html.Front{Title: h.Host, Sentence: string(h.Condition) + ". " + h.Why, Stands: stands[i : i+1],
			Runs: of[h.Host],
			One:  h.Host, Up: "../index.html", RunPage: func(n int) string { return fmt.Sprintf("../runs/%d.html", n) }}
		if err := front(filepath.Join(dir, "hosts", h.Host+".html"), one); err != nil {
			return err
		}
	}
	index := filepath.Join(dir, "index.html")
	if err := front(index, &html.Front{Title: "Hosts and runs", Sentence: text.Conditions(stands),
		Stands: stands, Runs: rows,
		RunPage:  func(n int) string { return fmt.Sprintf("runs/%d.html", n) },
		HostPage: func(name string) string { return "hosts/" + url.PathEscape(name) + ".html" }}); err != nil {
		return err
	}
	fmt.Fprintf(e.Err, "%s  %s, %s\n", text.Line(index), text.Count(len(list), "run"), text.Count(len(stands), "host"))
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
