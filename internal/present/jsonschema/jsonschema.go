// Package jsonschema makes JSON Schemas (draft 7) of the files that people
// write, out of the same descriptions from which messages and the reference
// come.
package jsonschema

import (
	"encoding/json"
	"os"
	"path"
	"path/filepath"
	"strings"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/schedule"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/rehearse"
)

// Sorts are the sorts of files that have a schema; to make the schemas only to
// list them would slow every start.
var Sorts = []string{"data", "inventory", "jobs", "manifest", "rehearsal", "settings"}

// All gives every schema by the sort of file that it describes.
func All(kinds schema.Kinds) map[string]map[string]any {
	return map[string]map[string]any{
		"manifest":  ofManifest(kinds),
		"inventory": ofInventory(),
		"settings":  ofSettings(),
		"jobs":      ofJobs(),
		"data": document("Data for jadekettle", map[string]any{"type": "object",
			"description": "Any values; expressions read them under data."}),
		"rehearsal": ofRehearsal(),
	}
}

// object is a JSON Schema of a table with these keys and no others.
func object(doc string, keys map[string]any) map[string]any {
	return map[string]any{"type": "object", "description": doc, "properties": keys, "additionalProperties": false}
}

// named is a JSON Schema of a table whose keys are names.
func named(doc string, of any) map[string]any {
	return map[string]any{"type": "object", "description": doc, "additionalProperties": of}
}

func typed(t, doc string) map[string]any { return map[string]any{"type": t, "description": doc} }

func listOf(doc string) map[string]any {
	return map[string]any{"type": "array", "description": doc, "items": map[string]any{"type": "string"}}
}

// expression matches a text that an expression fills in.
var expression = map[string]any{"type": "string", "pattern": `\$\{`}

func document(title string, body map[string]any) map[string]any {
	body["$schema"], body["title"] = "http://json-schema.org/draft-07/schema#", title
	return body
}

// keys is a JSON Schema of a table with fixed keys.
func keys(doc string, list []schema.Key) map[string]any {
	out := map[string]any{}
	for _, k := range list {
		out[k.Name] = key(k)
	}
	return object(doc, out)
}

// key is a JSON Schema of what one key takes.
func key(k schema.Key) map[string]any {
	doc := k.Doc
	if k.Default != "" {
		doc += " Default: " + k.Default + "."
	}
	switch k.Takes {
	case schema.TakesList:
		return listOf(doc)
	case schema.TakesInt:
		return typed("integer", doc)
	case schema.TakesBool:
		return typed("boolean", doc)
	case schema.TakesEither:
		return either(map[string]any{"type": "string"}, doc)
	case schema.TakesSize, schema.TakesCount:
		return map[string]any{"type": []any{"string", "integer"}, "description": doc}
	case schema.TakesAny:
		return map[string]any{"description": doc}
	case schema.TakesTable:
		if len(k.Items) > 0 {
			return keys(doc, k.Items)
		}
		return typed("object", doc)
	}
	out := typed("string", doc)
	if len(k.Choices) > 0 {
		out["enum"] = k.Choices
	}
	return out
}

func ofManifest(kinds schema.Kinds) map[string]any {
	top := map[string]any{
		"about": typed("string", "A description of the manifest."),
		"trust_facts": typed("boolean",
			"Let facts of other hosts (fleet) be used that another controller wrote to a shared history."),
		"param": named("The params of the manifest.", keys("A param.", param.Keys)),
		"fact":  named("Custom facts, collected by commands.", keys("A custom fact.", manifest.FactKeys)),
		"use":   named("Other manifests to include.", keys("A use.", manifest.UseKeys)),
	}
	for _, name := range kinds.Names() {
		k, _ := kinds.Kind(name)
		attrs := map[string]any{}
		required := []any{}
		for _, at := range append(k.RequiredFirst(), k.Common()...) {
			attrs[at.Name] = attribute(at)
			if at.Required {
				required = append(required, at.Name)
			}
		}
		one := object(k.About, attrs)
		if len(required) > 0 { // of what is absent nothing has to be said
			one["if"] = map[string]any{"properties": map[string]any{"absent": map[string]any{"const": false}}}
			one["then"] = map[string]any{"required": required}
		}
		top[name] = named(k.Doc, one)
	}
	return document("A manifest for jadekettle", object("Declarations, params and uses.", top))
}

func either(item map[string]any, doc string) map[string]any {
	return map[string]any{"description": doc, "anyOf": []any{item, map[string]any{"type": "array", "items": item}}}
}

