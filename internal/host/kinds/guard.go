package kinds

import (
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages"
)

// Scope is what a change may cut us off by, and is to be put back if it does.
type Scope struct {
	Paths    []string // of files and folders
	Trees    []string // of folders with all that is in them
	Services []string // that take effect of them, or are changed themselves
	Late     bool     // the paths count only once one of the services has read them
	Packages []string // that go
	Packets  bool     // the rules of nftables
}

// Empty says that nothing of it is to be put back.
func (s Scope) Empty() bool {
	return len(s.Paths)+len(s.Trees)+len(s.Services)+len(s.Packages) == 0 && !s.Packets
}

// ways are the files by which people get into a host, and the services that have to read
// them again; with none, they count at once.
var ways = []struct {
	prefix   string
	services []string
}{
	{"/etc/ssh/", sshServices},
	{"/etc/default/ssh", sshServices},
	{"/etc/systemd/system/ssh", sshServices},
	{"/etc/dropbear/", []string{"dropbear"}},
	{"/etc/systemd/network/", []string{"systemd-networkd"}},
	{"/etc/network/", []string{"networking"}},
	{"/etc/netplan/", []string{"systemd-networkd", "NetworkManager"}},
	{"/etc/NetworkManager/", []string{"NetworkManager"}},
	{"/etc/sysconfig/network", []string{"NetworkManager", "network", "wicked"}},
	{"/etc/nftables.conf", []string{"nftables"}},
	{"/etc/iptables/", []string{"netfilter-persistent", "iptables"}},
	{"/etc/sudoers", nil},
	{"/etc/doas.conf", nil},
	{"/etc/pam.d/", nil},
	{"/etc/pam.conf", nil},
	{"/etc/security/", nil},
	{"/etc/nsswitch.conf", nil},
	{"/etc/hosts.allow", nil},
	{"/etc/hosts.deny", nil},
	{"/etc/passwd", nil},
	{"/etc/shadow", nil},
	{"/etc/group", nil},
	{"/etc/gshadow", nil},
	{"/etc/shells", nil},
}

var sshServices = []string{"ssh", "sshd"}

// doors are the services by which people get into a host.
var doors = []string{"ssh", "sshd", "ssh.socket", "sshd.socket", "dropbear", "nftables", "firewalld", "ufw", "iptables",
	"netfilter-persistent", "networking", "network", "wicked", "systemd-networkd", "NetworkManager", "sssd",
	"nslcd", "winbind"}

// accountFiles hold accounts and groups.
var accountFiles = []string{"/etc/passwd", "/etc/shadow", "/etc/group", "/etc/gshadow"}

// Guarded says by what a task may cut us off, who log in by an account.
func Guarded(env *kind.Env, t plan.Task, login string) Scope {
	switch t.Ref.Kind {
	case "service":
		if slices.Contains(doors, t.Ref.Name) {
			return Scope{Services: []string{t.Ref.Name}}
		}
	case "firewall":
		k, _ := Find(t.Ref.Kind)
		return Scope{Packets: true, Paths: k.(kind.Keeper).Keeps(env, t)}
	case "package":
		return ofPackage(t)
	case "sudo_rule":
		return Scope{Paths: []string{"/etc/sudoers.d/" + t.Ref.Name}}
	case "user", "group":
		return account(env, t, login)
	case "file", "link", "download", "lines", "block", "settings", "dir", "unpack", "checkout":
		return byPath(env, t, login)
	}
	return Scope{}
}

// byPath looks at where something lies.
func byPath(env *kind.Env, t plan.Task, login string) Scope {
	at := kind.FileOfPart(t.Ref.Name)
	// what is in the folder may go, or become something else
	whole := t.Ref.Kind == "unpack" || t.Ref.Kind == "checkout" ||
		t.Ref.Kind == "dir" && (t.Absent || t.Attrs.Bool("only_declared"))
	var s Scope
	for _, w := range ways {
		above := whole && strings.HasPrefix(w.prefix, at+"/")
		if !above && !strings.HasPrefix(at+"/", w.prefix) && !strings.HasPrefix(at, w.prefix) {
			continue
		}
		s.Paths = []string{at}
		if whole {
			s.Trees = []string{at}
		}
		for _, name := range w.services { // a folder above several ways has the services of all
			if !slices.Contains(s.Services, name) {
				s.Services = append(s.Services, name)
			}
		}
		s.Late = len(s.Services) > 0
		if !above {
			break
		}
	}
	home := homeOf(env, login)
	if keys := home + "/.ssh"; s.Empty() && home != "" && (at == home || strings.HasPrefix(at, keys)) {
		s.Paths = append(s.Paths, at)
		if whole {
			s.Trees = []string{at}
			if at == home { // which may hold more than can be kept
				s.Trees = []string{keys}
			}
		}
	}
	if s.Empty() {
		return s
	}
	for _, l := range t.Tree {
		s.Paths = append(s.Paths, path.Join(at, l.Path))
	}
	return s
}

// ofPackage looks whether a package that goes lets people in.
func ofPackage(t plan.Task) Scope {
	if !t.Absent {
		return Scope{}
	}
	for _, d := range packages.Doors {
		if slices.Contains(d.Names, t.Ref.Name) {
			return Scope{Packages: []string{t.Ref.Name}, Services: d.Services, Trees: d.Trees}
		}
	}
	return Scope{}
}

// account looks whether an account is the one that logs in, or a group one of its own.
func account(env *kind.Env, t plan.Task, login string) Scope {
	if login == "" || t.Ref.Kind == "user" && t.Ref.Name != login {
		return Scope{}
	}
	a, err := env.Accounts()
	if err != nil {
		return Scope{}
	}
	u, there := a.User(login)
	if t.Ref.Kind == "group" {
		g, _ := a.Group(t.Ref.Name)
		if !there || u.GID != g.GID && !a.GroupsOf(login)[t.Ref.Name] {
			return Scope{}
		}
	}
	s := Scope{Paths: slices.Clone(accountFiles)}
	if home := homeOf(env, login); home != "" {
		s.Paths = append(s.Paths, home, home+"/.ssh", home+"/.ssh/authorized_keys")
	}
	return s
}

func homeOf(env *kind.Env, login string) string {
	a, err := env.Accounts()
	if err != nil || login == "" {
		return ""
	}
	u, _ := a.User(login)
	if len(u.Home) < 2 {
		return ""
	}
	return path.Clean(u.Home)
}
