package edit

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/app"
	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/app/capture"
	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// Entry is a declaration being put together.
type Entry struct {
	Kind  *schema.Kind
	Name  string
	To    string      // the manifest
	Attrs value.Attrs // as they are written, expressions included
}

// Attrs lists what can be given for a kind, required attributes first.
func Attrs(k *schema.Kind) []schema.Attr {
	return slices.DeleteFunc(append(k.RequiredFirst(), k.Common()...), func(at schema.Attr) bool {
		return at.Type == schema.Table || at.Type == schema.Values || at.Type == schema.Nested // written by hand
	})
}

// Set checks a value and keeps it. A text with ${...} is only known to
// fit when the project is resolved.
func (e *Entry) Set(at schema.Attr, v any) error {
	text, isText := v.(string)
	if isText && !manifest.Interpolated(text) && (at.Type == schema.Int || at.Type == schema.ID) {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return fmt.Errorf("%s must be an integer, not %q", at.Name, text)
		}
		v = n
	}
	if !isText || !manifest.Interpolated(text) {
		if _, err := at.Value(v); err != nil {
			return err
		}
	}
	if isText && at.Type == schema.Hidden && !manifest.Interpolated(text) {
		return problem.Errorf("%s does not belong on a command line or in a manifest", at.Name).
			Remedy("encrypt it with `jadekettle secret set` and use '${data.NAME}'")
	}
	if e.Attrs == nil {
		e.Attrs = value.Attrs{}
	}
	e.Attrs[at.Name] = v
	return nil
}

// Text writes the declaration.
func (e *Entry) Text() string { return capture.Text(e.Kind, e.Name, e.Attrs, "") }

// Add appends the declaration to its manifest, when the project takes it, and gives that file.
func (e *Entry) Add(p *app.Project) (file string, err error) {
	if e.Name == "" {
		return "", problem.Errorf("no name given").Remedy("usage: jadekettle add %s NAME", e.Kind.Name)
	}
	if err := e.CheckName(e.Name); err != nil {
		return "", err
	}
	names := OwnManifests(p)
	if e.To == "" && len(names) == 1 {
		e.To = names[0]
	}
	if e.To == "" {
		return "", problem.Errorf("this project has several manifests: %s", strings.Join(names, ", ")).
			Remedy("select one with --manifest")
	}
	file, ok := p.ManifestFile(e.To)
	if !ok || !slices.Contains(names, e.To) {
		return "", problem.Errorf("unknown manifest %q in this project", e.To).
			Meant(e.To, names, "available: "+strings.Join(names, ", "))
	}
	full := filepath.Join(p.Root, filepath.FromSlash(file))
	old, err := os.ReadFile(full)
	if err != nil {
		return "", err
	}
	text := strings.TrimRight(string(old), "\n") + "\n\n" + e.Text()
	if strings.TrimSpace(string(old)) == "" {
		text = e.Text()
	}
	if err := try(p, file, text); err != nil {
		return "", err
	}
	info, err := os.Stat(full)
	if err != nil {
		return "", err
	}
	return file, atomicfile.Write(full, []byte(text), info.Mode().Perm())
}

// CheckName says what is wrong with a name.
func (e *Entry) CheckName(name string) error {
	if manifest.Interpolated(name) {
		return nil
	}
	_, err := e.Kind.Canon(name)
	return err
}

// OwnManifests lists the manifests that are not of a source.
func OwnManifests(p *app.Project) []string {
	var out []string
	for _, m := range p.Of("") {
		out = append(out, m.Name)
	}
	return out
}

// try resolves the project as it would be with another text in one
// file, so that nothing wrong is written.
func try(p *app.Project, file, text string) error {
	o, err := p.Options()
	if err != nil {
		return err
	}
	_, _, err = advice.Check(overlay{p.Site.Files, file, text}, kinds.Schemas(), o)
	var ps *problem.Problems
	if errors.As(err, &ps) {
		return fmt.Errorf("this would make the project invalid: %s", ps.List()[0].Error())
	}
	return err
}

// Placeholder begins a flag's description with a word for what it takes.
func Placeholder(at schema.Attr) string {
	word := map[schema.Type]string{schema.Int: "N", schema.ID: "N", schema.Mode: "MODE", schema.Path: "PATH",
		schema.Name:     "NAME",
		schema.Version:  "VERSION",
		schema.Template: "FILE", schema.Copy: "FILE", schema.Origin: "FILE|ADDRESS|PATH", schema.Tree: "FOLDER",
		schema.Command: "COMMAND", schema.RefTo: "'KIND NAME'",
		schema.Pattern: "PATTERN"}[at.Type]
	if word == "" {
		word = "TEXT"
	}
	return "`" + word + "`: "
}

// ExampleName gives the name that the kind's first example declares.
func ExampleName(k *schema.Kind) string {
	var ps problem.Problems
	root, _ := manifest.ParseTOML("example", []byte(k.Examples[0].TOML), &ps)
	if of := root.Get(k.Name); of != nil && len(of.Keys) > 0 {
		return of.Keys[0].Name
	}
	return "NAME"
}
