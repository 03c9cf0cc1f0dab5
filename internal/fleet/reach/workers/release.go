//go:build release

package workers

import (
	"embed"
	"fmt"
	"io"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// The files are made by build/program: worker-ARCH.zst, and worker-ARCH.sha256
// with the hash of what is inside.
//
//go:embed built
var built embed.FS

func available() []Worker {
	var out []Worker
	entries, _ := built.ReadDir("built")
	for _, e := range entries {
		arch, ok := strings.CutSuffix(e.Name(), ".sha256")
		if !ok {
			continue
		}
		sum, err := built.ReadFile("built/" + e.Name())
		if err != nil {
			continue
		}
		name := "built/" + arch + ".zst"
		out = append(out, Worker{strings.TrimPrefix(arch, "worker-"), strings.TrimSpace(string(sum)),
			func() ([]byte, error) { return unpack(name) }})
	}
	return out
}

func unpack(name string) ([]byte, error) {
	f, err := built.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := zstd.NewReader(f)
	if err != nil {
		return nil, err
	}
	defer z.Close()
	program, err := io.ReadAll(z)
	if err != nil {
		return nil, fmt.Errorf("unpack %s: %w", name, err)
	}
	return program, nil
}
