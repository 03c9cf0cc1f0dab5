package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) whyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "why HOST data.NAME | param.MANIFEST.NAME | KIND NAME", Short: "Tell why a value or a declaration is as it is",
		GroupID: "work", Args: cobra.RangeArgs(2, 3),
		Long: "Why answers for one host without contacting it. Of a value of the data it tells what each layer says " +
			"and\nwhich one counts; of a param, who may give it and who does; of a declaration, by which group it came, " +
			"what\nits conditions saw, where each attribute comes from, what it waits for and what waits for it; and of " +
			"what\nis not there, why not. Facts count as they were last read.",
		Example: "  jadekettle why gauge-01 data.gauge.sample_seconds\n  jadekettle why gauge-01 service tide-logger",
		RunE: func(_ *cobra.Command, args []string) error {
			p, h, err := a.oneHost(args[0])
			if err != nil {
				return err
			}
			about := args[1:]
			if kind, name, ok := strings.Cut(about[0], " "); ok && len(about) == 1 {
				about = []string{kind, name} // both words in one pair of quotes
			}
			return a.why(p, h, about)
		},
		ValidArgsFunction: a.completeWhy,
	}
}

func (a *App) why(p *project, h *inventory.Host, about []string) error {
	f, read := p.facts(h)
	e, wrong := explain.Of(p.Project, h, p.knownOf(f))
	defer func() {
		if wrong != nil {
			a.complain(wrong)
			a.code = exitWrong
		}
	}()
	if a.output == "text" {
		a.factsNote(h.Name, f != nil, read)
	}
	path := strings.Split(about[0], ".")
	if len(about) == 2 {
		path = nil
	}
	switch {
	case len(about) == 2:
	case path[0] == "data" && len(path) > 1:
		return a.whyData(e, path[1:])
	case path[0] == "param" && len(path) > 2:
		return a.whyParam(e, strings.Join(path[1:len(path)-1], "."), path[len(path)-1])
	default:
		return problem.Errorf("%q asks about nothing", about[0]).Remedy("write data.NAME, param.MANIFEST.NAME or KIND NAME")
	}
	ref, err := a.kinds().ParseRef(about[0] + " " + about[1])
	if err != nil {
		return err
	}
	return a.whyDeclared(h, e.Why(ref))
}

func (a *App) factsNote(host string, known bool, read time.Time) {
	if !known {
		fmt.Fprintf(a.Err, "the facts of %s were never read; `jadekettle facts %s` reads them\n", host, host)
	} else if age := time.Since(read); age > 24*time.Hour {
		fmt.Fprintf(a.Err, "the facts of %s were read %s\n", host, ago(age))
	}
}

func (a *App) whyData(e *explain.Explanation, path []string) error {
	name := "data." + strings.Join(path, ".")
	steps, v, there, err := e.Data(path)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return a.document(document.Data{Head: document.One, Host: e.Host.Name, Asked: name, There: there, Value: known(v),
			Layers: stepDocs(steps)})
	}
	if there {
		fmt.Fprintf(a.Out, "%s of %s is %s\n\n", name, e.Host.Name, screen.Paint(screen.Loud, cut(value.Shown(v), 400)))
	} else {
		up := path[:len(path)-1]
		fmt.Fprintf(a.Out, "%s of %s is not there; %s\n\n", name, e.Host.Name,
			problem.Meant(path[len(path)-1], e.DataNames(up), "no layer sets it"))
	}
	rows := [][]string{{"layer", "file:line", "says", "used"}}
	notes := []string{""}
	for _, s := range steps {
		rows = append(rows, []string{first(s.Name, s.Layer), dash(s.Place.String()), says(s.Value, s.Says), yesNo(s.Used)})
		notes = append(notes, s.Note)
	}
	a.whyTable(rows, notes)
	return nil
}

