package backend

import (
	"fmt"
	"path"
	"strings"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/machine"
)

// Scripts is where OpenRC and SysV look for what starts a service.
const Scripts = "/etc/init.d/"

// Started gives the host's uptime at which a file was made or changed that a
// manager writes when it starts a service; 0 where there is none.
func Started(m machine.Machine, paths ...string) time.Duration {
	for _, p := range paths {
		d, err := m.Dir(path.Dir(p))
		if err != nil {
			continue
		}
		info, err := d.Lstat(path.Base(p))
		d.Close()
		if err != nil {
			continue
		}
		if up, err := uptime(m); err == nil {
			return max(0, up-m.Now().Sub(info.Time))
		}
	}
	return 0
}

func uptime(m machine.Machine) (time.Duration, error) {
	text, err := machine.ReadFile(m, "/proc/uptime")
	if err != nil {
		return 0, err
	}
	first, _, _ := strings.Cut(string(text), " ")
	return time.ParseDuration(first + "s")
}

// Exists says whether something is at a path of the system.
func Exists(m machine.Machine, p string) bool {
	d, err := m.Dir(path.Dir(p))
	if err != nil {
		return false
	}
	defer d.Close()
	_, err = d.Lstat(path.Base(p))
	return err == nil
}

// NoMask is what a manager answers that cannot bar a service.
func NoMask(manager string) error {
	return problem.Errorf("%s cannot mask services", manager).
		Remedy("remove masked for this host, and declare running = false and at_boot = false")
}

// Unbarred says that nothing is ever barred.
func Unbarred(manager, name string) string {
	return fmt.Sprintf("# %s cannot mask: %s", manager, name)
}
