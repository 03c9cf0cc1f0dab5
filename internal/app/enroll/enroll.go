// Package enroll makes hosts apply a project themselves: it installs this program, a service that applies the project
// from a git repository, and an identity that decrypts what is encrypted for that host; and it removes them again.
//
// The identity stays on the host; its public half is printed, to be written into the inventory as encrypt_for.
// Finally the host is asked whether it can reach the repository.
package enroll

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

	"jadekettle/internal/app"
	"jadekettle/internal/app/scratch"
	"jadekettle/internal/app/secrets"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/app/units"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/fleet/reach"
)

// Where a host has what it needs to keep itself.
const (
	program  = "/usr/local/lib/jadekettle/jadekettle"
	folder   = "/var/lib/jadekettle/here"
	identity = folder + "/identity.txt"
	service  = "jadekettle-here"
	unit     = "/etc/systemd/system/" + service + ".service"
	project  = "jadekettle-here" // the identity of the project by which this works
)

// Enrollment is one call that enrolls hosts, or releases them.
type Enrollment struct {
	Project    *app.Project
	Dialer     *reach.Dialer
	Every      time.Duration // how often a host checks itself
	ReportOnly bool          // it fixes nothing
	Sink       func(dir, host string) record.Sink
}

// Enrolled is what came of a host.
type Enrolled struct {
	Recipient string // the recipient of the host's own layer; empty where the inventory has it already
	Silent    string // why it does not reach the repository yet; empty where it does
}

// Host enrolls one host.
func (e *Enrollment) Host(ctx context.Context, h *inventory.Host) (*Enrolled, error) {
	v := e.Project.Fleet(e.Dialer, 1).Facts(ctx, []*inventory.Host{h})[0]
	if v.State != record.Reached {
		return nil, problem.Errorf("not reached: %s", v.Message).Remedy("%s", v.Do)
	}
	if arch := v.Facts.Arch; arch != runtime.GOARCH {
		return nil, problem.Errorf("it is %s, but this program is for %s", arch, runtime.GOARCH).
			Remedy("enroll it with a program built for it")
	}
	_, recipient, err := e.says(ctx, h, "sh", "-c",
		"sed -n 's/^"+secrets.PublicLine+"//p' "+identity+" 2>/dev/null; true")
	if err != nil {
		return nil, err
	}
	made := ""
	if recipient == "" {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		recipient = id.Recipient().String()
		made = secrets.PublicLine + recipient + "\n" + id.String() + "\n"
	}
	if err := e.apply(ctx, h, made); err != nil {
		return nil, err
	}
	out := &Enrolled{Recipient: recipient}
	if have, _ := h.Vars[secrets.EncryptFor].(string); have == recipient {
		out.Recipient = ""
	}
	url, _ := sources.SplitURL(e.Project.From)
	if code, said, err := e.says(ctx, h, "git", "ls-remote", "--exit-code", "--", url,
		"HEAD"); err != nil || code != 0 {
		out.Silent = fmt.Sprintf("cannot reach %s yet: %s", visible.Line(url), visible.Line(said+fmt.Sprint(err)))
	}
	return out, nil
}

// says runs a command on the host and gives what it printed.
func (e *Enrollment) says(ctx context.Context, h *inventory.Host, command ...string) (code int, out string, err error) {
	v := e.Project.Fleet(e.Dialer, 1).Exec(ctx, []*inventory.Host{h}, command, time.Minute)[0]
	switch {
	case v.State != record.Reached || v.Executed == nil:
		return 0, "", problem.Errorf("not reached: %s", v.Message).Remedy("%s", v.Do)
	case v.Executed.Wrong != "":
		return 0, "", problem.Errorf("%s: %s", command[0], v.Executed.Wrong)
	}
	return v.Executed.Code, strings.TrimSpace(v.Executed.Output), nil
}

// unitText writes the service by which a host keeps itself.
func (e *Enrollment) unitText(host string) (string, error) {
	// what the project may do on a host that it keeps is not a question: it declares all of it
	words := append([]string{program, "tend", "--here", "--as", host}, e.Project.CallAgain()...)
	words = append(words, "--trust", "--every", e.Every.String(), "--identity", identity)
	if env := e.Project.Settings.Env; env != "" {
		words = append(words, "--env", env)
	}
	if e.ReportOnly {
		words = append(words, "--report-only")
	}
	return units.Here(units.Service{About: "Jade Kettle applies the project to this host", Command: words,
		Environment: []string{"HOME=/root", "XDG_STATE_HOME=" + folder + "/state",
			"XDG_CACHE_HOME=" + folder + "/cache"}})
}

