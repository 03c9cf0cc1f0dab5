package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	sealed "jadekettle/internal/app/secrets"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) secretCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "secret", Short: "Keep passwords and keys sealed beside the data", GroupID: "grow",
		Long: "A file data/LAYER.toml.age is data like any other, encrypted with age for the recipients that\n" +
			"jadekettle.toml names under [secrets], or for an environment's data under [env.NAME]. Every value in it is\n" +
			"a secret: it reaches the hosts that need it and is never shown.",
	}
	c.AddCommand(a.secretInit(), a.secretSet(), a.secretGet(), a.secretEdit(), a.secretReseal(), a.secretWho())
	return c
}

// sealedData is the sealed data of a project.
type sealedData struct {
	app      *App
	dir      string
	root     fs.FS
	keys     *sealed.Keyring
	settings settings.Settings
}

func (a *App) sealedData() (*sealedData, error) {
	dir, root, err := a.projectFiles()
	if err != nil {
		return nil, err
	}
	return &sealedData{app: a, dir: dir, root: root, keys: a.keyring(dir), settings: settings.Glance(root)}, nil
}

// file gives the path of a layer's sealed file.
func (v *sealedData) file(layer string) (string, error) {
	layer = strings.TrimSuffix(strings.TrimSuffix(strings.TrimPrefix(layer, layers.Dir+"/"), layers.Sealed), ".toml")
	name := path.Join(layers.Dir, layer+".toml"+layers.Sealed)
	if !fs.ValidPath(name) || layer == "" {
		return "", problem.Errorf("%q is no layer", layer).Remedy("write one such as shared or host/gauge-01")
	}
	d := layers.Load(v.root, layers.Config{Layers: v.settings.Layers}, &problem.Problems{})
	if !d.Fits(layer) {
		return "", problem.Errorf("no layer of this project is called %q", layer).
			Remedy("the layers are %s", strings.Join(v.settings.Layers, ", "))
	}
	return name, nil
}

// sealed opens the sealed file of a layer.
func (a *App) sealed(layer string) (v *sealedData, name string, text []byte, err error) {
	if v, err = a.sealedData(); err != nil {
		return nil, "", nil, err
	}
	if name, err = v.file(layer); err != nil {
		return nil, "", nil, err
	}
	text, err = v.read(name)
	return v, name, text, err
}

// recipientsOf gives those that a file is to be sealed for.
func (v *sealedData) recipientsOf(name string) []string {
	layer, _ := layers.LayerOf(name)
	return append(slices.Clone(v.usualRecipients(layer)), v.hostRecipient(layer)...)
}

// sealFor is the key of a host in the inventory by which its own layer is sealed for it too.
const sealFor = "seal_for"

// hostRecipient gives the host whose own layer this is, if the inventory says how it is sealed
// for.
func (v *sealedData) hostRecipient(layer string) []string {
	host, own := strings.CutPrefix(layer, "host/")
	if !own {
		return nil
	}
	files := slices.Clone(v.settings.Inventory)
	for _, e := range v.settings.Envs {
		files = append(files, e.Inventory...)
	}
	slices.Sort(files)
	inv, _ := inventory.Load(v.root, slices.Compact(files), "", &problem.Problems{})
	h, there := inv.Host(host)
	if !there {
		return nil
	}
	if to, _ := h.Vars[sealFor].(string); to != "" {
		return []string{to}
	}
	return nil
}

// usualRecipients gives those of the environment that a layer belongs to, or of all.
func (v *sealedData) usualRecipients(layer string) []string {
	for _, env := range value.Keys(v.settings.Envs) {
		e := v.settings.Envs[env]
		if len(e.Recipients) > 0 && layers.OfEnv(v.settings.Layers, layer, env) {
			return e.Recipients
		}
	}
	return v.settings.Recipients
}

