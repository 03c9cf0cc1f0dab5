package units

import (
	"embed"
	"fmt"
	"strings"
	"sync"
	"text/template"
	"time"

	"jadekettle/internal/core/schedule"
)

//go:embed *.tmpl
var files embed.FS

// templates are read when the first unit is written.
var templates = sync.OnceValue(func() *template.Template {
	seconds := func(d time.Duration) string { return fmt.Sprintf("%ds", int(d.Seconds())) }
	return template.Must(template.New("").Funcs(template.FuncMap{"seconds": seconds}).ParseFS(files, "*.tmpl"))
})

// Service is what a service is made of.
type Service struct {
	About       string   // a text in one line
	Command     []string // the program and its words
	Environment []string // NAME=VALUE
}

// line is a Service as its template takes it: its words are written as systemd reads them.
type line struct {
	About, Command string
	Environment    []string
}

func (s Service) line() (out line, err error) {
	if out.About, err = Text(s.About); err != nil {
		return out, err
	}
	if out.Command, err = Line(s.Command...); err != nil {
		return out, err
	}
	for _, e := range s.Environment {
		word, err := Word(e)
		if err != nil {
			return out, err
		}
		out.Environment = append(out.Environment, word)
	}
	return out, nil
}

// Job writes the service and the timer that start something by a schedule. name is theirs, without an ending.
func Job(name string, s Service, when *schedule.Schedule) ([]File, error) {
	l, err := s.line()
	if err != nil {
		return nil, err
	}
	service, err := text("job.service.tmpl", l)
	if err != nil {
		return nil, err
	}
	timer, err := text("job.timer.tmpl", struct {
		line
		Calendar                  []string
		Every, FirstEvery, Spread time.Duration
		Catch                     bool // a start that was missed is made up for
	}{l, when.Calendar(), when.Every, min(when.Every, time.Minute), when.Spread, when.Missed == schedule.Once})
	return []File{{name + ".service", service}, {name + ".timer", timer}}, err
}

// Here writes the service by which a host keeps itself.
func Here(s Service) (string, error) {
	l, err := s.line()
	if err != nil {
		return "", err
	}
	return text("here.service.tmpl", l)
}

func text(name string, of any) (string, error) {
	var b strings.Builder
	err := templates().ExecuteTemplate(&b, name, of)
	return b.String(), err
}
