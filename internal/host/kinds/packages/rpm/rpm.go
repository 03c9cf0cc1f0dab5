// Package rpm is what the package managers over rpm share: its database, its
// names, its order of versions, and the files that define repositories.
package rpm

import (
	"context"
	"slices"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/machine"
)

// nameForm is what rpmbuild takes for a name, with an architecture allowed
// behind a dot.
var nameForm = lazy.Regexp(`^[A-Za-z0-9_][A-Za-z0-9_.+-]*$`)

// CheckName holds a name to what rpm allows.
func CheckName(name string) error {
	if nameForm().MatchString(name) {
		return nil
	}
	return problem.Errorf("invalid rpm package name %q", name).
		Remedy("use letters, digits and +-._, with an architecture after a dot")
}

// format is what rpm is to print of a package: tabs cannot be in a field.
const format = `%{NAME}\t%{ARCH}\t%{EPOCHNUM}:%{VERSION}-%{RELEASE}\n`

// Installed asks the database for packages by name, in one call; without any, for all. Of
// several versions of one it gives the newest.
func Installed(ctx context.Context, env *kind.Env, names []string) (map[string]backend.State, error) {
	db := map[string]backend.State{}
	args := append([]string{"--"}, names...)
	if len(names) == 0 {
		args = []string{"-a"}
	}
	return db, query(ctx, env, args, func(name, arch, version string) {
		if name == keyName && len(names) == 0 {
			return
		}
		both := []string{name, name + "." + arch}
		if len(names) == 0 {
			both = both[:1]
		}
		for _, n := range both {
			if old := db[n].Version; old == "" || Order(version, old) > 0 {
				db[n] = backend.State{Version: version}
			}
		}
	})
}

// Inside says which package a file is.
func Inside(ctx context.Context, env *kind.Env, p string) (name, version string, err error) {
	c := machine.Command{Args: []string{"rpm", "--query", "--nosignature", "--queryformat", format,
		"--package", "--", p}}
	res, err := machine.Do(ctx, env.Machine, c, nil)
	f := strings.Split(strings.TrimSpace(res.Stdout), "\t")
	if err == nil && len(f) != 3 {
		err = problem.Errorf("rpm prints %q about the file", res.Stdout)
	}
	if err != nil {
		return "", "", err
	}
	return f[0], strings.TrimPrefix(f[2], "0:"), nil
}

// keyName is under which rpm keeps keys, as if they were packages.
const keyName = "gpg-pubkey"

// All lists the names of all that is installed.
func All(ctx context.Context, env *kind.Env) ([]string, error) {
	var out []string
	err := query(ctx, env, []string{"-a"}, func(name, _, _ string) {
		if name != keyName {
			out = append(out, name)
		}
	})
	slices.Sort(out)
	return slices.Compact(out), err
}

// query prints each of what rpm finds. Its exit code counts what it did not find.
func query(ctx context.Context, env *kind.Env, args []string, each func(name, arch, version string)) error {
	c := machine.Command{Args: append([]string{"rpm", "-q", "--qf", format}, args...)}
	out, err := env.Machine.Run(ctx, c)
	if err != nil {
		return err
	}
	found := false
	for line := range strings.Lines(out.Stdout) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		if len(f) == 3 {
			found = true
			each(f[0], f[1], Version(f[2]))
		}
	}
	said := out.Combined.String()
	if out.Code != 0 && !found && !strings.Contains(said, "is not installed") {
		return problem.Errorf("rpm failed (exit status %d): %s", out.Code, strings.TrimSpace(said)).
			Remedy("check on the host that its database is intact")
	}
	return nil
}

// Version leaves out an epoch of 0, which nobody writes.
func Version(evr string) string { return strings.TrimPrefix(evr, "0:") }

// Newest puts versions in order, the newest first, each once.
func Newest(versions []string) []string {
	slices.SortFunc(versions, func(a, b string) int { return Order(b, a) })
	return slices.Compact(versions)
}

// Order compares two versions with epoch and release as rpm does
// (rpm-version(7)).
func Order(a, b string) int {
	ea, va, ra := parts(a)
	eb, vb, rb := parts(b)
	for _, pair := range [][2]string{{ea, eb}, {va, vb}, {ra, rb}} {
		if c := segments(pair[0], pair[1]); c != 0 {
			return c
		}
	}
	return 0
}

func parts(evr string) (epoch, version, release string) {
	epoch, rest, ok := strings.Cut(evr, ":")
	if !ok {
		epoch, rest = "0", evr
	}
	version, release, _ = strings.Cut(rest, "-")
	return epoch, version, release
}

// segments compares runs of digits as numbers and runs of letters as texts; what
// is neither parts them. A tilde comes before the end, a caret just after it.
func segments(a, b string) int {
	for a != "" || b != "" {
		a, b = strings.TrimLeftFunc(a, parting), strings.TrimLeftFunc(b, parting)
		if c, done := marks(&a, &b); done {
			if c != 0 {
				return c
			}
			continue
		}
		if a == "" || b == "" {
			break
		}
		digits := isDigit(rune(a[0]))
		x, y := lead(a, digits), lead(b, digits)
		if y == "" { // a number is newer than letters
			if digits {
				return 1
			}
			return -1
		}
		a, b = a[len(x):], b[len(y):]
		if digits {
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			if len(x) != len(y) {
				return sign(len(x) - len(y))
			}
		}
		if c := strings.Compare(x, y); c != 0 {
			return c
		}
	}
	return sign(len(a) - len(b))
}

