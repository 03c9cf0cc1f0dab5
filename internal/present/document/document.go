// Package document holds what --output json prints: one type for each sort of
// document, with its fields documented where they stand. The reference is made
// from them, and each has a golden file. Fields are only ever added; lists and
// texts are never null, and a thing of two words has two fields, kind and name.
package document

import (
	"reflect"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/source"
	"jadekettle/internal/core/value"
)

// Head begins every document.
type Head struct {
	Format int `json:"format" doc:"The number of the document's form: 1."`
}

// One is the head of documents of this form.
var One = Head{Format: 1}

// Place is where something is written.
type Place struct {
	File   string `json:"file" doc:"The file, from the project's folder; empty when nothing is written."`
	Line   int    `json:"line" doc:"The line, from 1."`
	Column int    `json:"column" doc:"The column in characters, from 1."`
}

// At gives a place as documents have it.
func At(p value.Place) Place { return Place{p.File, p.Line, p.Col} }

// Version is what `version` prints.
type Version struct {
	Head
	Version string `json:"version" doc:"This program's version."`
	Go      string `json:"go" doc:"The version of Go that it was built with."`
}

// Executed is what `exec` prints.
type Executed struct {
	Head
	Command []string       `json:"command" doc:"The program that was run, and its words."`
	Hosts   []ExecutedHost `json:"hosts" doc:"The hosts, in the order of the inventory."`
}

// ExecutedHost is what a command came to on one host.
type ExecutedHost struct {
	Name    string  `json:"name" doc:"The host."`
	State   string  `json:"state" doc:"reached, not reached, lost, not begun or off."`
	Message string  `json:"message" doc:"Why the command did not come to an end there."`
	Do      string  `json:"do" doc:"What to do about that."`
	Ended   bool    `json:"ended" doc:"Whether the command came to an end."`
	Code    int     `json:"code" doc:"The code that it ended with."`
	Output  string  `json:"output" doc:"What it printed on both streams, its head and tail."`
	Seconds float64 `json:"seconds" doc:"How long it took."`
}

// Compared is what `compare` prints.
type Compared struct {
	Head
	From        string       `json:"from" doc:"The earlier revision, as it was named."`
	To          string       `json:"to" doc:"The later one, or the files here."`
	Hosts       int          `json:"hosts" doc:"How many hosts were compared."`
	Alike       int          `json:"alike" doc:"How many of them do not differ."`
	New         []string     `json:"new" doc:"Hosts that only the later one has."`
	Gone        []string     `json:"gone" doc:"Hosts that only the earlier one has."`
	Unread      []string     `json:"unread" doc:"Hosts whose facts were never read, so that what these decide is not compared."`
	Differences []Difference `json:"differences" doc:"The tasks that differ, each once for all hosts on which it does so alike."`
}

// Difference is one task that differs between two revisions.
type Difference struct {
	Kind     string        `json:"kind" doc:"Its kind."`
	Name     string        `json:"name" doc:"Its name."`
	How      string        `json:"how" doc:"new, gone or differs."`
	Hosts    []string      `json:"hosts" doc:"The hosts."`
	Manifest string        `json:"manifest" doc:"The file that declares it."`
	Line     int           `json:"line" doc:"The line there."`
	Changes  []plan.Change `json:"changes" doc:"What differs; none for what is new or gone."`
}

// Hosts is what `hosts` prints.
type Hosts struct {
	Head
	Hosts []Host `json:"hosts" doc:"The hosts, in the order of the inventory."`
}

// Host is one host of the inventory.
type Host struct {
	Name      string         `json:"name" doc:"Its name in the inventory."`
	Address   string         `json:"address" doc:"Where it is reached."`
	Groups    []string       `json:"groups" doc:"The groups that it is in."`
	Maybe     []string       `json:"maybe" doc:"Groups that are decided by facts which were never read."`
	Manifests []string       `json:"manifests" doc:"The manifests that its groups give it."`
	Off       string         `json:"off" doc:"Why it is left out of runs; empty when it is not."`
	Own       map[string]any `json:"own" doc:"The keys that the project gives it."`
}