// read opens a sealed file; one that is not there is empty.
func (v *sealedData) read(name string) ([]byte, error) {
	sealed, err := fs.ReadFile(v.root, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	text, err := v.keys.Open(name, sealed)
	if err != nil {
		p := problem.From(err)
		p.Place = value.Place{File: name}
		return nil, p
	}
	return text, nil
}

// readers gives those that a file is to be sealed for, ready to be sealed for.
func (v *sealedData) readers(name string) ([]age.Recipient, error) {
	list := v.recipientsOf(name)
	if len(list) == 0 {
		return nil, problem.Errorf("%s names nobody to seal %s for", settings.File, name).
			Remedy("write recipients under [secrets], or begin with `jadekettle secret init`")
	}
	return sealed.Recipients(list)
}

// write seals a text into its file, in one step.
func (v *sealedData) write(name string, text []byte) error {
	to, err := v.readers(name)
	if err != nil {
		return err
	}
	sealed, err := sealed.Seal(text, to)
	if err != nil {
		return err
	}
	full := filepath.Join(v.dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		return err
	}
	return atomicfile.Write(full, sealed, 0o644)
}

// check holds a text to what a data file must be. The problems show nothing of it.
func check(name string, text []byte) (*manifest.Node, error) {
	var ps problem.Problems
	root, _ := manifest.ParseTOML(name, text, &ps)
	if list := ps.List(); len(list) > 0 {
		return nil, problem.Problem{Place: list[0].Place, What: "the decrypted text is no valid TOML here",
			Do: "mend this line"}
	}
	return root, nil
}

func (a *App) secretInit() *cobra.Command {
	file := ""
	c := &cobra.Command{
		Use: "init", Short: "Make an identity, and let the project seal for it", Args: cobra.NoArgs,
		Long: "Init makes an identity file that only you can read, unless there is one, and adds its public key to the\n" +
			"recipients in jadekettle.toml: under [secrets], or with --env under [env.NAME].",
		RunE: func(*cobra.Command, []string) error {
			v, err := a.sealedData()
			if err != nil {
				return err
			}
			if file == "" {
				file = expand(identityFile, a.Getenv("HOME"), v.dir)
			}
			public, err := v.identity(file)
			if err != nil {
				return err
			}
			return v.enlist(public)
		},
	}
	c.Flags().StringVar(&file, "file", "", "the `FILE` in which the identity lies (default: "+identityFile+")")
	return c
}

// identity gives the public key of the identity in a file, which it makes when
// it is not there.
func (v *sealedData) identity(file string) (string, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		id, err := sealed.NewIdentity(file)
		if err != nil {
			return "", fmt.Errorf("make the identity: %w", err)
		}
		fmt.Fprintf(v.app.Out, "made the identity %s; keep a copy of it in a safe place\n", file)
		return id.Recipient().String(), nil
	}
	if err != nil {
		return "", err
	}
	for line := range strings.SplitSeq(string(data), "\n") {
		if _, public, ok := strings.Cut(line, "# public key: "); ok {
			fmt.Fprintf(v.app.Out, "the identity %s is there already\n", file)
			return strings.TrimSpace(public), nil
		}
	}
	return "", problem.Errorf("%s is there and does not tell its public key", file).Remedy("name another file with --file")
}

// enlist adds a recipient to the settings.
func (v *sealedData) enlist(public string) error {
	have, table := v.settings.Recipients, "secrets"
	if v.app.env != "" {
		e, ok := v.settings.Envs[v.app.env]
		if !ok {
			return problem.Errorf("there is no environment %q", v.app.env).Remedy("declare [env.%s] in %s", v.app.env,
				settings.File)
		}
		have, table = e.Recipients, "env."+v.app.env
	}
	if slices.Contains(have, public) {
		fmt.Fprintf(v.app.Out, "%s seals for it already\n", settings.File)
		return nil
	}
	name := filepath.Join(v.dir, settings.File)
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	list := fmt.Sprintf("recipients = [%s]", quotedList(append(slices.Clone(have), public)))
	out, err := manifest.SetKey(settings.File, text, strings.Split(table, "."), "recipients", list)
	if err != nil {
		return problem.Errorf("%w", err).Remedy("add %q to recipients under [%s] yourself", public, table)
	}
	if err := atomicfile.Write(name, out, 0o644); err != nil {
		return err
	}
	fmt.Fprintf(v.app.Out, "%s under [%s] now seals for %s\n", settings.File, table, public)
	if len(have) > 0 {
		fmt.Fprintln(v.app.Out, "what is sealed already is not yet: run `jadekettle secret reseal`")
	}
	return nil
}

func quotedList(list []string) string {
	var out []string
	for _, s := range list {
		out = append(out, fmt.Sprintf("%q", s))
	}
	return strings.Join(out, ", ")
}

