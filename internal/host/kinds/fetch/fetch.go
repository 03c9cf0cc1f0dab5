// Package fetch brings files from HTTP servers to a host, for the kinds that put
// them somewhere. It is on what the host has: curl, wget or apt's helper.
package fetch

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// Attrs are the attributes of whatever may be fetched.
var Attrs = []schema.Attr{
	{Name: "sha256", Type: schema.Text, Doc: "The SHA-256 of the download, in 64 hexadecimal digits.",
		Examples: []string{`"` + strings.Repeat("0123456789abcdef", 4) + `"`}},
	{Name: "insecure_without_checksum", Type: schema.Bool, Default: "false",
		Doc: "Skip checksum verification.", Examples: []string{"true"}},
	{Name: "headers", Type: schema.Values, Doc: "Request headers; may contain secrets. Requires curl on the host.",
		Examples: []string{`{ Authorization = "Bearer ${data.charts.token}" }`}},
	{Name: "proxy", Type: schema.Text, Default: "http_proxy, https_proxy and no_proxy in /etc/environment",
		Doc: "The proxy to use.", Examples: []string{`"http://192.0.2.9:3128"`}},
	{Name: "fetch_limit", Type: schema.Duration, Default: `"1h"`, Doc: "The time limit for the download.",
		Examples: []string{`"10m"`}},
}

var sumForm = lazy.Regexp(`^[0-9a-f]{64}$`)

// Check looks at the attributes together, of what is fetched when remote.
func Check(a value.Attrs, remote bool) (string, error) {
	for _, at := range Attrs {
		if a.Has(at.Name) && (a.Bool("absent") || !remote) {
			return at.Name, problem.Errorf("%s is set, but nothing is downloaded", at.Name).Remedy("remove it")
		}
	}
	sum := a.Text("sha256")
	switch {
	case a.Bool("absent") || !remote:
		return "", nil
	case sum != "" && !sumForm().MatchString(sum):
		return "sha256", problem.Errorf("invalid SHA-256 %q", sum).
			Remedy("use the 64 lower-case hexadecimal digits that `sha256sum FILE` prints")
	case sum != "" && a.Bool("insecure_without_checksum"):
		return "insecure_without_checksum", problem.Errorf("sha256 and insecure_without_checksum cannot be combined").
			Remedy("keep one of them")
	case sum == "" && !a.Bool("insecure_without_checksum"):
		return "", problem.Errorf("the expected checksum is missing").
			Remedy("set sha256, or insecure_without_checksum = true if this is intended")
	}
	for name := range a.Table("headers") {
		if name == "" || strings.ContainsAny(name, ": \r\n\"\\") {
			return "headers", problem.Errorf("invalid header name %q", name).Remedy("use letters, digits and dashes")
		}
	}
	return "", nil
}

// folder is where files arrive, in our own folder.
const folder = "downloads"

// File fetches what a task declares from an address, and gives the path at which
// it is in our own folder until Drop. What came of it before is gone on with.
func File(ctx context.Context, env *kind.Env, t plan.Task, address string) (string, error) {
	w := wanted{env: env, task: t, address: address, sum: t.Attrs.Text("sha256")}
	key := w.sum
	if key == "" {
		digest := sha256.Sum256([]byte(address))
		key = "any-" + hex.EncodeToString(digest[:16])
	}
	d, err := open(env)
	if err != nil {
		return "", err
	}
	defer d.Close()
	w.dir, w.name = d, key
	w.path = env.Store.Path(path.Join(folder, key))
	return w.path, w.get(ctx)
}

// Kept puts what the controller holds into our own folder, as File does.
func Kept(env *kind.Env, c plan.Content) (string, error) {
	d, err := open(env)
	if err != nil {
		return "", err
	}
	defer d.Close()
	d.Remove(c.SHA256)
	f, err := d.Create(c.SHA256, 0o600, -1, -1)
	if err != nil {
		return "", err
	}
	err = env.CopyContent(f, c)
	if err := errors.Join(err, f.Close()); err != nil {
		d.Remove(c.SHA256)
		return "", err
	}
	return env.Store.Path(path.Join(folder, c.SHA256)), nil
}

