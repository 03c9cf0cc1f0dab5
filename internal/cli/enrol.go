package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"jadekettle/internal/app/sources"
	unit "jadekettle/internal/app/units"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/host/kinds"
	screen "jadekettle/internal/present/text"
)

// Where what a host needs to keep itself lies on it.
const (
	hereProgram  = "/usr/local/lib/jadekettle/jadekettle"
	hereFolder   = "/var/lib/jadekettle/here"
	hereIdentity = hereFolder + "/identity.txt"
	hereService  = "jadekettle-here"
)

func (a *App) enrolCommand() *cobra.Command {
	k := &keeping{here: true}
	c := &cobra.Command{
		Use: "enrol HOST... --from URL[@REV]", Short: "Let hosts keep themselves, from a git repository and without a controller",
		Long: "Enrol puts this program on hosts, a service that runs `jadekettle tend --here` there, and an identity that opens\n" +
			"what is sealed for that host alone. It tells the identity's recipient, which goes to the host in the inventory as\n" +
			"seal_for; `jadekettle secret reseal` then seals the host's own layer for it. Once more, it brings all that up to date.",
		RunE: func(c *cobra.Command, targets []string) error {
			if a.from == "" {
				return problem.Errorf("enrol wants to know from where").Remedy("say --from URL[@REV], a git repository that the hosts reach")
			}
			if url, _ := sources.SplitURL(a.from); !strings.Contains(url, ":") {
				return problem.Errorf("--from is %s, a folder of this machine", url).Remedy("name the repository as the hosts reach it")
			}
			if k.every < time.Minute {
				return problem.Errorf("--every is %v", k.every).Remedy("give a minute or more")
			}
			return a.eachEnrolled(c.Context(), targets, func(e *enrolment) error { return e.enrol(c.Context(), k) })
		},
	}
	c.Flags().DurationVar(&k.every, "every", 30*time.Minute, "how often a host checks itself, a `TIME`")
	c.Flags().BoolVar(&k.onlyTell, "only-tell", false, "hosts tell what differs, and mend nothing")
	a.fromFlag(c)
	a.passwordFlags(c)
	c.ValidArgsFunction = a.completeHosts
	return c
}

func (a *App) releaseCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "release HOST...", Short: "Take off hosts what enrol has put there",
		Long: "Release ends the service by which hosts keep themselves, and takes it, the program, the identity and what a host has\n" +
			"kept of its own check-ins away. What the project manages there stays as it is.",
		RunE: func(c *cobra.Command, targets []string) error {
			return a.eachEnrolled(c.Context(), targets, func(e *enrolment) error { return e.release(c.Context()) })
		},
	}
	a.fromFlag(c)
	a.passwordFlags(c)
	c.ValidArgsFunction = a.completeHosts
	return c
}

// enrolment is what is done on one host.
type enrolment struct {
	app     *App
	project *project
	dialer  *reach.Dialer
	host    *inventory.Host
}

// eachEnrolled does something with each host that is named. One that fails holds up no other.
func (a *App) eachEnrolled(ctx context.Context, targets []string, do func(*enrolment) error) error {
	if len(targets) == 0 {
		return problem.Errorf("no host is named").Remedy("name hosts, patterns or @groups")
	}
	p, err := a.load(targets, nil)
	if err != nil {
		return err
	}
	d, err := a.dialer(p)
	if err != nil {
		return err
	}
	defer d.Close()
	return a.eachHost(ctx, p.hosts, func(h *inventory.Host) error { return do(&enrolment{a, p, d, h}) })
}

// eachHost does something with hosts, one after another. One that fails holds up no other: it is
// told, and at the end which failed and which were not begun.
func (a *App) eachHost(ctx context.Context, hosts []*inventory.Host, do func(*inventory.Host) error) error {
	var failed, waiting []string
	for _, h := range hosts {
		switch {
		case h.Off != "":
			fmt.Fprintf(a.Out, "%s  off: %s\n", h.Name, screen.Line(h.Off))
			continue
		case ctx.Err() != nil:
			waiting = append(waiting, h.Name)
			continue
		}
		if err := do(h); err != nil {
			failed = append(failed, h.Name)
			p := problem.From(err)
			fmt.Fprintf(a.Err, "%s  %s: %s\n", h.Name, screen.Paint(screen.Bad, "failed"), screen.Line(p.What))
			if what := p.Do; what != "" {
				fmt.Fprint(a.Err, screen.Wrap(screen.Line(what), "  ", a.Width))
			}
		}
	}
	if len(failed) > 0 {
		a.code = exitFailed
	}
	if len(failed) > 0 && len(hosts) > 1 {
		fmt.Fprintf(a.Err, "failed: %s\n", screen.Line(strings.Join(inventory.Fold(failed), " ")))
	}
	if len(waiting) > 0 {
		a.code = exitStopped
		fmt.Fprintf(a.Err, "not begun: %s\n", screen.Line(strings.Join(inventory.Fold(waiting), " ")))
	}
	return nil
}

func (e *enrolment) open(ctx context.Context, _ *inventory.Host, first []byte) (*reach.Session, error) {
	return e.app.connect(ctx, e.project, e.dialer, e.host, first)
}

