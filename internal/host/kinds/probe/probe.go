// Package probe is the kind of questions whose answer proves that a set-up works.
package probe

import (
	"context"
	"errors"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/probe"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/fetch"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "probe",
	Area:  "health checks",
	About: "A health check: port, URL, command, file, process or DNS name.",
	Doc: "Choose any name. Probes run after all changes have been made, and alone with `jadekettle verify`; " +
		"never in a preview. A probe changes nothing. One that does not pass is retried for a while and then " +
		"counts as a failure. Exactly one of port, url, run, script, file, process and resolves is required.",
	Asks:     true,
	NoAbsent: "remove the declaration",
	Attrs: []schema.Attr{
		{Name: probe.Port, Type: schema.Text, Doc: "A port, as HOST:PORT, that must accept a TCP connection.",
			Examples: []string{`"127.0.0.1:8080"`, `"${host.address}:25"`}},
		{Name: probe.URL, Type: schema.Text,
			Doc:      "An HTTP or HTTPS address that must respond; from the host, curl is used.",
			Examples: []string{`"https://charts.example.org/"`}},
		{Name: probe.Run, Type: schema.Text, List: true, Doc: "A command that must succeed, passed literally.",
			Examples: []string{`["tide-logger", "--status"]`}},
		{Name: probe.Script, Type: schema.Text, Doc: "A script for sh, instead of run.",
			Examples: []string{`"tide-logger --status | grep -q up"`}},
		{Name: probe.File, Type: schema.Path, Doc: "A file that must exist.",
			Examples: []string{`"/run/tide-logger.pid"`}},
		{Name: probe.Process, Type: schema.Text, Doc: "The name of a program that must be running.",
			Examples: []string{`"tide-logger"`}},
		{Name: probe.Resolves, Type: schema.Text, Doc: "A DNS name that must resolve.",
			Examples: []string{`"charts.example.org"`}},
		{Name: "status", Type: schema.Int, Default: "200 to 299", Doc: "The HTTP status that the url must return.",
			Examples: []string{"301"}},
		{Name: "text", Type: schema.Pattern, Doc: "A pattern that the page, the output or the file must contain.",
			Examples: []string{`"^tide-logger: up$"`}},
		{Name: "certificate_days", Type: schema.Int, Doc: "The number of days for which the url's certificate must " +
			"still be valid.",
			Examples: []string{"14"}},
		{Name: "headers", Type: schema.Values, Doc: "Request headers for the url; may contain secrets.",
			Examples: []string{`{ Host = "charts.example.org" }`}},
		{Name: "trust_any_certificate", Type: schema.Bool, Default: "false", Doc: "Accept any TLS certificate.",
			Examples: []string{"true"}},
		{Name: "exit_code", Type: schema.Int, Default: "0", Doc: "The required exit status of the command.",
			Examples: []string{"3"}},
		{Name: "address", Type: schema.Text, Doc: "An address that the name must resolve to.",
			Examples: []string{`"192.0.2.80"`}},
		{Name: "run_as", Type: schema.Name, Default: "the login user (root when elevated)",
			Doc: "The user to run the command as.", Examples: []string{`"tidelog"`}},
		{Name: probe.AskedFrom, Type: schema.Text, Choices: []string{probe.Host, probe.Controller}, Default: `"host"`,
			Doc:      "Where the check runs; the controller can check port, url and resolves.",
			Examples: []string{`"controller"`}},
		{Name: "within", Type: schema.Duration, Default: `"10s"`, Doc: "How long to retry.",
			Examples: []string{`"1m"`}},
		{Name: "every", Type: schema.Duration, Default: `"1s"`, Doc: "The wait between attempts.",
			Examples: []string{`"5s"`}},
	},
	Examples: []schema.Example{
		{About: "A service that responds, and its page", TOML: `[probe."the gate responds"]
port = "127.0.0.1:22"
within = "30s"

[probe."the page shows tides"]
url = "http://charts.example.org/index.txt"
text = "index"
`},
		{About: "A command, a file and a process", TOML: `[probe."the system is identified"]
file = "/etc/os-release"
text = '^ID='

[probe."it was started by its manager"]
process = "systemd"

[probe."the logger takes its settings"]
script = "true"
after = ["file /etc/tide-notes"]

[file."/etc/tide-notes"]
content = "north pier\n"
owner = "root"
mode = "0644"
`},
	},
	Canon: schema.CanonWords("a probe", "describe what it checks in a few words"),
	Check: check,
}

// goes says which ways an attribute goes with.
var goes = map[string][]string{
	"status": {probe.URL}, "certificate_days": {probe.URL}, "headers": {probe.URL},
	"trust_any_certificate": {probe.URL},
	"text":                  {probe.URL, probe.Run, probe.Script, probe.File},
	"exit_code":             {probe.Run, probe.Script}, "run_as": {probe.Run, probe.Script},
	"address": {probe.Resolves},
}

