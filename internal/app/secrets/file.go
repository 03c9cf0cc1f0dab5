package secrets

import (
	"io"
	"os"

	"jadekettle/internal/core/problem"
)

// ReadFile reads a file with a key or a password, which only its owner may read.
func ReadFile(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, problem.Errorf("%s is not a regular file", name)
	case info.Mode().Perm()&0o077 != 0:
		return nil, problem.Errorf("%s is readable by other users, but contains a key or a password", name).
			Remedy("run: chmod 600 %s", name)
	}
	return io.ReadAll(io.LimitReader(f, 64<<10))
}
