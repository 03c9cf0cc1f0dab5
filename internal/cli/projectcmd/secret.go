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
		Use: "secret", Short: "Keep passwords and keys sealed beside the data", GroupID: cli.Grow,
		Long: "A file data/LAYER.toml.age is data like any other, encrypted with age for the recipients that\n" +
			"jadekettle.toml names under [secrets], or for an environment's data under [env.NAME]. Every value in " +
			"it is\na secret: it reaches the hosts that need it and is never shown.",
	}
	c.AddCommand(secretInit(e), secretSet(e), secretGet(e), secretEdit(e), secretReseal(e), secretWho(e))
	return c
}

// vault is the sealed data of the project of the call.
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
		Use: "init", Short: "Make an identity, and let the project seal for it", Args: cobra.NoArgs,
		Long: "Init makes an identity file that only you can read, unless there is one, and adds its public key to " +
			"the\nrecipients in jadekettle.toml: under [secrets], or with --env under [env.NAME].",
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
				fmt.Fprintf(e.Out, "made the identity %s; keep a copy of it in a safe place\n", file)
			} else {
				fmt.Fprintf(e.Out, "the identity %s is there already\n", file)
			}
			table, there, among, err := v.Enlist(e.EnvName, public)
			if err != nil {
				return err
			}
			if there {
				fmt.Fprintf(e.Out, "%s seals for it already\n", secrets.SettingsFile)
				return nil
			}
			fmt.Fprintf(e.Out, "%s under [%s] now seals for %s\n", secrets.SettingsFile, table, public)
			if among {
				fmt.Fprintln(e.Out, "what is sealed already is not yet: run `jadekettle secret reseal`")
			}
			return nil
		},
	}
	c.Flags().StringVar(&file, "file", "", "the `FILE` in which the identity lies (default: "+secrets.IdentityFile+")")
	return c
}

func secretSet(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "set LAYER KEY", Short: "Seal a value, read from standard input or asked for", Args: cobra.ExactArgs(2),
		Long: "Set puts a value under a dotted key into the sealed file of a layer, such as shared or host/gauge-01. " +
			"The\nvalue comes from standard input, or is asked for on a terminal without showing; a line break at " +
			"its end is\nleft out. It is never taken from the command line, which others can see.",
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
			if p, err := e.Open(c.Context()); err == nil { // what is wrong with the project is told elsewhere
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
			fmt.Fprintf(e.Out, "sealed data.%s in %s\n", args[1], name)
			return nil
		},
	}
}

// maxSecret bounds one sealed value, in bytes.
const maxSecret = 1 << 20

func secretInput(e *cli.Env, key string) (string, error) {
	if e.Terminal {
		first, err := e.Secret("Value of " + key + ": ")
		if err != nil {
			return "", err
		}
		again, err := e.Secret("Once more: ")
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
			Remedy("seal a file by other means, and keep only its key here")
	}
	said := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	if said == "" {
		return "", problem.Errorf("standard input is empty").
			Remedy("give the value there, as in: jadekettle secret set LAYER KEY < file")
	}
	return said, nil
}

func secretGet(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "get LAYER KEY", Short: "Print one sealed value", Args: cobra.ExactArgs(2),
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
		Use: "edit LAYER", Short: "Open a sealed file in your editor", Args: cobra.ExactArgs(1),
		Long: "Edit decrypts the sealed file of a layer into a file that only you can read, in memory where " +
			"there is\n" +
			"such a folder, opens $VISUAL or $EDITOR on it, and seals what comes of it. A text that is no valid " +
			"TOML is\ngiven back to the editor.",
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
				fmt.Fprintf(e.Out, "sealed %s\n", name)
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

func secretReseal(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "reseal", Short: "Seal every file for the recipients that the settings name now", Args: cobra.NoArgs,
		Long: "Reseal opens every sealed file and seals it anew, after recipients were added or taken out. Who could " +
			"read\na secret keeps what was read: change the secrets themselves when someone leaves.",
		RunE: func(c *cobra.Command, _ []string) error {
			v, err := vault(c.Context(), e)
			if err != nil {
				return err
			}
			return v.Reseal(func(name string, readers int) {
				fmt.Fprintf(e.Out, "%s  sealed for %s\n", name, text.Count(readers, "recipient"))
			})
		},
	}
}

func secretWho(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "who", Short: "Tell who can read which sealed file", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			v, err := vault(c.Context(), e)
			if err != nil {
				return err
			}
			list, err := v.Who()
			if err != nil {
				return err
			}
			doc := document.Sealed{Head: document.One, Files: list}
			return e.Render(doc, func(w io.Writer) { text.Sealed(w, list) })
		},
	}
}
