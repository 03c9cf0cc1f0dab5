package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/text"
)

// plain is how wide help is where there is no terminal.
const plain = 80

// help prints what a command is for, how to call it, its commands and flags, examples, and the flags of every command.
func (e *Env) help(c *cobra.Command) {
	e.page(true)
	w, width := e.Out, plain
	if e.Width > 0 {
		width = min(e.Width, text.LineWidth)
	}
	fmt.Fprint(w, text.Wrap(about(c), "", width))
	heading := func(title string) { fmt.Fprintf(w, "\n%s\n", text.Paint(text.Quiet, title)) }
	list := func(title string, rows [][]string) {
		if len(rows) > 0 {
			heading(title)
			text.ColumnsIn(w, rows, width)
		}
	}
	heading("Usage")
	for _, line := range usage(c) {
		fmt.Fprintf(w, "  %s\n", line)
	}
	for _, g := range grouped(c) {
		list(g.title, g.rows)
	}
	if c.HasParent() {
		list("Flags", flags(c.LocalNonPersistentFlags(), nil))
	}
	if c.Example != "" {
		heading("Examples")
		fmt.Fprintln(w, c.Example)
	}
	all := c.Root().PersistentFlags()
	if !c.HasParent() {
		all = c.LocalFlags()
	}
	list("Global flags", append(flags(all, outputs(c)), []string{"  -h, --help", "show help for any command"}))
	if c.HasAvailableSubCommands() {
		fmt.Fprintf(w, "\nRun `%s COMMAND --help` for details.\n", c.CommandPath())
	}
	if !c.HasParent() {
		list("Exit status", exits)
		fmt.Fprint(w, "\n"+text.Wrap(variables, "", width))
	}
}

// about is what a command is for, in full.
func about(c *cobra.Command) string {
	if c.Long == "" {
		return strings.TrimSuffix(c.Short, ".") + "."
	}
	return c.Long
}

// groups are the commands in the order of a newcomer.
var groups = []struct{ title, names string }{
	{"Getting started", "init demo lint kinds"},
	{"Everyday", "preview apply drift verify status exec undo why facts hosts"},
	{"History", "runs report compare"},
	{"Automation", "job tend"},
	{"Project", "add capture format rehearse secret source schema"},
	{"Other", "completion version"},
}

// listed is a titled list of commands with what they do.
type listed struct {
	title string
	rows  [][]string
}

// grouped lists the commands below c, those of the program in groups.
func grouped(c *cobra.Command) []listed {
	row := func(c *cobra.Command) []string { return []string{"  " + c.Name(), c.Short} }
	var out []listed
	if c.HasParent() {
		one := listed{title: "Commands"}
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() {
				one.rows = append(one.rows, row(sub))
			}
		}
		if len(one.rows) > 0 {
			out = append(out, one)
		}
		return out
	}
	for _, g := range groups {
		one := listed{title: g.title}
		for name := range strings.FieldsSeq(g.names) {
			if sub, _, err := c.Find([]string{name}); err == nil && sub != c {
				one.rows = append(one.rows, row(sub))
			}
		}
		out = append(out, one)
	}
	return out
}

// exits and variables are what the help of the program ends with.
var exits = [][]string{{"  0", "success"}, {"  1", "a task or host failed"}, {"  2", "usage or project error"},
	{"  3", "changes found (with --fail-if-changes)"}, {"  130", "interrupted"}}

const variables = "Most flags can be set by a variable, for example JADEKETTLE_PARALLEL=8."

// usage gives the ways to call a command.
func usage(c *cobra.Command) []string {
	name, words, _ := strings.Cut(c.UseLine(), " [flags]")
	var out []string
	if c.Annotations[groupOnly] == "" && c.HasParent() {
		if words = name + " [flags]" + words; !c.HasAvailableLocalFlags() {
			words = name
		}
		out = append(out, words)
	}
	if c.HasAvailableSubCommands() {
		out = append(out, c.CommandPath()+" COMMAND [flags]")
	}
	return out
}

// groupOnly is the annotation of a command that is nothing but others below it.
const groupOnly = "group"

