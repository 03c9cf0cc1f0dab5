package cli

import (
	"regexp"
	"strings"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/shell"
)

// ways are the commands and flags behind the ways out that the core knows of:
// what is said when there is no other remedy, and what is called.
var ways = map[problem.Way]struct{ phrase, call string }{
	problem.ListHosts:    {"`%` lists them", "jadekettle hosts"},
	problem.ShowHost:     {"`%` tells what applies to it", "jadekettle hosts show HOST"},
	problem.ShowKind:     {"`%` tells what it takes", "jadekettle kinds KIND"},
	problem.ChooseEnv:    {"say which with `%`", "--env NAME"},
	problem.DropEnv:      {"leave out `%`", "--env"},
	problem.MakeProject:  {"make one with `%`", "jadekettle init DIR"},
	problem.GiveParam:    {"give it with `%`", "--param PARAM=VALUE"},
	problem.SealSecret:   {"seal it with `%`", "jadekettle secret set LAYER NAME"},
	problem.EditSealed:   {"mend it with `%`", "jadekettle secret edit LAYER"},
	problem.GiveIdentity: {"name an identity with `%`", "--identity FILE"},
	problem.ReadFacts:    {"read them with `%`", "jadekettle facts HOST"},
	problem.AddSource:    {"add it with `%`", "jadekettle source add URL --at REV"},
	problem.FetchSource:  {"fetch it with `%`", "jadekettle source update NAME --pinned"},
}

// placeholder is a word of a call that stands for an argument.
var placeholder = regexp.MustCompile(`\b[A-Z]{4,}\b`)

// remedy puts what to do about a problem into words, commands included.
func remedy(p problem.Problem) string {
	way, ok := ways[p.Way]
	if !ok {
		return p.Do
	}
	args := p.Args
	call := placeholder.ReplaceAllStringFunc(way.call, func(word string) string {
		if len(args) > 0 {
			word, args = shell.Quote(args[0]), args[1:] // to be pasted, whatever a project calls its things
		}
		return word
	})
	if p.Do != "" {
		return p.Do + ": `" + call + "`"
	}
	return strings.Replace(way.phrase, "%", call, 1)
}

// worded gives problems whose remedies are put into words.
func worded(list []problem.Problem) []problem.Problem {
	out := make([]problem.Problem, len(list))
	for i, p := range list {
		p.Do, p.Way, p.Args = remedy(p), "", nil
		out[i] = p
	}
	return out
}
