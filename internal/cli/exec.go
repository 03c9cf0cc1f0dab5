package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) execCommand() *cobra.Command {
	r := &round{}
	all, yes, asLogin := false, false, false
	limit := 10 * time.Minute
	c := &cobra.Command{
		Use: "exec TARGET... -- COMMAND [WORD...]", Short: "Run one command on hosts", GroupID: "work",
		Long: "Exec runs one command on hosts, at once, and shows what it printed: what is alike on several hosts is shown\n" +
			"once. One word is a line for sh, several are a program and its words. It is run as root where [connect]\n" +
			"elevates, and with --as-login as the account that logs in. It takes no lock, and nothing of it is declared or\n" +
			"remembered on a host; what it printed is kept with the runs. It ends with 1 when the command ended with another code than 0 anywhere.",
		RunE: func(c *cobra.Command, args []string) error {
			at := c.ArgsLenAtDash()
			if at < 0 || at == len(args) {
				return problem.Errorf("there is no command").Remedy("write it behind two dashes: jadekettle exec gauge-01 -- uptime")
			}
			targets, command := args[:at], args[at:]
			if (len(targets) == 0) != all {
				return problem.Errorf("exec wants to know where").Remedy("name hosts, patterns or @groups, or say --all")
			}
			if limit <= 0 {
				return problem.Errorf("--timeout is %v", limit).Remedy("give a length of time, such as 10m")
			}
			p, err := a.load(targets, r.except)
			if err != nil {
				return err
			}
			if asLogin {
				for _, h := range p.hosts {
					h.Connect.Elevate = ""
				}
			}
			if !yes {
				if err := a.canAsk("exec"); err != nil {
					return err
				}
			}
			if !yes && !a.agree("Run `"+shell.Join(command...)+"` on", p.Settings.Env, p.hosts) {
				return a.nothingDone()
			}
			if len(command) == 1 {
				command = []string{"sh", "-c", command[0]}
			}
			return a.exec(c.Context(), r, p, command, limit)
		},
	}
	c.Flags().StringSliceVar(&r.except, "except", nil, "`TARGETS` to take out again: hosts, patterns or @groups")
	c.Flags().IntVar(&r.parallel, "parallel", 0, "`N` hosts at once (default: [run] parallel, 32)")
	c.Flags().BoolVar(&all, "all", false, "every host of the inventory")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&asLogin, "as-login", false, "run it as the account that logs in, and not as root")
	c.Flags().DurationVar(&limit, "timeout", limit, "how long it may take on a host, a `TIME`; what it has started is ended then")
	r.lenientFlag(c)
	a.passwordFlags(c)
	a.noteFlag(c)
	a.plainFlag(c)
	c.ValidArgsFunction = a.completeTargets
	c.RegisterFlagCompletionFunc("except", a.completeTargets)
	return c
}

// exec runs a command on the hosts of a project and tells what came of it.
func (a *App) exec(ctx context.Context, r *round, p *project, command []string, limit time.Duration) error {
	fleet, err := a.fleet(p, r.parallel)
	if err != nil {
		return err
	}
	defer p.dialer.Close()
	v := &screen.Run{W: a.Out, Width: a.Width, Sources: &screen.Sources{Dir: p.dir}, Working: a.Err}
	for _, h := range p.hosts {
		v.Names = max(v.Names, len(h.Name))
	}
	id, started, err := a.newRun(ctx, p, false)
	if err != nil {
		return err
	}
	kept, err := a.record(p, id, record.Head{Mode: record.ModeExec, Started: started})
	if err != nil {
		return err
	}
	watch := a.watch("exec", false, p.reachable(), fleet.Parallel, func() map[string]time.Duration { return nil })
	v.Working = besides{watch, a.Err}
	fleet.Notify = func(e record.Event) {
		kept.Event(e)
		watch.Event(e)
		if e.AtWork != nil {
			v.Event(e)
		}
	}
	defer context.AfterFunc(ctx, func() {
		fmt.Fprintln(a.Err, "stopping: a command that runs may end; press Ctrl-C again to end at once")
	})()
	out := fleet.Exec(ctx, p.hosts, command, limit)
	watch.end()
	a.code = executedCode(ctx, out, r.lenient)
	kept.end(a.code, out)
	defer func() { // once it is told here
		kept.wait()
		a.tellOthers(ctx, p, kept, out)
	}()
	if a.output == "json" {
		return a.document(executedDocument(command, out))
	}
	v.Number = kept.number
	v.Executed(out)
	return nil
}

func executedCode(ctx context.Context, hosts []*record.Host, lenient bool) int {
	code := exitDone
	for _, h := range hosts {
		dead := h.State == record.NotReached && lenient
		if e := h.Executed; h.State != record.Off && !dead && (e == nil || !e.Well()) {
			code = exitFailed
		}
	}
	if ctx.Err() != nil {
		return exitStopped
	}
	return code
}

func executedDocument(command []string, hosts []*record.Host) document.Executed {
	doc := document.Executed{Head: document.One, Command: command, Hosts: []document.ExecutedHost{}}
	for _, h := range hosts {
		one := document.ExecutedHost{Name: h.Name, State: string(h.State), Message: h.Message, Do: h.Do}
		if e := h.Executed; e != nil {
			one.Ended, one.Code, one.Output, one.Seconds = e.Ended, e.Code, e.Output, e.Seconds
			one.Message = strings.TrimSpace(one.Message + e.Wrong)
		}
		doc.Hosts = append(doc.Hosts, one)
	}
	return doc
}