// says runs a command on the host and gives what it printed.
func (e *enrolment) says(ctx context.Context, command ...string) (code int, out string, err error) {
	fleet := &run.Fleet{Plans: &resolve.Plans{Project: e.project.Project}, Parallel: 1, Open: e.open}
	v := fleet.Exec(ctx, []*inventory.Host{e.host}, command, time.Minute)[0]
	switch {
	case v.State != record.Reached || v.Executed == nil:
		return 0, "", problem.Errorf("it is not reached: %s", v.Message).Remedy("%s", v.Do)
	case v.Executed.Wrong != "":
		return 0, "", problem.Errorf("%s: %s", command[0], v.Executed.Wrong)
	}
	return v.Executed.Code, strings.TrimSpace(v.Executed.Output), nil
}

// recipientLine is how an identity's file tells whom it opens for.
const recipientLine = "# public key: "

func (e *enrolment) enrol(ctx context.Context, k *keeping) error {
	fleet := &run.Fleet{Plans: &resolve.Plans{Project: e.project.Project}, Parallel: 1, Open: e.open}
	v := fleet.Facts(ctx, []*inventory.Host{e.host})[0]
	if v.State != record.Reached {
		return problem.Errorf("it is not reached: %s", v.Message).Remedy("%s", v.Do)
	}
	if arch := v.Facts.Arch; arch != runtime.GOARCH {
		return problem.Errorf("it is %s, and this program is for %s", arch, runtime.GOARCH).Remedy("enrol it with a program that is built for it")
	}
	_, recipient, err := e.says(ctx, "sh", "-c", "sed -n 's/^"+recipientLine+"//p' "+hereIdentity+" 2>/dev/null; true")
	if err != nil {
		return err
	}
	identity := ""
	if recipient == "" {
		made, err := age.GenerateX25519Identity()
		if err != nil {
			return err
		}
		recipient = made.Recipient().String()
		identity = recipientLine + recipient + "\n" + made.String() + "\n"
	}
	manifest, err := e.manifest(k, identity)
	if err != nil {
		return err
	}
	if err := e.apply(ctx, manifest, identity); err != nil {
		return err
	}
	url, _ := sources.SplitURL(e.app.from)
	if code, out, err := e.says(ctx, "git", "ls-remote", "--exit-code", "--", url, "HEAD"); err != nil || code != 0 {
		fmt.Fprintf(e.app.Err, "%s  does not reach %s yet: %s\n", e.host.Name, screen.Line(url), screen.Line(out+fmt.Sprint(err)))
	}
	fmt.Fprintf(e.app.Out, "%s  keeps itself, every %v from %s\n", e.host.Name, k.every, screen.Line(e.app.from))
	if have, _ := e.host.Vars[sealFor].(string); have != recipient {
		fmt.Fprintf(e.app.Out, "  what is sealed for it alone: write %s = %q below [host.%s], and run `jadekettle secret reseal`\n", sealFor, recipient, e.host.Name)
	}
	return nil
}

// manifest declares what a host needs to keep itself.
func (e *enrolment) manifest(k *keeping, identity string) (string, error) {
	// what the project may do on a host that it keeps is no question: it declares all of it
	words := []string{hereProgram, "tend", "--here", "--as", e.host.Name, "--from", e.app.from, "--trust",
		"--every", k.every.String(),
		"--identity", hereIdentity}
	if env := e.project.Settings.Env; env != "" {
		words = append(words, "--env", env)
	}
	if k.onlyTell {
		words = append(words, "--only-tell")
	}
	if e.app.taken != nil {
		if inside, err := filepath.Rel(e.app.taken.Dir, e.project.dir); err == nil && inside != "." {
			words = append(words, "--project", inside)
		}
	}
	command, err := unit.Line(words...)
	if err != nil {
		return "", err
	}
	service := strings.Join([]string{"[Unit]", "Description=jadekettle keeps this host as it is declared", "Wants=network-online.target",
		"After=network-online.target", "", "[Service]", "Type=notify", "Environment=HOME=/root", "Environment=XDG_STATE_HOME=" + hereFolder + "/state",
		"Environment=XDG_CACHE_HOME=" + hereFolder + "/cache", "ExecStart=" + command, "KillMode=mixed", "KillSignal=SIGINT",
		"TimeoutStopSec=10min", "WatchdogSec=3min", "Restart=always", "RestartSec=30", "", "[Install]", "WantedBy=multi-user.target", ""}, "\n")
	text := fmt.Sprintf("[package.git]\n[dir.%q]\nmode = \"0755\"\nowner = \"root\"\n[file.%q]\ncopy = \"program\"\nmode = \"0755\"\nowner = \"root\"\n"+
		"[dir.%q]\nmode = \"0700\"\nowner = \"root\"\n", filepath.Dir(hereProgram), hereProgram, hereFolder)
	if identity != "" {
		text += fmt.Sprintf("[file.%q]\ncopy = \"identity\"\nmode = \"0600\"\nowner = \"root\"\n", hereIdentity)
	}
	unitFile := "/etc/systemd/system/" + hereService + ".service"
	text += fmt.Sprintf("[file.%q]\ncopy = \"service\"\nmode = \"0644\"\nowner = \"root\"\n", unitFile)
	text += fmt.Sprintf("[service.%s]\nrunning = true\nboot = true\nafter = [\"package git\"]\nrestart_on = [\"file %s\", \"file %s\"]\n", hereService, unitFile, hereProgram)
	return text + "#\n" + service, nil
}