func check(_ string, a value.Attrs) (string, error) {
	way := probe.Way(a)
	if way == "" {
		return "", problem.Errorf("exactly one of %s is required", strings.Join(probe.Ways, ", ")).
			Remedy("set one of them; declare several probes for several checks")
	}
	for _, name := range value.Keys(goes) {
		if !a.Has(name) || slices.Contains(goes[name], way) {
			continue
		}
		return name, problem.Errorf("%s does not apply to %s", name, way).
			Remedy("it applies to %s", strings.Join(goes[name], ", "))
	}
	far := []string{probe.Port, probe.URL, probe.Resolves}
	if a.Text(probe.AskedFrom) == probe.Controller && !slices.Contains(far, way) {
		return probe.AskedFrom, problem.Errorf("%s can be checked only from the host", way).
			Remedy("remove asked_from")
	}
	switch way {
	case probe.Port:
		if _, _, err := probe.Endpoint(a.Text(way)); err != nil {
			return way, err
		}
	case probe.URL:
		if err := schema.CheckAddress(a.Text(way)); err != nil {
			return way, err
		}
	case probe.Run:
		if words := a.Texts(way); len(words) == 0 || words[0] == "" || words[0][0] == '-' {
			return way, problem.Errorf("run is empty").Remedy("write run = [\"PROGRAM\", \"ARGUMENT\"]")
		}
	case probe.Resolves:
		if name := a.Text(way); name == "" || name[0] == '-' || strings.ContainsAny(name, " /\t\n") {
			return way, problem.Errorf("invalid host name %q", name).Remedy("use one such as charts.example.org")
		}
		if _, err := netip.ParseAddr(a.Text("address")); a.Has("address") && err != nil {
			return "address", problem.Errorf("invalid address %q", a.Text("address")).
				Remedy("use one such as 192.0.2.80")
		}
	}
	return "", nil
}

// Kind is the kind of probes.
func Kind() kind.Kind { return probes{kind.Each(one{})} }

// probes asks neighbours at once, since each may wait.
type probes struct{ kind.Kind }

func (probes) Read(ctx context.Context, env *kind.Env, tasks []plan.Task) []kind.Reading {
	out := make([]kind.Reading, len(tasks))
	// What is kept for a run is read before, since it is not for many at once.
	rights := make([]*machine.Rights, len(tasks))
	for i, t := range tasks {
		if user := t.Attrs.Text("run_as"); user != "" {
			rights[i], out[i].Err = env.Rights(user)
		}
	}
	var wg sync.WaitGroup
	for i, t := range tasks {
		out[i].State = struct{}{}
		if out[i].Err != nil {
			continue
		}
		wg.Go(func() { out[i].Err = asked{env, t, rights[i]}.do(ctx) })
	}
	wg.Wait()
	return out
}

// one is a probe as a kind: what differs is an error of its Read.
type one struct{}

func (one) Schema() *schema.Kind                                             { return about }
func (one) Read(context.Context, *kind.Env, plan.Task) (struct{}, error)     { return struct{}{}, nil }
func (one) Compare(plan.Task, struct{}) []plan.Change                        { return nil }
func (one) Write(context.Context, *kind.Env, kind.Differing[struct{}]) error { return nil }

// asked is one probe that is asked from the host.
type asked struct {
	env *kind.Env
	plan.Task
	as *machine.Rights
}

func (p asked) do(ctx context.Context) error {
	if p.Attrs.Text(probe.AskedFrom) == probe.Controller {
		return p.env.Ask(p.Task)
	}
	m := p.env.Machine
	wait := func(d time.Duration) { m.Wait(ctx, d) }
	return probe.Patiently(p.Attrs, m.Now, wait, func() error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return p.once(ctx)
	})
}

func (p asked) once(ctx context.Context) error {
	switch probe.Way(p.Attrs) {
	case probe.Port:
		return p.port(ctx)
	case probe.URL:
		return p.page(ctx)
	case probe.Run, probe.Script:
		return p.command(ctx)
	case probe.File:
		return p.file()
	case probe.Process:
		return p.process()
	}
	got, err := p.addresses(ctx, p.Attrs.Text(probe.Resolves))
	if err != nil {
		return err
	}
	return probe.CheckAddresses(p.Attrs, got)
}

// oneLimit is how long one try may take.
const oneLimit = 30 * time.Second

// port tries each address that a name has.
func (p asked) port(ctx context.Context) error {
	at := p.Attrs.Text(probe.Port)
	host, port, err := probe.Endpoint(at)
	if err != nil {
		return err
	}
	got, err := p.addresses(ctx, host)
	if err != nil {
		return err
	}
	if len(got) == 0 {
		return problem.Errorf("%s does not resolve: no address found", host).Remedy("check which name server is used")
	}
	n, _ := strconv.ParseUint(port, 10, 16) // an Endpoint
	ctx, cancel := context.WithTimeout(ctx, oneLimit)
	defer cancel()
	for _, a := range got {
		if err = p.env.Machine.Connect(ctx, netip.AddrPortFrom(a, uint16(n))); err == nil {
			return nil
		}
	}
	return problem.Errorf("%s does not respond: %w", at, err)
}