// whyTable prints rows with a note behind each; what is not used is dimmed.
func (a *App) whyTable(rows [][]string, notes []string) {
	for i := range rows {
		rows[i] = append(rows[i], notes[i])
	}
	for i, line := range screen.Aligned(rows) {
		m := screen.Quiet
		if i > 0 && rows[i][3] == "yes" {
			m = screen.Loud
		}
		fmt.Fprintln(a.Out, screen.Paint(m, line))
	}
}

// known gives null for what depends on facts that are not known.
func known(v any) any {
	if _, open := v.(expr.Unknown); open {
		return nil
	}
	return v
}

func stepDocs(steps []layers.Step) []document.Step {
	out := []document.Step{}
	for _, s := range steps {
		out = append(out, document.Step{Layer: s.Layer, Name: s.Name, Place: document.At(s.Place),
			Says: s.Says, Value: known(s.Value), Used: s.Used, Note: s.Note})
	}
	return out
}

func first(list ...string) string {
	for _, s := range list {
		if s != "" {
			return s
		}
	}
	return ""
}

func dash(s string) string { return first(s, "-") }

func says(v any, says bool) string {
	if !says {
		return "-"
	}
	return cut(value.Shown(v), 48)
}

// cut shortens a text to so many characters; JSON has it whole.
func cut(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-3]) + "..."
	}
	return text
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *App) whyParam(e *explain.Explanation, manifest, name string) error {
	list, err := e.Param(manifest, name)
	if err != nil {
		return err
	}
	if a.output == "json" {
		docs := []document.ParamStep{}
		for _, s := range list {
			docs = append(docs, document.ParamStep{From: s.From, Place: document.At(s.Place), Says: s.Says,
				Value: known(s.Value), Seen: known(s.Seen), Used: s.Used})
		}
		return a.document(document.Param{Head: document.One, Host: e.Host.Name, Asked: "param." + manifest + "." + name,
			Steps: docs})
	}
	said := false
	for _, s := range list {
		if s.Used {
			said = true
			fmt.Fprintf(a.Out, "param.%s.%s of %s is %s", manifest, name, e.Host.Name,
				screen.Paint(screen.Loud, value.Shown(s.Value)))
			if s.Seen != nil {
				fmt.Fprintf(a.Out, ", seen by expressions as %s", screen.Paint(screen.Loud, value.Shown(s.Seen)))
			}
			fmt.Fprint(a.Out, "\n\n")
		}
	}
	if !said {
		fmt.Fprintf(a.Out, "param.%s.%s of %s has no value\n\n", manifest, name, e.Host.Name)
	}
	rows := [][]string{{"from, the first wins", "file:line", "says", "used"}}
	notes := []string{""}
	for _, s := range list {
		rows = append(rows, []string{s.From, dash(s.Place.String()), says(s.Value, s.Says), yesNo(s.Used)})
		note := ""
		if s.Text != "" {
			note = "from " + oneLine(s.Text)
		}
		notes = append(notes, note)
	}
	a.whyTable(rows, notes)
	return nil
}

