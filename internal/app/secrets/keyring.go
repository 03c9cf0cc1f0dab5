// Package secrets decrypts and encrypts data with age, and finds the identities for that.
//
// A layer of data may have a second file that ends in .age. A [Keyring] decrypts such files with the identities it
// finds, and asks for each passphrase once. A [Vault] is the project's side: it sets a key, edits a file in a directory
// that is in memory if the machine has one, and encrypts for exactly those whom the settings and the host's layer name.
package secrets

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"
	"golang.org/x/crypto/ssh"

	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/shell"
)

// Keyring opens encrypted data. Identities are read when the first file is opened.
type Keyring struct {
	Files    []string                 // identity files that the call names
	Variable string                   // what the variable says: the name of an identity file, or an identity itself
	Called   string                   // what that variable is called, for messages
	Usual    func() []string          // the files to look for when neither says anything; not all need be there
	Expand   func(name string) string // makes a file's name whole
	// Ask asks for the passphrase of a key without showing it. Nil where there is
	// no terminal to ask on.
	Ask func(prompt string) ([]byte, error)
	// Remark receives what is worth a look. May be nil.
	Remark func(text string)

	once  sync.Once
	list  []age.Identity
	names []string // where they come from
	err   error
}

// Open decrypts one file.
func (k *Keyring) Open(name string, encrypted []byte) ([]byte, error) {
	k.once.Do(k.read)
	if k.err != nil {
		return nil, k.err
	}
	if len(k.list) == 0 {
		return nil, notOpened(problem.Errorf("this file is encrypted, and no identity was given to decrypt it").
			Remedy("set one with --identity FILE or %s, or create one with `jadekettle secret init`", k.Called))
	}
	r, err := age.Decrypt(unarmored(encrypted), k.list...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, notOpened(problem.Errorf("none of the identities in %s can decrypt this file",
			strings.Join(k.names, ", ")).
			Remedy("ask someone who can decrypt it to add your recipient and run `jadekettle secret rekey`"))
	}
	if err != nil {
		return nil, problem.Errorf("this is not a valid age file: %s", strings.TrimPrefix(err.Error(),
			"failed to read header: ")).Remedy("restore it from version control")
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, problem.Errorf("the encrypted text is damaged").Remedy("restore it from version control")
	}
	return text, nil
}

func notOpened(why error) error { return layers.NotOpened{Err: why} }

func unarmored(encrypted []byte) io.Reader {
	if bytes.HasPrefix(bytes.TrimSpace(encrypted), []byte(armor.Header)) {
		return armor.NewReader(bytes.NewReader(encrypted))
	}
	return bytes.NewReader(encrypted)
}

// read gathers the identities: those of the call, of the environment, of the
// settings, or else the usual file.
func (k *Keyring) read() {
	for _, f := range k.Files {
		if strings.HasPrefix(f, "AGE-SECRET-KEY-") {
			k.err = problem.Errorf("an identity on a command line is visible to every user of this machine").
				Remedy("put it in a file, or in %s", k.Called)
			return
		}
		k.file(f, true)
	}
	if v := k.Variable; v != "" {
		if strings.Contains(v, "AGE-SECRET-KEY-") {
			k.add("the variable "+k.Called, []byte(v))
		} else {
			k.file(v, true)
		}
	}
	if len(k.list) > 0 || k.err != nil {
		return
	}
	for _, f := range k.Usual() {
		k.file(f, false)
	}
}

func (k *Keyring) file(name string, must bool) {
	if k.err != nil {
		return
	}
	full := k.Expand(name)
	data, err := os.ReadFile(full)
	if err != nil {
		if must || !errors.Is(err, os.ErrNotExist) {
			k.err = problem.Errorf("the identity %s cannot be read: %w", name, errors.Unwrap(err)).
				Remedy("set another one with --identity")
		}
		return
	}
	if info, err := os.Stat(full); err == nil && info.Mode().Perm()&0o077 != 0 && k.Remark != nil {
		k.Remark(fmt.Sprintf("the identity %s is readable by other users; run: chmod 600 %s", name,
			shell.Quote(full)))
	}
	k.add(name, data)
}

func (k *Keyring) add(name string, data []byte) {
	k.names = append(k.names, name)
	if bytes.Contains(data, []byte("PRIVATE KEY-----")) {
		k.key(name, data)
		return
	}
	list, err := age.ParseIdentities(bytes.NewReader(data))
	if err != nil {
		k.err = problem.Errorf("%s does not contain an identity", name).
			Remedy("it must have a line AGE-SECRET-KEY-1..., or be an OpenSSH private key")
		return
	}
	k.list = append(k.list, list...)
}

// key takes an OpenSSH private key, asking for its passphrase when it has one.
func (k *Keyring) key(name string, data []byte) {
	id, err := agessh.ParseIdentity(data)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		if locked.PublicKey == nil || k.Ask == nil {
			k.err = problem.Errorf("the key %s has a passphrase, and entering it needs a terminal", name).
				Remedy("use an age identity instead")
			return
		}
		id, err = agessh.NewEncryptedSSHIdentity(locked.PublicKey, data,
			func() ([]byte, error) { return k.Ask("Passphrase for " + name + ": ") })
	}
	if err != nil {
		k.err = problem.Errorf("the key %s cannot be used: %w", name, err).Remedy("use an ed25519 or RSA key")
		return
	}
	k.list = append(k.list, id)
}

// Recipients reads recipients: age1... and OpenSSH public keys.
func Recipients(list []string) ([]age.Recipient, error) {
	var out []age.Recipient
	for _, text := range list {
		var r age.Recipient
		var err error
		if strings.HasPrefix(text, "ssh-") {
			r, err = agessh.ParseRecipient(text)
		} else {
			r, err = age.ParseX25519Recipient(text)
			if err != nil {
				if parsed, e := age.ParseRecipients(strings.NewReader(text)); e == nil && len(parsed) == 1 {
					r, err = parsed[0], nil
				}
			}
		}
		if err != nil {
			return nil, problem.Errorf("invalid recipient %q", text).Remedy("use an age1... or an OpenSSH public key")
		}
		out = append(out, r)
	}
	return out, nil
}

// Encrypt encrypts a text, in lines that version control can show.
func Encrypt(text []byte, to []age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	a := armor.NewWriter(&out)
	w, err := age.Encrypt(a, to...)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if err := a.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// Stanzas counts for how many recipients a file is encrypted (age-encryption.org/v1).
func Stanzas(encrypted []byte) int {
	n := 0
	s := bufio.NewScanner(unarmored(encrypted))
	for s.Scan() {
		line := s.Text()
		if strings.HasPrefix(line, "---") {
			break
		}
		if strings.HasPrefix(line, "-> ") && !strings.HasSuffix(line, "-grease") {
			n++
		}
	}
	return n
}

// NewIdentity makes an identity file that only its owner can read.
func NewIdentity(file string) (*age.X25519Identity, error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = fmt.Fprintf(f, "# An identity for jadekettle: anyone who has this file can read data encrypted for "+
		"it.\n# public key: %s\n%s\n", id.Recipient(), id)
	if e := f.Close(); err == nil {
		err = e
	}
	return id, err
}