// marks compares a tilde or a caret at the front.
func marks(a, b *string) (order int, found bool) {
	for _, mark := range []struct {
		text  string
		order int
	}{{"~", -1}, {"^", 1}} {
		inA, inB := strings.HasPrefix(*a, mark.text), strings.HasPrefix(*b, mark.text)
		switch {
		case inA && inB:
			*a, *b = (*a)[1:], (*b)[1:]
			return 0, true
		case inA && mark.text == "^" && *b != "":
			return -1, true
		case inB && mark.text == "^" && *a != "":
			return 1, true
		case inA:
			return mark.order, true
		case inB:
			return -mark.order, true
		}
	}
	return 0, false
}

func parting(r rune) bool { return !isDigit(r) && !isLetter(r) && r != '~' && r != '^' }

func isDigit(r rune) bool { return r >= '0' && r <= '9' }

func isLetter(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' }

func lead(s string, digits bool) string {
	end := strings.IndexFunc(s, func(r rune) bool { return digits != isDigit(r) || !digits && !isLetter(r) })
	if end < 0 {
		return s
	}
	return s[:end]
}

func sign(n int) int { return max(-1, min(1, n)) }

// keys is where the keys of repositories lie.
const keys = "/etc/pki/rpm-gpg/jadekettle-"

// CheckSource refuses what only other managers have.
func CheckSource(s backend.Source) error {
	if len(s.Suites)+len(s.Components)+len(s.Architectures) > 0 {
		return problem.Errorf("the repository %s has suites, components or architectures, which only apt uses",
			s.Name).
			Remedy("remove them for this host; the address is enough")
	}
	return nil
}

// SourceFiles writes a source in the form of .repo files (dnf.conf(5)), in a
// folder of the manager's own.
func SourceFiles(folder string, s backend.Source, more ...string) (source, key backend.File) {
	key = backend.File{Path: keys + s.Name + ".asc", Text: s.Key}
	about := s.About
	if about == "" {
		about = s.Name
	}
	lines := []string{"# " + s.Signature, "[" + s.Name + "]", "name=" + about,
		"baseurl=" + strings.Join(s.URLs, "\n\t"), "enabled=1"}
	if s.Key != "" {
		lines = append(lines, "gpgcheck=1", "gpgkey=file://"+key.Path)
	} else {
		lines = append(lines, "gpgcheck=0", "repo_gpgcheck=0")
	}
	lines = append(lines, more...)
	return backend.File{Path: folder + s.Name + ".repo", Text: strings.Join(lines, "\n") + "\n"}, key
}

// ParseSource reads a .repo file of one section with the keys that we write.
func ParseSource(name, text string, more ...string) (s backend.Source, keyFile string, ok bool) {
	s.Name = name
	checked := false
	for _, line := range kind.SplitLines(strings.TrimSpace(text)).List {
		key, v, found := strings.Cut(line, "=")
		key, v = strings.TrimSpace(key), strings.TrimSpace(v)
		switch {
		case strings.HasPrefix(line, "#"), slices.Contains(more, line), line == "enabled=1", line == "repo_gpgcheck=0":
		case line == "["+name+"]":
			ok = true
		case strings.HasPrefix(line, "\t") && len(s.URLs) > 0 && !found:
			s.URLs = append(s.URLs, strings.TrimSpace(line))
		case key == "name":
			if s.About = v; v == name {
				s.About = ""
			}
		case key == "baseurl":
			s.URLs = []string{v}
		case key == "gpgcheck":
			checked = v == "1"
		case key == "gpgkey":
			keyFile, found = strings.CutPrefix(v, "file://")
			if !found || !strings.HasPrefix(keyFile, "/") {
				return s, "", false
			}
		default:
			return s, "", false
		}
	}
	return s, keyFile, ok && len(s.URLs) > 0 && checked == (keyFile != "")
}

// Brought asks rpm's database for every file and its checksum, SHA-256 as rpm has
// made them for long.
func Brought(ctx context.Context, env *kind.Env) (map[string]string, error) {
	out, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{"rpm", "-qa", "--queryformat",
		`[%{FILEDIGESTS} %{FILENAMES}\n]`}}, nil)
	if err != nil {
		return nil, err
	}
	files := map[string]string{}
	for line := range strings.Lines(out.Stdout) {
		sum, p, ok := strings.Cut(strings.TrimRight(line, "\n"), " ")
		switch {
		case !ok:
		case len(sum) == 64:
			files[p] = "sha256:" + sum
		case len(sum) == 32:
			files[p] = "md5:" + sum
		default:
			files[p] = ""
		}
	}
	return files, nil
}
