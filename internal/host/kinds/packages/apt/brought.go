package apt

import (
	"context"
	"errors"
	"io/fs"
	"strings"

	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// Brought reads dpkg's own lists: the files of each package, their checksums, and,
// in the status file, those of configuration files (deb-md5sums(5), Conffiles in
// dpkg-query(1)).
func (Manager) Brought(_ context.Context, env *kind.Env) (map[string]string, error) {
	const info = "/var/lib/dpkg/info/"
	names, err := env.Machine.ReadDir(info)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	out := map[string]string{}
	for _, suffix := range []string{".list", ".md5sums"} {
		for _, name := range names {
			if !strings.HasSuffix(name, suffix) {
				continue
			}
			data, err := machine.ReadFile(env.Machine, info+name)
			if err != nil {
				return nil, err
			}
			for line := range strings.Lines(string(data)) {
				if line = strings.TrimRight(line, "\n"); suffix == ".list" {
					out[line] = ""
				} else if sum, p, ok := strings.Cut(line, "  "); ok {
					out["/"+p] = "md5:" + sum
				}
			}
		}
	}
	status, err := machine.ReadFile(env.Machine, statusFile)
	if err != nil {
		return nil, err
	}
	in := false
	for line := range strings.Lines(string(status)) {
		if !strings.HasPrefix(line, " ") {
			in = strings.HasPrefix(line, "Conffiles:")
			continue
		}
		if f := strings.Fields(line); in && len(f) == 2 && len(f[1]) == 32 {
			out[f[0]] = "md5:" + f[1]
		}
	}
	return out, nil
}