// whyDeclared tells all of one declaration.
func (a *App) whyDeclared(h *inventory.Host, w explain.Why) error {
	if a.output == "json" {
		return a.document(whyDoc(h.Name, w))
	}
	head := fmt.Sprintf("%s on %s is %s", w.Ref, h.Name, w.State)
	if w.State == "declared" && w.Of > 0 {
		head += fmt.Sprintf(", task %d of %d", w.Order, w.Of)
	}
	fmt.Fprintln(a.Out, screen.Paint(screen.Loud, head))
	if w.Reason != "" {
		fmt.Fprintln(a.Out, "  "+strings.ReplaceAll(w.Reason, "; ", "\n  "))
	}
	if len(w.Ways) == 0 && w.State == "not declared" {
		fmt.Fprintf(a.Out, "  `jadekettle hosts show %s` lists what is declared\n", h.Name)
	}
	var rows [][]string
	for _, way := range w.Ways {
		rows = append(rows, []string{"  group " + way.Group, way.Given.String(), way.By},
			[]string{"  manifest " + way.Manifest, "", ""})
		for _, u := range way.Uses {
			rows = append(rows, []string{"  use " + u.Name, u.Place.String(), ""})
		}
		rows = append(rows, []string{"  declaration", way.Place.String(), ""})
	}
	screen.Section(a.Out, "how it came here", rows)
	rows = nil
	for _, l := range w.Loop {
		rows = append(rows, []string{"  " + l.Name, value.Shown(l.Value)})
	}
	screen.Section(a.Out, "the loop's variables", rows)
	a.conditions(w.Conditions)
	rows = nil
	for _, at := range w.Attributes {
		rows = append(rows, []string{"  " + at.Name, says(at.Value, true), at.Place.String()})
		if at.Written != "" {
			rows = append(rows, []string{"", "from " + oneLine(at.Written), ""})
		}
		for _, s := range at.Saw {
			rows = append(rows, seenRow(s))
		}
	}
	screen.Section(a.Out, "its attributes", rows)
	screen.Section(a.Out, "it waits for", edges(w.Waits))
	screen.Section(a.Out, "it would wait for, but that contradicts what is written", edges(w.Dropped))
	screen.Section(a.Out, "what waits for it", edges(w.Awaited))
	return nil
}

func (a *App) conditions(list []explain.Condition) {
	var rows [][]string
	for _, c := range list {
		rows = append(rows, []string{"  " + c.Text, "is " + c.Gives, c.Place.String()})
		for _, s := range c.Saw {
			rows = append(rows, seenRow(s))
		}
	}
	screen.Section(a.Out, "its conditions", rows)
}

func seenRow(s explain.Seen) []string {
	text := "is not there"
	if s.There {
		text = "is " + says(s.Value, true)
	}
	return []string{"      " + s.Name, text, s.Place.String()}
}

// oneLine cuts a text to what fits beside others.
func oneLine(s string) string {
	s = strings.ReplaceAll(strings.TrimSpace(s), "\n", " ")
	return cut(s, 60)
}

func edges(list []explain.Edge) [][]string {
	var out [][]string
	for _, e := range list {
		out = append(out, []string{"  " + e.Ref.String(), e.Why})
	}
	return out
}

func whyDoc(host string, w explain.Why) document.Why {
	out := document.Why{Head: document.One, Host: host, Kind: w.Ref.Kind, Name: w.Ref.Name, State: string(w.State),
		Reason: w.Reason, Ways: waysDoc(w.Ways), Loop: seenDocs(w.Loop), Conditions: []document.Condition{},
		Attributes: []document.Attribute{}, WaitsFor: edgeDocs(w.Waits), AwaitedBy: edgeDocs(w.Awaited),
		Dropped: edgeDocs(w.Dropped)}
	for _, c := range w.Conditions {
		out.Conditions = append(out.Conditions, document.Condition{Text: c.Text, Place: document.At(c.Place),
			Gives: c.Gives, Saw: seenDocs(c.Saw)})
	}
	for _, at := range w.Attributes {
		out.Attributes = append(out.Attributes, document.Attribute{Name: at.Name, Value: value.Shown(at.Value),
			Written: at.Written, Place: document.At(at.Place), Saw: seenDocs(at.Saw)})
	}
	return out
}

func seenDocs(list []explain.Seen) []document.Seen {
	out := []document.Seen{}
	for _, s := range list {
		out = append(out, document.Seen{Name: s.Name, There: s.There, Value: value.Shown(s.Value),
			Place: document.At(s.Place)})
	}
	return out
}

func edgeDocs(list []explain.Edge) []document.Edge {
	out := []document.Edge{}
	for _, e := range list {
		out = append(out, document.Edge{Kind: e.Ref.Kind, Name: e.Ref.Name, Why: e.Why})
	}
	return out
}
