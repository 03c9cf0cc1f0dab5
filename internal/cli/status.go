package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/openmetrics"
	screen "jadekettle/internal/present/text"
)

func (a *App) statusCommand() *cobra.Command {
	var except []string
	metrics, listen := "", ""
	c := &cobra.Command{
		Use: "status [TARGET...]", Short: "Tell how every host is, and who needs a person first", GroupID: "work",
		Long: "Status tells of every host, by the runs that are kept and without contacting any: when it was last reached and\n" +
			"applied to, by which revision, and whether it is as declared, has drifted, is outdated or failing, and since\n" +
			"when; what is left over or owed on it, and the facts that [status] facts chooses. Who needs a person stands\n" +
			"first. --metrics and --listen tell the same to a monitoring system, as OpenMetrics text.",
		RunE: func(c *cobra.Command, targets []string) error {
			if metrics != "" && listen != "" {
				return problem.Errorf("--metrics and --listen are given together").Remedy("keep one of the two")
			}
			p, err := a.load(targets, except)
			if err != nil {
				return err
			}
			if listen != "" {
				return a.listen(c.Context(), listen, p)
			}
			list, err := a.statusOf(p)
			if err != nil {
				return err
			}
			if metrics != "" {
				text := openmetrics.Status(list, p.Settings.Env, time.Now())
				if metrics == "-" {
					_, err := a.raw.Write(text)
					return err
				}
				return atomicfile.Write(metrics, text, 0o644)
			}
			if a.output == "json" {
				return a.document(document.Status{Head: document.One, Hosts: list})
			}
			screen.Status(a.Out, list, a.Width, time.Now())
			return nil
		},
	}
	c.Flags().StringSliceVar(&except, "except", nil, "`TARGETS` to take out again: hosts, patterns or @groups")
	c.Flags().StringVar(&metrics, "metrics", "", "write it as OpenMetrics text into a `FILE`, or - for standard output")
	c.Flags().StringVar(&listen, "listen", "", "serve it as OpenMetrics text on an `ADDRESS`, such as 127.0.0.1:9790, until stopped")
	c.ValidArgsFunction = a.completeTargets
	c.RegisterFlagCompletionFunc("except", a.completeTargets)
	return c
}

// lookBack is out of how many runs of a host it is told since when it is as it is.
const lookBack = 200

// statusOf tells how the hosts of a project are, those that need a person first.
func (a *App) statusOf(p *project) ([]history.HostStatus, error) {
	out := []history.HostStatus{}
	for _, h := range p.hosts {
		stands, err := p.runs.Stands(p.Settings.Env, h.Name, lookBack)
		if err != nil {
			return nil, err
		}
		s, err := history.StatusOf(h.Name, stands, func(n int) ([]record.Task, error) { return p.runs.Moved(n, h.Name) })
		if err != nil {
			return nil, err
		}
		if h.Off != "" {
			s.Condition, s.Why = history.IsOff, h.Off
		}
		if kept, ok := p.known.Load(h.Name); ok {
			flat := history.FlatFacts(kept.Facts)
			for _, name := range p.Settings.StatusFacts {
				if text, there := flat[name]; there {
					s.Facts[name] = text
				}
			}
		}
		out = append(out, s)
	}
	slices.SortStableFunc(out, history.Urgency)
	return out, nil
}

// listen serves the status as OpenMetrics text, read anew at each question.
func (a *App) listen(ctx context.Context, address string, p *project) error {
	server, l, err := a.metrics(address, func() ([]byte, error) {
		list, err := a.statusOf(p)
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

// metrics makes ready to serve OpenMetrics text on an address, made anew at each question, and
// tells where.
func (a *App) metrics(address string, text func() ([]byte, error)) (*http.Server, net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, nil, problem.Errorf("--listen %s: %w", address, err).Remedy("name an address of this machine and a free port, such as 127.0.0.1:9790")
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		data, err := text()
		if err != nil {
			http.Error(w, problem.From(err).What, http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", openmetrics.Type)
		w.Write(data)
	})
	fmt.Fprintf(a.Err, "http://%s/metrics\n", l.Addr())
	return &http.Server{Handler: forHere(mux), ReadTimeout: 10 * time.Second, WriteTimeout: 30 * time.Second, MaxHeaderBytes: 16 << 10}, l, nil
}

// forHere answers requests that name this machine, by an address or by its own name: a page that
// somebody's browser was led to must not read what is here through a name of its own.
func forHere(next http.Handler) http.Handler {
	own, _ := os.Hostname()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := r.Host
		if host, _, err := net.SplitHostPort(name); err == nil {
			name = host
		}
		_, err := netip.ParseAddr(strings.Trim(name, "[]"))
		short, _, _ := strings.Cut(own, ".")
		if err != nil && !slices.ContainsFunc([]string{"localhost", own, short}, func(s string) bool { return s != "" && strings.EqualFold(s, name) }) {
			http.Error(w, "this machine is not called "+strconv.Quote(name), http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}
