package pacman

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// maxMtree bounds what is unpacked of one package's list, in bytes.
const maxMtree = 64 << 20

// Brought reads what the database has of each package: the files that it brought,
// and their checksums in the form of mtree(5), packed with gzip.
func (Manager) Brought(ctx context.Context, env *kind.Env) (map[string]string, error) {
	all, err := folders(env)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, f := range all {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		files, err := machine.ReadFile(env.Machine, local+"/"+f+"/files")
		if errors.Is(err, fs.ErrNotExist) {
			continue // a package of nothing but needs
		}
		if err != nil {
			return nil, err
		}
		in := false
		for line := range strings.Lines(string(files)) {
			line = strings.TrimRight(line, "\n")
			if strings.HasPrefix(line, "%") {
				in = line == "%FILES%"
			} else if in && line != "" {
				out["/"+strings.TrimSuffix(line, "/")] = ""
			}
		}
		packed, err := machine.ReadFile(env.Machine, local+"/"+f+"/mtree")
		if errors.Is(err, fs.ErrNotExist) {
			continue // one whose files have no checksums
		}
		if err == nil {
			err = sums(packed, out)
		}
		if err != nil {
			return nil, fmt.Errorf("%s/%s/mtree: %w", local, f, err)
		}
	}
	return out, nil
}

// sums adds the checksums of one package.
func sums(packed []byte, out map[string]string) error {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return err
	}
	text, err := io.ReadAll(io.LimitReader(z, maxMtree))
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) == 0 || !strings.HasPrefix(f[0], "./") {
			continue
		}
		p := octal().ReplaceAllStringFunc(f[0][1:], func(s string) string {
			n, _ := strconv.ParseUint(s[1:], 8, 8)
			return string([]byte{byte(n)})
		})
		if _, brought := out[p]; !brought { // what describes the package itself
			continue
		}
		for _, word := range f[1:] {
			if sum, ok := strings.CutPrefix(word, "sha256digest="); ok {
				out[p] = "sha256:" + sum
			}
		}
	}
	return nil
}

// octal is how mtree(5) writes spaces and the like.
var octal = lazy.Regexp(`\\[0-3][0-7][0-7]`)
