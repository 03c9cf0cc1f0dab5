package problem_test

import (
	"fmt"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// A problem says what is wrong and what to do about it, and where it was written that is known once it has gone up to
// whoever knows the place.
func ExampleErrorf() {
	check := func(port int) error {
		if port > 65535 {
			return problem.Errorf("the port %d is too large", port).Remedy("write a number up to 65535")
		}
		return nil
	}
	var ps problem.Problems
	ps.AddErr(value.Place{File: "hosts.toml", Line: 3, Col: 8}, check(70000))
	fmt.Println(ps.Err())
	// Output: hosts.toml:3:8: the port 70000 is too large; write a number up to 65535
}
