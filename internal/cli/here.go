package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schedule"
	"jadekettle/internal/core/settings"
)

// hereFlag lets a call be about the machine that it runs on.
func (a *App) hereFlag(c *cobra.Command) {
	c.Flags().BoolVar(&a.here, "here", false, "this machine is the host: it is not connected to, and the target is its name where none is given")
}

// myself gives the target of a call with --here: the host of that name, or of this machine's.
func (a *App) myself(targets []string) ([]string, error) {
	if !a.here {
		return targets, nil
	}
	if len(targets) > 1 || len(targets) == 1 && strings.ContainsAny(targets[0], "*?[@") {
		return nil, problem.Errorf("--here is about one host, and %s may be more", strings.Join(targets, " ")).Remedy("name the host that this machine is")
	}
	if len(targets) == 1 {
		return targets, nil
	}
	name, err := os.Hostname()
	return []string{name}, err
}

// keeping is a host that keeps itself.
type keeping struct {
	here     bool
	host     string
	every    time.Duration
	onlyTell bool
}

func (k *keeping) flags(c *cobra.Command) {
	c.Flags().BoolVar(&k.here, "here", false, "keep this machine as the project declares it, without a controller")
	c.Flags().StringVar(&k.host, "as", "", "the `HOST` of the inventory that this machine is (default: its own name)")
	c.Flags().DurationVar(&k.every, "every", 30*time.Minute, "how often it checks itself, a `TIME`")
	c.Flags().BoolVar(&k.onlyTell, "only-tell", false, "tell what differs, and mend nothing")
}

func (k *keeping) check(a *App, c *cobra.Command) error {
	if k.every < time.Minute {
		return problem.Errorf("--every is %v", k.every).Remedy("give a minute or more")
	}
	if c.Flags().Changed("look") || c.Flags().Changed("most") {
		return problem.Errorf("--look and --most are about schedules, and --here has one of its own").Remedy("give --every")
	}
	if k.host == "" {
		var err error
		if k.host, err = os.Hostname(); err != nil {
			return err
		}
	}
	return nil
}

// known says whether the inventory has the host.
func (k *keeping) known(p *project) error {
	if _, there := p.Inventory.Host(k.host); there {
		return nil
	}
	return problem.Errorf("the inventory has no host %q", k.host).Meant(k.host, p.Inventory.HostNames(), "say with --as which host this machine is")
}

// schedule is when it checks itself: hosts of one project not all at once.
func (k *keeping) schedule() *schedule.Schedule {
	return &schedule.Schedule{Every: k.every, Zone: time.Local, Spread: k.every / 2, Missed: schedule.Once}
}

// words are those of the call by which it checks itself.
func (k *keeping) words() []string {
	if k.onlyTell {
		return []string{"preview", "--here", k.host}
	}
	return []string{"apply", "--here", "--yes", k.host}
}

// tended names what the call tends, for the file of its state, and where that comes from. Nothing
// is fetched for it.
func (a *App) tended() (key, source string, err error) {
	if a.from != "" {
		url, _ := sources.SplitURL(a.from)
		sum := sha256.Sum256([]byte(url + "\x00" + a.project))
		return sources.NameOf(url) + "-" + hex.EncodeToString(sum[:6]), a.from, nil
	}
	dir, root, err := a.projectFiles()
	if err != nil {
		return "", "", err
	}
	s := settings.Glance(root)
	if s.Project == "" {
		return "", "", problem.Errorf("%s does not say which project this is", settings.File).Remedy("`jadekettle lint` tells what is wrong with it")
	}
	return s.Project, dir, nil
}