// WithSuffix gives what File or Kept gave a name that ends so, for programs that
// go by names.
func WithSuffix(env *kind.Env, p, suffix string) (string, error) {
	d, name, err := env.Split(p)
	if err != nil {
		return "", err
	}
	defer d.Close()
	return p + suffix, d.Rename(name, name+suffix)
}

// Drop removes what File or Kept gave.
func Drop(env *kind.Env, p string) {
	if d, name, err := env.Split(p); err == nil {
		d.Remove(name)
		d.Close()
	}
}

func open(env *kind.Env) (machine.Dir, error) {
	d, name, err := env.Split(env.Store.Path(folder))
	if err != nil {
		return nil, err
	}
	if _, err := d.Lstat(name); errors.Is(err, fs.ErrNotExist) {
		err = d.Mkdir(name, 0o700, -1, -1)
		if err != nil {
			d.Close()
			return nil, err
		}
	}
	d.Close()
	if d, err = env.Machine.Dir(env.Store.Path(folder)); err != nil {
		return nil, err
	}
	names, _ := env.Machine.ReadDir(env.Store.Path(folder))
	for _, name := range names {
		if info, err := d.Lstat(name); err == nil && env.Machine.Now().Sub(info.Time) > keepParts {
			d.Remove(name)
		}
	}
	return d, nil
}

// keepParts is how long what came of a file is kept to go on with.
const keepParts = 7 * 24 * time.Hour

// wanted is one file on its way.
type wanted struct {
	env     *kind.Env
	task    plan.Task
	address string
	sum     string // may be empty
	dir     machine.Dir
	name    string
	path    string
}

// get fetches the file, goes on with what is there of it, and once begins again
// when the server knows nothing of parts.
func (w wanted) get(ctx context.Context) error {
	if sum, err := Sum(w.dir, w.name); err == nil && sum == w.sum {
		return nil
	}
	if w.sum == "" {
		w.dir.Remove(w.name) // a part of what, nobody can say
	}
	_, err := w.dir.Lstat(w.name)
	resumed := err == nil
	err = w.run(ctx)
	sum, sumErr := Sum(w.dir, w.name)
	if resumed && (err != nil && ctx.Err() == nil && !cut(err) || err == nil && sum != w.sum) {
		w.dir.Remove(w.name)
		err = w.run(ctx)
		sum, sumErr = Sum(w.dir, w.name)
	}
	switch {
	case err != nil:
		return problem.Errorf("cannot download %s: %w", w.address, err).
			Remedy("check that the host can reach it; the next run resumes the download")
	case sumErr != nil:
		return sumErr
	case w.sum != "" && sum != w.sum:
		w.dir.Remove(w.name)
		return problem.Errorf("the download from %s has the SHA-256 %s, which does not match the declared one",
			w.address, sum).
			Remedy("find out why before you trust it; if it is a new version, declare its sha256")
	}
	return nil
}

// Sum gives the SHA-256 of a file.
func Sum(d machine.Dir, name string) (string, error) {
	f, err := d.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	c, err := kind.Sum(f)
	return c.SHA256, err
}

// cut says whether the way was cut in the middle, so that what has come is good.
// The codes are those of curl(1): partial file, time-out, and receiving failed.
func cut(err error) bool {
	var failed *machine.CommandError
	return errors.As(err, &failed) && failed.Program == "curl" &&
		(failed.Code == 18 || failed.Code == 28 || failed.Code == 56)
}

const usualLimit = time.Hour

// aptHelper is what every host with apt can fetch with.
const aptHelper = "/usr/lib/apt/apt-helper"

// Tool is the program that fetches, for these changes of a kind.
func Tool(remote func(value.Attrs) bool, when ...string) schema.Tool {
	return schema.Tool{When: when, Any: []string{"curl", "wget", aptHelper}, Package: "curl", If: remote}
}