// Members is what `hosts --group` prints.
type Members struct {
	Head
	Group   string   `json:"group" doc:"The group."`
	Members []Member `json:"members" doc:"Its members."`
}

// Member is a host in a group.
type Member struct {
	Name  string `json:"name" doc:"The host."`
	By    string `json:"by" doc:"What makes it a member."`
	Known bool   `json:"known" doc:"False when facts decide it that were never read."`
}

// Moved is what `hosts --moved` prints.
type Moved struct {
	Head
	Moved []Move `json:"moved" doc:"What moved since each host's last run, or since a time."`
}

// Move is one host that came, went, or changed a group.
type Move struct {
	Host  string    `json:"host" doc:"The host."`
	Moved string    `json:"moved" doc:"new, gone, into or out of."`
	Group string    `json:"group" doc:"The group that it moved into or out of."`
	Why   string    `json:"why" doc:"What made it move, where that is known."`
	At    time.Time `json:"at" doc:"When a run found it so; zero where none has yet."`
	Run   int       `json:"run" doc:"That run; 0 where none has yet."`
}

// Shown is what `hosts show` prints.
type Shown struct {
	Head
	Host         string         `json:"host" doc:"The host."`
	Address      string         `json:"address" doc:"Where it is reached."`
	Off          string         `json:"off" doc:"Why it is left out of runs; empty when it is not."`
	Own          map[string]any `json:"own" doc:"The keys that the project gives it."`
	Groups       []string       `json:"groups" doc:"The groups that it is in."`
	FactsKnown   bool           `json:"facts_known" doc:"Whether its facts were ever read."`
	Declarations []Declared     `json:"declarations" doc:"What is declared for it, in the order in which it is done."`
}

// Declared is one declaration for a host.
type Declared struct {
	Kind   string `json:"kind" doc:"Its kind."`
	Name   string `json:"name" doc:"Its name."`
	State  string `json:"state" doc:"declared, perhaps declared where facts decide it that are not known, or left out."`
	Reason string `json:"reason" doc:"Why it is left out, or only perhaps declared."`
	Ways   []Way  `json:"ways" doc:"How it comes to the host."`
}

// Way is how a declaration comes to a host.
type Way struct {
	Group    string   `json:"group" doc:"The group that has the manifest."`
	By       string   `json:"by" doc:"What makes the host a member; told by why."`
	Given    Place    `json:"given" doc:"Where the group names the manifest; told by why."`
	Manifest string   `json:"manifest" doc:"The manifest that the group names."`
	Uses     []string `json:"uses" doc:"The manifests that it takes in on the way, first to last."`
	Place    Place    `json:"place" doc:"Where the declaration is written."`
}

// Facts is what `facts` prints.
type Facts struct {
	Head
	Hosts []HostFacts `json:"hosts" doc:"The hosts that were reached."`
}

// HostFacts are the facts of one host.
type HostFacts struct {
	Name  string `json:"name" doc:"The host."`
	Facts any    `json:"facts" doc:"Its facts, or what is below the path that was asked for."`
}

// Data is what `why HOST data PATH` prints.
type Data struct {
	Head
	Host   string `json:"host" doc:"The host."`
	Asked  string `json:"asked" doc:"What was asked for, with data. before it."`
	There  bool   `json:"there" doc:"Whether there is such a value."`
	Value  any    `json:"value" doc:"The value; null as well when facts decide it that were never read."`
	Layers []Step `json:"layers" doc:"What each layer says, the first one first."`
}

// Step is what one layer says about a value.
type Step struct {
	Layer string `json:"layer" doc:"The layer, as the settings write it."`
	Name  string `json:"name" doc:"The file that it is for this host."`
	Place Place  `json:"place" doc:"Where it says something."`
	Says  bool   `json:"says" doc:"Whether it says anything about the value."`
	Value any    `json:"value" doc:"What it says."`
	Used  bool   `json:"used" doc:"Whether that is part of the value in the end."`
	Note  string `json:"note" doc:"Why it is not used, or how it is joined."`
}

