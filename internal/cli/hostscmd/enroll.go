package hostscmd

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	appenroll "jadekettle/internal/app/enroll"
	"jadekettle/internal/app/secrets"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/text"
)

func enroll(e *cli.Env) *cobra.Command {
	en := &appenroll.Enrollment{}
	c := &cobra.Command{
		Use: "enrol HOST... --from URL[@REV]", Short: "Let hosts keep themselves, from a git repository and " +
			"without a controller",
		Long: "Enrol puts this program on hosts, a service that runs `jadekettle tend --here` there, and an " +
			"identity that opens\nwhat is sealed for that host alone. It tells the identity's recipient, which " +
			"goes to the host in the inventory as\nseal_for; `jadekettle secret reseal` then seals the host's own " +
			"layer for it. Once more, it brings all that up to date.",
		RunE: func(c *cobra.Command, targets []string) error {
			if e.From == "" {
				return problem.Errorf("enrol wants to know from where").
					Remedy("say --from URL[@REV], a git repository that the hosts reach")
			}
			if url, _ := sources.SplitURL(e.From); !strings.Contains(url, ":") {
				return problem.Errorf("--from is %s, a folder of this machine", url).
					Remedy("name the repository as the hosts reach it")
			}
			if en.Every < time.Minute {
				return problem.Errorf("--every is %v", en.Every).Remedy("give a minute or more")
			}
			return each(c.Context(), e, en, targets, func(h app.Host) error {
				got, err := en.Host(c.Context(), h)
				if err != nil {
					return err
				}
				if got.Silent != "" {
					fmt.Fprintf(e.Err, "%s  %s\n", h.Name, got.Silent)
				}
				fmt.Fprintf(e.Out, "%s  keeps itself, every %v from %s\n", h.Name, en.Every, text.Line(e.From))
				if got.Recipient != "" {
					fmt.Fprintf(e.Out, "  what is sealed for it alone: write %s = %q below [host.%s], and run "+
						"`jadekettle secret reseal`\n",
						secrets.SealFor, got.Recipient, h.Name)
				}
				return nil
			})
		},
	}
	c.Flags().DurationVar(&en.Every, "every", 30*time.Minute, "how often a host checks itself, a `TIME`")
	c.Flags().BoolVar(&en.OnlyTell, "only-tell", false, "hosts tell what differs, and mend nothing")
	e.FromFlag(c)
	e.PasswordFlags(c)
	c.ValidArgsFunction = e.CompleteHosts()
	return c
}

func release(e *cli.Env) *cobra.Command {
	en := &appenroll.Enrollment{}
	c := &cobra.Command{
		Use: "release HOST...", Short: "Take off hosts what enrol has put there",
		Long: "Release ends the service by which hosts keep themselves, and takes it, the program, the identity " +
			"and what a host has\nkept of its own check-ins away. What the project manages there stays as it is.",
		RunE: func(c *cobra.Command, targets []string) error {
			return each(c.Context(), e, en, targets, func(h app.Host) error {
				was, err := en.Release(c.Context(), h)
				if err != nil {
					return err
				}
				how := "keeps itself no more"
				if !was {
					how = "does not keep itself"
				}
				fmt.Fprintf(e.Out, "%s  %s\n", h.Name, how)
				return nil
			})
		},
	}
	e.FromFlag(c)
	e.PasswordFlags(c)
	c.ValidArgsFunction = e.CompleteHosts()
	return c
}

// each does something with each host that is named. One that fails holds up no other.
func each(ctx context.Context, e *cli.Env, en *appenroll.Enrollment, targets []string, do func(app.Host) error) error {
	if len(targets) == 0 {
		return problem.Errorf("no host is named").Remedy("name hosts, patterns or @groups")
	}
	p, list, err := e.OpenHosts(ctx, targets)
	if err != nil {
		return err
	}
	en.Project, en.Sink = p, func(dir, host string) record.Sink { return beside(e, dir, host, text.Summary) }
	if en.Dialer, err = p.Dialer(e.Passwords); err != nil {
		return err
	}
	defer en.Dialer.Close()
	return e.EachHost(ctx, list, do)
}
