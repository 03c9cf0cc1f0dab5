package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/history"
)

func (a *App) hostsCommand() *cobra.Command {
	var except []string
	c := &cobra.Command{
		Use: "hosts [TARGET...]", Short: "List hosts with their groups", GroupID: "work",
		RunE: func(_ *cobra.Command, targets []string) error {
			_, hosts, _, err := a.load(targets, except)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.hostsJSON(hosts)
			}
			a.hostsTable(hosts)
			return nil
		},
	}
	c.Flags().StringSliceVar(&except, "except", nil, "hosts, patterns or @groups to take out again")
	c.AddCommand(a.trustCommand())
	return c
}

func groupsOf(h *inventory.Host) []string {
	out := []string{}
	for _, g := range h.Groups {
		out = append(out, g.Name)
	}
	return out
}

func manifestsOf(h *inventory.Host) []string {
	out := []string{}
	for _, g := range h.Groups {
		for _, use := range g.Manifests {
			out = append(out, use.Manifest)
		}
	}
	return out
}

func (a *App) hostsJSON(hosts []*inventory.Host) error {
	list := []map[string]any{}
	for _, h := range hosts {
		list = append(list, map[string]any{"name": h.Name, "address": h.Address(), "groups": groupsOf(h), "manifests": manifestsOf(h), "off": h.Off, "own": h.Vars})
	}
	return history.WriteJSON(a.Out, map[string]any{"format": 1, "hosts": list})
}

func (a *App) hostsTable(hosts []*inventory.Host) {
	rows := [][]string{{"host", "address", "groups", "manifests"}}
	for _, h := range hosts {
		rows = append(rows, []string{h.Name, h.Address(), strings.Join(groupsOf(h), " "), strings.Join(manifestsOf(h), " ")})
	}
	wide := make([]int, 4)
	for _, r := range rows {
		for i, cell := range r {
			wide[i] = max(wide[i], len(cell))
		}
	}
	for i, r := range rows {
		line := ""
		for j, cell := range r {
			line += fmt.Sprintf("%-*s  ", wide[j], cell)
		}
		line = strings.TrimRight(line, " ")
		m := plain
		if i == 0 || hosts[i-1].Off != "" {
			m = quiet
		}
		if i > 0 && hosts[i-1].Off != "" {
			line += "  off: " + hosts[i-1].Off
		}
		fmt.Fprintln(a.Out, a.style(m).Render(line))
	}
}

func (a *App) trustCommand() *cobra.Command {
	t := &trust{app: a}
	c := &cobra.Command{
		Use: "trust HOST...", Short: "Accept the host keys that hosts show, after a look at them", Args: cobra.MinimumNArgs(1),
		Long: "Trust asks each host for its key, shows the fingerprint, and writes the key into the known_hosts file when\nyou agree. Compare the fingerprint with what `ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub` prints on the\nhost. A key that differs from a known one is only accepted with --replace.",
		RunE: func(c *cobra.Command, targets []string) error {
			p, hosts, dir, err := a.load(targets, nil)
			if err != nil {
				return err
			}
			if !t.yes && !a.Terminal {
				return errors.New("there is no terminal to ask on; say --yes when you know the fingerprints")
			}
			t.dialer, t.in = a.dialer(p, dir), bufio.NewReader(a.In)
			for _, h := range hosts {
				if h.Off != "" || h.Connect.Local {
					continue
				}
				if err := t.host(c.Context(), a.target(h, dir)); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&t.replace, "replace", false, "accept a key in the place of another that is known")
	c.Flags().BoolVar(&t.yes, "yes", false, "do not ask")
	return c
}

// trust is one call of `hosts trust`.
type trust struct {
	app          *App
	dialer       *reach.Dialer
	in           *bufio.Reader
	replace, yes bool
}

// host looks at one host's key and accepts it when that is wanted.
func (t *trust) host(ctx context.Context, target reach.Target) error {
	k, err := t.dialer.Key(ctx, target)
	switch {
	case err != nil:
		t.refuse("%s  not reached: %s", target.Name, value.Printable(err.Error()))
		return nil
	case k.Known:
		fmt.Fprintf(t.app.Out, "%s  %s  known already\n", target.Name, k.Fingerprint)
		return nil
	case k.Changed && !t.replace:
		t.refuse("%s  %s  is not the key that is known; say --replace if the host was set up anew", target.Name, k.Fingerprint)
		return nil
	case !t.yes && !t.agree(target.Name, k.Fingerprint):
		return nil
	}
	if err := t.dialer.Trust(k); err != nil {
		return fmt.Errorf("write the known hosts: %w", err)
	}
	fmt.Fprintf(t.app.Out, "%s  %s  accepted\n", target.Name, k.Fingerprint)
	return nil
}

func (t *trust) refuse(format string, args ...any) {
	fmt.Fprintf(t.app.Err, format+"\n", args...)
	t.app.code = exitFailed
}

func (t *trust) agree(name, fingerprint string) bool {
	fmt.Fprintf(t.app.Err, "%s  %s\nAccept it? [y/N] ", name, fingerprint)
	return yes(t.in)
}

// yes reads an answer.
func yes(in *bufio.Reader) bool {
	answer, _ := in.ReadString('\n')
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes"
}