// Param is what `why HOST param MANIFEST.NAME` prints.
type Param struct {
	Head
	Host  string      `json:"host" doc:"The host."`
	Asked string      `json:"asked" doc:"What was asked for, with param. before it."`
	Steps []ParamStep `json:"steps" doc:"Where its value can come from; the first that says something wins."`
}

// ParamStep is one place where the value of a param can come from.
type ParamStep struct {
	From  string `json:"from" doc:"What it is: a use, the call, the host, from, the default."`
	Place Place  `json:"place" doc:"Where it is written."`
	Says  bool   `json:"says" doc:"Whether it says anything."`
	Value any    `json:"value" doc:"What it says."`
	Seen  any    `json:"seen" doc:"What expressions see, when that is another form of it; null otherwise."`
	Used  bool   `json:"used" doc:"Whether this is the one that wins."`
}

// Why is what `why HOST KIND NAME` prints.
type Why struct {
	Head
	Host       string      `json:"host" doc:"The host."`
	Kind       string      `json:"kind" doc:"The kind of what was asked for."`
	Name       string      `json:"name" doc:"Its name."`
	State      string      `json:"state" doc:"declared, not declared, perhaps declared (facts decide it), or left out."`
	Reason     string      `json:"reason" doc:"Why it is not declared."`
	Ways       []Way       `json:"ways" doc:"How it comes to the host."`
	Loop       []Seen      `json:"loop" doc:"The item of a loop that it was made for."`
	Conditions []Condition `json:"conditions" doc:"The conditions on its way."`
	Attributes []Attribute `json:"attributes" doc:"Its attributes."`
	WaitsFor   []Edge      `json:"waits_for" doc:"What is done before it."`
	AwaitedBy  []Edge      `json:"awaited_by" doc:"What is done after it."`
	Dropped    []Edge      `json:"dropped" doc:"Orders that were not kept, since they would make a circle."`
}

// Condition is an if on the way to a declaration.
type Condition struct {
	Text  string `json:"text" doc:"The expression."`
	Place Place  `json:"place" doc:"Where it is written."`
	Gives string `json:"gives" doc:"What it gives on this host."`
	Saw   []Seen `json:"saw" doc:"The values that it read."`
}

// Attribute is an attribute of a declaration.
type Attribute struct {
	Name    string `json:"name" doc:"The attribute."`
	Value   string `json:"value" doc:"Its value, in words; secrets are hidden."`
	Written string `json:"written" doc:"The expression or template that gave it, if one did."`
	Place   Place  `json:"place" doc:"Where it is written."`
	Saw     []Seen `json:"saw" doc:"The values that it read."`
}

// Seen is a value that an expression read.
type Seen struct {
	Name  string `json:"name" doc:"Its name in the expression."`
	There bool   `json:"there" doc:"Whether there is such a value."`
	Value string `json:"value" doc:"The value, in words; secrets are hidden."`
	Place Place  `json:"place" doc:"Where it is written."`
}

// Edge is something else that a declaration is ordered with.
type Edge struct {
	Kind string `json:"kind" doc:"Its kind."`
	Name string `json:"name" doc:"Its name."`
	Why  string `json:"why" doc:"What makes the order."`
}

// Lint is what `lint` prints.
type Lint struct {
	Head
	Problems []Problem `json:"problems" doc:"What is wrong, in the order of places."`
	Advice   []Advice  `json:"advice" doc:"What could be better."`
}

// Advice is one piece of advice.
type Advice struct {
	Code     string `json:"code" doc:"Its code."`
	File     string `json:"file" doc:"The file."`
	Line     int    `json:"line" doc:"The line, from 1."`
	Column   int    `json:"column" doc:"The column in characters, from 1."`
	What     string `json:"what" doc:"What is found."`
	Do       string `json:"do" doc:"What to do about it."`
	Silenced bool   `json:"silenced" doc:"Whether a remark in the file silences it."`
	Reason   string `json:"reason" doc:"The reason that the remark gives."`
}