// run calls the program that the host has.
func (w wanted) run(ctx context.Context) error {
	c := machine.Command{Limit: usualLimit, Env: w.proxies()}
	if limit := w.task.Attrs.Text("fetch_limit"); limit != "" {
		c.Limit, _ = measure.ParseDuration(limit) // checked with the manifest
	}
	headers := w.task.Attrs.Table("headers")
	m := w.env.Machine
	switch {
	case m.Look("curl"):
		address, how := w.address, "-fsSL"
		if len(headers) > 0 { // which curl would send to wherever it is led
			var err error
			if address, headers, err = w.led(ctx, c, headers); err != nil {
				return err
			}
			how = "-fsS"
		}
		c.Args = []string{"curl", how, "--proto", "=http,https", "--connect-timeout", "30", "--retry", "3",
			"-C", "-", "-o", w.path, "-K", "-", "--", address}
		c.Stdin = Config(headers)
	case len(headers) > 0:
		return problem.Errorf("headers require curl, which hides them from other users of the host").
			Remedy("declare [package.curl]")
	case m.Look("wget"):
		c.Args = []string{"wget", "-c", "-T", "30", "-O", w.path, w.address}
	case m.Look(aptHelper):
		c.Args = []string{aptHelper, "-o", "APT::Sandbox::User=root", "download-file", w.address, w.path}
	default:
		return problem.Errorf("neither curl nor wget is installed on this host").Remedy("declare [package.curl]")
	}
	_, err := machine.Do(ctx, m, c, nil)
	return err
}

// mostHops is how often a request may be led elsewhere; as many as curl follows by itself
// would be too many to ask for one by one.
const mostHops = 10

// led follows where an address leads, and gives the headers that may be sent there: none once it is
// another host, port or scheme. From https it is not led to http.
func (w wanted) led(ctx context.Context, c machine.Command, headers map[string]any) (string, map[string]any, error) {
	at := w.address
	for range mostHops {
		c.Args = []string{"curl", "-sS", "--max-redirs", "0", "--proto", "=http,https", "--connect-timeout", "30",
			"--retry", "3",
			"-r", "0-0", "-o", "/dev/null", "-w", "%{http_code} %{redirect_url}", "-K", "-", "--", at}
		c.Stdin = Config(headers)
		out, err := machine.Do(ctx, w.env.Machine, c, nil)
		if err != nil {
			return "", nil, err
		}
		code, next, _ := strings.Cut(strings.TrimSpace(out.Stdout), " ")
		if !strings.HasPrefix(code, "3") || next == "" {
			return at, headers, nil
		}
		from, err1 := url.Parse(at)
		to, err2 := url.Parse(next)
		switch {
		case err1 != nil || err2 != nil || strings.HasPrefix(next, "-"):
			return "", nil, problem.Errorf("%s redirects to an invalid address", at)
		case from.Scheme == "https" && to.Scheme != "https":
			return "", nil, problem.Errorf("%s redirects to %s, which is not encrypted", at, next).
				Remedy("declare the final address")
		case from.Scheme != to.Scheme || from.Host != to.Host:
			headers = nil
		}
		at = next
	}
	return "", nil, problem.Errorf("%s has too many redirects", w.address).Remedy("declare the final address")
}

// Config writes headers as curl reads them from its standard input, out of
// sight of others (curl(1), -K).
func Config(headers map[string]any) string {
	var b strings.Builder
	for _, name := range value.Keys(headers) {
		text, _ := value.Text(headers[name])
		if s, secret := headers[name].(value.Secret); secret {
			text = s.Reveal()
		}
		text = strings.NewReplacer("\\", "\\\\", "\"", "\\\"", "\r", "", "\n", "").Replace(text)
		fmt.Fprintf(&b, "header = \"%s: %s\"\n", name, text)
	}
	return b.String()
}

// proxies are the variables of the environment by which programs know their
// proxy: what is declared, or what /etc/environment says.
func (w wanted) proxies() []string {
	if p := w.task.Attrs.Text("proxy"); p != "" {
		return []string{"http_proxy=" + p, "https_proxy=" + p}
	}
	text, err := machine.ReadFile(w.env.Machine, "/etc/environment")
	if err != nil {
		return nil
	}
	var out []string
	for line := range strings.Lines(string(text)) {
		line = strings.TrimPrefix(strings.TrimSpace(line), "export ")
		name, v, _ := strings.Cut(line, "=")
		switch strings.ToLower(name) {
		case "http_proxy", "https_proxy", "no_proxy", "all_proxy":
			out = append(out, name+"="+strings.Trim(v, `"'`))
		}
	}
	return out
}
