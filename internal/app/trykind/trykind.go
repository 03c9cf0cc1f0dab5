// Package trykind makes custom kinds, and tries their examples: on a simulated host, or with their program on
// this machine.
package trykind

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/app"
	"jadekettle/internal/app/scratch"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/ownkind"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/own"
)

// New makes the folder of a kind that works, and gives its files.
func New(s *app.Site, name string) ([]string, error) {
	if _, taken := s.Kinds().Kind(name); taken || !validKind(name) {
		return nil, problem.Errorf("invalid kind name %q", name).
			Remedy("use lower-case letters, digits and underscores, and a name that is not in use")
	}
	folder := filepath.Join(s.Root, ownkind.Dir, name)
	if _, err := os.Stat(folder); err == nil {
		return nil, problem.Errorf("%s already exists", folder).Remedy("choose another name")
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	var made []string
	for _, f := range []struct {
		name, text string
		mode       os.FileMode
	}{{ownkind.File, newKind, 0o644}, {"program", newProgram, 0o755}} {
		full := filepath.Join(folder, f.name)
		if err := os.WriteFile(full, []byte(strings.ReplaceAll(f.text, "NAME", name)), f.mode); err != nil {
			return nil, err
		}
		made = append(made, path.Join(ownkind.Dir, name, f.name))
	}
	return made, nil
}

func validKind(name string) bool {
	return name != "" && !strings.ContainsFunc(name, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '_'
	}) && name[0] >= 'a' && len(name) > 1 && !slices.Contains(schema.Reserved, name)
}

const newKind = `about = "One line of text in a file."
doc = "The name is the file's path. Replace this example, written by kinds new, with your own kind."
program = "program"

[attribute.text]
type = "string"
required = true
about = "The line, without quotes and backslashes."
example = '"high water at six"'

[attribute.ending]
type = "string"
choices = ["none", "stop"]
default = "none"
about = "The end of the line."

[example]
"A line that must exist" = """
[NAME."/tmp/NAME-example"]
text = "high water at six"
ending = "stop"
"""
"A file that must not exist" = """
[NAME."/tmp/NAME-other"]
absent = true
"""
`

const newProgram = `#!/bin/sh
# The program of the kind NAME, which runs on the host. Its argument is read, compare or write.
# Standard input is one line of JSON, with keys in alphabetical order:
#   {"absent":false,"attributes":{"ending":"none","text":"..."},"format":1,"kind":"NAME","name":"...",
#    "preview":false,"state":...}
# Standard output is one JSON object:
#   read      {"state": ...}      the current state, in any form; compare and write receive it
#   compare   {"changes": [{"what": "...", "was": "...", "becomes": "..."}]}   empty if nothing differs
#   write     nothing, once it is done
# Only write may change anything. On failure, exit with a status other than 0; standard error is the
# message that people see. Any language that is available on the hosts will do.
set -eu
request=$(cat)
field() { printf '%s\n' "$request" | sed -n 's/.*"'"$1"'":"\([^"\\]*\)".*/\1/p'; }
file=$(field name)
case $request in *'"absent":true'*) want= ;; *)
	want=$(field text)
	[ "$(field ending)" = stop ] && want=$want. ;;
esac
case $1 in
read)
	if [ -f "$file" ]; then
		printf '{"state": "%s"}\n' "$(head -n 1 "$file" | tr -d '"\\')"
	else
		echo '{"state": ""}'
	fi ;;
compare)
	current=$(field state)
	if [ "$current" = "$want" ]; then
		echo '{"changes": []}'
	else
		printf '{"changes": [{"what": "line", "was": "%s", "becomes": "%s"}]}\n' "${current:-absent}" "${want:-absent}"
	fi ;;
write)
	if [ -z "$want" ]; then rm -f "$file"; else printf '%s\n' "$want" >"$file"; fi ;;
*)
	echo "unknown argument: $1" >&2
	exit 2 ;;
esac
`

// Trial is how one declaration of an example went, or all of an example that was simulated.
type Trial struct {
	Example string // what it shows
	Ref     string // the declaration; empty for all of them
	Passed  string // how it went; empty when it failed
	Failed  string // why it failed; empty when it passed
}

