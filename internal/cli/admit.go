package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

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

func (a *App) admitCommand() *cobra.Command {
	ad := &admission{app: a}
	c := &cobra.Command{
		Use: "admit HOST...", Short: "Take in new hosts that have only a login with a password", Args: cobra.MinimumNArgs(1),
		Long: "Admit trusts a host's key after a look at its fingerprint, logs in with a password as --as says, and makes " +
			"the\n" +
			"account, its key and its right to sudo that the inventory's connect names. A new connection then proves that\n" +
			"the key logs in and that elevation works; only then the host is admitted. Once more, it changes nothing.",
		RunE: func(c *cobra.Command, targets []string) error {
			p, err := a.load(targets, nil)
			if err != nil {
				return err
			}
			return a.eachHost(c.Context(), bySSH(p.hosts), func(h *inventory.Host) error { return ad.host(c.Context(), p, h) })
		},
	}
	c.Flags().StringVar(&ad.as, "as", "root", "the `USER` to log in as with a password; one that may use sudo, if not "+
		"root")
	c.Flags().BoolVar(&ad.yes, "yes", false, "do not ask whether the host's key is right")
	c.Flags().BoolVar(&ad.worker, "worker-only", false, "let the account run our worker as root, and nothing else, where "+
		"sudo makes it root")
	a.passwordFlags(c)
	c.ValidArgsFunction = a.completeHosts
	return c
}

// admission is one call of `hosts admit`.
type admission struct {
	app    *App
	as     string
	yes    bool
	worker bool // sudo allows our worker and nothing else
}

func (ad *admission) host(ctx context.Context, p *project, h *inventory.Host) error {
	a := ad.app
	target := a.target(h, p.dir)
	plain := a.plainDialer(p.Settings, p.dir, p.Inventory)
	if ad.proven(ctx, p, h, plain, nil) {
		fmt.Fprintf(a.Out, "%s  is admitted already: %s\n", h.Name, told(target))
		return nil
	}
	key, err := publicKey(target.Key, a.Getenv("HOME"))
	if err != nil {
		return err
	}
	if ok, err := ad.trusted(ctx, plain, target); !ok || err != nil {
		return err
	}
	with, err := ad.dialer(p)
	if err != nil {
		return err
	}
	if err := ad.prepare(ctx, p, h, with, key); err != nil {
		return err
	}
	var why error
	if !ad.proven(ctx, p, h, a.plainDialer(p.Settings, p.dir, p.Inventory), &why) {
		return why
	}
	fmt.Fprintf(a.Out, "%s  is admitted: %s\n", h.Name, told(target))
	return nil
}

// told says how a host is come to.
func told(t reach.Target) string {
	user := t.User
	if user == "" {
		user = me()
	}
	text := user + " logs in with a key"
	if t.Elevate != "" {
		text += ", and " + t.Elevate + " makes it root"
	}
	return text
}

// trusted has the host's key trusted.
func (ad *admission) trusted(ctx context.Context, d *reach.Dialer, target reach.Target) (bool, error) {
	if !ad.yes && !ad.app.Terminal {
		k, err := d.Key(ctx, target)
		if err != nil || !k.Known {
			return false, problem.Errorf("the key of %s is not known, and there is no terminal to ask on", target.Name).
				Remedy("say --yes when you know its fingerprint, or run `jadekettle hosts trust %s` first", target.Name)
		}
		return true, nil
	}
	before := ad.app.code
	t := &trust{app: ad.app, dialer: d, in: bufio.NewReader(ad.app.In), yes: ad.yes}
	if err := t.host(ctx, target); err != nil {
		return false, err
	}
	k, err := d.Key(ctx, target)
	return err == nil && k.Known && ad.app.code == before, nil
}

// dialer logs in with the password, which sudo is given too.
func (ad *admission) dialer(p *project) (*reach.Dialer, error) {
	a := ad.app
	if len(a.passwords.ask) == 0 {
		a.passwords.ask = []string{"login"}
	}
	d, err := a.dialerOf(p.Settings, p.dir, p.Inventory)
	if err != nil {
		return nil, err
	}
	if d.Login == nil {
		return nil, problem.Errorf("admit needs the password of %s", ad.as).Remedy("take --ask out, or say --ask login")
	}
	if d.Elevation == nil {
		d.Elevation = &reach.Password{Ask: d.Login.Ask}
	}
	return d, nil
}

