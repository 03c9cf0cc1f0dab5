package secrets

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/value"
)

// Vault is the encrypted data of a project: files data/LAYER.toml.age beside its data, each encrypted for the
// recipients that the settings name, and for the host whose own layer it is.
type Vault struct {
	Dir      string // the project's folder
	Files    fs.FS  // what is in it
	Keys     *Keyring
	Settings settings.Settings
}

// EncryptFor is the key of a host in the inventory: a recipient that its own layer is encrypted for too.
const EncryptFor = "encrypt_for"

// IdentityFile is where an identity lies unless something else is said.
const IdentityFile = "~/.config/jadekettle/identity.txt"

// File gives the path of a layer's encrypted file.
func (v *Vault) File(layer string) (string, error) {
	layer = strings.TrimSuffix(strings.TrimSuffix(strings.TrimPrefix(layer, layers.Dir+"/"), layers.Encrypted), ".toml")
	name := path.Join(layers.Dir, layer+".toml"+layers.Encrypted)
	if !fs.ValidPath(name) || layer == "" {
		return "", problem.Errorf("invalid layer %q", layer).Remedy("use one such as shared or host/gauge-01")
	}
	d := layers.Load(v.Files, layers.Config{Layers: v.Settings.Layers}, &problem.Problems{})
	if !d.Fits(layer) {
		return "", problem.Errorf("%q is not a layer of this project", layer).
			Remedy("available layers: %s", strings.Join(v.Settings.Layers, ", "))
	}
	return name, nil
}

// Open opens the encrypted file of a layer, which is empty where there is none.
func (v *Vault) Open(layer string) (name string, text []byte, err error) {
	if name, err = v.File(layer); err != nil {
		return "", nil, err
	}
	text, err = v.Read(name)
	return name, text, err
}

