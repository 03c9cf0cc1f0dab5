package kind

import (
	"path"
	"strings"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/machine"
)

// unescaped undoes the octal numbers by which /proc/mounts writes what would part its
// words (fs/proc_namespace.c in the kernel's source).
var unescaped = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)

// Mounted lists where something is mounted at a path or below it.
func (e *Env) Mounted(at string) ([]string, error) {
	mounts, err := machine.ReadFile(e.Machine, "/proc/mounts")
	if err != nil {
		return nil, err
	}
	var out []string
	for line := range strings.Lines(string(mounts)) {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		if p := unescaped.Replace(f[1]); p == at || strings.HasPrefix(p, strings.TrimSuffix(at, "/")+"/") {
			out = append(out, p)
		}
	}
	return out, nil
}

// Removable says why a folder is not taken away with all that is in it: something
// is mounted there, whose contents would go first.
func (e *Env) Removable(at string) error {
	mounts, err := e.Mounted(at)
	if err != nil || len(mounts) == 0 {
		return err
	}
	return NotYet(problem.Errorf("%s is to be removed with its contents, but something is mounted at %s", at,
		Some(mounts)).
		Remedy("declare that absent first: [mount.%q]", path.Clean(mounts[0])))
}
