package cli

import (
	"fmt"
	"os"

	"golang.org/x/term"

	sealed "jadekettle/internal/app/secrets"
	"jadekettle/internal/core/settings"
)

// identityFile is where an identity lies unless something else is said.
const identityFile = "~/.config/jadekettle/identity.txt"

// identityVariable holds the name of an identity file, or an identity itself.
const identityVariable = "JADEKETTLE_IDENTITY"

// keyring is what opens the sealed data of a project.
func (a *App) keyring(dir string) *sealed.Keyring {
	k := &sealed.Keyring{
		Files: a.identities, Variable: a.Getenv(identityVariable), Called: identityVariable,
		Expand: func(name string) string { return expand(name, a.Getenv("HOME"), "") },
		Usual: func() []string {
			list := []string{identityFile}
			if root, err := files(dir); err == nil {
				if own := settings.Glance(root).Identities; len(own) > 0 {
					list = own
				}
			}
			for i, f := range list {
				list[i] = expand(f, a.Getenv("HOME"), dir)
			}
			return list
		},
		Remark: func(text string) { fmt.Fprintln(a.Err, text) },
	}
	if a.Terminal {
		k.Ask = a.password
	}
	return k
}

// password asks for a secret on the terminal without showing it.
func (a *App) password(prompt string) ([]byte, error) {
	defer a.watched.Load().aside()()
	fmt.Fprint(a.Err, prompt)
	defer fmt.Fprintln(a.Err)
	return term.ReadPassword(int(os.Stdin.Fd()))
}
