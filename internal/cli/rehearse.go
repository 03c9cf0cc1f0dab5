package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/junit"
	screen "jadekettle/internal/present/text"
)

func (a *App) rehearseCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "rehearse [FILE...]", Short: "Try the project on simulated hosts, without any server", GroupID: "grow",
		Annotations: map[string]string{moreOutputs: "junit"},
		Long: "Rehearse applies the project to hosts that are simulated inside this program, as the files in " +
			"rehearsal/\nsay: their system, memory, packages, services and accounts. It applies twice, and fails when the " +
			"second run\nchanges anything, when a host does not come out as its file expects, or when a condition of the " +
			"project was\nnever both true and false. It contacts nobody and needs no rights, so it is the way to test a " +
			"project in CI.",
		Example: "  jadekettle rehearse\n  jadekettle rehearse --output junit > rehearsal.xml",
		RunE:    func(c *cobra.Command, args []string) error { return a.rehearse(c.Context(), args) },
	}
	return c
}

func (a *App) rehearse(ctx context.Context, names []string) error {
	dir, root, err := a.projectFiles()
	if err != nil {
		return err
	}
	for i, name := range names {
		full, err := filepath.Abs(name)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, full)
		if err != nil || !filepath.IsLocal(rel) {
			return problem.Errorf("%s is not in the project %s", name, dir).Remedy("name one of its rehearsals")
		}
		names[i] = filepath.ToSlash(rel)
	}
	list, err := rehearse.Load(root, names)
	if err != nil {
		return err
	}
	o, err := a.options(dir)
	if err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "jadekettle-rehearsal-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	cases, err := rehearse.Run(ctx, rehearse.Stage{Project: root, Kinds: kinds.Schemas(), Options: o, Folder: work,
		Parallel: 8}, list)
	var ps *problem.Problems
	switch {
	case errors.Is(err, context.Canceled):
		a.code = exitStopped
		return nil
	case errors.As(err, &ps):
		return ps
	case err != nil:
		return err
	}
	failed := 0
	for _, c := range cases {
		if c.Failure != "" {
			failed++
		}
	}
	if failed > 0 {
		a.code = exitFailed
	}
	switch a.output {
	case "json":
		docs := []document.Case{}
		for _, c := range cases {
			docs = append(docs, document.Case{Rehearsal: c.File, Host: c.Host, Case: c.Name, Failure: c.Failure,
				Place: document.At(c.Place)})
		}
		return a.document(document.Rehearsals{Head: document.One, Failed: failed, Cases: docs})
	case "junit":
		return junit.Write(a.raw, suites(cases))
	}
	a.rehearsed(cases, failed)
	return nil
}

func suites(cases []rehearse.Case) []junit.Suite {
	var out []junit.Suite
	for _, c := range cases {
		name, class := c.File, c.Host
		if name == "" {
			name, class = "conditions", c.Place.File
		}
		if len(out) == 0 || out[len(out)-1].Name != name {
			out = append(out, junit.Suite{Name: name})
		}
		s := &out[len(out)-1]
		s.Cases = append(s.Cases, junit.Case{Class: class, Name: c.Name, Failure: c.Failure, File: c.Place.File,
			Line: c.Place.Line, Took: c.Took})
	}
	return out
}

// rehearsed prints a line for each host, and what is not as expected in full.
func (a *App) rehearsed(cases []rehearse.Case, failed int) {
	var rows [][]string
	var broken []rehearse.Case
	at := map[string]int{}
	good, conditions := map[string]int{}, [2]int{}
	wrong := map[string]int{}
	for _, c := range cases {
		key := c.File + "\x00" + c.Host
		if c.Failure != "" {
			broken = append(broken, c)
		}
		if c.File == "" {
			conditions[0]++
			if c.Failure != "" {
				conditions[1]++
			}
			continue
		}
		if _, there := at[key]; !there {
			at[key] = len(rows)
			rows = append(rows, []string{c.File, c.Host, ""})
		}
		if c.Failure == "" {
			good[key]++
		} else {
			wrong[key]++
		}
	}
	for key, i := range at {
		rows[i][2] = fmt.Sprintf("%d as expected", good[key])
		if wrong[key] > 0 {
			rows[i][2] += fmt.Sprintf(", %d not", wrong[key])
		}
	}
	if conditions[0] > 0 {
		text := fmt.Sprintf("%d seen both true and false, or meant so", conditions[0]-conditions[1])
		if conditions[1] > 0 {
			text += fmt.Sprintf(", %d not", conditions[1])
		}
		rows = append(rows, []string{"conditions", "", text})
	}
	screen.Section(a.Out, "rehearsed", rows)
	dir, _ := a.folder()
	src := &screen.Sources{Dir: dir}
	for _, c := range broken {
		head := c.Name
		if c.Host != "" {
			head = c.Host + ": " + c.Name
		}
		fmt.Fprintf(a.Out, "\n%s%s\n", screen.Paint(screen.Loud, screen.Line(c.Place.String()+": ")),
			screen.Paint(screen.Bad, screen.Line(head)))
		src.Excerpt(a.Out, c.Place)
		fmt.Fprint(a.Out, screen.Wrap(screen.Block(c.Failure), "        ", a.Width))
	}
	fmt.Fprintln(a.Out)
	if failed == 0 {
		fmt.Fprintf(a.Out, "%s, all as expected\n", screen.Count(len(cases), "case"))
		return
	}
	fmt.Fprintf(a.Out, "%s, %d not as expected\n", screen.Count(len(cases), "case"), failed)
}
