package file

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages"
	"jadekettle/internal/host/kinds/packages/backend"
)

// own are the folders in which files are looked for that no package brought.
var own = []string{"/etc", "/opt", "/usr/local"}

// systems are files and, with a slash at the end, folders there that the system makes
// for itself, or that other kinds describe.
var systems = []string{"/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow", "/etc/passwd-", "/etc/group-",
	"/etc/shadow-", "/etc/gshadow-", "/etc/subuid", "/etc/subgid", "/etc/subuid-", "/etc/subgid-", "/etc/.pwd.lock",
	"/etc/mtab", "/etc/hostname", "/etc/hosts", "/etc/timezone", "/etc/localtime", "/etc/machine-id",
	"/etc/ld.so.cache",
	"/etc/resolv.conf", "/etc/adjtime", "/etc/.updated", "/etc/default/locale", "/etc/locale.conf", "/etc/locale.gen",
	"/etc/shells", "/etc/udev/hwdb.bin", "/etc/environment", "/etc/alternatives/", "/etc/ssl/certs/", "/etc/rc0.d/",
	"/etc/rc1.d/", "/etc/rc2.d/", "/etc/rc3.d/", "/etc/rc4.d/", "/etc/rc5.d/", "/etc/rc6.d/", "/etc/rcS.d/",
	"/etc/pki/ca-trust/extracted/", "/etc/ca-certificates/extracted/"}

func isMade(p string) bool {
	name := path.Base(p)
	return strings.HasPrefix(name, ".depend.") || strings.HasPrefix(name, "ssh_host_") &&
		strings.HasSuffix(name, ".pub") ||
		slices.ContainsFunc(systems, func(m string) bool {
			return m == p || strings.HasSuffix(m, "/") && strings.HasPrefix(p, m)
		})
}

// maxFound bounds how many files are reported.
const maxFound = 4096

// Names lists the files that no package brought, in the folders where people put
// such, and those that differ from what the package that brought them says.
func (files) Names(ctx context.Context, env *kind.Env) ([]string, error) {
	m, err := packages.ManagerOf(env)
	if err != nil {
		return nil, err
	}
	by, ok := m.(backend.Bringer)
	if !ok {
		return nil, problem.Errorf("%s does not report which files were added by hand", m.Program()).
			Remedy("name the file")
	}
	brought, err := by.Brought(ctx, env)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, folder := range own {
		if out, err = strange(env, folder, brought, out); err != nil {
			return nil, err
		}
	}
	for _, p := range value.Keys(brought) {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if sum := brought[p]; sum != "" && !isMade(p) && !same(env, p, sum) {
			out = append(out, p)
		}
	}
	slices.Sort(out)
	if out = slices.Compact(out); len(out) > maxFound {
		return nil, problem.Errorf("more than %d files were added there by hand", maxFound).
			Remedy("name the ones you want")
	}
	return out, nil
}

// strange adds what is below a folder and came with no package.
func strange(env *kind.Env, folder string, brought map[string]string, out []string) ([]string, error) {
	names, err := env.Machine.ReadDir(folder)
	if err != nil {
		return out, nil // it is not there, or not ours to read
	}
	d, err := env.Machine.Dir(folder)
	if err != nil {
		return out, nil
	}
	defer d.Close()
	for _, name := range names {
		p := path.Join(folder, name)
		info, err := d.Lstat(name)
		if err != nil || isMade(p) || isMade(p+"/") || strings.HasPrefix(name, ".jadekettle-") {
			continue
		}
		_, known := brought[p]
		switch {
		case info.Type.IsDir():
			if out, err = strange(env, p, brought, out); err != nil {
				return nil, err
			}
		case info.Type == 0 && !known:
			if out = append(out, p); len(out) > maxFound {
				return nil, problem.Errorf("more than %d files were added there by hand", maxFound).
					Remedy("name the ones you want")
			}
		}
	}
	return out, nil
}

// same says whether a file is as a checksum says. What is not there, or is a link
// by now, was set differently by somebody, but there is no file of it to be reported.
func same(env *kind.Env, p, sum string) bool {
	method, want, _ := strings.Cut(sum, ":")
	d, name, err := env.Split(p)
	if err != nil {
		return true
	}
	defer d.Close()
	if info, err := d.Lstat(name); err != nil || info.Type != fs.FileMode(0) {
		return true
	}
	f, err := d.Open(name)
	if err != nil {
		return false // so that it is reported that it cannot be read
	}
	defer f.Close()
	h := md5.New()
	switch method {
	case "sha1":
		h = sha1.New()
	case "sha256":
		h = sha256.New()
	}
	if _, err := io.Copy(h, f); err != nil {
		return true
	}
	return hex.EncodeToString(h.Sum(nil)) == want
}
