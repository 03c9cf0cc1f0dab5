package app

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/visible"
)

// deed is something that the settings of a project do on the machine on which a command is called,
// beside what its manifests do on hosts.
type deed struct {
	what  string // as it is shown
	whole string // what is agreed to, with what is not shown of an address
}

// deedsOf lists what the settings of the project in a folder do here. Without an inventory it leaves out
// how hosts are reached.
func deedsOf(dir string, s settings.Settings, inv *inventory.Inventory) []deed {
	var out []deed
	add := func(what string, hidden ...string) {
		out = append(out, deed{what, strings.Join(append(hidden, what), "\x00")})
	}
	if inv != nil {
		for _, h := range inv.Hosts {
			if h.Connect.Command != "" {
				command := anyHost(h)
				add("runs `"+command+"` to reach hosts (connect.command)", scripts(dir, strings.Fields(command))...)
			}
		}
	}
	with := func(what, file string) string {
		if file == "" {
			return ""
		}
		return ", with the " + what + " in " + file
	}
	for _, t := range s.Notify {
		if len(t.Command) > 0 {
			add("runs `"+strings.Join(t.Command, " ")+"` when a run ends (notify."+t.Name+")",
				scripts(dir, t.Command)...)
		}
		if t.Webhook != "" {
			add("posts to "+withoutQuery(t.Webhook)+" when a run ends (notify."+t.Name+")"+with("key", t.KeyFile),
				t.Webhook)
		}
		if len(t.Mail) > 0 {
			add("sends mail through " + t.Server + " when a run ends (notify." + t.Name + ")" +
				with("password", t.PasswordFile))
		}
	}
	if s.Log != "" {
		add("writes to " + s.Log + " (log.file)")
	}
	if s.History != "" {
		add("keeps its history in " + s.History + " (history.file)")
	}
	if s.HistoryURL != "" {
		add("keeps its history in "+withoutQuery(s.HistoryURL)+" (history.url)", s.HistoryURL)
	}
	slices.SortFunc(out, func(a, b deed) int { return cmp.Compare(a.whole, b.whole) })
	return slices.Compact(out)
}

// scripts gives the digests of the files of a project that a command names: who agreed to run one has
// not agreed to what it becomes.
func scripts(dir string, words []string) []string {
	root, err := openFiles(dir)
	if err != nil {
		return nil
	}
	var out []string
	for _, word := range words {
		name := filepath.ToSlash(filepath.Clean(strings.TrimPrefix(word, dir+"/")))
		if data, err := fs.ReadFile(root, name); err == nil {
			sum := sha256.Sum256(data)
			out = append(out, hex.EncodeToString(sum[:]))
		}
	}
	return out
}

// anyHost is a host's command with its name and its address written alike for all hosts, so that a host
// more is not a deed more. The program that is run, the first word, stays as it is.
func anyHost(h *inventory.Host) string {
	program, words, _ := strings.Cut(h.Connect.Command, " ")
	alike := func(of, as string) {
		if of != "" && !strings.ContainsFunc(of,
			func(r rune) bool { return strings.ContainsRune(" \t'\"$`;&|<>()\\", r) }) {
			words = strings.ReplaceAll(words, of, as)
		}
	}
	alike(cmp.Or(h.Connect.Address, h.Address()), "ADDRESS")
	alike(h.Name, "HOST")
	return strings.TrimRight(program+" "+words, " ")
}

// withoutQuery leaves out of an address what may be a token.
func withoutQuery(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "an address"
	}
	u.User, u.RawQuery, u.Fragment = nil, "", ""
	return u.String()
}

// stranger says whose a project is when it is not the caller's own, and by which name what was
// agreed to is kept; both are empty for a project of the caller's own. What root owns is nobody's else:
// root can do all of it anyway.
func (s *Site) stranger() (whose, name string) {
	if s.Taken != nil {
		sum := sha256.Sum256([]byte(s.Taken.URL))
		return "was read from " + s.Taken.URL, sources.NameOf(s.Taken.URL) + "-" + hex.EncodeToString(sum[:6])
	}
	for _, file := range []string{s.Root, filepath.Join(s.Root, settings.File)} {
		info, err := os.Stat(file)
		if err != nil {
			continue
		}
		stat, ok := info.Sys().(*syscall.Stat_t)
		if ok && stat.Uid != 0 && int(stat.Uid) != os.Geteuid() {
			uid := strconv.Itoa(int(stat.Uid))
			owner := "the user " + uid
			if u, err := user.LookupId(uid); err == nil {
				owner = u.Username
			}
			return "belongs to " + owner, uid + ":" + s.Root
		}
	}
	return "", ""
}

// permit asks, once, whether a project that is not the caller's own may do on this machine what its
// settings say. Where nobody can be asked it refuses, unless the caller trusts it.
func (s *Site) permit(of settings.Settings, inv *inventory.Inventory) error {
	whose, name := s.stranger()
	if whose == "" || s.Trust {
		return nil
	}
	agreed, err := s.agreements()
	if err != nil {
		return err
	}
	fresh := slices.DeleteFunc(deedsOf(s.Root, of, inv), func(d deed) bool {
		return slices.Contains(agreed[name], d.mark())
	})
	if len(fresh) == 0 {
		return nil
	}
	if s.Completing {
		return problem.Errorf("this project %s", whose)
	}
	s.note("This project %s, and its settings act on this machine with your permissions:%s", visible.Line(whose),
		listed(fresh))
	refused := problem.Errorf("the settings of this project are not allowed to act on this machine")
	if s.Ask == nil {
		return refused.Remedy("if you trust the project, run `jadekettle preview` once on a terminal, or use --trust")
	}
	if !s.Ask.Agree("Allow this?") {
		return refused.Remedy("`jadekettle lint` only reads a project and runs none of it")
	}
	for _, d := range fresh {
		agreed[name] = append(agreed[name], d.mark())
	}
	s.Unkept("the permission", s.keepAgreements(agreed))
	return nil
}

// listed writes the first of some deeds, a line each.
func listed(deeds []deed) string {
	const shown = 20
	out := ""
	for _, d := range deeds[:min(len(deeds), shown)] {
		out += "\n  " + visible.Line(d.what)
	}
	if more := len(deeds) - shown; more > 0 {
		out += fmt.Sprintf("\n  and %d more", more)
	}
	return out
}

func (d deed) mark() string {
	sum := sha256.Sum256([]byte(d.whole))
	return hex.EncodeToString(sum[:16])
}

// agreements reads to what deeds of which projects somebody agreed, by their marks.
func (c *Caller) agreements() (map[string][]string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.agreed != nil {
		return c.agreed, nil
	}
	kept := map[string][]string{}
	file := c.agreementFile()
	data, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(data, &kept)
	}
	if err != nil && file != "" && !errors.Is(err, fs.ErrNotExist) || kept == nil {
		return nil, problem.Errorf("permissions of other users' projects are kept in %s, which cannot be read: %v",
			file, err).
			Remedy("remove the file, and confirm again")
	}
	c.agreed = kept
	return kept, nil
}

func (c *Caller) keepAgreements(all map[string][]string) error {
	file := c.agreementFile()
	if file == "" {
		return errors.New("neither XDG_STATE_HOME nor HOME is set")
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return atomicfile.Write(file, append(data, '\n'), 0o600)
}

// agreementFile is empty where no folder of the user's own is known.
func (c *Caller) agreementFile() string { return c.stateFile("agreed.json") }
