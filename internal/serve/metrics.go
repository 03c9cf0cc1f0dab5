package serve

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/openmetrics"
)

// Metrics makes ready to serve OpenMetrics text on an address, made again at each question, and
// says where.
func Metrics(address string, say io.Writer, text func() ([]byte, error)) (*http.Server, net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, nil, problem.Errorf("--listen %s: %w", address, err).
			Remedy("use an address of this machine and a free port, such as 127.0.0.1:9790")
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
	fmt.Fprintf(say, "http://%s/metrics\n", l.Addr())
	return &http.Server{Handler: forHere(mux), ReadTimeout: 10 * time.Second, WriteTimeout: 30 * time.Second,
		MaxHeaderBytes: 16 << 10}, l, nil
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
		ours := func(s string) bool { return s != "" && strings.EqualFold(s, name) }
		if err != nil && !slices.ContainsFunc([]string{"localhost", own, short}, ours) {
			http.Error(w, "this machine is not called "+strconv.Quote(name), http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}