// flags lists flags, each with what it does. outputs are the formats that --output takes here.
func flags(set *pflag.FlagSet, outputs []string) [][]string {
	var rows [][]string
	set.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		name, usage := pflag.UnquoteUsage(f)
		head := "      --" + f.Name
		if f.Shorthand != "" {
			head = "  -" + f.Shorthand + ", --" + f.Name
		}
		if f.Value.Type() != "bool" && name != "" {
			head += " " + map[bool]string{true: "[" + name + "]", false: name}[f.NoOptDefVal != ""]
		}
		usage = strings.TrimPrefix(usage, name+": ")
		if f.Name == "output" && len(outputs) > 1 {
			usage = strings.Replace(usage, "text or json", problem.OneOf(outputs), 1)
		}
		rows = append(rows, []string{head, usage + defaultOf(f, usage)})
	})
	return rows
}

// defaultOf is the default of a flag behind its usage, unless that says it already.
func defaultOf(f *pflag.Flag, usage string) string {
	switch d := f.DefValue; {
	case strings.Contains(usage, "(default"), d == "", d == "false", d == "[]", d == "0":
		return ""
	case f.Value.Type() == "duration":
		length, _ := time.ParseDuration(d)
		return " (default " + text.Interval(length) + ")"
	default:
		return " (default " + d + ")"
	}
}

