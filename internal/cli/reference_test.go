package cli_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

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
	b.WriteString("# Reference\n\nThis page is made from the schemas; do not edit it by hand. `go test " +
		"./internal/cli -update` makes it anew.\n\n## Kinds\n\n")
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
			fmt.Fprintf(&b, "\nIts changes run %s on the host.\n", strings.Join(tools, ", "))
		}
		if k.NoAbsent != "" {
			fmt.Fprintf(&b, "\nIt cannot be `absent`: %s.\n", k.NoAbsent)
		}
		b.WriteByte('\n')
	}
	b.WriteString("### Attributes of every kind\n\n")
	attributes(&b, schema.Common)
	b.WriteString("\n## Facts\n\nIn expressions and templates below `facts`. Sizes are bytes; `[]` stands for the " +
		"items of a list, `*` for the\nkeys of a map.\n\n| fact | type | meaning |\n|---|---|---|\n")
	for _, f := range facts.Schema() {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Path, f.Type, f.Doc)
	}
	b.WriteString("\n## Params\n\n")
	keys(&b, "[param.NAME]", param.Keys)
	b.WriteString("\n| type | is |\n|---|---|\n")
	for _, t := range param.Types {
		fmt.Fprintf(&b, "| `%s` | %s |\n", t.Name, t.Doc)
	}
	b.WriteString("\n## Uses\n\n")
	keys(&b, "[use.NAME]", manifest.UseKeys)
	b.WriteString("\n## Facts of one's own\n\n")
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
			fmt.Fprintf(&b, "\n### %s%s\n\n| function | does | for example | gives |\n|---|---|---|---|\n",
				strings.ToUpper(area[:1]), area[1:])
		}
		fmt.Fprintf(&b, "| `%s` | %s | `%s` | `%s` |\n", f.Signature(), f.Doc,
			strings.ReplaceAll(f.Uses[0].Expr, "|", "\\|"), f.Uses[0].Gives)
	}
	settingsAndJobs(&b)
	return b.String()
}

// settingsAndJobs writes of what stands in the settings, the jobs and the rehearsals.
func settingsAndJobs(b *strings.Builder) {
	b.WriteString("\n## Settings\n\nIn `jadekettle.toml`; paths are relative to the project.\n\n" +
		"| setting | takes | default | meaning |\n|---|---|---|---|\n")
	for _, s := range settings.Keys {
		fmt.Fprintf(b, "| `%s` | %s | %s | %s |\n", s.Name, s.Takes, code(s.Default), s.Doc)
	}
	fmt.Fprintf(b, "| `data.lists.KEY` | text | `\"replace\"` | What a later layer's list does to an earlier one: "+
		"`%s`. |\n", strings.Join(layerRules(), "`, `"))
	for _, s := range settings.EnvKeys {
		fmt.Fprintf(b, "| `env.NAME.%s` | %s | %s | %s |\n", s.Name, s.Takes, code(s.Default), s.Doc)
	}
	for _, s := range settings.TellKeys {
		fmt.Fprintf(b, "| `tell.NAME.%s` | %s | %s | %s |\n", s.Name, s.Takes, code(s.Default), s.Doc)
	}
	b.WriteString("\n## Jobs\n\nIn `jobs.toml`.\n\n")
	keys(b, "[job.NAME]", job.Keys)
	b.WriteString("\n")
	keys(b, "[job.NAME.ask.KEY]", job.AskKeys)
	b.WriteString("\n")
	keys(b, "[job.NAME.schedule]", schedule.Keys)
	b.WriteString("\n## Rehearsals\n\nIn `rehearsal/NAME.toml`, besides `about`, `env` and `[sealed.LAYER]`.\n\n")
	keys(b, "[host.NAME]", rehearse.HostKeys)
	b.WriteString("\n")
	keys(b, "[host.NAME.expect]", rehearse.ExpectKeys)
	b.WriteString("\n## Advice\n\n| code | about |\n|---|---|\n")
	for _, c := range advice.Codes {
		fmt.Fprintf(b, "| `%s` | %s |\n", c.Code, c.Doc)
	}
	documents(b)
}

func documents(b *strings.Builder) {
	b.WriteString("\n## Documents\n\nWhat `--output json` prints: one document for each call, with `format`, a " +
		"number " +
		"that is 1. Fields are only ever added.\nTexts and lists are never null. `[]` stands for the items of a " +
		"list.\n")
	for _, s := range document.Sorts {
		fmt.Fprintf(b, "\n### %s\n\n| field | is | meaning |\n|---|---|---|\n", s.Prints)
		for _, f := range document.Fields(s.Of) {
			fmt.Fprintf(b, "| `%s` | %s | %s |\n", f.Path, f.Type, f.Doc)
		}
	}
}

func keys(b *strings.Builder, of string, list []schema.Key) {
	fmt.Fprintf(b, "| key of `%s` | takes | default | meaning |\n|---|---|---|---|\n", of)
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
	b.WriteString("| attribute | takes | default | meaning | for example |\n|---|---|---|---|---|\n")
	for _, a := range schema.Spread(list) {
		takes := a.Type.String()
		if a.List {
			takes = "a list, each " + takes
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
