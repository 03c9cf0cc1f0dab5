// Package lazy has regular expressions that are compiled when they are first used: a hundred of them cost each start
// of the program 3 ms, and a command uses a few.
package lazy

import (
	"regexp"
	"sync"
)

// Regexp gives a function that gives the compiled expression, which must be valid.
func Regexp(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}