// addresses asks the host's own resolver, with all its sources, by getent(1).
func (p asked) addresses(ctx context.Context, name string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(name); err == nil {
		return []netip.Addr{a}, nil
	}
	out, err := p.env.Machine.Run(ctx, machine.Command{Args: []string{"getent", "ahosts", name}, Limit: oneLimit})
	if err != nil {
		return nil, err
	}
	var list []netip.Addr
	seen := map[netip.Addr]bool{}
	for line := range strings.Lines(out.Stdout) {
		first, _, _ := strings.Cut(line, " ")
		if a, err := netip.ParseAddr(first); err == nil && !seen[a] {
			seen[a] = true
			list = append(list, a)
		}
	}
	return list, nil
}

// page fetches an address as it is, without following where it leads.
func (p asked) page(ctx context.Context) error {
	address := p.Attrs.Text(probe.URL)
	if !p.env.Machine.Look("curl") {
		return problem.Errorf("curl, needed for %s, is not installed on this host", address).
			Remedy("declare [package.curl], or set asked_from = \"controller\"")
	}
	args := []string{"curl", "-sS", "--proto", "=http,https", "--max-time", "30", "-w",
		marker + "%{http_code}\n%{certs}",
		"-K", "-"}
	if p.Attrs.Bool("trust_any_certificate") {
		args = append(args, "-k")
	}
	c := machine.Command{Args: append(args, "--", address), Stdin: fetch.Config(p.Attrs.Table("headers")),
		Limit: oneLimit + 5*time.Second}
	out, err := machine.Do(ctx, p.env.Machine, c, nil)
	if err != nil {
		return problem.Errorf("%s does not respond: %w", address, err)
	}
	i := strings.LastIndex(out.Stdout, marker)
	if i < 0 {
		return problem.Errorf("curl on this host reported nothing for %s", address)
	}
	status, certs, _ := strings.Cut(out.Stdout[i+len(marker):], "\n")
	page := probe.Page{Body: out.Stdout[:min(i, probe.MaxBody)], Expires: expires(certs)}
	page.Status, _ = strconv.Atoi(strings.TrimSpace(status))
	return probe.CheckPage(p.Attrs, page, p.env.Machine.Now())
}

// marker parts a page from what curl says of it.
const marker = "\n--jadekettle--\n"

var expiry = lazy.Regexp(`(?m)^Expire date:\s*(.+?)\s*$`)

// expires reads until when the first certificate is good, as curl reports it.
func expires(certs string) time.Time {
	m := expiry().FindStringSubmatch(certs)
	if m == nil {
		return time.Time{}
	}
	for _, form := range []string{"Jan _2 15:04:05 2006 MST", "2006-01-02 15:04:05 MST"} {
		if t, err := time.Parse(form, m[1]); err == nil {
			return t
		}
	}
	return time.Time{}
}

func (p asked) command(ctx context.Context) error {
	words := p.Attrs.Texts(probe.Run)
	said := shell.Join(words...)
	if len(words) == 0 {
		words, said = []string{"sh", "-c", p.Attrs.Text(probe.Script)}, "the script"
	}
	within, _ := probe.Times(p.Attrs)
	out, err := p.env.Machine.Run(ctx, machine.Command{Args: words, As: p.as, Limit: max(within, oneLimit)})
	if err != nil {
		return err
	}
	if want, _ := p.Attrs.Int("exit_code"); int64(out.Code) != want {
		return &machine.CommandError{Program: said, Code: out.Code, Output: out.Combined,
			Last: machine.LastLine(out.Combined.String())}
	}
	return probe.CheckText(p.Attrs, "the output of "+said, out.Stdout)
}

func (p asked) file() error {
	name := p.Attrs.Text(probe.File)
	d, err := p.env.Machine.Dir(path.Dir(name))
	if err == nil {
		_, err = d.Lstat(path.Base(name))
		d.Close()
	}
	if errors.Is(err, fs.ErrNotExist) {
		return problem.Errorf("%s does not exist", name)
	}
	if err != nil || !p.Attrs.Has("text") {
		return err
	}
	data, err := machine.ReadFile(p.env.Machine, name)
	if err != nil {
		return err
	}
	return probe.CheckText(p.Attrs, name, string(data[:min(len(data), probe.MaxBody)]))
}

// process looks through /proc for a program of this name: as the kernel reports it,
// which cuts it after 15 bytes, or as it was called.
func (p asked) process() error {
	name := p.Attrs.Text(probe.Process)
	ids, err := p.env.Machine.ReadDir("/proc")
	if err != nil {
		return err
	}
	for _, id := range ids {
		if id[0] < '0' || id[0] > '9' {
			continue
		}
		comm, err := machine.ReadFile(p.env.Machine, "/proc/"+id+"/comm")
		if err != nil {
			continue // it has ended
		}
		if c := strings.TrimSuffix(string(comm), "\n"); c == name || len(c) == 15 && strings.HasPrefix(name, c) {
			return nil
		}
		line, _ := machine.ReadFile(p.env.Machine, "/proc/"+id+"/cmdline")
		if first, _, _ := strings.Cut(string(line), "\x00"); path.Base(first) == name {
			return nil
		}
	}
	return problem.Errorf("no process %s is running", name)
}
