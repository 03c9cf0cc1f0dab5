// Package workers holds the programs that are sent to hosts: in a release
// build small ones for every architecture, otherwise one for hosts of its own
// architecture, or this program itself.
package workers

// Worker is one build of the worker for Linux.
type Worker struct {
	Arch string // in Go's words
	Name string // 64 digits of lower-case hex, another for each build; it names the file on the host
	Read func() ([]byte, error)
}

// Available lists the builds at hand.
func Available() []Worker { return available() }