// Try tries the examples of a custom kind: twice on a simulated host, which runs no program but remembers what it
// was asked to write, or with the program on this machine.
func Try(ctx context.Context, s *app.Site, name string, here bool) ([]Trial, error) {
	k, ok := s.Kinds().Kind(name)
	if !ok || k.Program == "" {
		return nil, problem.Errorf("no complete custom kind %q", name).
			Remedy("`jadekettle lint` shows what is wrong with it; `jadekettle kinds new NAME` creates one")
	}
	if len(k.Examples) == 0 {
		return nil, problem.Errorf("the kind %s has no examples", k.Name).
			Remedy("add some under [example] in its kind.toml")
	}
	var out []Trial
	for _, e := range k.Examples {
		list, err := example(ctx, s.Root, k, e, here)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// host is the one that examples are tried on.
const host = "gauge-01"

// example tries one example in a project of its own.
func example(ctx context.Context, root string, k *schema.Kind, e schema.Example, here bool) ([]Trial, error) {
	files := scratch.OneHost("kinds-try", host, "192.0.2.21", "tried")
	files["manifests/tried.toml"], files["rehearsal/tried.toml"] = e.TOML, "[host."+host+"]\n"
	work, err := scratch.New("kind", files)
	if err != nil {
		return nil, err
	}
	defer work.Close()
	from := filepath.Join(root, filepath.FromSlash(path.Dir(k.Program)))
	if err := os.CopyFS(filepath.Join(work.Dir, ownkind.Dir, k.Name), os.DirFS(from)); err != nil {
		return nil, err
	}
	if here {
		return onThisMachine(ctx, work.Dir, k, e)
	}
	return simulated(ctx, os.DirFS(work.Dir), e)
}

func simulated(ctx context.Context, project fs.FS, e schema.Example) ([]Trial, error) {
	list, err := rehearse.Load(project, nil)
	if err != nil {
		return nil, err
	}
	hosts, err := os.MkdirTemp("", "jadekettle-kind-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(hosts)
	cases, err := rehearse.Run(ctx, rehearse.Stage{Project: project, Kinds: kinds.Schemas(), Folder: hosts}, list)
	if err != nil {
		return nil, err
	}
	t := Trial{Example: e.About, Passed: "passed"}
	for _, c := range cases {
		// A failure without a host is about conditions, of which an example shows one side.
		if c.Failure != "" && c.Host != "" {
			t.Failed = c.Failure
		}
	}
	return []Trial{t}, nil
}

// onThisMachine runs the program for each declaration of an example.
func onThisMachine(ctx context.Context, work string, k *schema.Kind, e schema.Example) ([]Trial, error) {
	p, err := compile.Load(os.DirFS(work), kinds.Schemas(), compile.Options{})
	if err != nil {
		return nil, err
	}
	h, _ := p.Inventory.Host(host)
	made, err := (&resolve.Plans{Project: p}).Of(h, &facts.Facts{})
	if err != nil {
		return nil, err
	}
	var out []Trial
	for _, t := range made.Tasks {
		if t.Program == nil {
			continue
		}
		one := Trial{Example: e.About, Ref: t.Ref.String()}
		if one.Passed, err = tried(ctx, filepath.Join(work, ownkind.Dir, k.Name, path.Base(k.Program)), t); err != nil {
			one.Failed = problem.From(err).What
		}
		out = append(out, one)
	}
	return out, nil
}

// tried takes one task through a round and says how it went.
func tried(ctx context.Context, program string, t plan.Task) (string, error) {
	round := func() (any, []own.Change, error) {
		a, err := asked(ctx, program, "read", t, nil)
		if err != nil {
			return nil, nil, err
		}
		b, err := asked(ctx, program, "compare", t, a.State)
		return a.State, b.Changes, err
	}
	state, changes, err := round()
	if err != nil {
		return "", err
	}
	if len(changes) == 0 {
		return "passed: nothing differed, so nothing was written", nil
	}
	if _, err := asked(ctx, program, "write", t, state); err != nil {
		return "", err
	}
	_, left, err := round()
	if err != nil {
		return "", err
	}
	if len(left) > 0 {
		return "", problem.Errorf("the change did not persist: %s is %s, declared %s", left[0].What, left[0].Was,
			left[0].Becomes)
	}
	return fmt.Sprintf("passed: %s written, and then nothing differed", counted(len(changes))), nil
}

// tryLimit is how long a program may take on this machine.
const tryLimit = time.Minute

func asked(ctx context.Context, program, verb string, t plan.Task, state any) (own.Answer, error) {
	question, err := own.Ask(t, false, state)
	if err != nil {
		return own.Answer{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	c := exec.CommandContext(ctx, program, verb)
	c.Stdin = bytes.NewReader(question)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Run(); err != nil {
		return own.Answer{}, problem.Errorf("the program fails on %s: %v: %s", verb, err,
			strings.TrimSpace(errs.String()))
	}
	return own.Read(verb, out.String())
}

func counted(n int) string {
	if n == 1 {
		return "1 change"
	}
	return fmt.Sprintf("%d changes", n)
}
