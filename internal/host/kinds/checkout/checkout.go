// Package checkout is the kind of git working copies, by the host's own git(1).
package checkout

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "checkout",
	Area:  "files",
	About: "A git working copy at a branch, a tag or a commit.",
	Doc: "The name is the directory. A branch is updated at each apply; a tag or a full commit is fixed. " +
		"Untracked files are left alone. Local edits are never lost: while there are any, the working copy is not " +
		"moved to another commit.",
	Attrs: []schema.Attr{
		{Name: "url", Type: schema.Text, Required: true, Doc: "The repository, in any form that git accepts.",
			Examples: []string{`"https://git.example.org/tide-pages.git"`, `"/srv/git/tide-pages.git"`}},
		{Name: "revision", Type: schema.Text, Required: true, Floating: "HEAD",
			Doc: "A branch, a tag, or a commit in 40 hexadecimal digits. If a name is both a branch and a " +
				"tag, or looks like the start of a commit, write refs/heads/NAME or refs/tags/NAME.",
			Examples: []string{`"main"`, `"v2.1"`}},
		{Name: "run_as", Type: schema.Name, Default: "the login user (root when elevated)",
			Doc:      "The user to run git as, who will own the files.",
			Examples: []string{`"tidelog"`}},
		{Name: "ssh_key", Type: schema.Path, Doc: "A private key on the host for reaching the repository over SSH.",
			Examples: []string{`"/etc/tide/deploy_key"`}},
		{Name: "discard_edits", Type: schema.Bool, Default: "false",
			Doc: "Discard local edits.", Examples: []string{"true"}},
		{Name: "fetch_limit", Type: schema.Duration, Default: `"10m"`, Doc: "The time limit for a fetch.",
			Examples: []string{`"1h"`}},
	},
	Examples: []schema.Example{
		{About: "A branch, followed", TOML: `[checkout."/srv/tide-pages"]
url = "https://git.example.org/tide-pages.git"
revision = "main"
`},
		{About: "A tool at a tag, for one user", TOML: `[user.tidelog]

[dir."/srv/tools"]
owner = "tidelog"
mode = "0755"

[checkout."/srv/tools/harmonics"]
url = "https://git.example.org/harmonics.git"
revision = "v2.1"
run_as = "tidelog"
discard_edits = true
`},
	},
	NoAbsent: "declare [dir.\"/the/directory\"] with absent = true and with_contents = true, which also removes " +
		"edits in it",
	Captures: []string{"url", "revision", "run_as"},
	TooMany:  "/srv/tide-pages",
	Canon:    schema.FilePath,
	Needs: func(n schema.Needer) []value.Ref {
		out := append(kind.ParentDirs(n), value.Ref{Kind: "package", Name: "git"},
			value.Ref{Kind: "dir", Name: n.Ref.Name})
		if user := n.Attrs.Text("run_as"); user != "" {
			out = append(out, value.Ref{Kind: "user", Name: user})
		}
		if key := n.Attrs.Text("ssh_key"); key != "" {
			out = append(out, value.Ref{Kind: "file", Name: key})
		}
		return out
	},
	Check: func(name string, a value.Attrs) (string, error) {
		u, rev := a.Text("url"), a.Text("revision")
		switch {
		case a.Has("url") && (u == "" || strings.HasPrefix(u, "-") || strings.HasPrefix(u, "ext::") ||
			strings.ContainsAny(u, " \t\r\n")):
			return "url", problem.Errorf("invalid repository address %q", u).
				Remedy("use one such as https://git.example.org/tide-pages.git")
		case secretIn(u):
			return "url", problem.Errorf("the address contains a password, and every user of the host can see it").
				Remedy("use ssh_key, or git's credential store")
		case a.Has("revision") && (len(rev) > 200 || !revisionForm().MatchString(rev)):
			return "revision", problem.Errorf("invalid branch, tag or commit %q", rev).Remedy("use an existing one")
		case strings.Count(name, "/") < 2:
			return "", problem.Errorf("%s is a system directory", name).Remedy("check out into a directory below it")
		}
		return "", nil
	},
}

// revisionForm is narrower than what git takes (git-check-ref-format(1)). It
// counts nothing, since that takes a millisecond of every worker's start.
var revisionForm = lazy.Regexp(`^[A-Za-z0-9_][A-Za-z0-9._/@+-]*$`)

// seemsCommit says whether a name reads like the beginning of a commit.
func seemsCommit(rev string) bool {
	return len(rev) >= 7 && len(rev) < 64 && strings.Trim(rev, "0123456789abcdef") == ""
}

// commitForm is a whole one.
var commitForm = lazy.Regexp(`^[0-9a-f]{40}([0-9a-f]{24})?$`)