func attribute(at schema.Attr) map[string]any {
	doc := at.Doc
	if at.Default != "" {
		doc += " Default: " + at.Default + "."
	}
	item := one(at)
	switch {
	case at.List:
		item = orExpression(map[string]any{"type": "array", "items": item})
	case at.Either:
		return either(item, doc)
	}
	item["description"] = doc
	return item
}

// one is a JSON Schema of one value of an attribute.
func one(at schema.Attr) map[string]any {
	scalars := []any{"string", "number", "boolean"}
	switch at.Type {
	case schema.Values:
		return orExpression(named(at.Doc, map[string]any{"type": scalars}))
	case schema.Nested:
		return orExpression(named(at.Doc, map[string]any{"type": append(scalars, "array", "object")}))
	case schema.Table:
		fields, required := map[string]any{}, []any{}
		for _, f := range at.Fields {
			fields[f.Name] = attribute(f)
			if f.Required {
				required = append(required, f.Name)
			}
		}
		out := object(at.Doc, fields)
		out["required"] = required
		return orExpression(out)
	case schema.Bool:
		return orExpression(map[string]any{"type": "boolean"})
	case schema.Int, schema.ID:
		return orExpression(map[string]any{"type": "integer", "minimum": 0})
	case schema.Scalar:
		return map[string]any{"type": []any{"string", "number"}}
	}
	if len(at.Choices) > 0 {
		return orExpression(map[string]any{"enum": at.Choices})
	}
	return map[string]any{"type": "string"}
}

// orExpression takes what an expression fills in as well.
func orExpression(of map[string]any) map[string]any {
	return map[string]any{"anyOf": []any{of, expression}}
}

func ofInventory() map[string]any {
	host := keys("A host, or a range such as gauge-[01..04]; any other key is a custom host key.", inventory.HostKeys)
	delete(host, "additionalProperties")
	return document("An inventory for jadekettle", object("Hosts and groups.", map[string]any{
		"connect": keys("How to connect to hosts.", inventory.ConnectKeys),
		"host":    named("Hosts by name.", host),
		"group":   named("Groups by name.", keys("A group.", inventory.GroupKeys)),
	}))
}

func ofSettings() map[string]any {
	top := map[string]any{}
	tables := map[string]map[string]any{}
	for _, s := range settings.Keys {
		table, name := path.Split(strings.ReplaceAll(s.Name, ".", "/"))
		if table == "" {
			top[name] = key(s)
			continue
		}
		table = strings.TrimSuffix(table, "/")
		if tables[table] == nil {
			tables[table] = map[string]any{}
		}
		tables[table][name] = key(s)
	}
	var rules []any
	for _, r := range layers.Rules {
		rules = append(rules, r)
	}
	rule := map[string]any{"anyOf": []any{map[string]any{"enum": rules}, map[string]any{"type": "object"}}}
	tables["data"]["lists"] = named("How lists in later layers combine with earlier ones, by dotted key.", rule)
	for name, list := range tables {
		top[name] = object("", list)
	}
	top["notify"] = named("Notifications when a run ends, by name.", keys("A notification.", settings.NotifyKeys))
	top["env"] = named("Environments by name.", keys("An environment.", settings.EnvKeys))
	return document("The settings of a jadekettle project", object("jadekettle.toml", top))
}

func ofJobs() map[string]any {
	one := keys("A job.", job.Keys)
	props := one["properties"].(map[string]any)
	props["input"] = named("The job's inputs, by key.", keys("An input.", job.InputKeys))
	props["schedule"] = keys("The job's schedule.", schedule.Keys)
	return document("The jobs of a jadekettle project", object(job.File,
		map[string]any{"job": named("Jobs by name.", one)}))
}

func ofRehearsal() map[string]any {
	host := keys("A host.", rehearse.HostKeys)
	host["properties"].(map[string]any)["expect"] = keys("The expected result of the first run.", rehearse.ExpectKeys)
	return document("A rehearsal for jadekettle", object("Simulated hosts and their expected results.", map[string]any{
		"about": typed("string", "A description."), "env": typed("string", "The environment it runs in."),
		"encrypted": named("Made-up values instead of encrypted files, by layer.", map[string]any{"type": "object"}),
		"host":      named("Hosts from the inventory.", host),
	}))
}

// WriteAll writes every schema into a folder, and gives the files.
func WriteAll(kinds schema.Kinds, dir string) ([]string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	var out []string
	all := All(kinds)
	for _, name := range value.Keys(all) {
		data, err := json.MarshalIndent(all[name], "", "  ")
		if err != nil {
			return out, err
		}
		file := filepath.Join(dir, name+".json")
		if err := atomicfile.Write(file, append(data, '\n'), 0o644); err != nil {
			return out, err
		}
		out = append(out, file)
	}
	return out, nil
}
