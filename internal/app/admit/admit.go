// Package admit sets up new hosts that only have a password login: it creates the account, key and sudo rule that the
// inventory expects, and opens a new connection to prove that they work.
//
// What to create is a short manifest in a project made for this call (package scratch), so it is applied and read back
// like anything else. A host on which the inventory's own login already works is left alone.
package admit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"

	"jadekettle/internal/app"
	"jadekettle/internal/app/scratch"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/fleet/reach"
)

// Admission is one call that admits hosts.
type Admission struct {
	Project   *app.Project
	As        string // the account to log in as with a password
	Worker    bool   // sudo allows our worker and nothing else
	Passwords app.Passwords
	// Trusted has the key of a host trusted, and says whether it is.
	Trusted func(ctx context.Context, d *reach.Dialer, t reach.Target) (bool, error)
	// Sink takes what is done on a host; its End what failed.
	Sink func(dir, host string) record.Sink
}

// Host admits one host. It is false where the host's key was not accepted. already says that it was admitted before.
func (a *Admission) Host(ctx context.Context, h *inventory.Host) (ok, already bool, err error) {
	target := a.Project.Target(h)
	if a.proven(ctx, h) == nil {
		return true, true, nil
	}
	key, err := publicKey(target.Key, a.Project.Getenv("HOME"))
	if err != nil {
		return false, false, err
	}
	plain := a.Project.PlainDialer()
	defer plain.Close()
	if ok, err := a.Trusted(ctx, plain, target); !ok || err != nil {
		return false, false, err
	}
	with, err := a.dialer()
	if err != nil {
		return false, false, err
	}
	if err := a.prepare(ctx, h, with, key); err != nil {
		return false, false, err
	}
	if err := a.proven(ctx, h); err != nil {
		p := problem.From(err)
		return false, false, problem.Errorf("the account was created, but a new connection fails: %s",
			p.What).
			Remedy("%s", p.Do)
	}
	return true, false, nil
}

// How says how a host is come to.
func How(t reach.Target) string {
	text := login(t) + " can log in with a key"
	if t.Elevate != "" {
		text += " and become root with " + t.Elevate
	}
	return text
}

// login is the account that logs in.
func login(t reach.Target) string {
	if t.User == "" {
		return app.Me()
	}
	return t.User
}

// dialer logs in with the password, which sudo is given too.
func (a *Admission) dialer() (*reach.Dialer, error) {
	with := a.Passwords
	if len(with.For) == 0 {
		with.For = []string{"login"}
	}
	d, err := a.Project.Dialer(with)
	if err != nil {
		return nil, err
	}
	if d.Login == nil {
		return nil, problem.Errorf("admit needs the password of %s", a.As).Remedy("remove --ask, or use --ask login")
	}
	if d.Elevation == nil {
		d.Elevation = &reach.Password{Ask: d.Login.Ask}
	}
	return d, nil
}

// prepare makes the account, its key and its right, as any apply makes such.
func (a *Admission) prepare(ctx context.Context, h *inventory.Host, d *reach.Dialer, key string) error {
	defer d.Close()
	target := a.Project.Target(h)
	files := scratch.OneHost("admission", h.Name, target.Address, "admit")
	files["manifests/admit.toml"] = manifest(target, key, a.Worker)
	work, err := scratch.New("admit", files)
	if err != nil {
		return err
	}
	defer work.Close()
	target.User, target.Key, target.Elevate = a.As, "", "sudo"
	if a.As == "root" {
		target.Elevate = ""
	}
	id, _, err := a.Project.NewRun(ctx)
	if err != nil {
		return err
	}
	id.Passing = true
	sink := a.Sink(work.Dir, h.Name)
	got, err := work.Run(ctx, scratch.Call{ID: id, Event: sink.Event,
		Open: func(ctx context.Context, first []byte) (*reach.Session, error) { return d.Open(ctx, target, first) }})
	switch {
	case err != nil && (got == nil || got.Wrong != nil):
		return err
	case got.State != record.Reached:
		return problem.Errorf("cannot connect to %s as %s: %s", h.Name, a.As, got.Message).Remedy("%s", got.Do)
	case got.Outcome == record.OutFailed:
		sink.End(&record.Run{Hosts: []*record.Host{got}})
		return problem.Errorf("%s could not be set up completely", h.Name).
			Remedy("fix this, and run admit again")
	}
	return nil
}

// manifest declares what makes a host fit to be managed.
func manifest(t reach.Target, key string, workerOnly bool) string {
	user := login(t)
	text := fmt.Sprintf("[user.%q]\nkeys = [%q]\n", user, key)
	if t.Elevate != "sudo" || user == "root" {
		return text
	}
	text = "[package.sudo]\n" + text + fmt.Sprintf("[sudo_rule.%q]\nwho = [%q]\nrun_as = [\"ALL\"]\npassword = false\n"+
		"after = [\"package sudo\"]\n", "jadekettle-"+strings.ReplaceAll(user, ".", "_"), user)
	if workerOnly {
		text = strings.Replace(text, "[\"ALL\"]", "[\"root\"]", 1) + fmt.Sprintf("commands = [%q]\n", reach.Starter)
	}
	return text
}

// proven says why a new connection, as the inventory has it, does not reach a worker with the rights that are wanted;
// nil where it does.
func (a *Admission) proven(ctx context.Context, h *inventory.Host) error {
	d := a.Project.PlainDialer()
	defer d.Close()
	got := a.Project.Fleet(d, 1).Facts(ctx, []*inventory.Host{h})[0]
	if got.State != record.Reached {
		return problem.Errorf("%s", got.Message).Remedy("%s", got.Do)
	}
	return nil
}

// usualKeys are looked for where the inventory names none.
var usualKeys = []string{".ssh/id_ed25519", ".ssh/id_ecdsa", ".ssh/id_rsa"}

// publicKey gives the line of authorized_keys for a private key.
func publicKey(key, home string) (string, error) {
	if key == "" {
		for _, name := range usualKeys {
			if _, err := os.Stat(filepath.Join(home, name)); err == nil {
				key = filepath.Join(home, name)
				break
			}
		}
	}
	if key == "" {
		return "", problem.Errorf("no key to log in with").
			Remedy("create one with `ssh-keygen -t ed25519`, and set key under [connect]")
	}
	if text, err := os.ReadFile(key + ".pub"); err == nil {
		if _, _, _, _, err := ssh.ParseAuthorizedKey(text); err == nil {
			return strings.TrimSpace(string(text)), nil
		}
	}
	data, err := os.ReadFile(key)
	if err != nil {
		return "", problem.Errorf("the key cannot be read: %w", err).Remedy("set another key under [connect]")
	}
	signer, err := ssh.ParsePrivateKey(data)
	if err != nil {
		return "", problem.Errorf("the public key for %s is missing: %w", key, err).
			Remedy("create it with `ssh-keygen -y -f %s >%s.pub`", key, key)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), nil
}