// prepare makes the account, its key and its right, as any apply makes such.
func (ad *admission) prepare(ctx context.Context, p *project, h *inventory.Host, d *reach.Dialer, key string) error {
	defer d.Close()
	a := ad.app
	target := a.target(h, p.dir)
	work, err := os.MkdirTemp("", "jadekettle-admit-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	if err := writeAdmission(work, h.Name, target, key, ad.worker); err != nil {
		return err
	}
	own, err := compile.Load(os.DirFS(work), kinds.Schemas(), compile.Options{})
	if err != nil {
		return err
	}
	hosts, err := own.Inventory.Select([]string{h.Name}, nil)
	if err != nil {
		return err
	}
	target.User, target.Key, target.Elevate = ad.as, "", "sudo"
	if ad.as == "root" {
		target.Elevate = ""
	}
	id, _, err := a.newRun(ctx, p, false)
	if err != nil {
		return err
	}
	id.Passing = true
	v := &screen.Run{W: a.Out, Detail: screen.Usual, Width: a.Width, Sources: &screen.Sources{Dir: work},
		Names: len(h.Name)}
	fleet := &run.Fleet{Plans: &resolve.Plans{Project: own}, Parallel: 1, Notify: v.Event,
		Open: func(ctx context.Context, _ *inventory.Host, first []byte) (*reach.Session, error) {
			return d.Open(ctx, target, first)
		}}
	out := fleet.Run(ctx, hosts, id)
	switch got := out[0]; {
	case got.State != record.Reached:
		return problem.Errorf("%s cannot be come to as %s: %s", h.Name, ad.as, got.Message).Remedy("%s", got.Do)
	case got.Outcome == record.OutFailed:
		v.End(out)
		return problem.Errorf("not all that admission needs could be done on %s", h.Name).Remedy("put it right, and admit " +
			"again")
	}
	return nil
}

// writeAdmission writes the small project that makes a host fit to be managed.
func writeAdmission(dir, host string, t reach.Target, key string, workerOnly bool) error {
	user := t.User
	if user == "" {
		user = me()
	}
	text := fmt.Sprintf("[user.%q]\nkeys = [%q]\n", user, key)
	if t.Elevate == "sudo" && user != "root" {
		text = "[package.sudo]\n" + text + fmt.Sprintf("[sudo_rule.%q]\nwho = [%q]\nrun_as = [\"ALL\"]\npassword = false\n"+
			"after = [\"package sudo\"]\n", "jadekettle-"+strings.ReplaceAll(user, ".", "_"), user)
		if workerOnly {
			text = strings.Replace(text, "[\"ALL\"]", "[\"root\"]", 1) + fmt.Sprintf("commands = [%q]\n", reach.Starter)
		}
	}
	for name, text := range map[string]string{
		"jadekettle.toml": "project = \"admission\"\n",
		"hosts.toml": fmt.Sprintf("[host.%q]\naddress = %q\n[group.admitted]\nmembers = [%q]\nmanifests = [\"admit\"]\n",
			host,
			t.Address, host),
		"manifests/admit.toml": text,
	} {
		full := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(full, []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// proven says whether a new connection as the inventory has it reaches a worker
// with the rights that are wanted.
func (ad *admission) proven(ctx context.Context, p *project, h *inventory.Host, d *reach.Dialer, why *error) bool {
	defer d.Close()
	fleet := &run.Fleet{Plans: &resolve.Plans{Project: p.Project}, Parallel: 1,
		Open: func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			return ad.app.connect(ctx, p, d, h, first)
		}}
	got := fleet.Facts(ctx, []*inventory.Host{h})[0]
	if why != nil && got.State != record.Reached {
		*why = problem.Errorf("the account is made, but a new connection does not come through: %s", got.Message).
			Remedy("%s", got.Do)
	}
	return got.State == record.Reached
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
		return "", problem.Errorf("there is no key to log in with").
			Remedy("make one with `ssh-keygen -t ed25519`, and name it as key below [connect]")
	}
	if text, err := os.ReadFile(key + ".pub"); err == nil {
		if _, _, _, _, err := ssh.ParseAuthorizedKey(text); err == nil {
			return strings.TrimSpace(string(text)), nil
		}
	}
	data, err := os.ReadFile(key)
	if err != nil {
		return "", problem.Errorf("the key cannot be read: %w", err).Remedy("name another as key below [connect]")
	}
	signer, err := ssh.ParsePrivateKey(data)
	if err != nil {
		return "", problem.Errorf("the public half of %s is not known: %w", key, err).
			Remedy("write it with `ssh-keygen -y -f %s >%s.pub`", key, key)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), nil
}
