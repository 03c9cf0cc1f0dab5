package resolve

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/value"
)

// SettingsFile is the file that makes a folder a project.
const SettingsFile = "jadekettle.toml"

// Settings are what jadekettle.toml says, with the defaults filled in.
type Settings struct {
	Project        string        // names this project in ledgers
	Requires       string        // the version of the program that it needs, such as ">= 0.1"
	Inventory      []string      // inventory files
	Parallel       int           // hosts at once
	PackageListAge time.Duration // how old a package list may be before `newest` refreshes it
	KnownHosts     string        // the known_hosts file; ~/ and project-relative paths allowed
	ConnectTimeout time.Duration
}

func defaults() Settings {
	return Settings{
		Inventory:      []string{"hosts.toml"},
		Parallel:       32,
		PackageListAge: 24 * time.Hour,
		KnownHosts:     "~/.ssh/known_hosts",
		ConnectTimeout: 10 * time.Second,
	}
}

var projectForm = regexp.MustCompile(`^[A-Za-z0-9_-]{4,64}$`)

// settingKeys are all keys of jadekettle.toml and how each is read.
var settingKeys = map[string]func(*Settings, any) error{
	"project": func(s *Settings, v any) error {
		text, ok := v.(string)
		if !ok || !projectForm.MatchString(text) {
			return errors.New("project is a text of 4 to 64 letters, digits, dashes and underscores; `jadekettle init` makes one")
		}
		s.Project = text
		return nil
	},
	"requires": func(s *Settings, v any) error { return setText(&s.Requires, v) },
	"inventory.files": func(s *Settings, v any) error {
		list, ok := v.([]any)
		s.Inventory = nil
		for _, item := range list {
			text, isText := item.(string)
			ok = ok && isText && fs.ValidPath(text)
			s.Inventory = append(s.Inventory, text)
		}
		if !ok || len(list) == 0 {
			return errors.New(`files is a list of paths inside the project; write files = ["hosts.toml"]`)
		}
		return nil
	},
	"run.parallel": func(s *Settings, v any) error {
		n, ok := v.(int64)
		if !ok || n < 1 || n > 10_000 {
			return errors.New("parallel is a number of hosts from 1 to 10000; write parallel = 32")
		}
		s.Parallel = int(n)
		return nil
	},
	"run.package_list_age": func(s *Settings, v any) error { return setDuration(&s.PackageListAge, v) },
	"ssh.known_hosts":      func(s *Settings, v any) error { return setText(&s.KnownHosts, v) },
	"ssh.connect_timeout":  func(s *Settings, v any) error { return setDuration(&s.ConnectTimeout, v) },
}

func setText(to *string, v any) error {
	text, ok := v.(string)
	if !ok || text == "" {
		return fmt.Errorf("it takes text, not %s; put it in quotes", value.TypeName(v))
	}
	*to = text
	return nil
}

func setDuration(to *time.Duration, v any) error {
	text, _ := v.(string)
	d, err := ParseDuration(text)
	if err != nil {
		return err
	}
	*to = d
	return nil
}

// ParseDuration reads a length of time: 90s, 10m, 24h, 7d.
func ParseDuration(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 && n < 36500 {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 {
		return 0, fmt.Errorf(`%q is no length of time; write "90s", "10m", "24h" or "7d"`, s)
	}
	return d, nil
}

func loadSettings(project fs.FS, problems *value.Problems) Settings {
	s := defaults()
	data, err := fs.ReadFile(project, SettingsFile)
	if err != nil {
		problems.At(value.Place{File: SettingsFile}, "this folder is no project: "+err.Error(), "make one with `jadekettle init`")
		return s
	}
	root, whole := manifest.ParseTOML(SettingsFile, data, problems)
	var walk func(prefix string, n *manifest.Node)
	walk = func(prefix string, n *manifest.Node) {
		for _, k := range n.Keys {
			name := prefix + k.Name
			if k.Node.Kind == manifest.Table {
				walk(name+".", k.Node)
				continue
			}
			set, ok := settingKeys[name]
			if !ok {
				problems.At(k.Place, fmt.Sprintf("there is no setting %q", name), value.Meant(name, value.Keys(settingKeys), "the settings are "+strings.Join(value.Keys(settingKeys), ", ")))
				continue
			}
			if err := set(&s, k.Node.Plain()); err != nil {
				problems.AddErr(k.Node.Place, fmt.Errorf("%s: %w", name, err))
			}
		}
	}
	walk("", root)
	if whole && s.Project == "" && root.Get("project") == nil {
		problems.At(value.Place{File: SettingsFile, Line: 1, Col: 1}, "project is not set; it names this project in the ledgers of its hosts", `add a line project = "..." with a text that no other project has`)
	}
	return s
}