// manifest declares what a host needs to keep itself.
func manifest(withIdentity bool) string {
	own := func(kind, path, from, mode string) string {
		text := fmt.Sprintf("[%s.%q]\n", kind, path)
		if from != "" {
			text += fmt.Sprintf("copy = %q\n", from)
		}
		return text + fmt.Sprintf("mode = %q\nowner = \"root\"\n", mode)
	}
	text := "[package.git]\n" + own("dir", filepath.Dir(program), "", "0755") +
		own("file", program, "program", "0755") +
		own("dir", folder, "", "0700")
	if withIdentity {
		text += own("file", identity, "identity", "0600")
	}
	return text + own("file", unit, "service", "0644") + fmt.Sprintf("[service.%s]\nrunning = true\nat_boot = true\n"+
		"after = [\"package git\"]\nrestart_on = [\"file %s\", \"file %s\"]\n", service, unit, program)
}

// apply puts on the host what it needs. made is an identity that was made for it; empty where it has one.
func (e *Enrollment) apply(ctx context.Context, h *inventory.Host, made string) error {
	files := scratch.OneHost(project, h.Name, "", "here")
	files["manifests/here/manifest.toml"] = manifest(made != "")
	if made != "" {
		files["manifests/here/identity"] = made
	}
	var err error
	if files["manifests/here/service"], err = e.unitText(h.Name); err != nil {
		return err
	}
	work, err := scratch.New("enroll", files)
	if err != nil {
		return err
	}
	defer work.Close()
	if err := copySelf(filepath.Join(work.Dir, "manifests/here/program")); err != nil {
		return err
	}
	sink := e.Sink(work.Dir, h.Name)
	got, err := e.run(ctx, work, h, false, sink.Event)
	switch {
	case err != nil && got != nil && got.Wrong == nil:
		return problem.Errorf("it is %s: %s", got.State, got.Message).Remedy("%s", got.Do)
	case err != nil:
		return err
	case got.Outcome == record.OutFailed:
		sink.End(&record.Run{Hosts: []*record.Host{got}})
		return problem.Errorf("some tasks failed").Remedy("fix this, and run the command again")
	}
	return nil
}

// run runs a project of ours on the host.
func (e *Enrollment) run(ctx context.Context, work *scratch.Folder, h *inventory.Host, forget bool,
	event func(record.Event)) (*record.Host, error) {
	id, _, err := e.Project.NewRun(ctx)
	if err != nil {
		return nil, err
	}
	id.Project, id.Env, id.Whole, id.Forget = project, "", true, forget
	return work.Run(ctx, scratch.Call{ID: id, Event: event, Retire: forget,
		Open: func(ctx context.Context, first []byte) (*reach.Session, error) {
			return e.Project.Connect(ctx, e.Dialer, h, first)
		}})
}

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

// Release takes away what was put on a host. It is false where nothing was.
func (e *Enrollment) Release(ctx context.Context, h *inventory.Host) (bool, error) {
	code, out, err := e.says(ctx, h, "sh", "-c",
		fmt.Sprintf("test -e %s || exit 3; systemctl disable --now %s 2>&1 && "+
			"rm -rf %s %s %s && systemctl daemon-reload", unit, service, unit, filepath.Dir(program), folder))
	switch {
	case err != nil:
		return false, err
	case code == 3:
		return false, nil
	case code != 0:
		return false, problem.Errorf("it could not be removed: %s", visible.Line(out)).
			Remedy("check on the host what prevents it, and run the command again")
	}
	work, err := scratch.New("release", map[string]string{"jadekettle.toml": fmt.Sprintf("project = %q\n", project),
		"hosts.toml": fmt.Sprintf("[host.%q]\n", h.Name)})
	if err != nil {
		return false, err
	}
	defer work.Close()
	got, err := e.run(ctx, work, h, true, nil)
	if err != nil && got == nil {
		return false, err
	}
	if err != nil || got.Outcome == record.OutFailed {
		return false, problem.Errorf("its ledger still lists what enroll installed: %s", got.Message).
			Remedy("run the command again")
	}
	return true, nil
}
