package runscmd

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

// showing is one call of runs show.
type showing struct {
	env          *cli.Env
	runs         app.Runs
	run          *record.Run
	whole, facts bool
}

func show(e *cli.Env) *cobra.Command {
	s := &showing{env: e}
	c := &cobra.Command{
		Use: "show RUN [HOST [KIND NAME]]", Short: "Show a run, a host in it, or a single task",
		Long: "Shows a run. With a host, lists the results of its tasks; with a task, shows all its details, and " +
			"the lines of the manifest at the time.",
		RunE: func(c *cobra.Command, args []string) error {
			if n := len(args); n == 0 || n == 3 || n > 4 {
				return problem.Errorf("expected RUN [HOST [KIND NAME]]").
					Remedy("usage: `jadekettle runs show RUN [HOST [KIND NAME]]`")
			}
			p, n, err := named(c.Context(), e, args[0])
			if err != nil {
				return err
			}
			s.runs = p
			if s.run, err = p.Load(n, args[1:min(2, len(args))]...); err != nil {
				return err
			}
			if len(args) > 1 && len(s.run.Hosts) == 0 {
				return s.noHost(n, args[1])
			}
			if s.facts && len(args) != 2 {
				return problem.Errorf("--facts requires a host").Remedy("use a run and a host")
			}
			switch {
			case s.facts:
				return s.showFacts(n, args[1])
			case len(args) == 4:
				return s.showTask(value.Ref{Kind: args[2], Name: args[3]})
			}
			return e.Render(document.RunShown{Head: document.One, Run: *s.run}, func(w io.Writer) {
				if len(args) == 2 {
					text.RunHost(w, e.Width, p, s.run, s.whole)
					return
				}
				text.RunShown(w, e.Width, p, s.run, s.whole)
			})
		},
	}
	c.Flags().BoolVarP(&s.whole, "verbose", "v", false, "show unchanged tasks and full diffs")
	c.ValidArgsFunction = e.CompleteRuns()
	c.Flags().BoolVar(&s.facts, "facts", false, "show the facts of the host as collected by the run")
	return c
}

// noHost is the error for a host that a run does not have.
func (s *showing) noHost(n int, host string) error {
	k, err := s.runs.Load(n)
	if err != nil {
		return err
	}
	return problem.Errorf("run %d did not include %q", n, host).
		Meant(host, k.Names(), "its hosts: "+strings.Join(app.Folded(k.Names()), " "))
}

func (s *showing) showTask(ref value.Ref) error {
	h, k := s.run.Hosts[0], s.run
	i := slices.IndexFunc(h.Tasks, func(t record.Task) bool { return t.Ref() == ref })
	if i < 0 {
		var names []string
		for _, t := range h.Tasks {
			names = append(names, t.Ref().String())
		}
		return problem.Errorf("run %d did not include %s on %s", k.Number, ref, h.Name).
			Meant(ref.String(), names, "`jadekettle runs show "+fmt.Sprint(k.Number)+" "+h.Name+" -v` lists its tasks")
	}
	t := &h.Tasks[i]
	manifest, err := s.runs.Text(k.Number, t.Manifest)
	if err != nil {
		return err
	}
	return s.env.Render(document.TaskShown{Head: document.One, Number: k.Number, Run: k.Run, Host: h.Name, Task: *t,
		Manifest: string(manifest)}, func(w io.Writer) {
		text.RunTask(w, s.env.Width, s.runs, k, h.Name, t, string(manifest))
	})
}

func (s *showing) showFacts(n int, host string) error {
	f, err := s.runs.Facts(n, host)
	if err != nil {
		return err
	}
	if f == nil {
		return problem.Errorf("run %d did not collect facts of %s", n, host).Remedy("the host was not reached")
	}
	return s.env.Render(document.RunFacts{Head: document.One, Number: n, Host: host, Facts: f.Tree()},
		func(w io.Writer) {
			text.FactsAsRead(w, f)
		})
}

func of(e *cli.Env) *cobra.Command {
	s := &sift{}
	c := &cobra.Command{
		Use: "history HOST KIND NAME", Short: "Show the history of one declaration on a host",
		Long: "Shows each run in which a declaration changed, would have changed, failed or was blocked on a host, " +
			"newest first: when, who ran it, at which revision, and the differences; and the number of runs in " +
			"between without changes.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 3 {
				return problem.Errorf("expected HOST KIND NAME").
					Remedy("for example, `jadekettle runs history gauge-01 file /etc/motd`")
			}
			p, f, err := s.sifted(c.Context(), e)
			if err != nil {
				return err
			}
			most := f.Most
			f.Most = 0
			ref := value.Ref{Kind: args[1], Name: args[2]}
			list, err := p.Of(args[0], ref, f)
			if err != nil {
				return err
			}
			if most > 0 {
				list = list[:min(most, len(list))]
			}
			if len(list) == 0 && !e.JSON() {
				return problem.Errorf("no recorded run included %s on %s", ref, args[0]).
					Remedy("`jadekettle runs search %s` searches everywhere", ref.Name)
			}
			return e.Render(document.NewLife(args[0], ref, list), func(w io.Writer) {
				text.Life(w, e.Width, p, args[0], ref, list)
			})
		},
	}
	s.flags(c, 40)
	c.ValidArgsFunction = e.CompleteTargets()
	return c
}
