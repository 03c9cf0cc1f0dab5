package cli

import (
	"testing"

	"jadekettle/internal/host/kinds"
)

// TestAttributesAreNoFlags keeps attributes from being called like flags that
// every command has: add takes both.
func TestAttributesAreNoFlags(t *testing.T) {
	root := (&Env{}).root(nil)
	for _, name := range kinds.Schemas().Names() {
		k, _ := kinds.Schemas().Kind(name)
		for _, at := range k.Attrs {
			if root.PersistentFlags().Lookup(at.Name) != nil || at.Name == "manifest" || at.Name == "help" {
				t.Errorf("%s of %s is a flag already", at.Name, name)
			}
		}
	}
}
