package cli

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

	"github.com/spf13/cobra"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/ownkind"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/host/kinds"
	ownprogram "jadekettle/internal/host/kinds/own"
	screen "jadekettle/internal/present/text"
)

// kinds gives the kinds that the project of the call may use: the built-in ones
// and its own. What is wrong with those, lint tells.
func (a *App) kinds() schema.Kinds {
	_, root, err := a.projectFiles()
	if err != nil {
		return kinds.Schemas()
	}
	folders := []string{""}
	entries, _ := fs.ReadDir(root, "sources")
	for _, e := range entries {
		folders = append(folders, path.Join("sources", e.Name()))
	}
	var ps problem.Problems
	return kinds.Schemas().With(ownkind.Load(root, folders, kinds.Schemas(), &ps))
}

func (a *App) kindsNew() *cobra.Command {
	return &cobra.Command{
		Use: "new NAME", Short: "Make a kind of your own that works", Args: cobra.ExactArgs(1),
		Long: "New makes the folder kinds/NAME with kind.toml, which describes the kind, and a program that is run on " +
			"hosts\n" +
			"to read, compare and write. They keep one line of text in a file; make of them what you need.",
		RunE: func(_ *cobra.Command, args []string) error {
			dir, _, err := a.projectFiles()
			if err != nil {
				return err
			}
			name := args[0]
			if _, taken := a.kinds().Kind(name); taken || !validKind(name) {
				return problem.Errorf("no kind can be called %q", name).
					Remedy("use small letters, digits and underscores, and a name that is not taken")
			}
			folder := filepath.Join(dir, ownkind.Dir, name)
			if _, err := os.Stat(folder); err == nil {
				return problem.Errorf("%s is there already", folder).Remedy("name another")
			}
			if err := os.MkdirAll(folder, 0o755); err != nil {
				return err
			}
			for _, f := range []struct {
				name, text string
				mode       os.FileMode
			}{{ownkind.File, newKind, 0o644}, {"program", newProgram, 0o755}} {
				full := filepath.Join(folder, f.name)
				if err := os.WriteFile(full, []byte(strings.ReplaceAll(f.text, "NAME", name)), f.mode); err != nil {
					return err
				}
				fmt.Fprintln(a.Out, path.Join(ownkind.Dir, name, f.name))
			}
			fmt.Fprintf(a.Err, "`jadekettle kinds try %s` runs its examples\n", name)
			return nil
		},
	}
}

func validKind(name string) bool {
	return name != "" && !strings.ContainsFunc(name, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '_'
	}) && name[0] >= 'a' && len(name) > 1 && !slices.Contains(schema.Reserved, name)
}

const newKind = `about = "One line of text in a file."
doc = "The name is the file's path. This is the kind that ` + "`jadekettle kinds new`" + ` makes: make of it what you need."
program = "program"

[attribute.text]
type = "text"
required = true
about = "The line, without quotes and backslashes."
example = '"high water at six"'

[attribute.ending]
type = "text"
choices = ["none", "stop"]
default = "none"
about = "What the line ends with."

[example]
"A line that must be there" = """
[NAME."/tmp/NAME-example"]
text = "high water at six"
ending = "stop"
"""
"A file that must not be there" = """
[NAME."/tmp/NAME-other"]
absent = true
"""
`

const newProgram = `#!/bin/sh
# Answers for the kind NAME, on the host. Its argument is read, compare or write. On
# standard input it gets one line of JSON, its keys in alphabetical order:
#   {"absent":false,"attributes":{"ending":"none","text":"..."},"format":1,"kind":"NAME","name":"...",
#    "preview":false,"state":...}
# It answers on standard output with one JSON object:
#   read      {"state": ...}      what stands, in any form; compare and write get it back
#   compare   {"changes": [{"what": "...", "was": "...", "becomes": "..."}]}   none when all is right
#   write     nothing, once it is done
# It must change nothing but in write. What it says on standard error, with an exit code other than 0, is the
# failure that people read. Any language that hosts have will do.
set -eu
question=$(cat)
field() { printf '%s\n' "$question" | sed -n 's/.*"'"$1"'":"\([^"\\]*\)".*/\1/p'; }
file=$(field name)
case $question in *'"absent":true'*) want= ;; *)
	want=$(field text)
	[ "$(field ending)" = stop ] && want=$want. ;;
esac
case $1 in
read)
	if [ -f "$file" ]; then printf '{"state": "%s"}\n' "$(head -n 1 "$file" | tr -d '"\\')"; else echo '{"state": ""}'; fi ;;
compare)
	stands=$(field state)
	if [ "$stands" = "$want" ]; then
		echo '{"changes": []}'
	else
		printf '{"changes": [{"what": "line", "was": "%s", "becomes": "%s"}]}\n' "${stands:-absent}" "${want:-absent}"
	fi ;;
write)
	if [ -z "$want" ]; then rm -f "$file"; else printf '%s\n' "$want" >"$file"; fi ;;
*)
	echo "asked to $1" >&2
	exit 2 ;;
esac
`

