package runscmd

import (
	"context"
	"errors"
	"io"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/atomicfile"
	appstatus "jadekettle/internal/app/status"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/openmetrics"
	"jadekettle/internal/present/text"
	"jadekettle/internal/serve"
)

func status(e *cli.Env) *cobra.Command {
	var except []string
	metrics, listen := "", ""
	c := &cobra.Command{
		Use: "status [TARGET...]", Short: "Show the state of every host, worst first",
		Long: "Shows the state of every host from the run history, without connecting: when it was last reached " +
			"and applied to, at which revision, and whether it is as declared, has drifted, is outdated or " +
			"failing, and since when; resources that are no longer declared, pending restarts, and the facts " +
			"selected in [status]. Hosts that need attention come first. --metrics and --listen provide the same " +
			"for monitoring, in OpenMetrics format.",
		RunE: func(c *cobra.Command, targets []string) error {
			if metrics != "" && listen != "" {
				return problem.Errorf("--metrics and --listen cannot be combined").Remedy("use only one of them")
			}
			p, err := e.Open(c.Context())
			if err != nil {
				return err
			}
			if listen != "" {
				return served(c.Context(), e, listen, p, targets, except)
			}
			list, err := appstatus.Of(p, targets, except)
			if err != nil {
				return err
			}
			switch said := openmetrics.Status(list, p.Settings.Env, time.Now()); metrics {
			case "":
			case "-":
				_, err := e.Raw.Write(said)
				return err
			default:
				return atomicfile.Write(metrics, said, 0o644)
			}
			return e.Render(document.Status{Head: document.One, Hosts: list}, func(w io.Writer) {
				text.Status(w, list, e.Width, time.Now())
			})
		},
	}
	e.ExceptFlag(c, &except)
	c.Flags().StringVar(&metrics, "metrics", "", "write OpenMetrics text to `FILE`, or - for standard output")
	c.Flags().StringVar(&listen, "listen", "", "serve OpenMetrics text on `ADDRESS`, such as 127.0.0.1:9790, until "+
		"stopped")
	c.ValidArgsFunction = e.CompleteTargets()
	c.RegisterFlagCompletionFunc("except", e.CompleteTargets())
	return c
}

// served serves the status as OpenMetrics text, read again at each question.
func served(ctx context.Context, e *cli.Env, address string, p *app.Project, targets, except []string) error {
	server, l, err := serve.Metrics(address, e.Err, func() ([]byte, error) {
		list, err := appstatus.Of(p, targets, except)
		return openmetrics.Status(list, p.Settings.Env, time.Now()), err
	})
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() {
		end, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		server.Shutdown(end)
	})
	defer stop()
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