// secretIn says whether an address holds a password.
func secretIn(u string) bool {
	_, rest, ok := strings.Cut(u, "://")
	host, _, _ := strings.Cut(rest, "/")
	user, _, at := strings.Cut(host, "@")
	return ok && at && strings.Contains(user, ":")
}

// Kind is the kind of working copies.
func Kind() kind.Kind { return kind.Each(checkouts{}) }

type checkouts struct{}

func (checkouts) Schema() *schema.Kind { return about }

type state struct {
	there  bool   // a working copy
	empty  bool   // a folder with nothing in it
	url    string // that it comes from
	commit string // that it is at
	edited []string
	want   string // the commit that is declared; empty when nobody could be asked
}

// git is one git command for a task.
type git struct {
	env  *kind.Env
	task plan.Task
	as   *machine.Rights
	at   string
}

func newGit(env *kind.Env, t plan.Task) (*git, error) {
	g := &git{env: env, task: t, at: t.Ref.Name}
	if !env.Machine.Look("git") {
		return nil, kind.NotYet(problem.Errorf("git is not installed on this host").Remedy("declare [package.git]"))
	}
	if user := t.Attrs.Text("run_as"); user != "" {
		var err error
		if g.as, err = env.Rights(user); err != nil {
			return nil, err
		}
	}
	return g, nil
}

// uid is whose rights git has.
func (g *git) uid() int {
	if g.as != nil {
		return g.as.UID
	}
	return g.env.Machine.UID()
}

// usualLimit is how long git may take to fetch.
const usualLimit = 10 * time.Minute

// run calls git so that it asks nobody anything, and runs no hook that is in
// the folder.
func (g *git) run(ctx context.Context, args ...string) (string, error) {
	base := []string{"git", "-c", "core.hooksPath=/dev/null", "-c", "core.fsmonitor=false", "-c",
		"protocol.ext.allow=never",
		"-c", "advice.detachedHead=false"}
	ssh := "ssh -o BatchMode=yes -o ConnectTimeout=30"
	if key := g.task.Attrs.Text("ssh_key"); key != "" {
		ssh += " -o IdentitiesOnly=yes -i '" + strings.ReplaceAll(key, "'", `'\''`) + "'"
	}
	c := machine.Command{Args: append(base, args...), As: g.as, Limit: usualLimit,
		Env: []string{"GIT_TERMINAL_PROMPT=0", "GIT_SSH_COMMAND=" + ssh, "GIT_ASKPASS=/bin/false",
			"GIT_OPTIONAL_LOCKS=0"}} // to look writes nothing: `git status` would write its index
	if limit := g.task.Attrs.Text("fetch_limit"); limit != "" {
		c.Limit, _ = measure.ParseDuration(limit) // checked with the manifest
	}
	out, err := machine.Do(ctx, g.env.Machine, c, errorLine)
	return strings.TrimSpace(out.Stdout), err
}

// in calls git in the working copy.
func (g *git) in(ctx context.Context, args ...string) (string, error) {
	return g.run(ctx, append([]string{"-C", g.at}, args...)...)
}

// errorLine picks what git calls fatal, or an error.
var errorLine = machine.ErrorLine("fatal: ", "error: ")

// Read asks git where the working copy is, and the repository which commit is
// meant.
func (checkouts) Read(ctx context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	g, err := newGit(env, t)
	if err != nil {
		return st, err
	}
	if !t.Attrs.Has("url") && !t.Absent { // nothing is declared: a capture looks for itself
		return st, nil
	}
	missing := st.look(g)
	if missing != nil && !errors.Is(missing, kind.ErrNotYet) {
		return st, missing
	}
	if st.there {
		if err := st.ask(ctx, g); err != nil {
			return st, err
		}
	}
	rev := t.Attrs.Text("revision")
	if commitForm().MatchString(rev) {
		st.want = rev
		return st, missing
	}
	st.want, err = g.meant(ctx, rev)
	return st, cmp.Or(missing, err)
}

// look says what is there at the folder.
func (st *state) look(g *git) error {
	d, err := g.env.Machine.Dir(g.at)
	if errors.Is(err, fs.ErrNotExist) {
		up, _, err := g.env.Split(g.at)
		if err == nil {
			up.Close()
		}
		return err
	}
	if err != nil {
		return err
	}
	defer d.Close()
	info, err := d.Lstat(".")
	if err != nil {
		return err
	}
	if by := g.uid(); info.UID != by {
		return problem.Errorf("%s belongs to a different user than git would run as", g.at).
			Remedy("set run_as to its owner, because git runs commands that a working copy configures")
	}
	if _, err := d.Lstat(".git"); err == nil {
		st.there = true
		return nil
	}
	names, err := g.env.Machine.ReadDir(g.at)
	if err != nil {
		return err
	}
	if st.empty = len(names) == 0; !st.empty {
		return problem.Errorf("%s exists but is not a git working copy", g.at).
			Remedy("move it away by hand, or use another directory")
	}
	return nil
}