// apply applies a small project of its own to the host: a manifest and, behind a line with a
// sharp, the text of the service.
func (e *enrolment) apply(ctx context.Context, manifest, identity string) error {
	a := e.app
	work, err := os.MkdirTemp("", "jadekettle-enrol-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	text, service, _ := strings.Cut(manifest, "#\n")
	files := map[string]string{"jadekettle.toml": "project = \"" + hereProject + "\"\n", "manifests/here/manifest.toml": text, "manifests/here/service": service,
		"hosts.toml": fmt.Sprintf("[host.%q]\n[group.enrolled]\nmembers = [%q]\nmanifests = [\"here\"]\n", e.host.Name, e.host.Name)}
	if identity != "" {
		files["manifests/here/identity"] = identity
	}
	if err := writeFiles(work, files); err != nil {
		return err
	}
	if err := copySelf(filepath.Join(work, "manifests/here/program")); err != nil {
		return err
	}
	own, err := compile.Load(os.DirFS(work), kinds.Schemas(), compile.Options{})
	if err != nil {
		return err
	}
	hosts, err := own.Inventory.Select([]string{e.host.Name}, nil)
	if err != nil {
		return err
	}
	id, _, err := a.newRun(ctx, e.project, false)
	if err != nil {
		return err
	}
	id.Project, id.Env, id.Whole = hereProject, "", true
	v := &screen.Run{W: a.Out, Detail: screen.Summary, Width: a.Width, Sources: &screen.Sources{Dir: work}, Names: len(e.host.Name)}
	fleet := &run.Fleet{Plans: &resolve.Plans{Project: own}, Parallel: 1, Notify: v.Event, Open: e.open}
	out := fleet.Run(ctx, hosts, id)
	switch got := out[0]; {
	case got.State != record.Reached:
		return problem.Errorf("it is %s: %s", got.State, got.Message).Remedy("%s", got.Do)
	case got.Outcome == record.OutFailed:
		v.End(out)
		return problem.Errorf("not all could be done").Remedy("put it right, and call this again")
	}
	return nil
}

// writeFiles writes texts below a folder, for its owner alone.
func writeFiles(dir string, files map[string]string) error {
	for name, text := range files {
		full := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(full, []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// forget has the host's ledger let go of what enrol has declared there.
func (e *enrolment) forget(ctx context.Context) error {
	work, err := os.MkdirTemp("", "jadekettle-release-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	if err := writeFiles(work, map[string]string{"jadekettle.toml": "project = \"" + hereProject + "\"\n",
		"hosts.toml": fmt.Sprintf("[host.%q]\n", e.host.Name)}); err != nil {
		return err
	}
	own, err := compile.Load(os.DirFS(work), kinds.Schemas(), compile.Options{})
	if err != nil {
		return err
	}
	id, _, err := e.app.newRun(ctx, e.project, false)
	if err != nil {
		return err
	}
	id.Project, id.Env, id.Whole, id.Forget = hereProject, "", true, true
	fleet := &run.Fleet{Plans: &resolve.Plans{Project: own}, Parallel: 1, Open: e.open, Retire: true}
	if got := fleet.Run(ctx, own.Inventory.Hosts, id)[0]; got.State != record.Reached || got.Outcome == record.OutFailed {
		return problem.Errorf("its ledger still names what enrol has put there: %s", got.Message).Remedy("call this again")
	}
	return nil
}

// hereProject is the identity of the small project by which enrol works.
const hereProject = "jadekettle-here"

// copySelf puts this program into a file.
func copySelf(to string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	from, err := os.Open(self)
	if err != nil {
		return err
	}
	defer from.Close()
	f, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err := io.Copy(f, from); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// release takes away what enrol has put on the host.
func (e *enrolment) release(ctx context.Context) error {
	unitFile := "/etc/systemd/system/" + hereService + ".service"
	code, out, err := e.says(ctx, "sh", "-c", fmt.Sprintf("test -e %s || exit 3; systemctl disable --now %s 2>&1 && rm -rf %s %s %s && systemctl daemon-reload",
		unitFile, hereService, unitFile, filepath.Dir(hereProgram), hereFolder))
	switch {
	case err != nil:
		return err
	case code == 3:
		fmt.Fprintf(e.app.Out, "%s  does not keep itself\n", e.host.Name)
		return nil
	case code != 0:
		return problem.Errorf("it could not be taken away: %s", screen.Line(out)).Remedy("see on the host what holds it, and call this again")
	}
	if err := e.forget(ctx); err != nil {
		return err
	}
	fmt.Fprintf(e.app.Out, "%s  keeps itself no more\n", e.host.Name)
	return nil
}
