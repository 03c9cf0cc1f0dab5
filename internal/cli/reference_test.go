package cli_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
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

// TestTheReferenceIsCurrent holds the generated pages of docs/reference to what the schemas and the commands say.
func TestTheReferenceIsCurrent(t *testing.T) {
	for _, page := range []struct {
		name, title, about string
		write              func(*strings.Builder)
	}{
		{"kinds", "Kinds", "Every kind that a manifest can declare, with its attributes and examples. " +
			"`jadekettle kinds KIND` prints the same.", kindsPage},
		{"files", "Files of a project", "The tables and keys of manifests, the inventory, jobs and rehearsals.",
			filesPage},
		{"settings", "Settings", "The keys of `jadekettle.toml`. Paths are relative to the project.", settingsPage},
		{"facts", "Facts", "What is known about a host, as `facts` in expressions and templates. " +
			"`jadekettle facts HOST` prints the facts of a host.", factsPage},
		{"functions", "Functions", "What expressions and templates can call. " +
			"`jadekettle kinds functions` prints the same.", functionsPage},
		{"warnings", "Warnings of lint", "The codes that `jadekettle lint` prints. See " +
			"[Checking a project](../explain/lint.md) for how to allow one.", warningsPage},
		{"documents", "JSON documents", "The output of `--output json`.", documents},
		{"commands", "Commands", "Every command with its flags. `jadekettle COMMAND --help` and the man pages say " +
			"the same.", func(b *strings.Builder) { cli.NewManual(commands.All...).Markdown(b) }},
	} {
		file := "../../docs/reference/" + page.name + ".md"
		b := &strings.Builder{}
		fmt.Fprintf(b, "# %s\n\n%s\n\nThis page is generated; `go test ./internal/cli -update` updates it.\n",
			page.title, page.about)
		page.write(b)
		want := b.String()
		if *update {
			if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if got, err := os.ReadFile(file); err != nil || string(got) != want {
			t.Errorf("%s is stale (%v); run go test ./internal/cli -update", file, err)
		}
	}
}

func kindsPage(b *strings.Builder) {
	b.WriteString("\n## Types\n\n| type | meaning |\n|---|---|\n")
	names, meanings := schema.TypeNames()
	for i, name := range names {
		fmt.Fprintf(b, "| %s | %s |\n", name, meanings[i])
	}
	b.WriteString("\n## Attributes of every kind\n\n")
	attributes(b, schema.Common)
	schemas := kinds.Schemas()
	for _, name := range schemas.Names() {
		k, _ := schemas.Kind(name)
		fmt.Fprintf(b, "\n## %s\n\n%s %s\n\n", k.Name, k.About, k.Doc)
		attributes(b, k.Attrs)
		for _, e := range k.Examples {
			fmt.Fprintf(b, "\n%s:\n\n```toml\n%s\n```\n", e.About, strings.TrimRight(e.TOML, "\n"))
		}
		if len(k.Tools) > 0 {
			var tools []string
			for _, tool := range k.Tools {
				tools = append(tools, fmt.Sprintf("`%s` (package `%s`)", strings.Join(tool.Any, "` or `"),
					tool.Package))
			}
			fmt.Fprintf(b, "\nTo make changes, it runs %s on the host.\n", strings.Join(tools, ", "))
		}
		if k.NoAbsent != "" {
			fmt.Fprintf(b, "\nIt cannot be `absent`: %s.\n", k.NoAbsent)
		}
	}
}

func factsPage(b *strings.Builder) {
	b.WriteString("\nSizes are in bytes; `[]` means the items of a list, `*` the keys of a map.\n\n" +
		"| fact | type | meaning |\n|---|---|---|\n")
	for _, f := range facts.Schema() {
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", f.Path, strings.Replace(f.Type, "text", "string", 1), f.Doc)
	}
}

func functionsPage(b *strings.Builder) {
	area := ""
	for _, f := range expr.Functions() {
		if f.Area != area {
			area = f.Area
			fmt.Fprintf(b, "\n## %s%s\n\n| function | description | example | result |\n|---|---|---|---|\n",
				strings.ToUpper(area[:1]), area[1:])
		}
		fmt.Fprintf(b, "| `%s` | %s | `%s` | `%s` |\n", f.Signature(), f.Doc,
			strings.ReplaceAll(f.Uses[0].Expr, "|", "\\|"), f.Uses[0].Gives)
	}
}

func filesPage(b *strings.Builder) {
	for _, section := range []struct {
		title, about string
		tables       map[string][]schema.Key
		order        []string
	}{
		{"Manifests", "In `manifests/NAME.toml` or `manifests/NAME/manifest.toml`, besides the declarations of " +
			"[kinds](kinds.md).", map[string][]schema.Key{"[param.NAME]": param.Keys, "[use.NAME]": manifest.UseKeys,
			"[fact.NAME]": manifest.FactKeys}, []string{"[param.NAME]", "[use.NAME]", "[fact.NAME]"}},
		{"Inventory", "In `hosts.toml`, or the files that an environment names.", map[string][]schema.Key{
			"[host.NAME]": inventory.HostKeys, "[group.NAME]": inventory.GroupKeys, "connect": inventory.ConnectKeys},
			[]string{"[host.NAME]", "[group.NAME]", "connect"}},
		{"Jobs", "In `jobs.toml`.", map[string][]schema.Key{"[job.NAME]": job.Keys,
			"[job.NAME.input.KEY]": job.InputKeys, "[job.NAME.schedule]": schedule.Keys},
			[]string{"[job.NAME]", "[job.NAME.input.KEY]", "[job.NAME.schedule]"}},
		{"Rehearsals", "In `rehearsal/NAME.toml`, in addition to `about`, `env` and `[encrypted.LAYER]`.",
			map[string][]schema.Key{"[host.NAME]": rehearse.HostKeys, "[host.NAME.expect]": rehearse.ExpectKeys},
			[]string{"[host.NAME]", "[host.NAME.expect]"}},
	} {
		fmt.Fprintf(b, "\n## %s\n\n%s\n", section.title, section.about)
		for _, of := range section.order {
			b.WriteString("\n")
			keys(b, of, section.tables[of])
			if of != "[param.NAME]" {
				continue
			}
			b.WriteString("\n| type of a param | meaning |\n|---|---|\n")
			for _, t := range param.Types {
				fmt.Fprintf(b, "| `%s` | %s |\n", t.Name, t.Doc)
			}
		}
	}
}

func settingsPage(b *strings.Builder) {
	b.WriteString("\n| setting | type | default | meaning |\n|---|---|---|---|\n")
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
}

func warningsPage(b *strings.Builder) {
	b.WriteString("\n| code | meaning |\n|---|---|\n")
	for _, c := range advice.Codes {
		fmt.Fprintf(b, "| `%s` | %s |\n", c.Code, c.Doc)
	}
}

func documents(b *strings.Builder) {
	b.WriteString("\nOne document per command, whose `format` is 1. Fields are only ever added. Strings and lists " +
		"are never null. Times are in UTC (RFC 3339), and omitted if unknown. `[]` means the items of a list.\n")
	for _, s := range document.Sorts {
		fmt.Fprintf(b, "\n## %s\n\n| field | type | meaning |\n|---|---|---|\n", s.Prints)
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
