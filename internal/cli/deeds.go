package cli

import (
	"bufio"
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

	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/settings"
	screen "jadekettle/internal/present/text"
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
	for _, t := range s.Tells {
		if len(t.Command) > 0 {
			add("runs `"+strings.Join(t.Command, " ")+"` when a run ends (tell."+t.Name+")", scripts(dir, t.Command)...)
		}
		if t.Webhook != "" {
			add("posts to "+withoutQuery(t.Webhook)+" when a run ends (tell."+t.Name+")"+with("key", t.KeyFile),
				t.Webhook)
		}
		if len(t.Mail) > 0 {
			add("sends mail through " + t.Server + " when a run ends (tell." + t.Name + ")" +
				with("password", t.PasswordFile))
		}
	}
	if s.Log != "" {
		add("writes to " + s.Log + " (log.file)")
	}
	if s.History != "" {
		add("keeps its runs in " + s.History + " (history.file)")
	}
	if s.HistoryURL != "" {
		add("keeps its runs in "+withoutQuery(s.HistoryURL)+" (history.url)", s.HistoryURL)
	}
	slices.SortFunc(out, func(a, b deed) int { return cmp.Compare(a.whole, b.whole) })
	return slices.Compact(out)
}

// scripts gives the digests of the files of a project that a command names: who agreed to run one has
// not agreed to what it becomes.
func scripts(dir string, words []string) []string {
	root, err := files(dir)
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

// anyHost is a host's command with its name and its address told alike for all hosts, so that a host
// more is no deed more. The program that is run, the first word, is told as it is.
func anyHost(h *inventory.Host) string {
	program, words, _ := strings.Cut(h.Connect.Command, " ")
	alike := func(of, as string) {
		if of != "" && !strings.ContainsFunc(of, func(r rune) bool { return strings.ContainsRune(" \t'\"$`;&|<>()\\", r) }) {
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
func (a *App) stranger(dir string) (whose, name string) {
	if a.taken != nil {
		sum := sha256.Sum256([]byte(a.taken.URL))
		return "was taken from " + a.taken.URL, sources.NameOf(a.taken.URL) + "-" + hex.EncodeToString(sum[:6])
	}
	for _, file := range []string{dir, filepath.Join(dir, settings.File)} {
		info, err := os.Stat(file)
		if err != nil {
			continue
		}
		s, ok := info.Sys().(*syscall.Stat_t)
		if ok && s.Uid != 0 && int(s.Uid) != os.Geteuid() {
			uid := strconv.Itoa(int(s.Uid))
			owner := "the account " + uid
			if u, err := user.LookupId(uid); err == nil {
				owner = u.Username
			}
			return "belongs to " + owner, uid + ":" + dir
		}
	}
	return "", ""
}

// permit asks, once, whether a project that is not the caller's own may do on this machine what its
// settings say. Without a terminal it refuses, unless --trust was given.
func (a *App) permit(dir string, s settings.Settings, inv *inventory.Inventory) error {
	whose, name := a.stranger(dir)
	if whose == "" || a.trust {
		return nil
	}
	agreed, err := a.agreed()
	if err != nil {
		return err
	}
	fresh := slices.DeleteFunc(deedsOf(dir, s, inv), func(d deed) bool {
		return slices.Contains(agreed[name], d.mark())
	})
	if len(fresh) == 0 {
		return nil
	}
	const shown = 20
	list := ""
	for _, d := range fresh[:min(len(fresh), shown)] {
		list += "\n  " + screen.Line(d.what)
	}
	if more := len(fresh) - shown; more > 0 {
		list += fmt.Sprintf("\n  and %d more", more)
	}
	completes := len(a.args) > 0 && (a.args[0] == cobra.ShellCompRequestCmd ||
		a.args[0] == cobra.ShellCompNoDescRequestCmd)
	if completes {
		return problem.Errorf("this project %s", whose)
	}
	fmt.Fprintf(a.Err, "This project %s, and its settings act on this machine, with your rights:%s\n",
		screen.Line(whose), list)
	if !a.Terminal {
		return problem.Errorf("the settings of this project were not allowed to act on this machine").
			Remedy("if you trust the project, run `jadekettle preview` once on a terminal, or use --trust")
	}
	fmt.Fprint(a.Err, "Allow this? [y/N] ")
	if !yes(bufio.NewReader(a.In)) {
		return problem.Errorf("the settings of this project were not allowed to act on this machine").
			Remedy("`jadekettle lint` reads a project and does nothing of it")
	}
	for _, d := range fresh {
		agreed[name] = append(agreed[name], d.mark())
	}
	a.unkept("what was agreed to", a.keepAgreed(agreed))
	return nil
}

func (d deed) mark() string {
	sum := sha256.Sum256([]byte(d.whole))
	return hex.EncodeToString(sum[:16])
}

// agreed reads to what deeds of which projects somebody agreed, by their marks.
func (a *App) agreed() (map[string][]string, error) {
	if a.agreedTo != nil {
		return a.agreedTo, nil
	}
	kept := map[string][]string{}
	file := a.agreedFile()
	data, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(data, &kept)
	}
	if err != nil && file != "" && !errors.Is(err, fs.ErrNotExist) || kept == nil {
		return nil, problem.Errorf("what projects of others may do here is kept in %s, which cannot be read: %v",
			file, err).
			Remedy("take the file away, and agree anew")
	}
	a.agreedTo = kept
	return kept, nil
}

func (a *App) keepAgreed(all map[string][]string) error {
	file := a.agreedFile()
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

// agreedFile is empty where no folder of the user's own is known.
func (a *App) agreedFile() string {
	if file := a.historyFile(); file != "" {
		return filepath.Join(filepath.Dir(file), "agreed.json")
	}
	return ""
}
