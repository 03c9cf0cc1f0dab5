// Package document holds what --output json prints: one type for each sort of
// document, with its fields documented where they stand. The reference is made
// from them, and each has a golden file. Fields are only ever added; lists and
// texts are never null, and a thing of two words has two fields, kind and name.
package document

import (
	"encoding"
	"reflect"
	"slices"
	"strings"

	"jadekettle/internal/app"
	"jadekettle/internal/app/secrets"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/source"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/history/store"
)

// Head begins every document.
type Head struct {
	Format int `json:"format" doc:"The version of the document format: 1."`
}

// One is the head of documents of this form.
var One = Head{Format: 1}

// Version is what `version` prints.
type Version struct {
	Head
	Version string `json:"version" doc:"This program's version."`
	Go      string `json:"go" doc:"The version of Go it was built with."`
}

// Executed is what `exec` prints.
type Executed struct {
	Head
	Command []string       `json:"command" doc:"The program that was run, and its arguments."`
	Hosts   []ExecutedHost `json:"hosts" doc:"The hosts, in the order of the inventory."`
}

// ExecutedHost is what a command came to on one host.
type ExecutedHost struct {
	Name    string  `json:"name" doc:"The host."`
	State   string  `json:"state" doc:"reached, not reached, refused, lost, not started or disabled."`
	Message string  `json:"message" doc:"Why the command did not finish there."`
	Do      string  `json:"do" doc:"What to do about that."`
	Ended   bool    `json:"ended" doc:"Whether the command finished."`
	Code    int     `json:"code" doc:"Its exit status."`
	Output  string  `json:"output" doc:"Its standard output and error, head and tail."`
	Seconds float64 `json:"seconds" doc:"The duration."`
}

// Compared is what `compare` prints.
type Compared struct {
	Head
	From        string       `json:"from" doc:"The earlier revision, as given."`
	To          string       `json:"to" doc:"The later revision, or the working copy."`
	Hosts       int          `json:"hosts" doc:"The number of hosts compared."`
	Alike       int          `json:"alike" doc:"The number of hosts that do not differ."`
	New         []string     `json:"new" doc:"Hosts that exist only in the later revision."`
	Gone        []string     `json:"gone" doc:"Hosts that exist only in the earlier revision."`
	Unread      []string     `json:"unread" doc:"Hosts with unknown facts; what depends on them is not compared."`
	Differences []Difference `json:"differences" doc:"The tasks that differ, once for all hosts that differ alike."`
}

// Difference is one task that differs between two revisions.
type Difference struct {
	Kind     string        `json:"kind" doc:"Its kind."`
	Name     string        `json:"name" doc:"Its name."`
	How      string        `json:"how" doc:"new, gone or differs."`
	Hosts    []string      `json:"hosts" doc:"The hosts."`
	Manifest string        `json:"manifest" doc:"The file that declares it."`
	Line     int           `json:"line" doc:"The line in that file."`
	Changes  []plan.Change `json:"changes" doc:"The differences; empty for tasks that are new or gone."`
}

// Hosts is what `hosts` prints.
type Hosts struct {
	Head
	Hosts []Host `json:"hosts" doc:"The hosts, in the order of the inventory."`
}

// Host is one host of the inventory.
type Host struct {
	Name      string         `json:"name" doc:"Its name in the inventory."`
	Address   string         `json:"address" doc:"Its address."`
	Groups    []string       `json:"groups" doc:"The groups it is in."`
	Maybe     []string       `json:"maybe" doc:"Groups that depend on facts that were never collected."`
	Manifests []string       `json:"manifests" doc:"The manifests assigned by its groups."`
	Disabled  string         `json:"disabled" doc:"Why it is disabled; empty if it is not."`
	Own       map[string]any `json:"own" doc:"Its custom keys."`
}

// Members is what `hosts --group` prints.
type Members struct {
	Head
	Group   string       `json:"group" doc:"The group."`
	Members []app.Member `json:"members" doc:"Its members."`
}

// Moved is what `hosts --moved` prints.
type Moved struct {
	Head
	Moved []store.Move `json:"moved" doc:"What has moved since each host's last run, or since a time."`
}

// Shown is what `hosts show` prints.
type Shown struct {
	Head
	Host         string             `json:"host" doc:"The host."`
	Address      string             `json:"address" doc:"Its address."`
	Disabled     string             `json:"disabled" doc:"Why it is disabled; empty if it is not."`
	Own          map[string]any     `json:"own" doc:"Its custom keys."`
	Groups       []string           `json:"groups" doc:"The groups it is in."`
	FactsKnown   bool               `json:"facts_known" doc:"Whether its facts were ever collected."`
	Declarations []explain.Declared `json:"declarations" doc:"The declarations for it, in the order they are applied."`
}

// Facts is what `facts` prints.
type Facts struct {
	Head
	Hosts []HostFacts `json:"hosts" doc:"The hosts that were reached."`
}

// HostFacts are the facts of one host.
type HostFacts struct {
	Name  string `json:"name" doc:"The host."`
	Facts any    `json:"facts" doc:"Its facts, or the part below the requested path."`
}

