package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/history"
	"jadekettle/internal/host/kinds"
)

// schemaDir is where init puts the schemas that editors read.
const schemaDir = ".schemas"

// sorts are the sorts of files that have a schema; to make the schemas only to
// list them would slow every start.
var sorts = []string{"data", "inventory", "manifest", "rehearsal", "settings"}

func (a *App) schemaCommand() *cobra.Command {
	dir := ""
	c := &cobra.Command{
		Use: "schema [FILE-SORT]", Short: "Print JSON Schemas of the files that people write", GroupID: "grow", Args: cobra.MaximumNArgs(1),
		Long: "Schema prints a JSON Schema (draft 7) of one sort of file: " + strings.Join(sorts, ", ") + ".\nWith --write it puts all of them into a folder. Editors that know TOML find one by the first line of a file,\nwhich init puts there:\n\n  #:schema ../" + schemaDir + "/manifest.json",
		RunE: func(_ *cobra.Command, args []string) error {
			all := schemas()
			switch {
			case dir != "":
				names, err := writeSchemas(dir)
				for _, name := range names {
					fmt.Fprintln(a.Out, name)
				}
				return err
			case len(args) == 0:
				return problem.Errorf("schema wants a sort of file, or --write DIR").Remedy("there are %s", strings.Join(value.Keys(all), ", "))
			case all[args[0]] == nil:
				return problem.Errorf("there is no schema %q", args[0]).Remedy("%s", problem.Meant(args[0], value.Keys(all), "there are "+strings.Join(value.Keys(all), ", ")))
			}
			return a.document(all[args[0]])
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return sorts, noFiles
		},
	}
	c.Flags().StringVar(&dir, "write", "", "a folder that all schemas are written into")
	return c
}