// Read opens an encrypted file; one that is not there is empty.
func (v *Vault) Read(name string) ([]byte, error) {
	encrypted, err := fs.ReadFile(v.Files, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	text, err := v.Keys.Open(name, encrypted)
	if err != nil {
		p := problem.From(err)
		p.Place = value.Place{File: name}
		return nil, p
	}
	return text, nil
}

// RecipientsOf gives those that a file is to be encrypted for.
func (v *Vault) RecipientsOf(name string) []string {
	layer, _ := layers.LayerOf(name)
	return append(slices.Clone(v.usualRecipients(layer)), v.hostRecipient(layer)...)
}

// hostRecipient gives the host whose own layer this is, if the inventory says how it is encrypted
// for.
func (v *Vault) hostRecipient(layer string) []string {
	host, own := strings.CutPrefix(layer, "host/")
	if !own {
		return nil
	}
	files := slices.Clone(v.Settings.Inventory)
	for _, e := range v.Settings.Envs {
		files = append(files, e.Inventory...)
	}
	slices.Sort(files)
	inv, _ := inventory.Load(v.Files, slices.Compact(files), "", &problem.Problems{})
	h, there := inv.Host(host)
	if !there {
		return nil
	}
	if to, _ := h.Vars[EncryptFor].(string); to != "" {
		return []string{to}
	}
	return nil
}

// usualRecipients gives those of the environment that a layer belongs to, or of all.
func (v *Vault) usualRecipients(layer string) []string {
	for _, env := range value.Keys(v.Settings.Envs) {
		e := v.Settings.Envs[env]
		if len(e.Recipients) > 0 && layers.OfEnv(v.Settings.Layers, layer, env) {
			return e.Recipients
		}
	}
	return v.Settings.Recipients
}

// readers gives those that a file is to be encrypted for, parsed.
func (v *Vault) readers(name string) ([]age.Recipient, error) {
	list := v.RecipientsOf(name)
	if len(list) == 0 {
		return nil, problem.Errorf("%s has no recipients to encrypt %s for", settings.File, name).
			Remedy("add recipients under [secrets], or run `jadekettle secret init`")
	}
	return Recipients(list)
}

// Write encrypts a text into its file, in one step.
func (v *Vault) Write(name string, text []byte) error {
	to, err := v.readers(name)
	if err != nil {
		return err
	}
	encrypted, err := Encrypt(text, to)
	if err != nil {
		return err
	}
	full := filepath.Join(v.Dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		return err
	}
	return atomicfile.Write(full, encrypted, 0o644)
}

// Check holds a text to what a data file must be. The problems show nothing of it.
func Check(name string, text []byte) error {
	_, err := parse(name, text)
	return err
}

func parse(name string, text []byte) (*manifest.Node, error) {
	var ps problem.Problems
	root, _ := manifest.ParseTOML(name, text, &ps)
	if list := ps.List(); len(list) > 0 {
		return nil, problem.Problem{Place: list[0].Place, What: "the decrypted text is not valid TOML here",
			Do: "fix this line"}
	}
	return root, nil
}

// Set puts a value under a dotted key into the encrypted file of a layer, whose name it gives.
func (v *Vault) Set(layer, key, secret string) (name string, err error) {
	name, text, err := v.Open(layer)
	if err != nil {
		return "", err
	}
	keys := strings.Split(key, ".")
	last := len(keys) - 1
	out, err := SetKey(name, text, keys[:last], keys[last], secret)
	if err != nil {
		return "", err
	}
	return name, v.Write(name, out)
}

// SetKey writes a text under a key of a table into a text of TOML.
func SetKey(name string, text []byte, table []string, key, secret string) ([]byte, error) {
	return manifest.SetKey(name, text, table, key, manifest.QuoteKey(key)+" = "+value.Quote(secret))
}

// Get gives the value under a dotted key of a layer.
func (v *Vault) Get(layer, key string) (string, error) {
	name, text, err := v.Open(layer)
	if err != nil {
		return "", err
	}
	at, err := parse(name, text)
	if err != nil {
		return "", err
	}
	keys := strings.Split(key, ".")
	for i, k := range keys {
		if next := at.Get(k); next != nil {
			at = next
			continue
		}
		var names []string
		for _, have := range at.Keys {
			names = append(names, have.Name)
		}
		return "", problem.Errorf("%s does not contain %s", name, strings.Join(keys[:i+1], ".")).
			Meant(k, names, "set it with `jadekettle secret set`")
	}
	shown, ok := value.Text(at.Value)
	if !ok {
		return "", problem.Errorf("%s is not a single value", key).Remedy("use a key below it")
	}
	return shown, nil
}

// Edit has an editor open what a layer holds, as a file that only its owner can read, and encrypts the result.
// again is asked with what is wrong with that, and says whether to edit it again. It gives the name of the
// encrypted file, and whether anything was changed.
func (v *Vault) Edit(layer string, editor func(file string) error,
	again func(error) bool) (name string, changed bool, err error) {
	name, old, err := v.Open(layer)
	if err != nil {
		return "", false, err
	}
	if _, err := v.readers(name); err != nil {
		return "", false, err // before anything is written in vain
	}
	dir, done, err := Scratch()
	if err != nil {
		return "", false, err
	}
	defer done()
	file := filepath.Join(dir, strings.TrimSuffix(path.Base(name), layers.Encrypted))
	if err := os.WriteFile(file, old, 0o600); err != nil {
		return "", false, err
	}
	for {
		if err := editor(file); err != nil {
			return name, false, err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return name, false, err
		}
		if bytes.Equal(text, old) {
			return name, false, nil
		}
		if err = Check(name, text); err == nil {
			return name, true, v.Write(name, text)
		}
		if !again(err) {
			return name, false, problem.Errorf("the file was not changed").Remedy("your edits are discarded")
		}
	}
}

// Encrypted lists the encrypted files of the project.
func (v *Vault) Encrypted() ([]string, error) {
	var out []string
	err := fs.WalkDir(v.Files, layers.Dir, func(p string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && !e.IsDir() && strings.HasSuffix(p, layers.Encrypted) {
			out = append(out, p)
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("look for encrypted files: %w", err)
	}
	return out, nil
}

// Rekey opens every encrypted file and encrypts it again for whom the settings name now. All are opened before any is
// written. encrypted receives each file, and for how many it is encrypted.
func (v *Vault) Rekey(encrypted func(name string, readers int)) error {
	texts := map[string][]byte{}
	var ps problem.Problems
	names, err := v.Encrypted()
	if err != nil {
		return err
	}
	for _, name := range names {
		text, err := v.Read(name)
		ps.AddErr(value.Place{File: name}, err)
		texts[name] = text
	}
	if err := ps.Err(); err != nil {
		return err
	}
	for _, name := range value.Keys(texts) {
		if err := v.Write(name, texts[name]); err != nil {
			return err
		}
		encrypted(name, len(v.RecipientsOf(name)))
	}
	return nil
}

// Access is who can read one encrypted file.
type Access struct {
	File         string   `json:"file" doc:"The file."`
	Recipients   []string `json:"recipients" doc:"The recipients in the settings."`
	EncryptedFor int      `json:"encrypted_for" doc:"The number of recipients it is encrypted for."`
	You          bool     `json:"you" doc:"Whether you can decrypt it."`
	Err          error    `json:"-"` // why the caller cannot open it
}

// Who lists who can read which encrypted file.
func (v *Vault) Who() ([]Access, error) {
	names, err := v.Encrypted()
	if err != nil {
		return nil, err
	}
	var out []Access
	for _, name := range names {
		text, err := fs.ReadFile(v.Files, name)
		if err != nil {
			return nil, err
		}
		_, err = v.Keys.Open(name, text)
		out = append(out, Access{name, v.RecipientsOf(name), Stanzas(text), err == nil, err})
	}
	return out, nil
}

// Identity gives the public key of the identity in a file, which it makes when
// it is not there.
func Identity(file string) (public string, made bool, err error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		id, err := NewIdentity(file)
		if err != nil {
			return "", false, fmt.Errorf("create the identity: %w", err)
		}
		return id.Recipient().String(), true, nil
	}
	if err != nil {
		return "", false, err
	}
	for line := range strings.SplitSeq(string(data), "\n") {
		if _, public, ok := strings.Cut(line, PublicLine); ok {
			return strings.TrimSpace(public), false, nil
		}
	}
	return "", false, problem.Errorf("%s exists but does not contain its public key", file).
		Remedy("use another file with --file")
}

// PublicLine begins the line in which an identity's file names its recipient.
const PublicLine = "# public key: "

// Enlist adds a recipient to the settings: to those of an environment, or of all. It returns the table that names
// it now, whether it was there already, and whether it is one among others.
func (v *Vault) Enlist(env, public string) (table string, there, among bool, err error) {
	have, table := v.Settings.Recipients, "secrets"
	if env != "" {
		e, ok := v.Settings.Envs[env]
		if !ok {
			return "", false, false, problem.Errorf("unknown environment %q", env).
				Remedy("add [env.%s] to %s", env, settings.File)
		}
		have, table = e.Recipients, "env."+env
	}
	if slices.Contains(have, public) {
		return table, true, len(have) > 1, nil
	}
	name := filepath.Join(v.Dir, settings.File)
	text, err := os.ReadFile(name)
	if err != nil {
		return table, false, false, err
	}
	var quoted []string
	for _, one := range append(slices.Clone(have), public) {
		quoted = append(quoted, fmt.Sprintf("%q", one))
	}
	out, err := manifest.SetKey(settings.File, text, strings.Split(table, "."), "recipients",
		"recipients = ["+strings.Join(quoted, ", ")+"]")
	if err != nil {
		return table, false, false, problem.Errorf("%w", err).
			Remedy("add %q to recipients under [%s] by hand", public, table)
	}
	return table, false, len(have) > 0, atomicfile.Write(name, out, 0o644)
}

// SettingsFile is where recipients are named.
const SettingsFile = settings.File
