package manifest

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// FactsDir is the folder of the project whose TOML files hold facts of one's
// own.
const FactsDir = "facts"

// Fact is a custom fact: what a command on the host says.
type Fact struct {
	Name  string
	Args  []string // the command
	Text  bool     // what it says is text even where it is JSON
	Limit time.Duration
	Place value.Place
}

// FactKeys are what a [fact.NAME] table may hold.
var FactKeys = []schema.Key{
	{Name: "run", Takes: schema.TakesList, Doc: "The command and its arguments; it must not change anything."},
	{Name: "script", Takes: schema.TakesText, Doc: "A script for sh, instead of run."},
	{Name: "as_text", Takes: schema.TakesBool, Default: "false",
		Doc: "Treat the output as text, even if it is JSON."},
	{Name: "timeout", Takes: schema.TakesText, Default: `"10s"`, Doc: "The time limit."},
	{Name: "about", Takes: schema.TakesText, Doc: "A description."},
}

// factName is what CEL and templates can select below facts.own.
var factName = lazy.Regexp(`^[a-z_][a-z0-9_]*$`)

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
				problems.At(k.Place, fmt.Sprintf("%q is not a fact", k.Name), factForm)
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
			problems.At(k.Place, fmt.Sprintf("fact.%s must be a table", k.Name), factForm)
			continue
		}
		if !factName().MatchString(k.Name) {
			problems.At(k.Place, fmt.Sprintf("invalid fact name: %q", k.Name), "use lower-case letters, digits and "+
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
	script := ""
	good := k.Node.Decode("a fact", FactKeys, Fields{"run": Some{&f.Args}, "script": &script, "as_text": &f.Text,
		"timeout": &f.Limit, "about": nil}, problems)
	switch {
	case !good:
		return f, false
	case (len(f.Args) == 0) == (script == ""):
		problems.At(k.Place, "exactly one of run and script is required", "set one of them")
		return f, false
	case f.Limit <= 0 || f.Limit > 10*time.Minute:
		problems.At(k.Node.Get("timeout").Place, fmt.Sprintf("invalid timeout: %v", f.Limit), "use at most ten minutes")
		return f, false
	case script != "":
		f.Args = []string{"sh", "-c", script}
	}
	return f, true
}

// UniqueFacts reports facts that are there twice.
func UniqueFacts(list []Fact, problems *problem.Problems) {
	for i, f := range list {
		if j := slices.IndexFunc(list[:i], func(o Fact) bool { return o.Name == f.Name }); j >= 0 {
			problems.Add(problem.Problem{Place: f.Place, What: fmt.Sprintf("the fact %s is defined twice", f.Name),
				Do: "rename or remove one of them", Also: []value.Place{list[j].Place}})
		}
	}
}
