package text

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"time"

	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// FactsAge says that the facts of a host were never read, or how long ago that was, where it is long.
func FactsAge(w io.Writer, host string, known bool, read time.Time) {
	if !known {
		fmt.Fprintf(w, "the facts of %s were never collected; run `jadekettle facts %s`\n", host, host)
	} else if time.Since(read) > 24*time.Hour {
		fmt.Fprintf(w, "the facts of %s were collected %s\n", host, Ago(read, time.Now()))
	}
}

// WhyData shows what each layer says of a value of a host's data, and which one counts.
func WhyData(w io.Writer, e *explain.Explanation, path []string) (exists bool, err error) {
	name := "data." + strings.Join(path, ".")
	steps, v, exists, err := e.Data(path)
	if err != nil {
		return false, err
	}
	if exists {
		fmt.Fprintf(w, "%s of %s is %s\n\n", name, e.Host.Name, Paint(Loud, Cut(value.Shown(v), 400)))
	} else {
		up := path[:len(path)-1]
		fmt.Fprintf(w, "%s of %s does not exist; %s\n\n", name, e.Host.Name,
			problem.Meant(path[len(path)-1], e.DataNames(up), "no layer sets it"))
	}
	rows := [][]string{{"layer", "source", "value", "used", ""}}
	for _, s := range steps {
		rows = append(rows, []string{cmp.Or(s.Name, s.Layer), cmp.Or(s.Place.String(), "-"), says(s.Value, s.Says),
			yesNo(s.Used), s.Note})
	}
	used(w, rows)
	return exists, nil
}

// used prints rows; what is not used is dimmed.
func used(w io.Writer, rows [][]string) {
	for i, line := range Aligned(headed(rows)) {
		m := Quiet
		if i > 0 && rows[i][3] == "yes" {
			m = Loud
		}
		fmt.Fprintln(w, Paint(m, line))
	}
}

func says(v any, says bool) string {
	if !says {
		return "-"
	}
	return Cut(value.Shown(v), 48)
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// WhyParam shows where the value of a param can come from, and who gives it.
func WhyParam(w io.Writer, e *explain.Explanation, manifest, name string) error {
	list, err := e.Param(manifest, name)
	if err != nil {
		return err
	}
	said := false
	for _, s := range list {
		if s.Used {
			said = true
			fmt.Fprintf(w, "param.%s.%s of %s is %s", manifest, name, e.Host.Name, Paint(Loud, value.Shown(s.Value)))
			if s.Seen != nil {
				fmt.Fprintf(w, " (%s in expressions)", Paint(Loud, value.Shown(s.Seen)))
			}
			fmt.Fprint(w, "\n\n")
		}
	}
	if !said {
		fmt.Fprintf(w, "param.%s.%s of %s has no value\n\n", manifest, name, e.Host.Name)
	}
	rows := [][]string{{"from (first match wins)", "source", "value", "used", ""}}
	for _, s := range list {
		note := ""
		if s.Text != "" {
			note = "from " + oneLine(s.Text)
		}
		rows = append(rows, []string{s.From, cmp.Or(s.Place.String(), "-"), says(s.Value, s.Says), yesNo(s.Used), note})
	}
	used(w, rows)
	return nil
}

// Why explains one declaration.
func Why(w io.Writer, host string, y explain.Why) {
	head := fmt.Sprintf("%s on %s is %s", y.Ref, host, y.State)
	if y.State == "declared" && y.Of > 0 {
		head += fmt.Sprintf(", task %d of %d", y.Order, y.Of)
	}
	fmt.Fprintln(w, Paint(Loud, head))
	if y.Reason != "" {
		fmt.Fprintln(w, "  "+strings.ReplaceAll(y.Reason, "; ", "\n  "))
	}
	if len(y.Ways) == 0 && y.State == "not declared" {
		fmt.Fprintf(w, "  `jadekettle hosts show %s` lists what is declared\n", host)
	}
	var rows [][]string
	for _, way := range y.Ways {
		rows = append(rows, []string{"  group " + way.Group, way.Given.String(), way.By},
			[]string{"  manifest " + way.Manifest, "", ""})
		for _, u := range way.Uses {
			rows = append(rows, []string{"  use " + u.Name, u.Place.String(), ""})
		}
		rows = append(rows, []string{"  declaration", way.Place.String(), ""})
	}
	Section(w, "declared by", rows)
	rows = nil
	for _, l := range y.Loop {
		rows = append(rows, []string{"  " + l.Name, l.Value})
	}
	Section(w, "loop variables", rows)
	conditions(w, y.Conditions)
	rows = nil
	for _, at := range y.Attributes {
		rows = append(rows, []string{"  " + at.Name, Cut(at.Value, 48), at.Place.String()})
		if at.Written != "" {
			rows = append(rows, []string{"", "from " + oneLine(at.Written), ""})
		}
		for _, s := range at.Saw {
			rows = append(rows, seenRow(s))
		}
	}
	Section(w, "attributes", rows)
	Section(w, "depends on", edges(y.Waits))
	Section(w, "dropped because it contradicts the declared order", edges(y.Dropped))
	Section(w, "required by", edges(y.Awaited))
}

func conditions(w io.Writer, list []explain.Condition) {
	var rows [][]string
	for _, c := range list {
		rows = append(rows, []string{"  " + c.Text, "is " + c.Gives, c.Place.String()})
		for _, s := range c.Saw {
			rows = append(rows, seenRow(s))
		}
	}
	Section(w, "conditions", rows)
}

func seenRow(s explain.Seen) []string {
	text := "does not exist"
	if s.There {
		text = "is " + Cut(s.Value, 48)
	}
	return []string{"      " + s.Name, text, s.Place.String()}
}

// oneLine cuts a text to what fits beside others.
func oneLine(s string) string {
	s = strings.ReplaceAll(strings.TrimSpace(s), "\n", " ")
	return Cut(s, 60)
}

func edges(list []explain.Edge) [][]string {
	var out [][]string
	for _, e := range list {
		out = append(out, []string{"  " + e.Ref.String(), e.Why})
	}
	return out
}
