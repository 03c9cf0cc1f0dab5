package text

import (
	"fmt"
	"io"
	"strings"
	"time"

	"jadekettle/internal/app/jobs"
	"jadekettle/internal/app/tend"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/document"
)

// Jobs lists jobs, when they start next and how they went last.
func Jobs(w io.Writer, list []document.Job, now time.Time) {
	if len(list) == 0 {
		fmt.Fprintf(w, "this project has no jobs; add [job.NAME] to %s\n", jobs.File)
		return
	}
	rows := [][]string{{"job", "action", "targets", "next", "last", "about"}}
	for _, j := range list {
		starts, went := "manually", "never"
		if j.Next != nil {
			starts = When(*j.Next)
		}
		if j.Last != nil {
			_, how := Outcome(j.Last)
			went = how + ", " + Ago(j.Last.Started, now)
		}
		rows = append(rows, []string{j.Name, j.Action, written(j.Targets), starts, went, Line(j.About)})
	}
	Table(w, rows, nil)
}

// written gives texts of a job as they stand in the file.
func written(texts []string) string { return Line(strings.Join(texts, " ")) }

// Job shows what a job does, what it asks, and when it starts.
func Job(w io.Writer, b *jobs.Book, j *jobs.Job, doc document.Job) {
	fmt.Fprintf(w, "%s  %s\n\n", Paint(Loud, j.Name), Line(j.About))
	rows := [][]string{}
	add := func(what string, text ...string) {
		if all := strings.TrimSpace(strings.Join(text, " ")); all != "" {
			rows = append(rows, []string{"  " + what, all})
		}
	}
	add("action", j.Action)
	add("targets", written(doc.Targets))
	add("except", written(doc.Except))
	add("runs", written(doc.Command))
	add("manifests", j.Manifests...)
	add("labels", j.Labels...)
	add("environment", j.Env)
	if j.Source != "" {
		add("source", j.Source, j.Revision)
	}
	if r := j.Rollout; r.First != "" || r.Batch.N > 0 || r.StopAfter.N > 0 {
		var how []string
		for _, part := range [][2]string{{"batches of ", r.Batch.String()}, {"first ", r.First},
			{"stop after ", r.StopAfter.String()}} {
			if part[1] != "" && part[1] != "0" {
				how = append(how, part[0]+part[1])
			}
		}
		add("rollout", strings.Join(how, ", "))
	}
	if j.Schedule != nil {
		add("starts", j.Schedule.String())
		at, times := time.Now(), []string{}
		for range 3 {
			if at, _ = j.Schedule.Next(b.Settings.Project+"/"+j.Name, at); at.IsZero() {
				break
			}
			times = append(times, When(at))
		}
		add("next", strings.Join(times, ", "))
		add("if missed", map[string]string{"skip": "skip",
			"once": "start once"}[j.Schedule.Missed])
	}
	if j.Notify != nil {
		add("notifies", append([]string{strings.Join(j.Notify, ", ")},
			map[bool]string{true: "no one"}[len(j.Notify) == 0])...)
	}
	if doc.Last != nil {
		_, how := Outcome(doc.Last)
		add("last", fmt.Sprintf("run %d, %s, by %s: %s", doc.Last.Number, When(doc.Last.Started), doc.Last.Who, how))
	}
	Columns(w, rows)
	call := inputs(w, "jadekettle job start "+j.Name, doc.Inputs)
	fmt.Fprintf(w, "\n%s\n  %s\n", Paint(Quiet, "to start it"), call)
}

// inputs prints what a job asks for, and gives the command line that starts it.
func inputs(w io.Writer, call string, list []document.Input) string {
	if len(list) == 0 {
		return call
	}
	fmt.Fprintf(w, "\n%s\n", Paint(Quiet, "inputs"))
	var rows [][]string
	for _, q := range list {
		text := strings.TrimSuffix(strings.TrimSpace(q.About), ".")
		if text != "" {
			text += ": "
		}
		text += q.Wants
		if !q.Needed {
			text += "; default " + value.Shown(q.Default)
		}
		if q.Secret {
			text += "; never stored or shown"
		}
		if q.OnlyIf != "" {
			text += "; only if " + q.OnlyIf
		}
		rows = append(rows, []string{"  " + q.Key, text})
		if q.Needed && q.OnlyIf == "" && !q.Secret {
			call += " --input " + q.Key + "=" + strings.ToUpper(q.Type)
		}
		if q.Secret && q.OnlyIf == "" {
			call += map[bool]string{true: " --inputs FILE"}[!strings.Contains(call, "--inputs")]
		}
	}
	Columns(w, rows)
	return call
}

// Tended shows what tends a project, and how its jobs went.
func Tended(w io.Writer, d document.Tended, now time.Time) {
	if d.Running {
		fmt.Fprintln(w, Paint(Loud, fmt.Sprintf("scheduler running since %[3]s (process %[1]d on %[2]s)", d.PID,
			Line(d.Machine), When(d.Since))))
	} else {
		fmt.Fprintln(w, Paint(Bad, "no scheduler is running for this project: the last one, started "+When(
			d.Since)+", has ended"))
	}
	rows := [][]string{{"  source", Line(d.Source)}}
	if d.Revision != "" {
		rows = append(rows, []string{"  revision", d.Revision[:min(12, len(d.Revision))] + ", read " +
			Ago(d.Read, now)})
	}
	rows = append(rows, []string{"  checked", Ago(d.Looked, now)})
	if d.Wrong != "" {
		rows = append(rows, []string{"  but", "since " + When(d.WrongAt) + " the project cannot be read, so the " +
			"last good version is kept: " + Line(d.Wrong)})
	}
	Columns(w, rows)
	fmt.Fprintln(w)
	rows = [][]string{{"job", "now", "next", "last", "result", "starts", "failed", "missed"}}
	for _, j := range d.Jobs {
		state, next, last := "", "none", "never"
		switch {
		case j.Running && d.Running:
			state = "running"
		case j.Queued && d.Running:
			state = "waiting for hosts"
		}
		if !j.Next.IsZero() {
			next = When(j.Next)
		}
		if !j.Began.IsZero() {
			last = When(j.Began)
		}
		how := Line(j.Said)
		if j.Run > 0 {
			how = fmt.Sprintf("run %d: %s", j.Run, how)
		}
		rows = append(rows, []string{j.Name, state, next, last, how, fmt.Sprint(j.Starts), fmt.Sprint(j.Failed),
			fmt.Sprint(j.Missed)})
	}
	Table(w, rows, nil)
}

// TendLine shows in a line what a tender is at.
func TendLine(s *tend.State) string {
	running, next, which := []string{}, time.Time{}, ""
	for _, name := range value.Keys(s.Jobs) {
		d := s.Jobs[name]
		if d.Running {
			running = append(running, name)
		}
		if !d.Next.IsZero() && (next.IsZero() || d.Next.Before(next)) {
			next, which = d.Next, name
		}
	}
	line := fmt.Sprintf("%d jobs", len(s.Jobs))
	if len(running) > 0 {
		line += "; runs " + strings.Join(running, ", ")
	}
	if which != "" {
		line += "; next " + which + " at " + When(next)
	}
	if s.Wrong != "" {
		line += "; the project cannot be read"
	}
	return line
}