func (st *state) ask(ctx context.Context, g *git) error {
	var err error
	if st.url, err = g.in(ctx, "config", "--get", "remote.origin.url"); err != nil {
		st.url = ""
	}
	if st.commit, err = g.in(ctx, "rev-parse", "--verify", "-q", "HEAD"); err != nil {
		st.commit = "" // nothing was ever checked out
		return nil
	}
	text, err := g.in(ctx, "status", "--porcelain", "--untracked-files=no", "--ignore-submodules=none")
	if err != nil {
		return err
	}
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" {
			_, name, _ := strings.Cut(line, " ")
			st.edited = append(st.edited, strings.TrimSpace(name))
		}
	}
	return nil
}

// meant asks the repository which commit a branch or tag names.
func (g *git) meant(ctx context.Context, rev string) (string, error) {
	text, err := g.run(ctx, "ls-remote", "--", g.task.Attrs.Text("url"), rev, rev+"^{}", "refs/tags/"+rev+"^{}")
	if err != nil && strings.Contains(err.Error(), "dubious ownership") {
		return "", problem.Errorf("%w", err).
			Remedy("git does not read a repository that another user owns; set run_as to its owner, or use ssh or " +
				"https")
	}
	if err != nil {
		return "", problem.Errorf("the repository cannot be read: %w", err).
			Remedy("check that the host can reach %s and has access", g.task.Attrs.Text("url"))
	}
	found := map[string]string{}
	for line := range strings.Lines(text) {
		commit, ref, _ := strings.Cut(strings.TrimSpace(line), "\t")
		found[ref] = commit
	}
	// Whoever may push chooses names, so none takes the place of another.
	tag, branch := cmp.Or(found["refs/tags/"+rev+"^{}"], found["refs/tags/"+rev]), found["refs/heads/"+rev]
	full := strings.HasPrefix(rev, "refs/") || rev == "HEAD"
	var commit string
	switch {
	case full:
		commit = cmp.Or(found[rev+"^{}"], found[rev])
	case tag != "" && branch != "":
		return "", problem.Errorf("%s is both a branch and a tag in the repository", rev).
			Remedy("write refs/heads/%s or refs/tags/%s", rev, rev)
	default:
		commit = cmp.Or(tag, branch)
	}
	if commit != "" && !full && seemsCommit(rev) {
		return "", problem.Errorf(
			"%s is a branch or tag in the repository, but looks like the start of a commit", rev).
			Remedy("write refs/heads/%s, refs/tags/%s or the full commit", rev, rev)
	}
	if commitForm().MatchString(commit) {
		return commit, nil
	}
	return "", problem.Errorf("the repository does not have a branch or tag %s", rev).
		Remedy("check the spelling; write a commit in full, with 40 digits")
}

// Compare says what differs.
func (checkouts) Compare(t plan.Task, st state) []plan.Change {
	url := t.Attrs.Text("url")
	if !st.there {
		return []plan.Change{{What: "checkout", Was: "absent", Becomes: url},
			{What: "commit", Becomes: describeCommit(t, st.want)}}
	}
	var out []plan.Change
	if st.url != url {
		out = append(out, plan.Change{What: "url", Was: st.url, Becomes: url})
	}
	if st.commit != st.want {
		out = append(out, plan.Change{What: "commit", Was: short(st.commit), Becomes: describeCommit(t, st.want)})
	}
	if len(st.edited) > 0 && t.Attrs.Bool("discard_edits") {
		out = append(out, plan.Change{What: "edits", Was: kind.Some(st.edited), Becomes: "none"})
	}
	return out
}

func describeCommit(t plan.Task, commit string) string {
	rev := t.Attrs.Text("revision")
	switch {
	case commit == "": // nobody could be asked yet
		return rev
	case rev != commit:
		return short(commit) + " (" + rev + ")"
	}
	return short(commit)
}

func short(commit string) string {
	if commit == "" {
		return "none"
	}
	return commit[:min(12, len(commit))]
}

