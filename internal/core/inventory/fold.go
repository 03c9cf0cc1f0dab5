package inventory

import (
	"fmt"
	"strconv"

	"jadekettle/internal/core/lazy"
)

// Unfold gives the names or patterns that a folded name covers: gauge-[01..04] is
// gauge-01 to gauge-04.
func Unfold(name string) ([]string, error) {
	if rangeForm().FindStringIndex(name) == nil {
		return []string{name}, nil
	}
	list, err := expand(name)
	if err != nil {
		return nil, err
	}
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = n.name
	}
	return out, nil
}

// lastNumber parts a name at its last number.
var lastNumber = lazy.Regexp(`^(.*?)([0-9]+)([^0-9]*)$`)

// Fold writes names shortly: neighbours that differ in their last number only
// become a range, gauge-[01..04]. What it gives are patterns that match just
// these names, in the order of the names.
func Fold(names []string) []string {
	var out []string
	for i := 0; i < len(names); {
		n := run(names[i:])
		if n < 3 {
			out = append(out, names[i])
			i++
			continue
		}
		first, last := lastNumber().FindStringSubmatch(names[i]), lastNumber().FindStringSubmatch(names[i+n-1])
		out = append(out, fmt.Sprintf("%s[%s..%s]%s", first[1], first[2], last[2], first[3]))
		i += n
	}
	return out
}

// run counts how many names from the first on are written by counting up.
func run(names []string) int {
	first := lastNumber().FindStringSubmatch(names[0])
	if first == nil {
		return 1
	}
	from, err := strconv.ParseInt(first[2], 10, 64)
	if err != nil {
		return 1
	}
	n := 1
	for n < len(names) && names[n] == fmt.Sprintf("%s%0*d%s", first[1], len(first[2]), from+int64(n), first[3]) {
		n++
	}
	return n
}
