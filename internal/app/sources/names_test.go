package sources

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/core/source"
)

// repository is one whose branch main has a project with a manifest, and whose branch evil another.
func repository(t *testing.T) (dir string, git func(args ...string) string) {
	t.Helper()
	dir = t.TempDir()
	git = func(args ...string) string {
		c := exec.Command("git", append([]string{"-c", "user.name=Maren", "-c",
			"user.email=maren@example.org"}, args...)...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
		return strings.TrimSpace(string(out))
	}
	git("init", "-q", "-b", "main")
	for _, text := range []string{"good", "evil"} {
		for _, name := range []string{"jadekettle.toml", "manifests/pier.toml"} {
			at := filepath.Join(dir, name)
			if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(at, []byte("about = \""+text+"\"\n"), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		git("add", "-A")
		git("commit", "-qm", text)
		if text == "good" {
			git("checkout", "-q", "-b", "evil")
		}
	}
	return dir, git
}

// TestNoNameTakesThePlaceOfAnother: whoever may push names tags and branches as they like.
func TestNoNameTakesThePlaceOfAnother(t *testing.T) {
	dir, git := repository(t)
	good, evil := git("rev-parse", "main"), git("rev-parse", "evil")
	for _, name := range []string{"main", good, good[:8], good[:4], "v1"} {
		git("update-ref", "refs/tags/"+name, evil)
	}
	git("update-ref", "refs/heads/v1", good)
	git("update-ref", "refs/heads/"+good, evil)
	git("update-ref", "refs/heads/"+evil[:9], good)
	git("update-ref", "refs/tags/HEAD", evil)
	git("symbolic-ref", "HEAD", "refs/heads/main")
	cases := map[string]string{ // the commit, or what is wrong
		"main": `"main" is both a branch and a tag; write refs/heads/main or refs/tags/main`,
		"v1":   "is both a branch and a tag",
		good:   good, evil: evil, good[:8]: "looks like the start of a commit",
		good[:4]: "looks like the start of a commit",
		evil[:9]: "looks like the start of a commit", evil[:10]: evil, "refs/heads/main": good,
		"refs/tags/main": evil, "evil": evil,
		"HEAD": good, "": good, "refs/heads/nobody": "not found in", strings.Repeat("a", 40): "not found in",
		"from/main": "not found in",
	}
	for rev, want := range cases {
		m := &Mirror{Cache: t.TempDir(), URL: "file://" + dir}
		got := ""
		taken, err := m.Checkout(t.Context(), rev)
		if err == nil {
			got = taken.Commit
			text, _ := os.ReadFile(filepath.Join(taken.Dir, "jadekettle.toml"))
			if text := string(text); strings.Contains(text, "good") != (want == good) {
				t.Errorf("%q at %s holds %s", rev, want, text)
			}
		} else {
			got = err.Error()
		}
		if !strings.Contains(got, want) {
			t.Errorf("%q is taken as %s, want %s", rev, got, want)
		}
		if rev == "" || rev == "HEAD" {
			continue
		}
		s := &Shelf{Dir: t.TempDir()}
		p := source.Pin{Name: "pier", URL: "file://" + dir, At: rev}
		if err := s.Fetch(t.Context(), &p, ""); err != nil {
			p.Commit = err.Error()
		}
		if !strings.Contains(p.Commit, want) {
			t.Errorf("the source %q is %s, want %s", rev, p.Commit, want)
		}
	}
	if _, _, err := Revision(t.Context(), dir, "main"); err == nil ||
		!strings.Contains(err.Error(), "is both a branch and a tag") {
		t.Errorf("the revision main of a folder: %v", err)
	}
}

// TestWhoFollowsIsNotLedBack: of a branch only what comes after the commit before is taken, unless a
// whole commit is named, and nothing from where nobody proves who answers.
func TestWhoFollowsIsNotLedBack(t *testing.T) {
	dir, git := repository(t)
	good, later := git("rev-parse", "main"), git("rev-parse", "evil")
	m := &Mirror{Cache: t.TempDir(), URL: "file://" + dir, Follow: true}
	take := func(rev string) string {
		taken, err := m.Checkout(t.Context(), rev)
		if err != nil {
			return err.Error()
		}
		return taken.Commit
	}
	const refused = "does not descend from"
	git("checkout", "-q", "main")
	steps := []struct{ do, rev, want string }{
		{"", "main", good},
		{"git reset -q --hard " + later, "main", later},
		{"git reset -q --hard " + good, "main", refused}, // an older one
		{"git commit -q --allow-empty --amend -m another", "main", refused},
		{"", good, good}, // somebody names it
		{"git reset -q --hard " + later, "main", later},
	}
	for _, s := range steps {
		if words := strings.Fields(s.do); len(words) > 0 {
			git(words[1:]...)
		}
		if got := take(s.rev); !strings.Contains(got, s.want) {
			t.Errorf("after %q %s is %s, want %s", s.do, s.rev, got, s.want)
		}
	}
	for _, url := range []string{"http://git.example.org/tides", "git://git.example.org/tides"} {
		m.URL = url
		if got := take("main"); !strings.Contains(got, "does not verify the server") {
			t.Errorf("%s: %s", url, got)
		}
	}
}

// TestABrokenCopyIsReplaced, and what was followed is still known.
func TestABrokenCopyIsReplaced(t *testing.T) {
	dir, git := repository(t)
	good, later := git("rev-parse", "main"), git("rev-parse", "evil")
	git("checkout", "-q", "main")
	for name, spoil := range map[string]func(repo string){
		"no objects": func(repo string) { os.RemoveAll(filepath.Join(repo, "objects")) },
		"no HEAD":    func(repo string) { os.WriteFile(filepath.Join(repo, "HEAD"), nil, 0o600) },
		"bad refs":   func(repo string) { os.WriteFile(filepath.Join(repo, "packed-refs"), []byte("tide\n"), 0o600) },
		"empty objects": func(repo string) {
			filepath.Walk(filepath.Join(repo, "objects"), func(p string, info os.FileInfo, err error) error {
				if err == nil && info.Mode().IsRegular() {
					os.Remove(p)
					os.WriteFile(p, nil, 0o600)
				}
				return nil
			})
		},
	} {
		git("reset", "-q", "--hard", later)
		m := &Mirror{Cache: t.TempDir(), URL: "file://" + dir, Follow: true}
		taken, err := m.Checkout(t.Context(), "main")
		if err != nil {
			t.Fatal(err)
		}
		spoil(taken.Repo)
		os.RemoveAll(taken.Dir)
		if again, err := m.Checkout(t.Context(), "main"); err != nil || again.Commit != later {
			t.Errorf("%s: it is not created again: %v", name, err)
		}
		spoil(taken.Repo)
		git("reset", "-q", "--hard", good)
		if _, err := m.Checkout(t.Context(), "main"); err == nil ||
			!strings.Contains(err.Error(), "does not descend from") {
			t.Errorf("%s: an older one is taken then: %v", name, err)
		}
	}
}
