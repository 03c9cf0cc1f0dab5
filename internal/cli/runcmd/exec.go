package runcmd

import (
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
)

func exec(e *cli.Env) *cobra.Command {
	r := &round{}
	r.Mode, r.Request.Exec = record.ModeExec, &app.Exec{Limit: 10 * time.Minute}
	all, yes := false, false
	c := &cobra.Command{
		Use: "exec TARGET... -- COMMAND [ARGUMENT...]", Short: "Run a command on hosts",
		Long: "Runs a command on hosts in parallel and shows its output; identical output is shown once. A single " +
			"word is a command line for sh; several words are a program and its arguments. The command runs as " +
			"root if [connect] elevates, or as the login user with --as-login. It does not lock the host; the " +
			"output is recorded in the run history. Exits with 1 if the command fails on any host.",
		RunE: func(c *cobra.Command, args []string) error {
			at := c.ArgsLenAtDash()
			if at < 0 || at == len(args) {
				return problem.Errorf("no command given").
					Remedy("put it after two dashes: `jadekettle exec gauge-01 -- uptime`")
			}
			targets, command := args[:at], args[at:]
			if (len(targets) == 0) != all {
				return problem.Errorf("no targets given").
					Remedy("name hosts, patterns or @groups, or use --all")
			}
			q, err := r.request(c.Context(), e, targets)
			if err != nil {
				return err
			}
			p, err := e.Open(c.Context())
			if err != nil {
				return err
			}
			of, err := p.Outlook(q)
			if err != nil {
				return err
			}
			if !yes {
				if err := e.CanAsk("exec"); err != nil {
					return err
				}
				if !e.AgreeOn("Run `"+app.Shown(command)+"` on", p.Settings.Env, of.Meant) {
					return e.NothingDone()
				}
			}
			if len(command) == 1 {
				command = []string{"sh", "-c", command[0]}
			}
			q.Exec.Words = command
			return finish(c.Context(), e, p, q, r.Look)
		},
	}
	r.given = c
	e.ExceptFlag(c, &r.Except)
	e.ParallelFlag(c, &r.Parallel)
	c.Flags().BoolVar(&all, "all", false, "select every host in the inventory")
	e.YesFlag(c, &yes)
	c.Flags().BoolVar(&r.Request.Exec.AsLogin, "as-login", false, "run as the login user instead of root")
	c.Flags().DurationVar(&r.Request.Exec.Limit, "timeout", r.Request.Exec.Limit,
		"kill the command after `DURATION`")
	r.quietFlag(c)
	e.LenientFlag(c, &r.Lenient)
	e.PasswordFlags(c)
	e.NoteFlag(c)
	e.PlainFlag(c)
	complete(e, c)
	return c
}
