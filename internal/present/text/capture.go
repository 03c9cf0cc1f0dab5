package text

import (
	"fmt"
	"io"
	"strings"

	"jadekettle/internal/app/capture"
)

// CapturedWhole tells of a manifest of all that people set up on a host.
func CapturedWhole(w io.Writer, host string, c *capture.Whole) {
	if c.Sealed != "" {
		fmt.Fprintf(w, "sealed what only its owner may read, below data.captured in %s\n", c.Sealed)
	}
	var kinds []string
	for _, k := range c.Kinds {
		kinds = append(kinds, fmt.Sprintf("%d %s", k.N, k.Kind))
	}
	fmt.Fprintf(w, "%s  is in %s: %s\n", host, c.Manifest, strings.Join(kinds, ", "))
	fmt.Fprintln(w, "a preview of it on that host changes nothing")
	if len(c.Unsaid) > 0 {
		fmt.Fprintf(w, "\nnot said in it:\n  %s\n", strings.Join(c.Unsaid, "\n  "))
	}
}
