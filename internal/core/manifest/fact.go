package manifest

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// FactsDir is the folder of the project whose TOML files hold facts of one's
// own.
const FactsDir = "facts"

// Fact is a fact of one's own: what a command on the host says.
type Fact struct {
	Name  string
	Args  []string // the command
	Text  bool     // what it says is text even where it is JSON
	Limit time.Duration
	Place value.Place
}

// FactKeys are what a [fact.NAME] table may hold.
var FactKeys = []schema.Key{
	{Name: "run", Takes: schema.TakesList, Doc: "The command and its arguments; it must change nothing."},
	{Name: "script", Takes: schema.TakesText, Doc: "Lines for sh, in the place of run."},
	{Name: "as_text", Takes: schema.TakesBool, Default: "false",
		Doc: "Whether what it says is text, even where it is JSON."},
	{Name: "timeout", Takes: schema.TakesText, Default: `"10s"`, Doc: "How long it may take."},
	{Name: "about", Takes: schema.TakesText, Doc: "What it tells."},
}

var factKeys = schema.KeyNames(FactKeys)

// factName is what CEL and templates can select below facts.own.
var factName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

// UsualFactLimit is how long the command of a fact may take that says nothing
// else.
const UsualFactLimit = 10 * time.Second

const factForm = `write [fact.NAME] and below it run = ["PROGRAM", "ARGUMENT"]`

// LoadFacts reads the files of FactsDir.
func LoadFacts(project fs.FS, problems *problem.Problems) []Fact {
	entries, err := fs.ReadDir(project, FactsDir)
	if err != nil {
		return nil
	}
	var out []Fact
	for _, e := range entries {
		if e.IsDir() || path.Ext(e.Name()) != ".toml" || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		name := path.Join(FactsDir, e.Name())
		data, err := fs.ReadFile(project, name)
		if err != nil {
			problems.At(value.Place{File: name}, err.Error(), "")
			continue
		}
		root, _ := ParseTOML(name, data, problems)
		for _, k := range root.Keys {
			if k.Name != "fact" || k.Node.Kind != Table {
				problems.At(k.Place, fmt.Sprintf("%q stands where a fact is expected", k.Name), factForm)
				continue
			}
			out = append(out, readFacts(k.Node, problems)...)
		}
	}
	return out
}

// readFacts reads what is below [fact].
func readFacts(n *Node, problems *problem.Problems) []Fact {
	var out []Fact
	for _, k := range n.Keys {
		if k.Node.Kind != Table {
			problems.At(k.Place, fmt.Sprintf("fact.%s is no table", k.Name), factForm)
			continue
		}
		if !factName.MatchString(k.Name) {
			problems.At(k.Place, fmt.Sprintf("%q is no name of a fact", k.Name), "use small letters, digits and "+
				"underscores")
			continue
		}
		if f, ok := readFact(k, problems); ok {
			out = append(out, f)
		}
	}
	return out
}

func readFact(k Key, problems *problem.Problems) (Fact, bool) {
	f := Fact{Name: k.Name, Place: k.Place, Limit: UsualFactLimit}
	ok := true
	wrong := func(at value.Place, what, do string) {
		problems.At(at, what, do)
		ok = false
	}
	for _, a := range k.Node.Keys {
		text, isText := a.Node.Value.(string)
		switch a.Name {
		case "run":
			list, _ := a.Node.Plain().([]any)
			if f.Args = (value.Attrs{"": list}).
				Texts(""); len(f.Args) == 0 || len(f.Args) != len(list) || f.Args[0] == "" {
				wrong(a.Node.Place, "run takes a program and its arguments", `write run = ["PROGRAM", "ARGUMENT"]`)
			}
		case "script":
			if !isText || strings.TrimSpace(text) == "" {
				wrong(a.Node.Place, "script takes lines for sh", "write them in quotes")
			}
			f.Args = []string{"sh", "-c", text}
		case "as_text":
			if f.Text, isText = a.Node.Value.(bool); !isText {
				wrong(a.Node.Place, "as_text is true or false", "write as_text = true")
			}
		case "timeout":
			d, err := measure.ParseDuration(text)
			if err != nil || d <= 0 || d > 10*time.Minute {
				wrong(a.Node.Place, "timeout is no length of time", `write one up to ten minutes, such as "30s"`)
			}
			f.Limit = d
		case "about":
		default:
			wrong(a.Place, fmt.Sprintf("a fact has no %q", a.Name), problem.Meant(a.Name, factKeys,
				"it has "+strings.Join(factKeys, ", ")))
		}
	}
	if ok && (len(f.Args) == 0 || k.Node.Get("run") != nil && k.Node.Get("script") != nil) {
		wrong(k.Place, "it has none or both of run and script", "give one of them")
	}
	return f, ok
}

// UniqueFacts reports facts that are there twice.
func UniqueFacts(list []Fact, problems *problem.Problems) {
	for i, f := range list {
		if j := slices.IndexFunc(list[:i], func(o Fact) bool { return o.Name == f.Name }); j >= 0 {
			problems.Add(problem.Problem{Place: f.Place, What: fmt.Sprintf("the fact %s is there twice", f.Name),
				Do: "rename or remove one of them", Also: []value.Place{list[j].Place}})
		}
	}
}