// Data is what `why HOST data PATH` prints.
type Data struct {
	Head
	Host   string        `json:"host" doc:"The host."`
	Asked  string        `json:"asked" doc:"The requested value, with a leading data."`
	There  bool          `json:"exists" doc:"Whether the value exists."`
	Value  any           `json:"value" doc:"The value; also null if it depends on facts that were never collected."`
	Layers []layers.Step `json:"layers" doc:"What each layer sets, in order."`
}

// Param is what `why HOST param MANIFEST.NAME` prints.
type Param struct {
	Head
	Host  string              `json:"host" doc:"The host."`
	Asked string              `json:"asked" doc:"The requested value, with a leading param."`
	Steps []resolve.ParamStep `json:"steps" doc:"Where its value can come from; the first that sets one is used."`
}

// Why is what `why HOST KIND NAME` prints.
type Why struct {
	Head
	Host string `json:"host" doc:"The host."`
	explain.Why
}

// Lint is what `lint` prints.
type Lint struct {
	Head
	Problems []Problem `json:"errors" doc:"What is wrong, in the order of places."`
	Advice   []Advice  `json:"warnings" doc:"What should be improved."`
}

// Advice is one piece of advice.
type Advice struct {
	Code     string `json:"code" doc:"Its code."`
	File     string `json:"file" doc:"The file."`
	Line     int    `json:"line" doc:"The line, from 1."`
	Column   int    `json:"column" doc:"The column in characters, from 1."`
	What     string `json:"what" doc:"The finding."`
	Do       string `json:"do" doc:"What to do about it."`
	Silenced bool   `json:"silenced" doc:"Whether a comment in the file allows it."`
	Reason   string `json:"reason" doc:"The reason in that comment."`
}

// Rehearsals is what `rehearse` prints.
type Rehearsals struct {
	Head
	Failed int             `json:"failed" doc:"The number of failed cases."`
	Cases  []rehearse.Case `json:"cases" doc:"The cases, in order."`
}

// Captures is what `capture` prints.
type Captures struct {
	Head
	Host     string    `json:"host" doc:"The host."`
	Captured []Capture `json:"captured" doc:"The current state, as declarations."`
}

// Capture is one thing that is on a host.
type Capture struct {
	Kind       string      `json:"kind" doc:"Its kind."`
	Name       string      `json:"name" doc:"Its name."`
	Attributes value.Attrs `json:"attributes" doc:"Its attributes."`
	Note       string      `json:"note" doc:"What the attributes do not cover."`
}

// Kinds is what `kinds` and `kinds KIND` print.
type Kinds struct {
	Head
	Kinds []Kind `json:"kinds" doc:"The kinds, by name."`
}

// Kind is one kind.
type Kind struct {
	Name       string           `json:"name" doc:"Its name."`
	Area       string           `json:"area" doc:"Its area."`
	About      string           `json:"about" doc:"A description, in a sentence."`
	Doc        string           `json:"doc" doc:"More documentation."`
	Attributes []schema.Attr    `json:"attributes" doc:"Its attributes, required ones first."`
	Examples   []schema.Example `json:"examples" doc:"Examples."`
}

// Found is what `kinds search` prints.
type Found struct {
	Head
	Found []Finding `json:"found" doc:"The matches, with matches in names first."`
}

// Finding is one thing that a word was found in.
type Finding struct {
	Name  string `json:"name" doc:"Its name."`
	Is    string `json:"is" doc:"Its type: a kind, an attribute or a function."`
	About string `json:"about" doc:"A description, in a sentence."`
}

// Functions is what `kinds functions` prints.
type Functions struct {
	Head
	Functions []Function `json:"functions" doc:"The functions, by area and name."`
}

// Function is one function of expressions and templates.
type Function struct {
	Name     string     `json:"name" doc:"Its name."`
	Area     string     `json:"area" doc:"Its area."`
	Call     string     `json:"call" doc:"Its signature."`
	Gives    string     `json:"gives" doc:"The type of its result."`
	Doc      string     `json:"doc" doc:"A description."`
	Examples []expr.Use `json:"examples" doc:"Examples, which are tested."`
}

// Encrypted is what `secret readers` prints.
type Encrypted struct {
	Head
	Files []secrets.Access `json:"files" doc:"The encrypted files, by name."`
}

// Sources is what `source list` prints.
type Sources struct {
	Head
	Sources []source.Pin `json:"sources" doc:"The sources, by name."`
}

// SourceShown is what `source show` prints.
type SourceShown struct {
	Head
	Source    string                `json:"source" doc:"The source."`
	Commit    string                `json:"commit" doc:"The pinned commit."`
	Manifests []compile.ManifestDoc `json:"manifests" doc:"Its manifests."`
	Documents []string              `json:"documents" doc:"Its documentation files."`
}

// Sort is one sort of document, for the reference and for tests.
type Sort struct {
	Name   string // a word for it, of which its golden file is named
	Prints string // the calls that print it, as people type them
	Of     any    // its zero value
}

const letters = "abcdefghijklmnopqrstuvwxyz"

