// Command pack compresses a file for the release build: FILE becomes FILE.zst.
package main

import (
	"fmt"
	"os"

	"github.com/klauspost/compress/zstd"
)

func main() {
	if err := pack(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "pack:", err)
		os.Exit(1)
	}
}

func pack(name string) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBestCompression))
	if err != nil {
		return err
	}
	return os.WriteFile(name+".zst", z.EncodeAll(data, nil), 0o644)
}