// Write makes the working copy, or brings it to the commit.
func (checkouts) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	g, err := newGit(env, w.Task)
	if err != nil {
		return err
	}
	st, url := w.State, w.Task.Attrs.Text("url")
	if len(st.edited) > 0 && !w.Task.Attrs.Bool("discard_edits") {
		return problem.Errorf("%s was edited on the host: %s", w.Task.Ref.Name, kind.Some(st.edited)).
			Remedy("see `git -C %s diff`; set discard_edits = true to discard the edits", w.Task.Ref.Name)
	}
	fetched := func() error { return g.fetch(ctx, st.want) }
	if !st.there {
		return g.make(ctx, st, url, fetched)
	}
	if st.url == "" {
		_, err = g.in(ctx, "remote", "add", "origin", url)
	} else if st.url != url {
		_, err = g.in(ctx, "remote", "set-url", "origin", url)
	}
	if err != nil {
		return err
	}
	if err := fetched(); err != nil {
		return err
	}
	_, err = g.in(ctx, "checkout", "--force", "--detach", st.want+"^{commit}")
	return err
}

// fetch brings a commit, unless it is there.
func (g *git) fetch(ctx context.Context, commit string) error {
	if _, err := g.in(ctx, "cat-file", "-e", commit+"^{commit}"); err == nil {
		return nil
	}
	if _, err := g.in(ctx, "fetch", "--tags", "--force", "origin", "+refs/heads/*:refs/remotes/origin/*"); err != nil {
		return err
	}
	if _, err := g.in(ctx, "cat-file", "-e", commit+"^{commit}"); err == nil {
		return nil
	}
	_, err := g.in(ctx, "fetch", "origin", commit) // which a server may refuse for what no branch holds
	return err
}

// make puts a new working copy down: what cannot be fetched leaves nothing.
func (g *git) make(ctx context.Context, st state, url string, fetched func() error) error {
	if !st.empty {
		if err := g.mkdir(); err != nil {
			return err
		}
	}
	_, err := g.in(ctx, "init", "-q")
	if err == nil {
		_, err = g.in(ctx, "remote", "add", "origin", url)
	}
	if err == nil {
		err = fetched()
	}
	if err == nil {
		_, err = g.in(ctx, "checkout", "--force", "--detach", st.want+"^{commit}")
	}
	if err != nil {
		return errors.Join(err, g.remove(st.empty))
	}
	return nil
}

// mkdir makes the folder, as whose the rights are.
func (g *git) mkdir() error {
	uid, gid := -1, -1
	if g.as != nil {
		uid, gid = g.as.UID, g.as.GID
	}
	return g.env.Mkdir(g.at, uid, gid)
}

func (g *git) remove(keep bool) error {
	at := g.at
	if keep {
		at = path.Join(at, ".git")
	}
	d, name, err := g.env.Split(at)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.RemoveAll(name)
}

// Prior says that git has the revision that a working copy was at.
func (checkouts) Prior(context.Context, *kind.Env, plan.Task, state) ([]plan.Prior, error) {
	return nil, problem.Errorf("git keeps the previous commit of the working copy in its reflog")
}

// Capture declares a working copy that is there: its branch where it is on one,
// else its commit.
func (checkouts) Capture(ctx context.Context, env *kind.Env, t plan.Task, _ state) (plan.Captured, error) {
	owner, err := ownerOf(env, t.Ref.Name)
	if err != nil {
		return plan.Captured{}, err
	}
	attrs := value.Attrs{}
	if owner != "" {
		attrs["run_as"] = owner
	}
	t.Attrs = attrs
	g, err := newGit(env, t)
	if err != nil {
		return plan.Captured{}, err
	}
	var st state
	if err := st.look(g); err != nil {
		return plan.Captured{}, err
	}
	if !st.there {
		return plan.Captured{}, problem.Errorf("it is not a git working copy").Remedy("capture it as a dir")
	}
	if err := st.ask(ctx, g); err != nil {
		return plan.Captured{}, err
	}
	if st.url == "" || st.commit == "" {
		return plan.Captured{}, problem.Errorf("it has no origin").Remedy("declare it by hand")
	}
	if secretIn(st.url) {
		return plan.Captured{}, problem.Errorf("the address of its origin contains a password").
			Remedy("declare it by hand, with ssh_key or git's credential store")
	}
	c := plan.Captured{Attrs: attrs}
	attrs["url"], attrs["revision"] = st.url, st.commit
	if branch, err := g.in(ctx, "symbolic-ref", "--short", "-q", "HEAD"); err == nil && branch != "" {
		attrs["revision"] = branch
	}
	if len(st.edited) > 0 {
		c.Note = "it was edited on the host: " + kind.Some(st.edited)
	}
	return c, nil
}

// ownerOf names whose a folder is, unless it is ours.
func ownerOf(env *kind.Env, p string) (string, error) {
	d, name, err := env.Split(p)
	if err != nil {
		return "", err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) || err == nil && !info.Type.IsDir() {
		return "", problem.Errorf("the directory does not exist").Remedy("use the directory of a working copy")
	}
	if err != nil || info.UID == env.Machine.UID() {
		return "", err
	}
	own, err := env.OwnershipOf(d, info)
	return own.Owner, err
}
