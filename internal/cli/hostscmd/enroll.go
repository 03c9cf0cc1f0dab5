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
		Use: "enroll HOST... --from URL[@REV]", Short: "Make hosts apply the project themselves from a git repository",
		Long: "Installs Jade Kettle and a service on hosts, so that they fetch the project from a git repository " +
			"and apply it themselves.\n\nEach host gets an identity to decrypt its own secrets. Enroll prints the " +
			"public key to add to the inventory as encrypt_for; then run `jadekettle secret rekey`. Repeat enroll " +
			"to update a host.",
		RunE: func(c *cobra.Command, targets []string) error {
			if e.From == "" {
				return problem.Errorf("no repository given").
					Remedy("use --from URL[@REV] with a git repository that the hosts can reach")
			}
			if url, _ := sources.SplitURL(e.From); !strings.Contains(url, ":") {
				return problem.Errorf("--from is %s, a directory on this machine", url).
					Remedy("use a repository address that the hosts can reach")
			}
			if en.Every < time.Minute {
				return problem.Errorf("invalid --every %v", en.Every).Remedy("use a minute or more")
			}
			return each(c.Context(), e, en, targets, func(h app.Host) error {
				got, err := en.Host(c.Context(), h)
				if err != nil {
					return err
				}
				if got.Silent != "" {
					fmt.Fprintf(e.Err, "%s  %s\n", h.Name, got.Silent)
				}
				fmt.Fprintf(e.Out, "%s  enrolled: applies %s every %s\n", h.Name, text.Line(e.From),
					text.Interval(en.Every))
				if got.Recipient != "" {
					fmt.Fprintf(e.Out, "  to give it its own secrets, add %s = %q under [host.%s] and run "+
						"`jadekettle secret rekey`\n",
						secrets.EncryptFor, got.Recipient, h.Name)
				}
				return nil
			})
		},
	}
	c.Flags().DurationVar(&en.Every, "every", 30*time.Minute, "`DURATION`: interval between runs")
	c.Flags().BoolVar(&en.ReportOnly, "report-only", false, "only report differences; do not fix them")
	e.FromFlag(c)
	e.PasswordFlags(c)
	c.ValidArgsFunction = e.CompleteHosts()
	return c
}

func release(e *cli.Env) *cobra.Command {
	en := &appenroll.Enrollment{}
	c := &cobra.Command{
		Use: "unenroll HOST...", Short: "Undo enroll: stop hosts applying the project themselves",
		Long: "Stops the service that enroll installed on hosts, and removes it with the program, the identity and " +
			"the host's own run history. Everything that the project manages on the hosts stays as it is.",
		RunE: func(c *cobra.Command, targets []string) error {
			return each(c.Context(), e, en, targets, func(h app.Host) error {
				was, err := en.Release(c.Context(), h)
				if err != nil {
					return err
				}
				how := "unenrolled"
				if !was {
					how = "not enrolled"
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
		return problem.Errorf("no targets given").Remedy("name hosts, patterns or @groups")
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
