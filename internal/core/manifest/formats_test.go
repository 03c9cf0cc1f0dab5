package manifest

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"jadekettle/internal/core/problem"
)

// TestPlacesInOneLine: the place of each offset is the same whichever was asked for before.
func TestPlacesInOneLine(t *testing.T) {
	src := newText("x", []byte("{\"a\": \"wÿ→\", \"b\": 1}\n\n{\"c\": [2,\t3]}"))
	c := cursor{src: src}
	for _, step := range []int{1, 2, 5, 7, 40} {
		for at := 0; at <= len(src.data)+1; at += step {
			if at < len(src.data) && !utf8.RuneStart(src.data[at]) {
				continue // nothing begins there
			}
			if got, want := c.place(at), src.place(at); got != want {
				t.Fatalf("the place of %d is %v, want %v", at, got, want)
			}
		}
	}
}

// BenchmarkOneLine reads JSON data of 400 kB in one line.
func BenchmarkOneLine(b *testing.B) {
	var text strings.Builder
	text.WriteString(`{"k": 1`)
	for i := 0; text.Len() < 400_000; i++ {
		fmt.Fprintf(&text, `, "k%d": {"a": %d}`, i, i)
	}
	for b.Loop() {
		var ps problem.Problems
		if _, ok := parseJSON("x", []byte(text.String()+"}"), &ps); !ok {
			b.Fatal(ps.Err())
		}
	}
}

// TestTabsInYAML are reported at their place, with what to do.
func TestTabsInYAML(t *testing.T) {
	for text, place := range map[string]string{
		"a:\n\tb: 1\n": "x.yaml:2:1: ", "a:\n  b: 1\n\tc: 1\n": "x.yaml:3:1: ",
		"a:\n  b:\n  \t\tc: 1\n": "x.yaml:3:3: ",
	} {
		var ps problem.Problems
		Parse("x.yaml", []byte(text), &ps)
		if got := fmt.Sprint(ps.Err()); !strings.HasPrefix(got, place) ||
			!strings.HasSuffix(got, "indent with spaces; YAML does not allow tabs there") {
			t.Errorf("%q: %s", text, got)
		}
	}
}