// Rehearsals is what `rehearse` prints.
type Rehearsals struct {
	Head
	Failed int    `json:"failed" doc:"How many cases failed."`
	Cases  []Case `json:"cases" doc:"The cases, in order."`
}

// Case is one case of a rehearsal.
type Case struct {
	Rehearsal string `json:"rehearsal" doc:"The rehearsal's file."`
	Host      string `json:"host" doc:"The host of the rehearsal."`
	Case      string `json:"case" doc:"What was expected."`
	Failure   string `json:"failure" doc:"What came instead; empty when it held."`
	Place     Place  `json:"place" doc:"Where it is written."`
}

// Captures is what `capture` prints.
type Captures struct {
	Head
	Host     string    `json:"host" doc:"The host."`
	Captured []Capture `json:"captured" doc:"What stands there, as it would be declared."`
}

// Capture is one thing that stands on a host.
type Capture struct {
	Kind       string      `json:"kind" doc:"Its kind."`
	Name       string      `json:"name" doc:"Its name."`
	Attributes value.Attrs `json:"attributes" doc:"Its attributes."`
	Note       string      `json:"note" doc:"What the attributes do not tell."`
}

// Kinds is what `kinds` and `kinds KIND` print.
type Kinds struct {
	Head
	Kinds []Kind `json:"kinds" doc:"The kinds, by name."`
}

// Kind is one kind.
type Kind struct {
	Name       string           `json:"name" doc:"Its name."`
	Area       string           `json:"area" doc:"The area that it belongs to."`
	About      string           `json:"about" doc:"What it is, in a sentence."`
	Doc        string           `json:"doc" doc:"More about it."`
	Attributes []KindAttr       `json:"attributes" doc:"Its attributes, required ones first."`
	Examples   []schema.Example `json:"examples" doc:"Examples."`
}

// KindAttr is one attribute of a kind.
type KindAttr struct {
	Name     string   `json:"name" doc:"Its name."`
	Takes    string   `json:"takes" doc:"The type of its values."`
	List     bool     `json:"list" doc:"Whether it takes a list."`
	Required bool     `json:"required" doc:"Whether it must be given."`
	Choices  []string `json:"choices" doc:"The values that it takes; empty when any of its type will do."`
	Default  string   `json:"default" doc:"What holds when it is left out, in words."`
	Doc      string   `json:"doc" doc:"What it means."`
	Examples []string `json:"examples" doc:"How it is written."`
}

// Found is what `kinds search` prints.
type Found struct {
	Head
	Found []Finding `json:"found" doc:"What was found; what has the words in its name comes first."`
}

// Finding is one thing that a word was found in.
type Finding struct {
	Name  string `json:"name" doc:"Its name."`
	Is    string `json:"is" doc:"What it is: a kind, an attribute, a function."`
	About string `json:"about" doc:"What it does, in a sentence."`
}

// Functions is what `kinds functions` prints.
type Functions struct {
	Head
	Functions []Function `json:"functions" doc:"The functions, by area and name."`
}

// Function is one function of expressions and templates.
type Function struct {
	Name     string     `json:"name" doc:"Its name."`
	Area     string     `json:"area" doc:"The area that it belongs to."`
	Call     string     `json:"call" doc:"How it is called."`
	Gives    string     `json:"gives" doc:"The type of what it gives."`
	Doc      string     `json:"doc" doc:"What it does."`
	Examples []expr.Use `json:"examples" doc:"Examples, which a test evaluates."`
}

// Sealed is what `secret who` prints.
type Sealed struct {
	Head
	Files []SealedFile `json:"files" doc:"The sealed files, by name."`
}