// writeSchemas writes every schema into a folder.
func writeSchemas(dir string) ([]string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	var out []string
	all := schemas()
	for _, name := range value.Keys(all) {
		data, err := json.MarshalIndent(all[name], "", "  ")
		if err != nil {
			return out, err
		}
		file := filepath.Join(dir, name+".json")
		if err := history.Replace(file, append(data, '\n'), 0o644); err != nil {
			return out, err
		}
		out = append(out, file)
	}
	return out, nil
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

// schemas gives every schema by the sort of file that it describes.
func schemas() map[string]map[string]any {
	return map[string]map[string]any{
		"manifest":  manifestSchema(),
		"inventory": inventorySchema(),
		"settings":  settingsSchema(),
		"data":      document("Data of jadekettle", map[string]any{"type": "object", "description": "Any values; expressions read them below data."}),
		"rehearsal": rehearsalSchema(),
	}
}

func manifestSchema() map[string]any {
	var types []any
	for _, t := range param.Types {
		types = append(types, t.Name)
	}
	keys := map[string]any{
		"about": typed("string", "What the manifest is for."),
		"param": named("The values that the manifest takes.", object("One param.", map[string]any{
			"type": map[string]any{"enum": types, "description": "Its type; string when left out."}, "default": map[string]any{"description": "What holds when nobody gives a value."},
			"choices": map[string]any{"type": "array", "description": "The only values allowed."}, "min": map[string]any{"description": "The least value, or length."}, "max": map[string]any{"description": "The largest value, or length."},
			"pattern": typed("string", "A regular expression (RE2) that the whole text matches."), "about": typed("string", "What it is for."),
		})),
		"use": named("Other manifests, pulled in at their place.", object("One use.", map[string]any{
			"manifest": typed("string", "The manifest; the name of the use when left out."), "params": typed("object", "Values for its params."),
			"if": typed("string", "A CEL condition."), "for": either(map[string]any{"type": "string"}, "A loop."), "about": typed("string", "What it is for."),
		})),
	}
	schemas := kinds.Schemas()
	for _, name := range schemas.Names() {
		k, _ := schemas.Kind(name)
		attrs := map[string]any{}
		required := []any{}
		for _, at := range append(requiredFirst(k.Attrs), common(k)...) {
			attrs[at.Name] = attrSchema(at)
			if at.Required {
				required = append(required, at.Name)
			}
		}
		one := object(k.About, attrs)
		if len(required) > 0 {
			one["required"] = required
		}
		keys[name] = named(k.Doc, one)
	}
	return document("A manifest of jadekettle", object("Declarations, params and uses.", keys))
}

func either(item map[string]any, doc string) map[string]any {
	return map[string]any{"description": doc, "anyOf": []any{item, map[string]any{"type": "array", "items": item}}}
}

func attrSchema(at schema.Attr) map[string]any {
	doc := at.Doc
	if at.Default != "" {
		doc += " Default: " + at.Default + "."
	}
	item := map[string]any{"type": "string"}
	switch {
	case at.Type == schema.Bool:
		item = map[string]any{"anyOf": []any{map[string]any{"type": "boolean"}, expression}}
	case at.Type == schema.Int:
		item = map[string]any{"anyOf": []any{map[string]any{"type": "integer", "minimum": 0}, expression}}
	case len(at.Choices) > 0:
		item = map[string]any{"anyOf": []any{map[string]any{"enum": at.Choices}, expression}}
	}
	switch {
	case at.List:
		item = map[string]any{"anyOf": []any{map[string]any{"type": "array", "items": item}, expression}}
	case at.Either:
		return either(item, doc)
	}
	item["description"] = doc
	return item
}

func inventorySchema() map[string]any {
	connect := object("How hosts are reached.", map[string]any{
		"address": typed("string", "Where to connect, when that is not the host's address."), "port": map[string]any{"type": "integer", "minimum": 1, "maximum": 65535, "description": "22 by default."},
		"user": typed("string", "Who logs in."), "key": typed("string", "A private key file."), "elevate": map[string]any{"enum": []any{"", "sudo"}, "description": "How to become root."}, "local": typed("boolean", "This machine, without SSH."),
	})
	params := named("Values for params, by manifest.", typed("object", "Values by name."))
	host := map[string]any{"type": "object", "description": "One host, or a range such as gauge-[01..04]; any further key is the host's own.", "properties": map[string]any{
		"address": typed("string", "Its address or name."), "off": typed("string", "Why it is never contacted."), "connect": connect, "params": params,
	}}
	group := object("One group.", map[string]any{
		"about": typed("string", "What it is for."), "inside": typed("string", "The group that it is inside of."), "manifests": listOf("The manifests that its members get."),
		"members": listOf("Host names and patterns."), "where": typed("string", "A CEL condition over host, env and facts: who is a member."), "trust_facts": typed("boolean", "Whether it is meant that facts bring secrets to a host."),
		"connect": connect, "params": params,
	})
	return document("An inventory of jadekettle", object("Hosts and groups.", map[string]any{"connect": connect, "host": named("Hosts by name.", host), "group": named("Groups by name.", group)}))
}

func settingsSchema() map[string]any {
	top := map[string]any{}
	tables := map[string]map[string]any{}
	for _, s := range resolve.SettingDocs {
		body := map[string]any{"description": s.Doc}
		switch s.Takes {
		case "list":
			body = listOf(s.Doc)
		case "int":
			body["type"] = "integer"
		default:
			body["type"] = "string"
		}
		table, key := path.Split(strings.ReplaceAll(s.Name, ".", "/"))
		if table == "" {
			top[key] = body
			continue
		}
		table = strings.TrimSuffix(table, "/")
		if tables[table] == nil {
			tables[table] = map[string]any{}
		}
		tables[table][key] = body
	}
	var rules []any
	for _, r := range layers.Rules {
		rules = append(rules, r)
	}
	tables["data"]["lists"] = map[string]any{"type": "object", "description": "What later layers' lists do to earlier ones, by dotted key.", "additionalProperties": map[string]any{"anyOf": []any{map[string]any{"enum": rules}, map[string]any{"type": "object"}}}}
	for name, keys := range tables {
		top[name] = object("", keys)
	}
	env := map[string]any{}
	for _, s := range resolve.EnvDocs {
		switch s.Takes {
		case "list":
			env[s.Name] = listOf(s.Doc)
		case "bool":
			env[s.Name] = typed("boolean", s.Doc)
		default:
			env[s.Name] = typed("string", s.Doc)
		}
	}
	top["env"] = named("Environments by name.", object("One environment.", env))
	return document("The settings of a jadekettle project", object("jadekettle.toml", top))
}

func rehearsalSchema() map[string]any {
	keysOf := func(list []rehearse.Key) map[string]any {
		out := map[string]any{}
		for _, k := range list {
			switch k.Takes {
			case "list":
				out[k.Name] = listOf(k.Doc)
			case "int":
				out[k.Name] = typed("integer", k.Doc)
			case "table":
				out[k.Name] = named(k.Doc, map[string]any{"type": "string"})
			case "size":
				out[k.Name] = map[string]any{"type": []any{"string", "integer"}, "description": k.Doc}
			default:
				out[k.Name] = typed("string", k.Doc)
			}
		}
		return out
	}
	host := keysOf(rehearse.HostKeys)
	host["expect"] = object("What must be so after the first run.", keysOf(rehearse.ExpectKeys))
	return document("A rehearsal of jadekettle", object("Simulated hosts and what is expected of them.", map[string]any{
		"about": typed("string", "What it is for."), "env": typed("string", "The environment that it plays in."),
		"sealed": named("Made-up values in the place of sealed files, by layer.", map[string]any{"type": "object"}), "host": named("Hosts of the inventory.", object("One host.", host)),
	}))
}
