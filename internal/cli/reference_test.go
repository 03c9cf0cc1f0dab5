package cli_test

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds"
)

// TestTheReferenceIsCurrent holds docs/reference.md to what the schemas say.
func TestTheReferenceIsCurrent(t *testing.T) {
	const file = "../../docs/reference.md"
	want := reference()
	if *update {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := os.ReadFile(file)
	if err != nil || string(got) != want {
		t.Errorf("%s is stale (%v); run go test ./internal/cli -update", file, err)
	}
}

func reference() string {
	var b strings.Builder
	b.WriteString("# Reference\n\nThis page is made from the schemas; do not edit it by hand. `go test ./internal/cli -update` makes it anew.\n\n## Kinds\n\n")
	catalog := kinds.Catalog()
	for _, name := range catalog.Names() {
		k, _ := catalog.Kind(name)
		fmt.Fprintf(&b, "### %s\n\n%s %s\n\n", k.Name, k.About, k.Doc)
		attributes(&b, k.Attrs)
		if k.NoAbsent != "" {
			fmt.Fprintf(&b, "\nIt cannot be `absent`: %s.\n", k.NoAbsent)
		}
		b.WriteByte('\n')
	}
	b.WriteString("### Attributes of every kind\n\n")
	attributes(&b, schema.Common)
	b.WriteString("\n## Facts\n\nIn expressions and templates below `facts`. Sizes are bytes; `[]` stands for the items of a list, `*` for the\nkeys of a map.\n\n| fact | type | meaning |\n|---|---|---|\n")
	for _, f := range facts.Schema() {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Path, f.Type, f.Doc)
	}
	return b.String()
}

func attributes(b *strings.Builder, list []schema.Attr) {
	b.WriteString("| attribute | takes | default | meaning | for example |\n|---|---|---|---|---|\n")
	list = slices.Clone(list)
	for _, a := range list {
		takes := a.Type.String()
		if a.List {
			takes = "a list, each " + takes
		}
		examples := ""
		for i, e := range a.Examples {
			if i > 0 {
				examples += ", "
			}
			examples += "`" + e + "`"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s | %s | %s |\n", a.Name, takes, a.Default, a.Doc, examples)
	}
}
