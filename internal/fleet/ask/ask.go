// Package ask asks probes from the controller.
package ask

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/probe"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// oneLimit is how long one try may take.
const oneLimit = 30 * time.Second

// Probe asks what a probe declares, again until it is right or its time is over.
func Probe(ctx context.Context, _ *inventory.Host, a value.Attrs) error {
	wait := func(d time.Duration) {
		select {
		case <-ctx.Done():
		case <-time.After(d):
		}
	}
	return probe.Patiently(a, time.Now, wait, func() error {
		ctx, cancel := context.WithTimeout(ctx, oneLimit)
		defer cancel()
		switch probe.Way(a) {
		case probe.Port:
			return port(ctx, a.Text(probe.Port))
		case probe.URL:
			return page(ctx, a)
		case probe.Resolves:
			got, err := net.DefaultResolver.LookupNetIP(ctx, "ip", a.Text(probe.Resolves))
			if err != nil {
				return problem.Errorf("%s does not resolve: %w", a.Text(probe.Resolves), err)
			}
			for i := range got {
				got[i] = got[i].Unmap()
			}
			return probe.CheckAddresses(a, []netip.Addr(got))
		}
		return problem.Errorf("the controller cannot run this check").Remedy("set asked_from = \"host\"")
	})
}

func port(ctx context.Context, at string) error {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
	if err != nil {
		return problem.Errorf("%s does not respond: %w", at, err)
	}
	return conn.Close()
}

// page fetches an address as it is, without following where it leads.
func page(ctx context.Context, a value.Attrs) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, a.Text(probe.URL), nil)
	if err != nil {
		return err
	}
	for name, v := range a.Table("headers") {
		text, _ := value.Text(v)
		if s, secret := v.(value.Secret); secret {
			text = s.Reveal()
		}
		req.Header.Set(name, text)
		if http.CanonicalHeaderKey(name) == "Host" {
			req.Host = text
		}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DisableKeepAlives = true
	transport.TLSClientConfig = &tls.Config{InsecureSkipVerify: a.Bool("trust_any_certificate")}
	client := &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	if err != nil {
		return problem.Errorf("%s does not respond: %w", a.Text(probe.URL), err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, probe.MaxBody))
	if err != nil {
		return fmt.Errorf("read %s: %w", a.Text(probe.URL), err)
	}
	p := probe.Page{Status: res.StatusCode, Body: string(body)}
	if res.TLS != nil && len(res.TLS.PeerCertificates) > 0 {
		p.Expires = res.TLS.PeerCertificates[0].NotAfter
	}
	return probe.CheckPage(a, p, time.Now())
}