// SealedFile is one sealed file.
type SealedFile struct {
	File       string   `json:"file" doc:"The file."`
	Recipients []string `json:"recipients" doc:"Who should be able to read it, by the settings."`
	SealedFor  int      `json:"sealed_for" doc:"For how many it is sealed."`
	You        bool     `json:"you" doc:"Whether you can read it."`
}

// Sources is what `source list` prints.
type Sources struct {
	Head
	Sources []source.Pin `json:"sources" doc:"The sources, by name."`
}

// SourceShown is what `source show` prints.
type SourceShown struct {
	Head
	Source    string     `json:"source" doc:"The source."`
	Commit    string     `json:"commit" doc:"The commit that it is pinned to."`
	Manifests []Manifest `json:"manifests" doc:"Its manifests."`
	Documents []string   `json:"documents" doc:"Files of it that are to be read by people."`
}

// Manifest is one manifest of a source.
type Manifest struct {
	Name   string          `json:"name" doc:"Its name."`
	About  string          `json:"about" doc:"What it is for."`
	Params []ManifestParam `json:"params" doc:"Its params."`
}

// ManifestParam is one param of a manifest.
type ManifestParam struct {
	Name     string `json:"name" doc:"Its name."`
	Type     string `json:"type" doc:"Its type."`
	Default  any    `json:"default" doc:"Its default; null when it has none."`
	Required bool   `json:"required" doc:"Whether it must be given."`
	About    string `json:"about" doc:"What it is for."`
}

// Sort is one sort of document, for the reference and for tests.
type Sort struct {
	Name   string // a word for it, of which its golden file is named
	Prints string // the calls that print it, as people type them
	Of     any    // its zero value
}

// Sorts are all sorts of documents.
var Sorts = []Sort{
	{"run", "`apply` and `preview`", Report{}},
	{"exec", "`exec`", Executed{}},
	{"runs", "`runs`", Runs{}},
	{"run_shown", "`runs show RUN [HOST]` and `report RUN`", RunShown{}},
	{"task_shown", "`runs show RUN HOST KIND NAME`", TaskShown{}},
	{"run_facts", "`runs show RUN HOST --facts`", RunFacts{}},
	{"runs_found", "`runs search WORD`", RunsFound{}},
	{"runs_differ", "`runs differ RUN RUN`", RunsDiffer{}},
	{"life", "`runs of HOST KIND NAME`", Life{}},
	{"slow", "`runs slow`", Slow{}},
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
	{"facts", "`facts`", Facts{}},
	{"why", "`why HOST KIND NAME`", Why{}},
	{"data", "`why HOST data.PATH`", Data{}},
	{"param", "`why HOST param.MANIFEST.NAME`", Param{}},
	{"capture", "`capture`", Captures{}},
	{"lint", "`lint`", Lint{}},
	{"rehearse", "`rehearse`", Rehearsals{}},
	{"sealed", "`secret who`", Sealed{}},
	{"sources", "`source list`", Sources{}},
	{"source", "`source show NAME`", SourceShown{}},
	{"kinds", "`kinds [KIND]`", Kinds{}},
	{"found", "`kinds search WORD`", Found{}},
	{"functions", "`kinds functions`", Functions{}},
	{"version", "`version`", Version{}},
}

// Field is one field of a document.
type Field struct {
	Path string // from the document's top; [] stands for the items of a list
	Type string // in words of JSON
	Doc  string
}

// Fields lists the fields of a document, what is inside one after it. The format,
// which every document has, is left out.
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
	switch t.Kind() {
	case reflect.Pointer:
		return word(t.Elem())
	case reflect.Bool:
		return "bool", nil
	case reflect.Int, reflect.Int64, reflect.Float64:
		return "number", nil
	case reflect.String:
		return "text", nil
	case reflect.Map:
		return "table", nil
	case reflect.Slice:
		of, inside := word(t.Elem())
		return "list of " + of, inside
	case reflect.Struct:
		return "object", t
	}
	return "anything", nil
}
