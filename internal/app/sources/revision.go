package sources

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/problem"
)

// Revision gives the files of a project as they are at a revision of the git repository
// that it is in, and the commit that the revision names. Nothing is checked out.
func Revision(ctx context.Context, dir, rev string) (files fs.FS, commit string, err error) {
	if strings.HasPrefix(rev, "-") || rev == "" {
		return nil, "", problem.Errorf("invalid revision %q", rev).Remedy("use a commit, a tag or a branch")
	}
	s := &Shelf{Dir: dir}
	if s.has(ctx, "refs/heads/"+rev) && s.has(ctx, "refs/tags/"+rev) {
		return nil, "", problem.Errorf("%q is both a branch and a tag", rev).
			Remedy("write refs/heads/%s or refs/tags/%s", rev, rev)
	}
	commit, err = s.git(ctx, dir, "rev-parse", "--verify", "--quiet", "--end-of-options", rev+"^{commit}")
	if err != nil {
		if _, e := s.git(ctx, dir, "rev-parse", "--git-dir"); e != nil {
			return nil, "", problem.Errorf("%s is not in a git repository", dir).
				Remedy("compare needs a project in a git repository")
		}
		return nil, "", problem.Errorf("revision %q not found in this repository", rev).
			Remedy("`git log --oneline` lists commits; `git tag` lists tags")
	}
	list, err := s.git(ctx, dir, "ls-tree", "-r", "-z", commit)
	if err != nil {
		return nil, "", err
	}
	blobs := blobsOf(list)
	if !slices.ContainsFunc(blobs, func(b blob) bool { return b.path == "jadekettle.toml" }) {
		return nil, "", problem.Errorf("at %s, this directory is not a project yet", rev).Remedy("use a later revision")
	}
	files, err = s.read(ctx, dir, blobs)
	return files, commit, err
}

// has says whether the repository around the folder has a reference.
func (s *Shelf) has(ctx context.Context, ref string) bool {
	_, err := s.git(ctx, s.Dir, "show-ref", "--verify", "--quiet", "--", ref)
	return err == nil
}

// Head gives the commit that a folder of a git repository is at, and whether its files
// were changed since; an empty commit where it is in none. Of files that git does not know,
// only those count that counts says are of the project.
func Head(ctx context.Context, dir string, counts func(file string) bool) (commit string, edited bool) {
	s := &Shelf{Dir: dir}
	commit, err := s.git(ctx, dir, "rev-parse", "--verify", "--quiet", "HEAD")
	if err != nil {
		return "", false
	}
	changed, err := s.git(ctx, dir, "status", "--porcelain", "--untracked-files=no", "--", ".")
	if err != nil || changed != "" {
		return commit, true
	}
	others, err := s.git(ctx, dir, "ls-files", "--others", "--exclude-standard", "-z", "--", ".")
	ours := func(name string) bool { return name != "" && counts(name) }
	return commit, err != nil || slices.ContainsFunc(strings.Split(others, "\x00"), ours)
}

// blob is one file of a tree of git.
type blob struct{ mode, id, path string }

const symlink = "120000" // the mode of one in a tree, see git-fast-import(1)

// blobsOf reads what ls-tree lists. Submodules are none.
func blobsOf(list string) []blob {
	var out []blob
	for _, entry := range strings.Split(list, "\x00") {
		head, p, ok := strings.Cut(entry, "\t")
		f := strings.Fields(head)
		if ok && len(f) == 3 && f[1] == "blob" {
			out = append(out, blob{f[0], f[2], p})
		}
	}
	return out
}

// read asks git for all blobs in one call, and keeps them as an archive in memory, which
// is an fs.FS.
func (s *Shelf) read(ctx context.Context, dir string, blobs []blob) (fs.FS, error) {
	c := exec.CommandContext(ctx, "git", "cat-file", "--batch")
	c.Dir = dir
	c.Env = append(slices.DeleteFunc(os.Environ(), ofRepository), "LC_ALL=C")
	var ids, errs bytes.Buffer
	for _, b := range blobs {
		ids.WriteString(b.id + "\n")
	}
	c.Stdin, c.Stderr = &ids, &errs
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := c.Start(); err != nil {
		return nil, err
	}
	texts := make(map[string][]byte, len(blobs))
	from := bufio.NewReader(out)
	for _, b := range blobs {
		if texts[b.path], err = object(from); err != nil {
			err = fmt.Errorf("read %s: %w", b.path, err)
			break
		}
	}
	if err = errors.Join(err, c.Wait()); err != nil {
		return nil, fmt.Errorf("git cat-file: %w: %s", err, lastLines(errs.String(), 2))
	}
	return archived(blobs, texts)
}

// object reads one object as `git cat-file --batch` writes it: a line that ends in its
// size, its bytes, and a newline.
func object(from *bufio.Reader) ([]byte, error) {
	head, err := from.ReadString('\n')
	if err != nil {
		return nil, err
	}
	f := strings.Fields(head)
	n, err := strconv.Atoi(f[len(f)-1])
	if err != nil {
		return nil, errors.New(strings.TrimSpace(head))
	}
	data := make([]byte, n+1)
	_, err = io.ReadFull(from, data)
	return data[:n], err
}

// archived makes a file system of texts. A link is what it leads to, inside the project.
func archived(blobs []blob, texts map[string][]byte) (fs.FS, error) {
	var packed bytes.Buffer
	w := zip.NewWriter(&packed)
	for _, b := range blobs {
		text := texts[b.path]
		if b.mode == symlink {
			to, there := texts[path.Join(path.Dir(b.path), string(text))]
			if !there {
				continue
			}
			text = to
		}
		h := &zip.FileHeader{Name: b.path, Method: zip.Store}
		h.SetMode(0o644)
		if b.mode == "100755" {
			h.SetMode(0o755)
		}
		f, err := w.CreateHeader(h)
		if err == nil {
			_, err = f.Write(text)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return zip.NewReader(bytes.NewReader(packed.Bytes()), int64(packed.Len()))
}

// Before says whether a commit is an earlier one on the way to another. It is false where
// the repository does not have both.
func Before(ctx context.Context, dir, earlier, later string) bool {
	if strings.HasPrefix(earlier, "-") || strings.HasPrefix(later, "-") || earlier == later {
		return false
	}
	s := &Shelf{Dir: dir}
	_, err := s.git(ctx, dir, "merge-base", "--is-ancestor", earlier, later)
	return err == nil
}

// LastEdit gives who changed one of these files last, on the way to a commit, and in which one.
// It is not ok where that is not known, as when one was changed since.
func LastEdit(ctx context.Context, dir, commit string, files []string) (author, at string, ok bool) {
	if commit == "" || strings.HasPrefix(commit, "-") {
		return "", "", false
	}
	s := &Shelf{Dir: dir}
	if bare, err := s.git(ctx, dir, "rev-parse", "--is-bare-repository"); err == nil && bare == "false" {
		if changed, err := s.git(ctx, dir, append([]string{"status", "--porcelain", "--"},
			files...)...); err != nil || changed != "" {
			return "", "", false
		}
	}
	said, err := s.git(ctx, dir, append([]string{"log", "-1", "--format=%H %an", commit, "--"}, files...)...)
	at, author, ok = strings.Cut(said, " ")
	return author, at, ok && err == nil
}
