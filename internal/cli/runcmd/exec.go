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
		Use: "exec TARGET... -- COMMAND [WORD...]", Short: "Run one command on hosts", GroupID: cli.Work,
		Long: "Exec runs one command on hosts, at once, and shows what it printed: what is alike on several hosts " +
			"is shown\nonce. One word is a line for sh, several are a program and its words. It is run as root " +
			"where [connect]\nelevates, and with --as-login as the account that logs in. It takes no lock, and " +
			"nothing of it is declared or\nremembered on a host; what it printed is kept with the runs. It ends " +
			"with 1 when the command ended with another code than 0 anywhere.",
		RunE: func(c *cobra.Command, args []string) error {
			at := c.ArgsLenAtDash()
			if at < 0 || at == len(args) {
				return problem.Errorf("there is no command").
					Remedy("write it behind two dashes: jadekettle exec gauge-01 -- uptime")
			}
			targets, command := args[:at], args[at:]
			if (len(targets) == 0) != all {
				return problem.Errorf("exec wants to know where").
					Remedy("name hosts, patterns or @groups, or say --all")
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
				if err := e.CanAsk("exec asks before it starts"); err != nil {
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
	c.Flags().BoolVar(&all, "all", false, "every host of the inventory")
	e.YesFlag(c, &yes)
	c.Flags().BoolVar(&r.Request.Exec.AsLogin, "as-login", false, "run it as the account that logs in, and not as root")
	c.Flags().DurationVar(&r.Request.Exec.Limit, "timeout", r.Request.Exec.Limit,
		"how long it may take on a host, a `TIME`; what it has started is ended then")
	e.LenientFlag(c, &r.Lenient)
	e.PasswordFlags(c)
	e.NoteFlag(c)
	e.PlainFlag(c)
	complete(e, c)
	return c
}
