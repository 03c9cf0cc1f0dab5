package machine_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"jadekettle/internal/host/machine"
)

func TestErrorLine(t *testing.T) {
	for _, c := range []struct{ pick, output, want string }{
		{"marked", "fetching\nerror: no such branch\nfatal: it is over\n", "it is over"},
		{"marked", "error: no such branch\nfatal: unable to unpack:\n  the disk is full\n",
			"unable to unpack: the disk is full"},
		{"marked", "fatal: \n  the disk is full\nmore", "the disk is full"},
		{"marked", "fatal:\n", "fatal:"},
		{"marked", "first\n last \n\n", "last"},
		{"marked", "", ""},
		{"as it is", "note\nJob for tide-logger failed:\nsee more\n", "Job for tide-logger failed:"},
	} {
		pick := machine.ErrorLine("fatal: ", "error: ")
		if c.pick != "marked" {
			pick = machine.FirstLine("Failed to ", "Job for ")
		}
		if got := pick(c.output); got != c.want {
			t.Errorf("%q, %s, gives %q, want %q", c.output, c.pick, got, c.want)
		}
	}
}

// silent is a Machine on which every command fails.
type silent struct{ machine.Machine }

func (silent) Run(_ context.Context, c machine.Command) (machine.Output, error) {
	return machine.Output{Code: 128, Combined: machine.KeptText("fetching\nfatal: the remote hung up\n")}, nil
}

// A command that ends with another code than 0 is an error, whose line a kind picks by the marks of its program.
func ExampleDo() {
	_, err := machine.Do(context.Background(), silent{}, machine.Command{Args: []string{"git", "fetch"}},
		machine.ErrorLine("fatal: "))
	var failed *machine.CommandError
	fmt.Println(errors.As(err, &failed), err)
	// Output: true git failed (exit status 128): the remote hung up
}
