package projectcmd

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/secrets"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

func secret(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "secret", Short: "Manage encrypted secrets",
		Long: "Secrets are data in files data/LAYER.toml.age, encrypted with age for the recipients in " +
			"jadekettle.toml: under [secrets], or under [env.NAME] for the data of an environment. Every value in " +
			"them is sent only to the hosts that need it and is never shown.",
	}
	c.AddCommand(secretInit(e), secretSet(e), secretGet(e), secretEdit(e), secretRekey(e), secretReaders(e))
	return c
}

// vault is the encrypted data of the project of the call.
func vault(ctx context.Context, e *cli.Env) (*secrets.Vault, error) {
	s, err := e.Site(ctx)
	if err != nil {
		return nil, err
	}
	return s.Vault(), nil
}

func secretInit(e *cli.Env) *cobra.Command {
	file := ""
	c := &cobra.Command{
		Use: "init", Short: "Create a key and add it to the project's recipients", Args: cli.NoArgs,
		Long: "Creates an identity file that only you can read, if there is none yet, and adds its public key to " +
			"the recipients in jadekettle.toml: under [secrets], or with --env under [env.NAME].",
		RunE: func(c *cobra.Command, _ []string) error {
			v, err := vault(c.Context(), e)
			if err != nil {
				return err
			}
			if file == "" {
				file = e.Caller().Expand(secrets.IdentityFile, v.Dir)
			}
			public, made, err := secrets.Identity(file)
			if err != nil {
				return err
			}
			if made {
				fmt.Fprintf(e.Out, "created the identity %s; keep a copy of it in a safe place\n", file)
			} else {
				fmt.Fprintf(e.Out, "the identity %s already exists\n", file)
			}
			table, there, among, err := v.Enlist(e.EnvName, public)
			if err != nil {
				return err
			}
			if there {
				fmt.Fprintf(e.Out, "%s already has it as a recipient\n", secrets.SettingsFile)
				return nil
			}
			fmt.Fprintf(e.Out, "%s now has the recipient %[3]s under [%[2]s]\n", secrets.SettingsFile, table, public)
			if among {
				fmt.Fprintln(e.Out, "existing files are not encrypted for it yet: run `jadekettle secret rekey`")
			}
			return nil
		},
	}
	c.Flags().StringVar(&file, "file", "", "identity `FILE` (default: "+secrets.IdentityFile+")")
	return c
}

func secretSet(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "set LAYER KEY", Short: "Encrypt and store a value", Args: cli.Args(2, 2),
		Long: "Encrypts a value and stores it under a dotted key in a layer such as shared or host/gauge-01. The " +
			"value is read from standard input, without a trailing line break, or prompted for; never from the " +
			"command line, where other users could see it.",
		Example: "  jadekettle secret set shared relay.password\n" +
			"  pwgen 24 1 | jadekettle secret set host/gauge-01 logger.token",
		RunE: func(c *cobra.Command, args []string) error {
			v, err := vault(c.Context(), e)
			if err != nil {
				return err
			}
			if _, _, err := v.Open(args[0]); err != nil {
				return err
			}
			if p, err := e.Open(c.Context()); err == nil { // what is wrong with the project is reported elsewhere
				if err := p.HasLayer(args[0]); err != nil {
					return err
				}
			}
			said, err := secretInput(e, args[1])
			if err != nil {
				return err
			}
			name, err := v.Set(args[0], args[1], said)
			if err != nil {
				return err
			}
			fmt.Fprintf(e.Out, "encrypted data.%s in %s\n", args[1], name)
			return nil
		},
	}
}

// maxSecret bounds one encrypted value, in bytes.
const maxSecret = 1 << 20

func secretInput(e *cli.Env, key string) (string, error) {
	if e.Terminal {
		first, err := e.Secret("Value of " + key + ": ")
		if err != nil {
			return "", err
		}
		again, err := e.Secret("Repeat: ")
		if err != nil {
			return "", err
		}
		if !bytes.Equal(first, again) {
			return "", problem.Errorf("the two values differ").Remedy("nothing was changed")
		}
		return string(first), nil
	}
	data, err := io.ReadAll(io.LimitReader(e.In, maxSecret+1))
	if err != nil {
		return "", err
	}
	if len(data) > maxSecret {
		return "", problem.Errorf("the value is longer than 1 MiB").
			Remedy("encrypt the file by other means, and store only its key here")
	}
	said := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	if said == "" {
		return "", problem.Errorf("standard input is empty").
			Remedy("provide the value there: `jadekettle secret set LAYER KEY < FILE`")
	}
	return said, nil
}

func secretGet(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "get LAYER KEY", Short: "Decrypt and print a value", Args: cli.Args(2, 2),
		RunE: func(c *cobra.Command, args []string) error {
			v, err := vault(c.Context(), e)
			if err != nil {
				return err
			}
			shown, err := v.Get(args[0], args[1])
			if err != nil {
				return err
			}
			fmt.Fprintln(e.Out, shown)
			return nil
		},
	}
}

func secretEdit(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "edit LAYER", Short: "Edit an encrypted file", Args: cli.Args(1, 1),
		Long: "Decrypts the file of a layer to a temporary file that only you can read, in memory if possible, " +
			"opens it in $VISUAL or $EDITOR, and encrypts the result. If the result is not valid TOML, the editor " +
			"is opened again.",
		RunE: func(c *cobra.Command, args []string) error {
			v, err := vault(c.Context(), e)
			if err != nil {
				return err
			}
			name, changed, err := v.Edit(args[0], func(file string) error { return editor(e, file) },
				func(wrong error) bool {
					e.Complain(wrong)
					return e.AgreeUnlessNo("Edit it again?")
				})
			switch {
			case err != nil:
				return err
			case !changed:
				fmt.Fprintln(e.Out, "nothing was changed")
			default:
				fmt.Fprintf(e.Out, "encrypted %s\n", name)
			}
			return nil
		},
	}
}

func editor(e *cli.Env, file string) error {
	name := e.Getenv("VISUAL")
	if name == "" {
		name = e.Getenv("EDITOR")
	}
	if name == "" && !e.Terminal {
		return problem.Errorf("an editor needs a terminal").Remedy("set EDITOR")
	}
	if name == "" {
		name = "vi"
	}
	words := strings.Fields(name)
	c := exec.Command(words[0], append(words[1:], file)...)
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := c.Run(); err != nil {
		return problem.Errorf("the editor %s: %w", name, err).Remedy("set EDITOR to another editor")
	}
	return nil
}

func secretRekey(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "rekey", Short: "Re-encrypt all files for the current recipients", Args: cli.NoArgs,
		Long: "Decrypts every file and encrypts it again, after recipients were added or removed. Anyone who could " +
			"decrypt a secret may have kept it: change the secrets themselves when someone leaves.",
		RunE: func(c *cobra.Command, _ []string) error {
			v, err := vault(c.Context(), e)
			if err != nil {
				return err
			}
			return v.Rekey(func(name string, readers int) {
				fmt.Fprintf(e.Out, "%s  encrypted for %s\n", name, text.Count(readers, "recipient"))
			})
		},
	}
}

func secretReaders(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "readers", Short: "List who can decrypt each file", Args: cli.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			v, err := vault(c.Context(), e)
			if err != nil {
				return err
			}
			list, err := v.Who()
			if err != nil {
				return err
			}
			doc := document.Encrypted{Head: document.One, Files: list}
			return e.Render(doc, func(w io.Writer) { text.Encrypted(w, list) })
		},
	}
}
