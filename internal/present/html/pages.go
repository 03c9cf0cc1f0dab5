// Package html makes web pages of kept runs. Each is one file that needs no network and
// opens from disk: what failed is on top and is there without scripts, as the hosts, the
// time line and the manifests are; the tasks, of which there may be a hundred thousand, are
// drawn by a small script out of data in the page, as many as are looked at.
//
// Everything on a page has an address: #host/NAME, #task/HOST/KIND/NAME, #file/PATH:LINE,
// and #tasks?status=failed&host=... for a filter.
package html

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
)

//go:embed style.css
var style string

//go:embed page.js
var script string

//go:embed run.html
var runPage string

//go:embed front.html
var frontPage string

// Page is one run as a page shows it.
type Page struct {
	*record.Run
	// Text gives a file of the project as it was; nil where it is not kept.
	Text func(path string) ([]byte, error)
	// Facts gives the facts of a host as lines by their paths; nil where none were read.
	Facts func(host string) (map[string]string, error)
	// Up is the page over all runs; empty where there is none.
	Up string
	// Host gives the page of a host; nil where there are none.
	Host func(name string) string
}

var functions = template.FuncMap{
	"when":    func(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") },
	"iso":     func(t time.Time) string { return t.UTC().Format(time.RFC3339) },
	"seconds": seconds,
	"count":   count,
	"class":   class,
	"join":    strings.Join,
	"short":   func(s string) string { return s[:min(12, len(s))] },
	"add":     func(a, b int) int { return a + b },
	"lines":   func(s string) []string { return strings.Split(strings.TrimSuffix(s, "\n"), "\n") },
}

// seconds writes a length of time.
func seconds(s float64) string {
	switch {
	case s < 1:
		return fmt.Sprintf("%.0f ms", s*1000)
	case s < 10:
		return fmt.Sprintf("%.1f s", s)
	case s < 120:
		return fmt.Sprintf("%.0f s", s)
	}
	return (time.Duration(s) * time.Second).String()
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// class gives the class of an outcome or a status, by which it has its colour.
func class(s any) string {
	switch fmt.Sprint(s) {
	case string(record.OutFailed), string(record.OutLost), string(record.OutNotReached), string(record.OutRefused),
		string(record.OutBusy),
		string(record.OutWrong),
		string(plan.Blocked), string(record.Interrupted), string(history.Failing):
		return "bad"
	case string(plan.Changed), string(history.Drifted), string(history.Outdated), string(record.Running):
		return "loud"
	}
	return "quiet"
}

// head is what every page begins with.
type head struct {
	Style  template.CSS
	Script template.JS
	Policy string // which scripts and styles the page may have: these and no others
}

func newHead() head {
	hash := func(text string) string {
		sum := sha256.Sum256([]byte(text))
		return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
	}
	return head{template.CSS(style), template.JS(script),
		"default-src 'none'; style-src " + hash(style) + "; script-src " + hash(script) +
			"; base-uri 'none'; form-action 'none'"}
}

// pages are the templates, read when the first page is written.
var pages = sync.OnceValue(func() *template.Template {
	return template.Must(template.Must(template.New("run").Funcs(functions).Parse(runPage)).New("front").
		Parse(frontPage))
})

// runView is what the page of a run is drawn of.
type runView struct {
	head
	*Page
	Failures []failure
	Unwell   []*record.Host // that were not gone through
	Line     timeline
	Files    []file
	Data     data
}

// failure is one failure with all hosts that have it.
type failure struct {
	*record.Failure
	Excerpt []line
}

// line is one line of a text.
type line struct {
	N    int
	Text string
	Here bool
}

// file is one manifest as it was.
type file struct {
	Path  string
	Lines []line
}

// WriteRun writes the page of a run.
func WriteRun(w io.Writer, r *Page) error {
	v := &runView{head: newHead(), Page: r}
	texts, err := v.texts()
	if err != nil {
		return err
	}
	v.Failures = failures(r.Run, texts)
	for _, h := range r.Hosts {
		if h.Unwell() {
			v.Unwell = append(v.Unwell, h)
		}
	}
	v.Line = newTimeline(r.Run)
	for _, path := range value.Keys(texts) {
		f := file{Path: path}
		for i, text := range strings.Split(strings.TrimSuffix(texts[path], "\n"), "\n") {
			f.Lines = append(f.Lines, line{N: i + 1, Text: text})
		}
		v.Files = append(v.Files, f)
	}
	if v.Data, err = newData(r); err != nil {
		return err
	}
	return execute(w, "run", v)
}

// execute writes a page whole or not at all.
func execute(w io.Writer, name string, v any) error {
	var b bytes.Buffer
	if err := pages().ExecuteTemplate(&b, name, v); err != nil {
		return err
	}
	_, err := w.Write(b.Bytes())
	return err
}

// maxText bounds what of the manifests a page has, in bytes.
const maxText = 4 << 20

// texts reads the manifests that declare the tasks of the run.
func (v *runView) texts() (map[string]string, error) {
	out := map[string]string{}
	size := 0
	for _, h := range v.Hosts {
		for _, t := range h.Tasks {
			if _, have := out[t.Manifest]; have || t.Manifest == "" || size > maxText || v.Text == nil {
				continue
			}
			text, err := v.Text(t.Manifest)
			if err != nil {
				return nil, err
			}
			if text == nil {
				continue
			}
			size += len(text)
			out[t.Manifest] = string(text)
		}
	}
	return out, nil
}

// failures gathers what failed, alike failures of several hosts once, most hosts first.
func failures(r *record.Run, texts map[string]string) []failure {
	var out []failure
	for _, f := range record.Failures(r.Hosts) {
		out = append(out, failure{Failure: f, Excerpt: excerpt(texts[f.Manifest], f.Line)})
	}
	slices.SortStableFunc(out, func(a, b failure) int { return cmp.Compare(len(b.Hosts), len(a.Hosts)) })
	return out
}

// excerpt gives the lines around one.
func excerpt(text string, at int) []line {
	if text == "" || at < 1 {
		return nil
	}
	all := strings.Split(text, "\n")
	var out []line
	for n := max(1, at-1); n <= min(len(all), at+6); n++ {
		if n > at && strings.HasPrefix(all[n-1], "[") {
			break
		}
		out = append(out, line{n, all[n-1], n == at})
	}
	for len(out) > 0 && strings.TrimSpace(out[len(out)-1].Text) == "" {
		out = out[:len(out)-1]
	}
	return out
}

// data is what the script draws the tasks and facts of. Texts stand in it once, and then by
// their number.
type data struct {
	Would bool     `json:"would"`
	Texts []string `json:"texts"`
	Hosts []int    `json:"hosts"` // names
	// host, kind, name, status, milliseconds after, milliseconds, file, line, labels, detail
	Tasks   [][]int    `json:"tasks"`
	Details []detail   `json:"details"` // from 1
	Labels  [][]string `json:"labels"`  // from 1
	Facts   [][]int    `json:"facts"`   // host, then path and value in turn
}

// detail is what a task has besides.
type detail struct {
	Message   string        `json:"message,omitempty"`
	Do        string        `json:"do,omitempty"`
	Output    string        `json:"output,omitempty"`
	By        string        `json:"by,omitempty"`
	Drift     plan.Drift    `json:"drift,omitempty"`
	Changes   []plan.Change `json:"changes,omitempty"`
	Written   []plan.Change `json:"written,omitempty"`
	BlockedBy string        `json:"blocked_by,omitempty"`
	Tries     int           `json:"tries,omitempty"`
}

// builder gathers data.
type builder struct {
	data
	texts, details, labels map[string]int
}

func (b *builder) text(s string) int {
	i, ok := b.texts[s]
	if !ok {
		i = len(b.Texts)
		b.texts[s], b.Texts = i, append(b.Texts, s)
	}
	return i
}

func newData(r *Page) (data, error) {
	b := &builder{texts: map[string]int{}, details: map[string]int{}, labels: map[string]int{}}
	b.Would = r.Would()
	b.Texts, b.Hosts, b.Tasks, b.Details, b.Labels, b.Facts = []string{}, []int{}, [][]int{}, []detail{},
		[][]string{}, [][]int{}
	for i, h := range r.Hosts {
		b.Hosts = append(b.Hosts, b.text(h.Name))
		for _, t := range h.Tasks {
			b.Tasks = append(b.Tasks, []int{i, b.text(t.Kind), b.text(t.Name), b.text(string(t.Status)),
				int(t.After * 1000),
				int(t.Seconds * 1000), b.text(t.Manifest), t.Line, b.labelled(t.Labels), b.detail(t)})
		}
		if r.Facts == nil {
			continue
		}
		f, err := r.Facts(h.Name)
		if err != nil {
			return data{}, err
		}
		row := []int{i}
		for _, path := range value.Keys(f) {
			row = append(row, b.text(path), b.text(f[path]))
		}
		b.Facts = append(b.Facts, row)
	}
	return b.data, nil
}

func (b *builder) labelled(list []string) int {
	if len(list) == 0 {
		return 0
	}
	key := strings.Join(list, "\x00")
	if b.labels[key] == 0 {
		b.Labels = append(b.Labels, list)
		b.labels[key] = len(b.Labels)
	}
	return b.labels[key]
}

func (b *builder) detail(t record.Task) int {
	d := detail{Message: t.Message, Do: t.Do, Output: t.Output, By: t.By, Drift: t.Drift, Changes: t.Changes,
		Written: t.Written}
	if t.BlockedBy != nil {
		d.BlockedBy = t.BlockedBy.Kind + " " + t.BlockedBy.Name
	}
	if t.Tries > 1 {
		d.Tries = t.Tries
	}
	key := fmt.Sprint(d)
	if len(d.Changes)+len(d.Written)+d.Tries == 0 && d.Message+d.Do+d.Output+d.By+d.BlockedBy+string(d.Drift) == "" {
		return 0
	}
	if b.details[key] == 0 {
		b.Details = append(b.Details, d)
		b.details[key] = len(b.Details)
	}
	return b.details[key]
}
