//go:build !release

package workers

import (
	"bytes"
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"slices"
	"sync"
)

// A plain build sends the worker that [small] makes, or else itself. Either goes by
// the build id that the Go linker has written into this program, since reading 30 MB
// at every start would cost more than a run.
var available = sync.OnceValue(func() []Worker {
	if runtime.GOOS != "linux" {
		return nil
	}
	path, err := os.Executable()
	if err != nil {
		return nil
	}
	name, err := buildID(path)
	if err != nil {
		if name, err = hashOf(path); err != nil {
			return nil
		}
	}
	return []Worker{{runtime.GOARCH, name, sync.OnceValues(func() ([]byte, error) {
		if worker, err := small(path); err == nil {
			return worker, nil
		}
		program, err := os.ReadFile(path)
		if err != nil {
			return nil, fmt.Errorf("read this program to send it: %w", err)
		}
		return stripped(program), nil
	})}}
})

// stripped leaves out of an ELF program what only debuggers and linkers read: all
// that lies behind the last segment, and the table of sections, which gives it
// (elf(5)). What is none is given back as it is.
func stripped(program []byte) []byte {
	f, err := elf.NewFile(bytes.NewReader(program))
	if err != nil {
		return program
	}
	end := uint64(0)
	for _, p := range f.Progs {
		end = max(end, p.Off+p.Filesz)
	}
	if end == 0 || end > uint64(len(program)) {
		return program
	}
	at, counts := 0x28, 0x3c // of e_shoff, and of e_shnum and e_shstrndx after it
	size := 8
	if f.Class == elf.ELFCLASS32 {
		at, counts, size = 0x20, 0x30, 4
	}
	out := slices.Clone(program[:end])
	clear(out[at : at+size])
	clear(out[counts : counts+4])
	return out
}

// buildID gives a hash of the build id of a Go program, which is itself made of
// hashes of all that went into it (cmd/go, "Build IDs").
func buildID(path string) (string, error) {
	f, err := elf.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	section := f.Section(".note.go.buildid")
	if section == nil {
		return "", errors.New("it has no build ID")
	}
	note, err := section.Data()
	if err != nil || len(note) < 64 {
		return "", errors.New("it has no build ID")
	}
	sum := sha256.Sum256(note)
	return hex.EncodeToString(sum[:]), nil
}

func hashOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
