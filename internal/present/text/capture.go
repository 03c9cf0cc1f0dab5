package text

import (
	"fmt"
	"io"
	"strings"

	"jadekettle/internal/app/capture"
)

// CapturedWhole reports a manifest of all that people set up on a host.
func CapturedWhole(w io.Writer, host string, c *capture.Whole) {
	if c.Encrypted != "" {
		fmt.Fprintf(w, "encrypted private values in %s, under data.captured\n", c.Encrypted)
	}
	var kinds []string
	for _, k := range c.Kinds {
		kinds = append(kinds, fmt.Sprintf("%d %s", k.N, k.Kind))
	}
	fmt.Fprintf(w, "%s  is in %s: %s\n", host, c.Manifest, strings.Join(kinds, ", "))
	fmt.Fprintln(w, "previewing it on that host shows no changes")
	if len(c.Unsaid) > 0 {
		fmt.Fprintf(w, "\nnot captured:\n  %s\n", strings.Join(c.Unsaid, "\n  "))
	}
}
