package present

import (
	"io"

	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
	"jadekettle/internal/history/store"
	"jadekettle/internal/present/csv"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/html"
	"jadekettle/internal/present/junit"
	"jadekettle/internal/present/markdown"
	"jadekettle/internal/present/text"
)

// Write writes a run in one of settings.NotifyForms: text, json, csv, junit, markdown or html. runs has its facts
// and the manifests as they were.
func Write(w io.Writer, form string, runs store.Project, r *record.Run) error {
	switch form {
	case "json":
		return document.Write(w, document.RunShown{Head: document.One, Run: *r})
	case "csv":
		return csv.Write(w, r)
	case "junit":
		return junit.Write(w, junit.Suites(r))
	case "markdown":
		return markdown.Write(w, r)
	case "html":
		return html.WriteRun(w, Page(runs, r))
	}
	text.RunShown(text.New(w, false), 0, runs, r, false)
	return nil
}

// Page gives a run as its page shows it.
func Page(runs store.Project, r *record.Run) *html.Page {
	if r.Number == 0 { // it could not be kept
		return &html.Page{Run: r}
	}
	return &html.Page{Run: r,
		Text: func(path string) ([]byte, error) { return runs.Text(r.Number, path) },
		Facts: func(host string) (map[string]string, error) {
			f, err := runs.Facts(r.Number, host)
			if f == nil || err != nil {
				return nil, err
			}
			return history.FlatFacts(f), nil
		}}
}
