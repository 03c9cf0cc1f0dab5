package reach

import (
	"fmt"
	"os/exec"

	"jadekettle/internal/host/machine"
)

// local runs the same scripts on this machine.
type local struct{}

func (local) start(command string) (*process, error) {
	cmd := exec.Command("sh", "-c", command)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	p := &process{in: in, out: out, errs: &machine.Keep{}, wait: cmd.Wait}
	cmd.Stderr = p.errs
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start sh on this machine: %w", err)
	}
	return p, nil
}

func (local) close() {}
