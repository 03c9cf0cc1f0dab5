package packages

import (
	"context"
	"fmt"
	"slices"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
)

// Door is what lets people into a host: packages by one name or another, the services that they bring, and the folders
// that go with them.
type Door struct{ Names, Services, Trees []string }

// Doors are those that a host may have. None of them goes along with another package.
var Doors = []Door{
	{[]string{"openssh-server", "openssh"}, []string{"ssh", "sshd"}, []string{"/etc/ssh"}},
	{[]string{"dropbear", "dropbear-bin", "dropbear-run"}, []string{"dropbear"}, []string{"/etc/dropbear"}},
	{[]string{"sudo"}, nil, []string{"/etc/sudoers", "/etc/sudoers.d"}},
	{[]string{"doas", "opendoas"}, nil, []string{"/etc/doas.conf"}},
	{[]string{"ifupdown", "ifupdown-ng"}, []string{"networking"}, []string{"/etc/network"}},
	{[]string{"network-manager", "NetworkManager", "networkmanager"}, []string{"NetworkManager"},
		[]string{"/etc/NetworkManager"}},
	{[]string{"netplan.io"}, nil, []string{"/etc/netplan"}},
	{[]string{"systemd-networkd"}, []string{"systemd-networkd"}, []string{"/etc/systemd/network"}},
	{[]string{"wicked"}, []string{"wicked"}, nil},
}

func isDoor(name string) bool {
	return slices.ContainsFunc(Doors, func(d Door) bool { return slices.Contains(d.Names, name) })
}

// Prior is a package that is installed, to be put back.
type Prior struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// PriorOf gives the versions in which packages are installed, those of them that are, and sees to it that they
// can be had again without anybody's help.
func PriorOf(ctx context.Context, env *kind.Env, names []string) ([]Prior, error) {
	if len(names) == 0 {
		return nil, nil
	}
	m, err := ManagerOf(env)
	if err != nil {
		return nil, err
	}
	have, err := m.Installed(ctx, env, names)
	if err != nil {
		return nil, err
	}
	offers, err := m.Offers(ctx, env, names)
	if err != nil {
		return nil, err
	}
	fetcher, fetches := m.(backend.Fetcher)
	var out []Prior
	for _, name := range names {
		if have[name].Version == "" {
			continue
		}
		if offers[name].Newest == "" {
			return nil, problem.Errorf("no repository has %s, so it could not be installed again", name)
		}
		if fetches {
			if err := fetcher.Fetch(ctx, env, []backend.Want{{Name: name, Version: have[name].Version}}); err != nil {
				return nil, fmt.Errorf("%s could not be installed again: %w", name, err)
			}
		}
		out = append(out, Prior{name, have[name].Version})
	}
	return out, nil
}

// PutBack installs a package again that is gone, in the version that it had where that can still be had.
func PutBack(ctx context.Context, env *kind.Env, s Prior) error {
	m, err := ManagerOf(env)
	if err != nil {
		return err
	}
	have, err := m.Installed(ctx, env, []string{s.Name})
	if err != nil || have[s.Name].Version != "" {
		return err
	}
	if m.Install(ctx, env, []backend.Want{{Name: s.Name, Version: s.Version}}) == nil {
		return nil
	}
	return m.Install(ctx, env, []backend.Want{{Name: s.Name}})
}