// examples show each command at work in the observatory, where the command has
// none of its own beside it.
var examples = map[string]string{
	"init":       "  jadekettle init pier && cd pier && jadekettle preview",
	"demo":       "  jadekettle demo\n  jadekettle demo saltmarsh --stay",
	"lint":       "  jadekettle lint --strict\n  jadekettle lint --output sarif > findings.sarif",
	"hosts":      "  jadekettle hosts @gauge --except gauge-05\n  jadekettle hosts --group big-disk",
	"hosts show": "  jadekettle hosts show gauge-03",
	"hosts enroll": "  jadekettle hosts enroll gauge-01 --from https://git.example.org/tide.git@main\n  jadekettle " +
		"hosts enroll @gauge --from git@git.example.org:tide.git --every 10m --report-only",
	"hosts unenroll": "  jadekettle hosts unenroll gauge-01",
	"hosts trust":    "  jadekettle hosts trust 'gauge-[01..04]'",
	"facts": "  jadekettle facts gauge-01 os\n  jadekettle facts @archive --output json\n  jadekettle facts " +
		"--where 'facts.memory.total < bytes(\"2 GiB\")'",
	"kinds":           "  jadekettle kinds service",
	"kinds new":       "  jadekettle kinds new gauge_offset",
	"kinds try":       "  jadekettle kinds try gauge_offset\n  jadekettle kinds try gauge_offset --here",
	"kinds search":    "  jadekettle kinds search password",
	"kinds functions": "  jadekettle kinds functions net",
	"preview":         "  jadekettle preview @gauge\n  jadekettle preview gauge-01 --task 'file /etc/*'",
	"hosts admit":     "  jadekettle hosts admit gauge-05\n  jadekettle hosts admit gauge-05 --as pi",
	"verify":          "  jadekettle verify @chart\n  jadekettle verify --all --summary",
	"apply": "  jadekettle apply gauge-01\n  jadekettle apply @gauge,@chart --preview\n  jadekettle " +
		"apply --all --except @archive --yes",
	"exec": "  jadekettle exec @gauge -- uptime\n  jadekettle exec --all --as-login -- 'df -h / | " +
		"tail -n 1'",
	"compare":  "  jadekettle compare main\n  jadekettle compare v1.2 v1.3 --on @gauge",
	"drift":    "  jadekettle drift @gauge\n  jadekettle drift --fail-if-changes --output json",
	"undo":     "  jadekettle undo last\n  jadekettle undo 12 gauge-01 --preview",
	"job":      "  jadekettle job list\n  jadekettle job start night-tide",
	"job list": "  jadekettle job list\n  jadekettle job list --from https://git.example.org/tide.git",
	"job show": "  jadekettle job show night-tide",
	"job start": "  jadekettle job start night-tide --input depth=3\n  jadekettle job start night-tide " +
		"--preview --yes",
	"job install": "  jadekettle job install night-tide\n  jadekettle job install night-tide --from " +
		"https://git.example.org/tide.git@main --yes",
	"job remove": "  jadekettle job remove night-tide",
	"job last":   "  jadekettle job last night-tide",
	"tend": "  jadekettle tend\n  jadekettle tend --from https://git.example.org/tide.git@main --listen " +
		"127.0.0.1:9791",
	"tend status": "  jadekettle tend status",
	"runs":        "  jadekettle runs --failed --since 7d\n  jadekettle runs --task 'file /etc/*' --by maren",
	"runs show": "  jadekettle runs show last\n  jadekettle runs show 12 gauge-01\n  jadekettle runs show " +
		"last-failed gauge-01 file /etc/tide-logger.toml",
	"runs search":  "  jadekettle runs search 'permission denied'\n  jadekettle runs search foghorn --host archive-01",
	"runs diff":    "  jadekettle runs diff -2 -1",
	"runs history": "  jadekettle runs history gauge-01 file /etc/tide-logger.toml",
	"runs timing":  "  jadekettle runs timing\n  jadekettle runs timing 12 --most 20",
	"runs follow":  "  jadekettle runs follow last",
	"runs note":    "  jadekettle runs note last ticket=4711",
	"runs prune":   "  jadekettle runs prune --older 90d\n  jadekettle runs prune --keep 500 --yes",
	"runs check":   "  jadekettle runs check",
	"status": "  jadekettle status\n  jadekettle status @gauge --output json\n  jadekettle status --metrics " +
		"status.prom",
	"report": "  jadekettle report last --output html --to run.html\n  " +
		"jadekettle report 12 --output markdown",
	"report pages":     "  jadekettle report pages tide-runs --since 30d",
	"facts compare":    "  jadekettle facts compare gauge-01 archive-01",
	"hosts disconnect": "  jadekettle hosts disconnect",
	"hosts retire":     "  jadekettle hosts retire gauge-05",
	"format":           "  jadekettle format\n  jadekettle format --preview manifests/gauge/manifest.toml",
	"add":              "  jadekettle add package foghorn-relay --manifest signal\n  jadekettle add service",
	"rehearse":         "  jadekettle rehearse\n  jadekettle rehearse --output junit > rehearsal.xml",
	"schema":           "  jadekettle schema manifest\n  jadekettle schema --write .schemas",
	"secret":           "  jadekettle secret set shared relay.password",
	"secret init":      "  jadekettle secret init\n  jadekettle secret init --env production",
	"secret get":       "  jadekettle secret get shared relay.password",
	"secret edit":      "  jadekettle secret edit host/gauge-01",
	"secret rekey":     "  jadekettle secret rekey",
	"secret readers":   "  jadekettle secret readers",
	"source":           "  jadekettle source add https://git.example.org/tide.git --at v1.2",
	"source update":    "  jadekettle source update tide --at v1.3\n  jadekettle source update --pinned",
	"source list":      "  jadekettle source list",
	"source show":      "  jadekettle source show tide",
	"source verify":    "  jadekettle source verify --remote",
	"source remove":    "  jadekettle source remove tide",
	"version":          "  jadekettle version",
	"completion":       "  jadekettle completion bash > ~/.local/share/bash-completion/completions/jadekettle",
}

// furnish gives every command its example, our words for what the library adds, and our form of help.
func (e *Env) furnish(root *cobra.Command) {
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { e.help(c) })
	root.SetUsageFunc(func(c *cobra.Command) error { e.help(c); return nil })
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		switch c.Name() {
		case "help":
			c.Short, c.Long, c.Hidden = "Show help for a command", "", true
		case "completion":
			c.Short = "Generate a shell completion script"
			c.Long = "Generates a completion script for bash, fish, powershell or zsh. Save it where your shell " +
				"looks for such scripts: it completes commands, flags, hosts, @groups, kinds and declarations of " +
				"the current project."
			for _, shell := range c.Commands() {
				shell.Short, shell.Long = "Generate the script for "+shell.Name(), ""
				shell.Example = "  jadekettle completion " + shell.Name()
				shell.Args = NoArgs
			}
			groupCommand(c)
		}
	}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Example == "" {
			c.Example = examples[nameOf(c)]
		}
		if c.HasSubCommands() && !c.Runnable() {
			groupCommand(c)
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root)
}