// Commands gives the names of the commands that print it, such as "runs show": of each call the words before the first
// argument or flag.
func (s Sort) Commands() []string {
	var out []string
	for i, call := range strings.Split(s.Prints, "`") {
		if i%2 == 0 { // between the calls
			continue
		}
		words := strings.Fields(call)
		end := slices.IndexFunc(words, func(w string) bool { return strings.Trim(w, letters) != "" })
		if end < 0 {
			end = len(words)
		}
		out = append(out, strings.Join(words[:end], " "))
	}
	return out
}

// Sorts are all sorts of documents.
var Sorts = []Sort{
	{"run", "`apply`, `preview`, `drift`, `verify`, `undo RUN`, `hosts retire HOST` and `job start JOB`", Report{}},
	{"exec", "`exec`", Executed{}},
	{"runs", "`runs`", Runs{}},
	{"run_shown", "`runs show RUN [HOST]`, `report RUN` and `job last JOB`", RunShown{}},
	{"task_shown", "`runs show RUN HOST KIND NAME`", TaskShown{}},
	{"run_facts", "`runs show RUN HOST --facts`", RunFacts{}},
	{"runs_found", "`runs search WORD`", RunsFound{}},
	{"runs_diff", "`runs diff RUN RUN`", RunsDiff{}},
	{"life", "`runs history HOST KIND NAME`", Life{}},
	{"slow", "`runs timing`", Slow{}},
	{"checked", "`runs check`", Checked{}},
	{"jobs", "`job list`", Jobs{}},
	{"job", "`job show JOB`", JobShown{}},
	{"tended", "`tend status`", Tended{}},
	{"status", "`status`", Status{}},
	{"compare", "`compare REV`", Compared{}},
	{"hosts", "`hosts`", Hosts{}},
	{"members", "`hosts --group GROUP`", Members{}},
	{"moved", "`hosts --moved`", Moved{}},
	{"show", "`hosts show HOST`", Shown{}},
	{"facts", "`facts HOST` and `facts compare HOST HOST`", Facts{}},
	{"why", "`why HOST KIND NAME`", Why{}},
	{"data", "`why HOST data.PATH`", Data{}},
	{"param", "`why HOST param.MANIFEST.NAME`", Param{}},
	{"capture", "`capture`", Captures{}},
	{"lint", "`lint`", Lint{}},
	{"rehearse", "`rehearse`", Rehearsals{}},
	{"encrypted", "`secret readers`", Encrypted{}},
	{"sources", "`source list`", Sources{}},
	{"source", "`source show NAME`", SourceShown{}},
	{"kinds", "`kinds [KIND]`", Kinds{}},
	{"found", "`kinds search WORD`", Found{}},
	{"functions", "`kinds functions`", Functions{}},
	{"version", "`version`", Version{}},
}

// Field is one field of a document.
type Field struct {
	Path string // from the document's top; [] means the items of a list
	Type string // in words of JSON
	Doc  string
}

// Fields lists the fields of a document, what is inside one after it. The format,
// which every document has, is skipped.
func Fields(of any) []Field { return fields("", reflect.TypeOf(of)) }

func fields(path string, t reflect.Type) []Field {
	var out []Field
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous { // its fields are those of the document, but for those that ours hide
			of := f.Type
			if of.Kind() == reflect.Pointer {
				of = of.Elem()
			}
			out = append(out, slices.DeleteFunc(fields(path, of), func(in Field) bool {
				top, _, _ := strings.Cut(strings.TrimPrefix(in.Path, path), ".")
				return hides(t, strings.TrimSuffix(top, "[]"))
			})...)
			continue
		}
		if name == "" || name == "-" || name == "format" || f.Type == reflect.TypeFor[hidden]() {
			continue
		}
		word, inside := word(f.Type)
		out = append(out, Field{path + name, word, f.Tag.Get("doc")})
		if inside == nil {
			continue
		}
		if strings.HasPrefix(word, "list") {
			name += "[]"
		}
		out = append(out, fields(path+name+".", inside)...)
	}
	return out
}

// hides says whether a type never writes a field of that name.
func hides(t reflect.Type, name string) bool {
	for i := range t.NumField() {
		own, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		if own == name && t.Field(i).Type == reflect.TypeFor[hidden]() {
			return true
		}
	}
	return false
}

// word gives a type's word and, of objects and lists of them, the object's type.
func word(t reflect.Type) (string, reflect.Type) {
	if t.PkgPath() == "time" {
		return "time", nil
	}
	if t.Kind() != reflect.Pointer && t.Implements(reflect.TypeFor[encoding.TextMarshaler]()) {
		return "string", nil
	}
	switch t.Kind() {
	case reflect.Pointer:
		return word(t.Elem())
	case reflect.Bool:
		return "bool", nil
	case reflect.Int, reflect.Int64, reflect.Float64:
		return "number", nil
	case reflect.String:
		return "string", nil
	case reflect.Map:
		return "table", nil
	case reflect.Slice:
		of, inside := word(t.Elem())
		return "list of " + of, inside
	case reflect.Struct:
		return "object", t
	}
	return "any", nil
}
