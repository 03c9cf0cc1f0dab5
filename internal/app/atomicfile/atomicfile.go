// Package atomicfile writes files whole or not at all: a reader, or a machine that loses its power, finds the
// old content or the new one and nothing between.
package atomicfile

import (
	"os"
	"path/filepath"
)

// Write puts a file in place in one step. It is on disk when it returns. What fails leaves the old one.
func Write(name string, data []byte, mode os.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(name), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	if e := f.Chmod(mode); err == nil {
		err = e
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	if err := os.Rename(f.Name(), name); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync() // the name as well
}