func (a *App) secretSet() *cobra.Command {
	return &cobra.Command{
		Use: "set LAYER KEY", Short: "Seal a value, read from standard input or asked for", Args: cobra.ExactArgs(2),
		Long: "Set puts a value under a dotted key into the sealed file of a layer, such as shared or host/gauge-01. " +
			"The\nvalue comes from standard input, or is asked for on a terminal without showing; a line break at its end " +
			"is\nleft out. It is never taken from the command line, which others can see.",
		Example: "  jadekettle secret set shared relay.password\n" +
			"  pwgen 24 1 | jadekettle secret set host/gauge-01 logger.token",
		RunE: func(_ *cobra.Command, args []string) error {
			v, name, text, err := a.sealed(args[0])
			if err != nil {
				return err
			}
			if err := a.reachable(args[0]); err != nil {
				return err
			}
			secret, err := a.secretInput(args[1])
			if err != nil {
				return err
			}
			keys := strings.Split(args[1], ".")
			last := len(keys) - 1
			out, err := manifest.SetKey(name, text, keys[:last], keys[last],
				manifest.QuoteKey(keys[last])+" = "+value.Quote(secret))
			if err != nil {
				return err
			}
			if err := v.write(name, out); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "sealed data.%s in %s\n", args[1], name)
			return nil
		},
	}
}

// maxSecret bounds one sealed value, in bytes.
const maxSecret = 1 << 20

func (a *App) secretInput(key string) (string, error) {
	if a.Terminal {
		first, err := a.password("Value of " + key + ": ")
		if err != nil {
			return "", err
		}
		again, err := a.password("Once more: ")
		if err != nil {
			return "", err
		}
		if !bytes.Equal(first, again) {
			return "", problem.Errorf("the two values differ").Remedy("nothing was changed")
		}
		return string(first), nil
	}
	data, err := io.ReadAll(io.LimitReader(a.In, maxSecret+1))
	if err != nil {
		return "", err
	}
	if len(data) > maxSecret {
		return "", problem.Errorf("the value is longer than 1 MiB").
			Remedy("seal a file by other means, and keep only its key here")
	}
	text := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	if text == "" {
		return "", problem.Errorf("standard input is empty").
			Remedy("give the value there, as in: jadekettle secret set LAYER KEY < file")
	}
	return text, nil
}

func (a *App) secretGet() *cobra.Command {
	return &cobra.Command{
		Use: "get LAYER KEY", Short: "Print one sealed value", Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			_, name, text, err := a.sealed(args[0])
			if err != nil {
				return err
			}
			root, err := check(name, text)
			if err != nil {
				return err
			}
			at := root
			for i, k := range strings.Split(args[1], ".") {
				if next := at.Get(k); next != nil {
					at = next
					continue
				}
				var names []string
				for _, have := range at.Keys {
					names = append(names, have.Name)
				}
				return problem.Errorf("%s has no %s", name, strings.Join(strings.Split(args[1], ".")[:i+1], ".")).Meant(k, names, "set it with `jadekettle secret set`")
			}
			shown, ok := value.Text(at.Value)
			if !ok {
				return problem.Errorf("%s is no single value", args[1]).Remedy("name a key below it")
			}
			fmt.Fprintln(a.Out, shown)
			return nil
		},
	}
}

// reachable refuses a layer that no host can have: nobody would ever see that
// what is sealed there is not read.
func (a *App) reachable(layer string) error {
	p, err := a.open()
	if err != nil {
		return nil // what is wrong with the project is told elsewhere
	}
	layer = strings.TrimSuffix(layer, ".toml")
	if !p.Data.Fits(layer) {
		return problem.Errorf("no layer of the project is called %q", layer).
			Remedy("the layers are %s", strings.Join(p.Settings.Layers, ", "))
	}
	top, name, _ := strings.Cut(layer, "/")
	if _, there := p.Inventory.Group(name); top == "group" && !there {
		return problem.Errorf("there is no group %q", name).Meant(name, p.Inventory.GroupNames(), "`jadekettle hosts` lists them")
	}
	if _, there := p.Inventory.Host(name); top == "host" && !there {
		return problem.Errorf("there is no host %q", name).Meant(name, p.Inventory.HostNames(), "`jadekettle hosts` lists them")
	}
	return nil
}

func (a *App) secretEdit() *cobra.Command {
	return &cobra.Command{
		Use: "edit LAYER", Short: "Open a sealed file in your editor", Args: cobra.ExactArgs(1),
		Long: "Edit decrypts the sealed file of a layer into a file that only you can read, in memory where there is\n" +
			"such a folder, opens $VISUAL or $EDITOR on it, and seals what comes of it. A text that is no valid TOML is\n" +
			"given back to the editor.",
		RunE: func(c *cobra.Command, args []string) error {
			v, name, old, err := a.sealed(args[0])
			if err != nil {
				return err
			}
			return v.edit(name, old)
		},
	}
}

