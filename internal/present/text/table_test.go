package text

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/schema"
)

func TestRequiredFirst(t *testing.T) {
	list := (&schema.Kind{Attrs: []schema.Attr{{Name: "a"}, {Name: "b", Required: true}, {Name: "c"},
		{Name: "d", Required: true}}}).RequiredFirst()
	var got []string
	for _, at := range list {
		got = append(got, at.Name)
	}
	if fmt.Sprint(got) != "[b d a c]" {
		t.Errorf("the order is %v", got)
	}
	if s := takes(schema.Attr{Type: schema.Text, Choices: []string{"x", "y"}, List: true,
		Required: true}); s != "list of one of x, y, required" {
		t.Errorf("it takes %q", s)
	}
}

func TestAligned(t *testing.T) {
	got := strings.Join(Aligned([][]string{{"host", "is"}, {"küste-01", ""}, {"a", "b", "c"}}), "|")
	if got != "host      is|küste-01|a         b   c" {
		t.Errorf("it is %q", got)
	}
	var out strings.Builder
	Columns(&out, [][]string{{"name", strings.Repeat("word ", 30)}, {"longer", "x"}})
	for line := range strings.Lines(out.String()) {
		if len(line) > LineWidth+1 {
			t.Errorf("a line of %d: %q", len(line), line)
		}
	}
	if !strings.Contains(out.String(), "\n        word") || !strings.HasSuffix(out.String(), "longer  x\n") {
		t.Errorf("it is\n%s", out.String())
	}
}
