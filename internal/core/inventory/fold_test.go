package inventory_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
)

func TestFold(t *testing.T) {
	for names, want := range map[string]string{
		"gauge-01 gauge-02 gauge-03 gauge-04": "gauge-[01..04]",
		"gauge-01 gauge-02":                   "gauge-01 gauge-02",
		"gauge-01 gauge-02 gauge-03 gauge-05": "gauge-[01..03] gauge-05",
		"a-8 a-9 a-10 a-11":                   "a-[8..11]",
		"a-08 a-9 a-10":                       "a-08 a-9 a-10",
		"n1.pier n2.pier n3.pier":             "n[1..3].pier",
		"archive chart":                       "archive chart",
	} {
		if got := strings.Join(inventory.Fold(strings.Fields(names)), " "); got != want {
			t.Errorf("%s becomes %s, want %s", names, got, want)
		}
	}
}

// TestWhatIsFoldedIsATarget selects by what was folded, and wants the same
// hosts again.
func TestWhatIsFoldedIsATarget(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 10))
	for range 50 {
		var all, some []string
		for i := range 30 {
			name := fmt.Sprintf("gauge-%02d", i)
			if random.IntN(3) == 0 {
				name = fmt.Sprintf("gauge-%d", i)
			}
			if slices.Contains(all, name) {
				continue
			}
			all = append(all, name)
			if random.IntN(4) > 0 {
				some = append(some, name)
			}
		}
		var text strings.Builder
		for _, n := range all {
			fmt.Fprintf(&text, "[host.%s]\n", n)
		}
		var ps problem.Problems
		inv, _ := inventory.Load(fstest.MapFS{"hosts.toml": {Data: []byte(text.String())}},
			[]string{"hosts.toml"}, "", &ps)
		hosts, err := inv.Select(inventory.Fold(some), nil)
		if err != nil || ps.Err() != nil {
			t.Fatal(err, ps.Err())
		}
		var got []string
		for _, h := range hosts {
			got = append(got, h.Name)
		}
		if !slices.Equal(got, some) {
			t.Fatalf("%v folds to %v, which selects %v", some, inventory.Fold(some), got)
		}
	}
}
