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
		fmt.Fprintf(w, "this project has no jobs; [job.NAME] in %s declares one\n", jobs.File)
		return
	}
	rows := [][]string{{"JOB", "DOES", "WHERE", "NEXT", "LAST", "ABOUT"}}
	for _, j := range list {
		starts, went := "when asked", "never"
		if j.Next != nil {
			starts = When(*j.Next)
		}
		if j.Last != nil {
			_, how := Outcome(j.Last)
			went = how + ", " + Ago(j.Last.Started, now)
		}
		rows = append(rows, []string{j.Name, j.Does, written(j.Targets), starts, went, Line(j.About)})
	}
	Table(w, rows, nil)
}

// written gives texts of a job as they stand in the file.
func written(texts []string) string { return Line(strings.Join(texts, " ")) }

// Job tells what a job does, what it asks, and when it starts.
func Job(w io.Writer, b *jobs.Book, j *jobs.Job, doc document.Job) {
	fmt.Fprintf(w, "%s  %s\n\n", Paint(Loud, j.Name), Line(j.About))
	rows := [][]string{}
	add := func(what string, text ...string) {
		if all := strings.TrimSpace(strings.Join(text, " ")); all != "" {
			rows = append(rows, []string{"  " + what, all})
		}
	}
	add("does", j.Does)
	add("where", written(doc.Targets))
	add("but not", written(doc.Except))
	add("runs", written(doc.Command))
	add("manifests", j.Manifests...)
	add("labels", j.Labels...)
	add("environment", j.Env)
	if j.Source != "" {
		add("taken from", j.Source, j.Revision)
	}
	if r := j.Rollout; r.First != "" || r.Batch.N > 0 || r.StopAfter.N > 0 {
		var how []string
		for _, part := range [][2]string{{"batches of ", r.Batch.String()}, {"first ", r.First},
			{"stops after ", r.StopAfter.String()}} {
			if part[1] != "" && part[1] != "0" {
				how = append(how, part[0]+part[1])
			}
		}
		add("bit by bit", strings.Join(how, ", "))
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
		add("when missed", map[string]string{"skip": "the next one counts",
			"once": "one start makes up for it"}[j.Schedule.Missed])
	}
	if j.Tell != nil {
		add("tells", append([]string{strings.Join(j.Tell, ", ")}, map[bool]string{true: "nobody"}[len(j.Tell) == 0])...)
	}
	if doc.Last != nil {
		_, how := Outcome(doc.Last)
		add("last", fmt.Sprintf("run %d of %s by %s: %s", doc.Last.Number, When(doc.Last.Started), doc.Last.Who, how))
	}
	Columns(w, rows)
	call := "jadekettle job start " + j.Name
	if len(doc.Questions) > 0 {
		fmt.Fprintf(w, "\n%s\n", Paint(Quiet, "it asks"))
		rows = rows[:0]
		for _, q := range doc.Questions {
			text := strings.TrimSuffix(strings.TrimSpace(q.About), ".")
			if text != "" {
				text += ": "
			}
			text += q.Wants
			if !q.Needed {
				text += "; " + value.Shown(q.Default) + " when left out"
			}
			if q.Secret {
				text += "; kept and shown nowhere"
			}
			if q.OnlyIf != "" {
				text += "; only if " + q.OnlyIf
			}
			rows = append(rows, []string{"  " + q.Key, text})
			if q.Needed && q.OnlyIf == "" && !q.Secret {
				call += " --answer " + q.Key + "=" + strings.ToUpper(q.Type)
			}
			if q.Secret && q.OnlyIf == "" {
				call += map[bool]string{true: " --answers FILE"}[!strings.Contains(call, "--answers")]
			}
		}
		Columns(w, rows)
	}
	fmt.Fprintf(w, "\n%s\n  %s\n", Paint(Quiet, "to start it"), call)
}

// Tended tells what tends a project, and how its jobs went.
func Tended(w io.Writer, d document.Tended, now time.Time) {
	if d.Running {
		fmt.Fprintln(w, Paint(Loud, fmt.Sprintf("process %d on %s tends this project, since %s", d.PID,
			Line(d.Machine), When(d.Since))))
	} else {
		fmt.Fprintln(w, Paint(Bad, "nothing tends this project now: what did, from "+When(d.Since)+" on, has ended"))
	}
	rows := [][]string{{"  from", Line(d.Source)}}
	if d.Revision != "" {
		rows = append(rows, []string{"  revision", d.Revision[:min(12, len(d.Revision))] + ", read " +
			Ago(d.Read, now)})
	}
	rows = append(rows, []string{"  looked", Ago(d.Looked, now)})
	if d.Wrong != "" {
		rows = append(rows, []string{"  but", "since " + When(d.WrongAt) + " the project cannot be read, and stays " +
			"as it was: " + Line(d.Wrong)})
	}
	Columns(w, rows)
	fmt.Fprintln(w)
	rows = [][]string{{"JOB", "NOW", "NEXT", "LAST", "CAME TO", "STARTS", "FAILED", "MISSED"}}
	for _, j := range d.Jobs {
		state, next, last := "", "none", "never"
		switch {
		case j.Running && d.Running:
			state = "runs"
		case j.Queued && d.Running:
			state = "waits for hosts"
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

// TendLine tells in a line what a tender is at.
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
