// Package probe is what is asked of a host from outside its declarations: a port,
// a page, a command, a file, a process, a name. It says what a probe wants and
// judges what came back; who asks is the host or the controller.
package probe

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// The attributes of which a probe has exactly one, and the two that say who
// asks.
const (
	Port     = "port"
	URL      = "url"
	Run      = "run"
	Script   = "script"
	File     = "file"
	Process  = "process"
	Resolves = "resolves"

	AskedFrom  = "asked_from"
	Host       = "host"
	Controller = "controller"
)

// Ways are the things that can be asked.
var Ways = []string{Port, URL, Run, Script, File, Process, Resolves}

// Way gives what a probe asks, or "" when it is not one thing.
func Way(a value.Attrs) string {
	given := slices.DeleteFunc(slices.Clone(Ways), func(w string) bool { return !a.Has(w) })
	if len(given) != 1 {
		return ""
	}
	return given[0]
}

// How long a probe is asked again, and how long is waited in between, where
// nothing is declared.
const (
	UsualWithin = 10 * time.Second
	UsualEvery  = time.Second
)

// Times gives how long a probe is asked again and how long is waited in between.
func Times(a value.Attrs) (within, every time.Duration) {
	within, every = UsualWithin, UsualEvery
	if t := a.Text("within"); t != "" {
		within, _ = measure.ParseDuration(t) // checked with the manifest
	}
	if t := a.Text("every"); t != "" {
		every, _ = measure.ParseDuration(t)
	}
	return within, every
}

// Patiently asks until an answer is right or the time is over, with wait in
// between, and gives the last error with what was tried.
func Patiently(a value.Attrs, now func() time.Time, wait func(time.Duration), ask func() error) error {
	within, every := Times(a)
	begun := now()
	for tries := 1; ; tries++ {
		err := ask()
		if err == nil {
			return nil
		}
		if now().Add(every).Sub(begun) > within || time.Duration(tries)*every > within {
			p := problem.From(err)
			if tries > 1 {
				p.What += fmt.Sprintf("; tried %d times in %v", tries, within)
			}
			return p
		}
		wait(every)
	}
}

// Page is what came back of an address.
type Page struct {
	Status  int
	Body    string
	Expires time.Time // of its certificate; zero when there is none or nobody can say
}

// MaxBody bounds what is looked at of a page, in bytes.
const MaxBody = 4 << 20

// CheckPage says what of a page is not as declared.
func CheckPage(a value.Attrs, p Page, now time.Time) error {
	address := a.Text(URL)
	want, declared := a.Int("status")
	switch {
	case declared && int64(p.Status) != want:
		return problem.Errorf("%s responds with status %d, not %d", address, p.Status, want)
	case !declared && (p.Status < 200 || p.Status > 299):
		return problem.Errorf("%s responds with status %d", address, p.Status).
			Remedy("check the server; if this status is intended, declare it with status")
	}
	if err := CheckText(a, address, p.Body); err != nil {
		return err
	}
	days, declared := a.Int("certificate_days")
	if !declared {
		return nil
	}
	if p.Expires.IsZero() {
		return problem.Errorf("the expiry date of the certificate of %s is unknown", address).
			Remedy("use an https address; set asked_from = \"controller\" if the host's curl is too old")
	}
	if left := int64(p.Expires.Sub(now) / (24 * time.Hour)); left < days {
		return problem.Errorf("the certificate of %s is valid for %d more days, not %d: until %s", address, left, days,
			p.Expires.UTC().Format("2006-01-02")).Remedy("renew it")
	}
	return nil
}

// CheckText says whether a text holds what is declared.
func CheckText(a value.Attrs, of, text string) error {
	pattern := a.Text("text")
	if pattern == "" {
		return nil
	}
	re, err := regexp.Compile("(?m)" + pattern)
	if err != nil {
		return err
	}
	if !re.MatchString(text) {
		return problem.Errorf("%s does not contain %q", of, pattern).Remedy("it starts with %q", begin(text))
	}
	return nil
}

func begin(text string) string {
	text = strings.TrimSpace(text)
	if len(text) > 80 {
		text = strings.ToValidUTF8(text[:80], "") + "..."
	}
	return text
}

// CheckAddresses says whether a name gave what is declared.
func CheckAddresses(a value.Attrs, got []netip.Addr) error {
	name := a.Text(Resolves)
	if len(got) == 0 {
		return problem.Errorf("%s does not resolve: no address found", name).Remedy("check which name server is used")
	}
	want := a.Text("address")
	if want == "" {
		return nil
	}
	addr, err := netip.ParseAddr(want)
	if err != nil {
		return err
	}
	if !slices.Contains(got, addr) {
		var texts []string
		for _, g := range got {
			texts = append(texts, g.String())
		}
		return problem.Errorf("%s has the address %s, not %s", name, strings.Join(texts, ", "), want)
	}
	return nil
}

// Endpoint reads HOST:PORT.
func Endpoint(s string) (host, port string, err error) {
	i := strings.LastIndexByte(s, ':')
	wrong := problem.Errorf("invalid host and port: %q", s).
		Remedy("use a form such as 127.0.0.1:8080 or [2001:db8::1]:25")
	if i <= 0 {
		return "", "", wrong
	}
	host, port = strings.TrimSuffix(strings.TrimPrefix(s[:i], "["), "]"), s[i+1:]
	n := 0
	if _, err := fmt.Sscanf(port, "%d", &n); err != nil || n < 1 || n > 65535 || fmt.Sprint(n) != port ||
		host == "" || strings.ContainsAny(host, " /\t\n[]") || host[0] == '-' {
		return "", "", wrong
	}
	return host, port, nil
}
