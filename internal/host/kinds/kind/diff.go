package kind

import (
	"fmt"
	"strconv"
	"strings"

	"jadekettle/internal/core/lazy"

	"github.com/aymanbagabas/go-udiff"
)

var hunkForm = lazy.Regexp(`^@@ -([0-9]+)(?:,([0-9]+))? \+[0-9]+(?:,([0-9]+))? @@`)

// Diff gives the unified diff of two texts. The library counts the lines of
// the new text wrongly from the second hunk on, so they are counted here: what
// earlier hunks put in and took out moves them.
func Diff(from, to, old, new string) string {
	var b strings.Builder
	moved := 0
	for line := range strings.Lines(udiff.Unified(from, to, old, new)) {
		m := hunkForm().FindStringSubmatch(line)
		if m == nil {
			b.WriteString(line)
			continue
		}
		start, _ := strconv.Atoi(m[1])
		was, will := count(m[2]), count(m[3])
		at := start + moved
		switch { // an empty side is given by the line before it
		case was == 0 && will > 0:
			at++
		case will == 0 && was > 0:
			at--
		}
		fmt.Fprintf(&b, "@@ -%s +%s @@\n", span(start, was), span(at, will))
		moved += will - was
	}
	return b.String()
}

// count reads how many lines a hunk has on one side; 1 when it does not say.
func count(s string) int {
	if s == "" {
		return 1
	}
	n, _ := strconv.Atoi(s)
	return n
}

func span(start, n int) string {
	if n == 1 {
		return strconv.Itoa(start)
	}
	return fmt.Sprintf("%d,%d", start, n)
}