func (v *sealedData) edit(name string, old []byte) error {
	if _, err := v.readers(name); err != nil {
		return err // before anything is written in vain
	}
	dir, done, err := sealed.Scratch()
	if err != nil {
		return err
	}
	defer done()
	file := filepath.Join(dir, strings.TrimSuffix(path.Base(name), layers.Sealed))
	if err := os.WriteFile(file, old, 0o600); err != nil {
		return err
	}
	in := bufio.NewReader(v.app.In)
	for {
		if err := v.app.editor(file); err != nil {
			return err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		if bytes.Equal(text, old) {
			fmt.Fprintln(v.app.Out, "nothing was changed")
			return nil
		}
		if _, err = check(name, text); err == nil {
			if err := v.write(name, text); err != nil {
				return err
			}
			fmt.Fprintf(v.app.Out, "sealed %s\n", name)
			return nil
		}
		v.app.complain(err)
		fmt.Fprint(v.app.Err, "Edit it again? [Y/n] ")
		answer, readErr := in.ReadString('\n')
		if strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "n") || readErr != nil {
			return problem.Errorf("the file is as it was").Remedy("what you wrote is thrown away")
		}
	}
}

func (a *App) editor(file string) error {
	name := a.Getenv("VISUAL")
	if name == "" {
		name = a.Getenv("EDITOR")
	}
	if name == "" && !a.Terminal {
		return problem.Errorf("there is no terminal to edit on").Remedy("name an editor in EDITOR")
	}
	if name == "" {
		name = "vi"
	}
	words := strings.Fields(name)
	c := exec.Command(words[0], append(words[1:], file)...)
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := c.Run(); err != nil {
		return problem.Errorf("the editor %s: %w", name, err).Remedy("name another in EDITOR")
	}
	return nil
}

// sealedFiles lists the sealed files of the project.
func (v *sealedData) sealedFiles() ([]string, error) {
	var out []string
	err := fs.WalkDir(v.root, layers.Dir, func(p string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && !e.IsDir() && strings.HasSuffix(p, layers.Sealed) {
			out = append(out, p)
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("look for sealed files: %w", err)
	}
	return out, nil
}

func (a *App) secretReseal() *cobra.Command {
	return &cobra.Command{
		Use: "reseal", Short: "Seal every file for the recipients that the settings name now", Args: cobra.NoArgs,
		Long: "Reseal opens every sealed file and seals it anew, after recipients were added or taken out. Who could " +
			"read\na secret keeps what was read: change the secrets themselves when someone leaves.",
		RunE: func(*cobra.Command, []string) error {
			v, err := a.sealedData()
			if err != nil {
				return err
			}
			texts := map[string][]byte{}
			var ps problem.Problems
			names, err := v.sealedFiles()
			if err != nil {
				return err
			}
			for _, name := range names { // all are opened before any is written
				text, err := v.read(name)
				ps.AddErr(value.Place{File: name}, err)
				texts[name] = text
			}
			if err := ps.Err(); err != nil {
				return err
			}
			for _, name := range value.Keys(texts) {
				if err := v.write(name, texts[name]); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "%s  sealed for %s\n", name, screen.Count(len(v.recipientsOf(name)), "recipient"))
			}
			return nil
		},
	}
}

func (a *App) secretWho() *cobra.Command {
	return &cobra.Command{
		Use: "who", Short: "Tell who can read which sealed file", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			v, err := a.sealedData()
			if err != nil {
				return err
			}
			names, err := v.sealedFiles()
			if err != nil {
				return err
			}
			docs := []document.SealedFile{}
			for _, name := range names {
				text, err := fs.ReadFile(v.root, name)
				if err != nil {
					return err
				}
				_, openErr := v.keys.Open(name, text)
				list := v.recipientsOf(name)
				stale := sealed.Stanzas(text) != len(list)
				docs = append(docs, document.SealedFile{File: name, Recipients: append([]string{}, list...),
					SealedFor: sealed.Stanzas(text), You: openErr == nil})
				if a.output == "json" {
					continue
				}
				you := "you can read it"
				if openErr != nil {
					you = "you cannot read it: " + problem.From(openErr).What
				}
				fmt.Fprintf(a.Out, "%s  %s\n", screen.Paint(screen.Loud, name), you)
				for _, r := range list {
					fmt.Fprintf(a.Out, "    %s\n", r)
				}
				if stale {
					fmt.Fprintf(a.Out, "    %s\n", screen.Paint(screen.Bad,
						fmt.Sprintf("sealed for %d, the settings name %d: run `jadekettle secret reseal`",
							sealed.Stanzas(text), len(list))))
				}
			}
			if a.output == "json" {
				return a.document(document.Sealed{Head: document.One, Files: docs})
			}
			if len(docs) == 0 {
				fmt.Fprintln(a.Out, "nothing is sealed in this project")
			}
			return nil
		},
	}
}