func (a *App) kindsTry() *cobra.Command {
	here := false
	c := &cobra.Command{
		Use: "try NAME", Short: "Try the examples of a kind of your own", Args: cobra.ExactArgs(1),
		Long: "Try applies the examples of a kind of your own twice to a simulated host, which runs no program but " +
			"remembers\n" +
			"what it was asked to write. With --here it runs the program on this machine, with your rights: it reads,\n" +
			"compares, writes what differs, and reads and compares again, after which nothing may differ.",
		RunE: func(c *cobra.Command, args []string) error {
			k, ok := a.kinds().Kind(args[0])
			if !ok || k.Program == "" {
				return problem.Errorf("there is no kind %q of your own that is whole", args[0]).
					Remedy("`jadekettle lint` tells what is wrong with one; `jadekettle kinds new NAME` makes one")
			}
			if len(k.Examples) == 0 {
				return problem.Errorf("the kind %s has no examples", k.Name).Remedy("write some below [example] in its kind.toml")
			}
			dir, _, err := a.projectFiles()
			if err != nil {
				return err
			}
			for _, e := range k.Examples {
				if err := a.tryExample(c.Context(), dir, k, e, here); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&here, "here", false, "run the program on this machine")
	return c
}

// tryExample tries one example in a project of its own.
func (a *App) tryExample(ctx context.Context, dir string, k *schema.Kind, e schema.Example, here bool) error {
	work, err := os.MkdirTemp("", "jadekettle-kind-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	folder := path.Dir(k.Program)
	to := filepath.Join(work, ownkind.Dir, k.Name)
	if err := os.CopyFS(to, os.DirFS(filepath.Join(dir, filepath.FromSlash(folder)))); err != nil {
		return err
	}
	for name, text := range map[string]string{
		"jadekettle.toml": "project = \"kinds-try\"\n",
		"hosts.toml": "[host.gauge-01]\naddress = \"192.0.2.21\"\n[group.all]\nmembers = [\"*\"]\nmanifests = " +
			"[\"tried\"]\n",
		"manifests/tried.toml": e.TOML,
		"rehearsal/tried.toml": "[host.gauge-01]\n",
	} {
		full := filepath.Join(work, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			return err
		}
	}
	if here {
		return a.tryHere(ctx, work, k, e)
	}
	return a.trySimulated(ctx, work, e)
}

func (a *App) trySimulated(ctx context.Context, work string, e schema.Example) error {
	list, err := rehearse.Load(os.DirFS(work), nil)
	if err != nil {
		return err
	}
	hosts, err := os.MkdirTemp("", "jadekettle-kind-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(hosts)
	cases, err := rehearse.Run(ctx, rehearse.Stage{Project: os.DirFS(work), Kinds: kinds.Schemas(), Folder: hosts}, list)
	if err != nil {
		return err
	}
	verdict := "right"
	for _, c := range cases {
		// A failure without a host is about conditions, of which an example shows one side.
		if c.Failure != "" && c.Host != "" {
			verdict = "wrong: " + c.Failure
			a.code = exitFailed
		}
	}
	fmt.Fprintf(a.Out, "%s: %s\n", screen.Line(e.About), screen.Line(verdict))
	return nil
}

// tryHere runs the program for each declaration of an example.
func (a *App) tryHere(ctx context.Context, work string, k *schema.Kind, e schema.Example) error {
	p, err := compile.Load(os.DirFS(work), kinds.Schemas(), compile.Options{})
	if err != nil {
		return err
	}
	host, _ := p.Inventory.Host("gauge-01")
	made, err := (&resolve.Plans{Project: p}).Of(host, &facts.Facts{})
	if err != nil {
		return err
	}
	for _, t := range made.Tasks {
		if t.Program == nil {
			continue
		}
		program := filepath.Join(work, ownkind.Dir, k.Name, path.Base(k.Program))
		verdict, err := tried(ctx, program, t)
		if err != nil {
			verdict = "wrong: " + problem.From(err).What
			a.code = exitFailed
		}
		fmt.Fprintf(a.Out, "%s: %s: %s\n", screen.Line(e.About), screen.Line(t.Ref.String()), screen.Line(verdict))
	}
	return nil
}

// tried takes one task through a round and says how it went.
func tried(ctx context.Context, program string, t plan.Task) (string, error) {
	round := func() (any, []ownprogram.Change, error) {
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
		return "right: nothing differed, so nothing was written", nil
	}
	if _, err := asked(ctx, program, "write", t, state); err != nil {
		return "", err
	}
	_, left, err := round()
	if err != nil {
		return "", err
	}
	if len(left) > 0 {
		return "", problem.Errorf("the change did not hold: %s is %s, declared %s", left[0].What, left[0].Was,
			left[0].Becomes)
	}
	return fmt.Sprintf("right: %s written, and then nothing differed", screen.Count(len(changes), "change")), nil
}

// tryLimit is how long a program may take on this machine.
const tryLimit = time.Minute

func asked(ctx context.Context, program, verb string, t plan.Task, state any) (ownprogram.Answer, error) {
	question, err := ownprogram.Ask(t, false, state)
	if err != nil {
		return ownprogram.Answer{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	c := exec.CommandContext(ctx, program, verb)
	c.Stdin = bytes.NewReader(question)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Run(); err != nil {
		return ownprogram.Answer{}, problem.Errorf("asked to %s, the program fails: %v: %s", verb, err,
			strings.TrimSpace(errs.String()))
	}
	return ownprogram.Read(verb, out.String())
}
