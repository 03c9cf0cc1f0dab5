package cli_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/schedule"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/present/document"
)

// TestTheReadmeIsCurrent holds the table of commands in the README to what the commands say of themselves.
func TestTheReadmeIsCurrent(t *testing.T) {
	const file, start, end = "../../README.md", "| command | description |\n|---|---|\n", "\n\n"
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	before, rest, _ := strings.Cut(string(text), start)
	got, after, _ := strings.Cut(rest, end)
	var rows []string
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			if sub.Hidden || c.Name() == "add" || c.Name() == "completion" { // one for each kind, one for each shell
				continue
			}
			use := strings.TrimPrefix(strings.TrimSuffix(sub.UseLine(), " [flags]"), "jadekettle ")
			rows = append(rows, "| `"+strings.ReplaceAll(use, "|", "\\|")+"` | "+sub.Short+" |")
			walk(sub)
		}
	}
	walk(cli.Tree(commands))
	want := strings.Join(rows, "\n")
	if *update {
		if err := os.WriteFile(file, []byte(before+start+want+end+after), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if got != want {
		t.Errorf("the table of commands is stale; run go test ./internal/cli -update\n%s", want)
	}
}

// TestTheReferenceIsCurrent holds docs/reference.md to what the schemas say.
func TestTheReferenceIsCurrent(t *testing.T) {
	const file = "../../docs/reference.md"
	want := reference()
	if *update {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := os.ReadFile(file)
	if err != nil || string(got) != want {
		t.Errorf("%s is stale (%v); run go test ./internal/cli -update", file, err)
	}
}

func reference() string {
	var b strings.Builder
	b.WriteString("# Reference\n\nThis page is generated from the schemas; do not edit it by hand. `go test " +
		"./internal/cli -update` updates it.\n\n## Types\n\n| type | meaning |\n|---|---|\n")
	names, meanings := schema.TypeNames()
	for i, name := range names {
		fmt.Fprintf(&b, "| %s | %s |\n", name, meanings[i])
	}
	b.WriteString("\n## Kinds\n\n")
	schemas := kinds.Schemas()
	for _, name := range schemas.Names() {
		k, _ := schemas.Kind(name)
		fmt.Fprintf(&b, "### %s\n\n%s %s\n\n", k.Name, k.About, k.Doc)
		attributes(&b, k.Attrs)
		for _, e := range k.Examples {
			fmt.Fprintf(&b, "\n%s:\n\n", e.About)
			for line := range strings.Lines(e.TOML) {
				b.WriteString(strings.TrimRight("    "+line, " "))
			}
		}
		if len(k.Tools) > 0 {
			var tools []string
			for _, tool := range k.Tools {
				tools = append(tools, fmt.Sprintf("`%s` (package `%s`)", strings.Join(tool.Any, "` or `"),
					tool.Package))
			}
			fmt.Fprintf(&b, "\nTo make changes, it runs %s on the host.\n", strings.Join(tools, ", "))
		}
		if k.NoAbsent != "" {
			fmt.Fprintf(&b, "\nIt cannot be `absent`: %s.\n", k.NoAbsent)
		}
		b.WriteByte('\n')
	}
	b.WriteString("### Attributes of every kind\n\n")
	attributes(&b, schema.Common)
	b.WriteString("\n## Facts\n\nIn expressions and templates, they are in `facts`. Sizes are in bytes; `[]` means " +
		"the items of a list, `*` the keys\nof a map.\n\n| fact | type | meaning |\n|---|---|---|\n")
	for _, f := range facts.Schema() {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Path, strings.Replace(f.Type, "text", "string", 1), f.Doc)
	}
	b.WriteString("\n## Params\n\n")
	keys(&b, "[param.NAME]", param.Keys)
	b.WriteString("\n| type | meaning |\n|---|---|\n")
	for _, t := range param.Types {
		fmt.Fprintf(&b, "| `%s` | %s |\n", t.Name, t.Doc)
	}
	b.WriteString("\n## Included manifests\n\n")
	keys(&b, "[use.NAME]", manifest.UseKeys)
	b.WriteString("\n## Custom facts\n\n")
	keys(&b, "[fact.NAME]", manifest.FactKeys)
	b.WriteString("\n## Inventory\n\n")
	keys(&b, "[host.NAME]", inventory.HostKeys)
	b.WriteString("\n")
	keys(&b, "[group.NAME]", inventory.GroupKeys)
	b.WriteString("\n")
	keys(&b, "connect", inventory.ConnectKeys)
	b.WriteString("\n## Functions\n")
	area := ""
	for _, f := range expr.Functions() {
		if f.Area != area {
			area = f.Area
			fmt.Fprintf(&b, "\n### %s%s\n\n| function | description | example | result |\n|---|---|---|---|\n",
				strings.ToUpper(area[:1]), area[1:])
		}
		fmt.Fprintf(&b, "| `%s` | %s | `%s` | `%s` |\n", f.Signature(), f.Doc,
			strings.ReplaceAll(f.Uses[0].Expr, "|", "\\|"), f.Uses[0].Gives)
	}
	settingsAndJobs(&b)
	return b.String()
}

// settingsAndJobs writes of what is there in the settings, the jobs and the rehearsals.
func settingsAndJobs(b *strings.Builder) {
	b.WriteString("\n## Settings\n\nIn `jadekettle.toml`; paths are relative to the project.\n\n" +
		"| setting | type | default | meaning |\n|---|---|---|---|\n")
	for _, s := range settings.Keys {
		fmt.Fprintf(b, "| `%s` | %s | %s | %s |\n", s.Name, s.Takes, code(s.Default), s.Doc)
	}
	fmt.Fprintf(b, "| `data.lists.KEY` | string | `\"replace\"` | How the list of a layer is combined with those "+
		"of earlier layers: `%s`. |\n", strings.Join(layerRules(), "`, `"))
	for _, s := range settings.EnvKeys {
		fmt.Fprintf(b, "| `env.NAME.%s` | %s | %s | %s |\n", s.Name, s.Takes, code(s.Default), s.Doc)
	}
	for _, s := range settings.NotifyKeys {
		fmt.Fprintf(b, "| `notify.NAME.%s` | %s | %s | %s |\n", s.Name, s.Takes, code(s.Default), s.Doc)
	}
	b.WriteString("\n## Jobs\n\nIn `jobs.toml`.\n\n")
	keys(b, "[job.NAME]", job.Keys)
	b.WriteString("\n")
	keys(b, "[job.NAME.input.KEY]", job.InputKeys)
	b.WriteString("\n")
	keys(b, "[job.NAME.schedule]", schedule.Keys)
	b.WriteString("\n## Rehearsals\n\nIn `rehearsal/NAME.toml`, in addition to `about`, `env` and " +
		"`[encrypted.LAYER]`.\n\n")
	keys(b, "[host.NAME]", rehearse.HostKeys)
	b.WriteString("\n")
	keys(b, "[host.NAME.expect]", rehearse.ExpectKeys)
	b.WriteString("\n## Warnings\n\n| code | meaning |\n|---|---|\n")
	for _, c := range advice.Codes {
		fmt.Fprintf(b, "| `%s` | %s |\n", c.Code, c.Doc)
	}
	documents(b)
}

func documents(b *strings.Builder) {
	b.WriteString("\n## Documents\n\nThe output of `--output json`: one document per command, whose `format` is 1. " +
		"Fields are only ever added.\nStrings and lists are never null. Times are in UTC (RFC 3339), and omitted " +
		"if unknown. `[]` means the items of a\nlist.\n")
	for _, s := range document.Sorts {
		fmt.Fprintf(b, "\n### %s\n\n| field | type | meaning |\n|---|---|---|\n", s.Prints)
		for _, f := range document.Fields(s.Of) {
			fmt.Fprintf(b, "| `%s` | %s | %s |\n", f.Path, f.Type, f.Doc)
		}
	}
}

func keys(b *strings.Builder, of string, list []schema.Key) {
	fmt.Fprintf(b, "| key of `%s` | type | default | meaning |\n|---|---|---|---|\n", of)
	for _, k := range list {
		fmt.Fprintf(b, "| `%s` | %s | %s | %s |\n", k.Name, k.Takes, code(k.Default), k.Doc)
	}
}

func code(s string) string {
	if s == "" {
		return ""
	}
	return "`" + s + "`"
}

func layerRules() []string { return layers.Rules }

func attributes(b *strings.Builder, list []schema.Attr) {
	b.WriteString("| attribute | type | default | meaning | examples |\n|---|---|---|---|---|\n")
	for _, a := range schema.Spread(list) {
		short, _ := a.Type.MarshalText()
		takes := string(short)
		if a.List {
			takes = "list of " + takes
		}
		if a.Required {
			takes += ", required"
		}
		examples := ""
		for i, e := range a.Examples {
			if i > 0 {
				examples += ", "
			}
			examples += "`" + e + "`"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s | %s | %s |\n", a.Name, takes, a.Default, a.Doc, examples)
	}
}
