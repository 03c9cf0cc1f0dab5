package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jadekettle/internal/present/text"
)

// help prints what a command is for, how it is called, an example, what it
// takes, and at the end once what every command takes.
func (e *Env) help(c *cobra.Command) {
	w := e.Out
	about := c.Long
	if about == "" {
		about = strings.TrimSuffix(c.Short, ".") + "."
	}
	fmt.Fprintf(w, "%s\n\n", about)
	if c.Runnable() {
		fmt.Fprintf(w, "%s\n  %s\n", text.Paint(text.Quiet, "how it is called"), c.UseLine())
	}
	if c.Example != "" {
		fmt.Fprintf(w, "\n%s\n%s\n", text.Paint(text.Quiet, "for example"), c.Example)
	}
	for _, g := range append(c.Groups(), &cobra.Group{Title: "commands"}) {
		rows := [][]string{}
		for _, sub := range c.Commands() {
			if sub.GroupID == g.ID && sub.IsAvailableCommand() {
				rows = append(rows, []string{"  " + sub.Name(), sub.Short})
			}
		}
		if len(rows) > 0 {
			fmt.Fprintf(w, "\n%s\n", text.Paint(text.Quiet, strings.TrimSuffix(g.Title, ":")))
			text.Columns(w, rows)
		}
	}
	flags(w, "what it takes", c.LocalNonPersistentFlags())
	flags(w, "what every command takes", c.Root().PersistentFlags())
	if c.HasAvailableSubCommands() {
		fmt.Fprintf(w, "\n`%s COMMAND --help` tells more of each.\n", c.CommandPath())
	}
}

func flags(w io.Writer, title string, set *pflag.FlagSet) {
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
			head += " " + name
		}
		rows = append(rows, []string{head, strings.TrimPrefix(usage, name+": ")})
	})
	if len(rows) > 0 {
		fmt.Fprintf(w, "\n%s\n", text.Paint(text.Quiet, title))
		text.Columns(w, rows)
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
	"hosts enrol": "  jadekettle hosts enrol gauge-01 --from https://git.example.org/tide.git@main\n  jadekettle " +
		"hosts enrol @gauge --from git@git.example.org:tide.git --every 10m --only-tell",
	"hosts release": "  jadekettle hosts release gauge-01",
	"hosts trust":   "  jadekettle hosts trust 'gauge-[01..04]'",
	"facts": "  jadekettle facts gauge-01 os\n  jadekettle facts @archive --output json\n  jadekettle facts " +
		"--where 'facts.memory.total < bytes(\"2 GiB\")'\n  jadekettle facts --compare gauge-01 archive-01",
	"kinds":           "  jadekettle kinds service",
	"kinds new":       "  jadekettle kinds new gauge_offset",
	"kinds try":       "  jadekettle kinds try gauge_offset\n  jadekettle kinds try gauge_offset --here",
	"kinds search":    "  jadekettle kinds search password",
	"kinds functions": "  jadekettle kinds functions net",
	"preview":         "  jadekettle preview @gauge\n  jadekettle preview gauge-01 --task 'file /etc/*'",
	"hosts admit":     "  jadekettle hosts admit gauge-05\n  jadekettle hosts admit gauge-05 --as pi",
	"verify":          "  jadekettle verify @chart\n  jadekettle verify --all --summary",
	"apply":           "  jadekettle apply gauge-01\n  jadekettle apply --all --except @archive --yes",
	"exec": "  jadekettle exec @gauge -- uptime\n  jadekettle exec --all --as-login -- 'df -h / | " +
		"tail -n 1'",
	"compare":  "  jadekettle compare main\n  jadekettle compare v1.2 v1.3 --on @gauge",
	"drift":    "  jadekettle drift @gauge\n  jadekettle drift --fail-if-changes --output json",
	"undo":     "  jadekettle undo last\n  jadekettle undo 12 gauge-01 --preview",
	"job":      "  jadekettle job list\n  jadekettle job start night-tide",
	"job list": "  jadekettle job list\n  jadekettle job list --from https://git.example.org/tide.git",
	"job show": "  jadekettle job show night-tide",
	"job start": "  jadekettle job start night-tide --answer depth=3\n  jadekettle job start night-tide " +
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
	"runs search": "  jadekettle runs search 'permission denied'\n  jadekettle runs search foghorn --host archive-01",
	"runs differ": "  jadekettle runs differ -2 -1",
	"runs of":     "  jadekettle runs of gauge-01 file /etc/tide-logger.toml",
	"runs slow":   "  jadekettle runs slow\n  jadekettle runs slow 12 --most 20",
	"runs follow": "  jadekettle runs follow last",
	"runs note":   "  jadekettle runs note last ticket=4711",
	"runs prune":  "  jadekettle runs prune --older 90d\n  jadekettle runs prune --keep 500 --yes",
	"runs check":  "  jadekettle runs check",
	"status": "  jadekettle status\n  jadekettle status @gauge --output json\n  jadekettle status --metrics " +
		"status.prom",
	"report": "  jadekettle report last --output html --to run.html\n  jadekettle report 12 --output markdown\n" +
		"  jadekettle report --all --to pages --since 30d",
	"hosts retire":  "  jadekettle hosts retire gauge-05",
	"format":        "  jadekettle format\n  jadekettle format --check manifests/gauge/manifest.toml",
	"add":           "  jadekettle add package foghorn-relay --manifest signal\n  jadekettle add service",
	"rehearse":      "  jadekettle rehearse\n  jadekettle rehearse --output junit > rehearsal.xml",
	"schema":        "  jadekettle schema manifest\n  jadekettle schema --write .schemas",
	"secret":        "  jadekettle secret set shared relay.password",
	"secret init":   "  jadekettle secret init\n  jadekettle secret init --env production",
	"secret get":    "  jadekettle secret get shared relay.password",
	"secret edit":   "  jadekettle secret edit host/gauge-01",
	"secret reseal": "  jadekettle secret reseal",
	"secret who":    "  jadekettle secret who",
	"source":        "  jadekettle source add https://git.example.org/tide.git --at v1.2",
	"source update": "  jadekettle source update tide --at v1.3\n  jadekettle source update --pinned",
	"source list":   "  jadekettle source list",
	"source show":   "  jadekettle source show tide",
	"source verify": "  jadekettle source verify --remote",
	"source remove": "  jadekettle source remove tide",
	"version":       "  jadekettle version",
	"completion":    "  jadekettle completion bash > ~/.local/share/bash-completion/completions/jadekettle",
}

// furnish gives every command its example, our words for what cobra adds by itself,
// and our form of help.
func (e *Env) furnish(root *cobra.Command) {
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { e.help(c) })
	root.SetUsageFunc(func(c *cobra.Command) error { e.help(c); return nil })
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		switch c.Name() {
		case "help":
			c.Short, c.Long, c.Hidden = "Tell what a command is for", "", true
		case "completion":
			c.Short = "Print what makes a shell complete hosts, groups, kinds and declarations"
			c.Long = "Completion prints a script for bash, fish, powershell or zsh. Put where the shell looks " +
				"for such " +
				"scripts, it\ncompletes commands, flags, host names, @groups, kinds and declarations, out of the " +
				"project of the call."
			for _, shell := range c.Commands() {
				shell.Short = "The script for " + shell.Name()
				shell.Long = ""
				shell.Example = "  jadekettle completion " + shell.Name()
			}
		}
	}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Example == "" {
			c.Example = examples[strings.TrimPrefix(c.CommandPath(), root.Name()+" ")]
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root)
}
