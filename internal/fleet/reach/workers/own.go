//go:build !release

package workers

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"runtime"
	"sync"
)

var available = sync.OnceValue(func() []Worker {
	if runtime.GOOS != "linux" {
		return nil
	}
	path, err := os.Executable()
	if err != nil {
		return nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return nil
	}
	return []Worker{{runtime.GOARCH, hex.EncodeToString(h.Sum(nil)), func() ([]byte, error) {
		program, err := os.ReadFile(path)
		if err != nil {
			return nil, fmt.Errorf("read this program to send it: %w", err)
		}
		return program, nil
	}}}
})
