// Package settings reads jadekettle.toml, the file that makes a folder a
// project. Each of its keys is described once, in [Keys]: what it takes, what
// it means, and how it is read.
package settings

import (
	"fmt"
	"io/fs"
	"net/url"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// File is the file that makes a folder a project.
const File = "jadekettle.toml"

// Settings are what jadekettle.toml says, with the defaults filled in.
type Settings struct {
	Project         string        // names this project in ledgers
	Requires        string        // the version of the program that it needs, such as ">= 0.1"
	Inventory       []string      // inventory files
	Parallel        int           // hosts at once
	PackageListAge  time.Duration // how old a package list may be before `newest` refreshes it
	Rollout         Rollout
	Timeout         time.Duration // of each try of a task; 0 without one
	Retries         int           // how often a task that fails is tried again
	RetryEvery      time.Duration // how long is waited before that
	Guard           time.Duration // how long a host waits for us after a change that may have cut us off
	UndoAge         time.Duration // how long a host keeps what was there before a run
	UndoSize        int64         // in how many bytes; 0 keeps nothing
	KnownHosts      string        // the known_hosts file; ~/ and project-relative paths allowed
	KeepConnections time.Duration // after their last use; 0 is not at all
	ConnectTimeout  time.Duration
	History         string        // the file in which runs are kept; empty for the user's own
	KeepRuns        time.Duration // how long; 0 for good
	HistoryURL      string        // the PostgreSQL database in which they are kept in its place; without a password
	Notify          []Notify      // who is notified when a run ends
	Log             string        // the file to which what happens in runs is logged; empty for none
	StatusFacts     []string      // the facts that status shows of each host

	Layers     []string // of data, general first
	Lists      map[string]layers.Rule
	Envs       map[string]Environment
	Env        string   // the environment of this call; empty when there are none
	Identities []string // files with age identities
	Recipients []string // age recipients of encrypted data

	LayerPlaces   []value.Place // where each of Layers is written
	RequiresPlace value.Place   // and where Requires is
}

// Environment is one [env.NAME] table.
type Environment struct {
	About      string
	Inventory  []string // inventory files in the place of [inventory] files
	Recipients []string // of this environment's encrypted data, in the place of [secrets] recipients
	Default    bool     // taken when the call names none
	Rollout    Rollout  // laid over that of [run]
	Place      value.Place
}

func defaults() Settings {
	return Settings{
		Inventory:      []string{"hosts.toml"},
		Parallel:       32,
		PackageListAge: 24 * time.Hour,
		RetryEvery:     10 * time.Second,
		Guard:          time.Minute,
		UndoAge:        30 * 24 * time.Hour,
		UndoSize:       256 << 20,
		KnownHosts:     "~/.ssh/known_hosts",
		ConnectTimeout: 10 * time.Second,
		Layers:         layers.Defaults,
		StatusFacts:    []string{"os.id", "os.version_id"},
	}
}

var projectForm = lazy.Regexp(`^[A-Za-z0-9_-]{4,64}$`)

// setting is one key of jadekettle.toml: what it means and where it goes.
type setting struct {
	schema.Key
	to func(*Settings) any // a field, as of manifest.Fields
}

var all = append([]setting{
	{schema.Key{Name: "project", Takes: schema.TakesText,
		Doc: "The identity of the project, which hosts use to remember what manages them."},
		func(s *Settings) any { return s.setProject }},
	{schema.Key{Name: "requires", Takes: schema.TakesText,
		Doc: "The minimum version of jadekettle for this project, such as \">= 0.1\"."},
		func(s *Settings) any { return s.setRequires }},
	{schema.Key{Name: "inventory.files", Takes: schema.TakesList, Default: `["hosts.toml"]`,
		Doc: "The inventory files."},
		func(s *Settings) any { return files(&s.Inventory) }},
	{schema.Key{Name: "data.layers", Takes: schema.TakesList,
		Default: `["shared", "os/${facts.os.id}", "group/${group}", "site/${host.site}", "host/${host.name}"]`,
		Doc:     "The data layers, most general first."},
		func(s *Settings) any { return s.setLayers }},
	{schema.Key{Name: "secrets.identities", Takes: schema.TakesList, Default: `["~/.config/jadekettle/identity.txt"]`,
		Doc: "Files with age identities or OpenSSH keys for decrypting data; missing files are ignored."},
		func(s *Settings) any { return &s.Identities }},
	{schema.Key{Name: "secrets.recipients", Takes: schema.TakesList,
		Doc: "The recipients to encrypt data for: age recipients or OpenSSH public keys."},
		func(s *Settings) any { return &s.Recipients }},
	{schema.Key{Name: "run.parallel", Takes: schema.TakesInt, Default: "32", Doc: "The number of hosts to work on " +
		"in parallel."},
		func(s *Settings) any { return manifest.Number{To: &s.Parallel, Min: 1, Max: 10_000} }},
	{schema.Key{Name: "run.package_list_age", Takes: schema.TakesText, Default: `"24h"`,
		Doc: "The maximum age of a package list before newest refreshes it."},
		func(s *Settings) any { return &s.PackageListAge }},
	{schema.Key{Name: "run.timeout", Takes: schema.TakesText, Default: "none",
		Doc: "The default time limit for one attempt at a task."},
		func(s *Settings) any { return &s.Timeout }},
	{schema.Key{Name: "run.retries", Takes: schema.TakesInt, Default: "0",
		Doc: "The default number of retries for a task that fails."},
		func(s *Settings) any { return manifest.Number{To: &s.Retries, Max: schema.MaxRetries} }},
	{schema.Key{Name: "run.retry_every", Takes: schema.TakesText, Default: `"10s"`,
		Doc: "The default wait before a retry."},
		func(s *Settings) any { return &s.RetryEvery }},
	{schema.Key{Name: "run.guard", Takes: schema.TakesText, Default: `"60s"`,
		Doc: "After a change that may have cut off access, how long a host waits for a new connection before it " +
			"reverts the change; \"0s\" disables this."},
		func(s *Settings) any { return &s.Guard }},
	{schema.Key{Name: "undo.age", Takes: schema.TakesText, Default: `"30d"`,
		Doc: "How long a host keeps the state before a run, for undo."},
		func(s *Settings) any { return &s.UndoAge }},
	{schema.Key{Name: "undo.size", Takes: schema.TakesText, Default: `"256 MiB"`,
		Doc: "The space for this on a host, with a quarter of it for a single file; the oldest states are deleted " +
			"first. \"0 MiB\" keeps nothing."},
		func(s *Settings) any { return &s.UndoSize }},
	{schema.Key{Name: "history.file", Takes: schema.TakesText, Default: `"$XDG_STATE_HOME/jadekettle/history.db"`,
		Doc: "The SQLite file for the run history; XDG_STATE_HOME defaults to ~/.local/state."},
		func(s *Settings) any { return &s.History }},
	{schema.Key{Name: "history.url", Takes: schema.TakesText, Default: "none",
		Doc: "A PostgreSQL database for the run history instead of a file, shared by several controllers, such as " +
			"\"postgres://kettle@db.example.org/kettle\". The password is read from ~/.pgpass or PGPASSWORD."},
		func(s *Settings) any { return s.setHistoryURL }},
	{schema.Key{Name: "history.keep_runs", Takes: schema.TakesText, Default: "forever",
		Doc: "How long runs are kept, such as \"400d\". Older ones are deleted while later runs wait for their hosts."},
		func(s *Settings) any { return &s.KeepRuns }},
	{schema.Key{Name: "log.file", Takes: schema.TakesText, Default: "none",
		Doc: "A file to append run events to, one line of JSON each."},
		func(s *Settings) any { return &s.Log }},
	{schema.Key{Name: "status.facts", Takes: schema.TakesList, Default: `["os.id", "os.version_id"]`,
		Doc: "The facts that status shows for each host."},
		func(s *Settings) any { return s.setStatusFacts }},
	{schema.Key{Name: "ssh.known_hosts", Takes: schema.TakesText, Default: `"~/.ssh/known_hosts"`,
		Doc: "The file with the keys of known hosts."},
		func(s *Settings) any { return &s.KnownHosts }},
	{schema.Key{Name: "ssh.connect_timeout", Takes: schema.TakesText, Default: `"10s"`,
		Doc: "How long to wait for a host to respond."},
		func(s *Settings) any { return &s.ConnectTimeout }},
	{schema.Key{Name: "ssh.keep", Takes: schema.TakesText, Default: "none",
		Doc: "How long the connection to a host is kept for later runs, such as \"10m\", which then need no login. " +
			"OpenSSH on the controller keeps it."},
		func(s *Settings) any { return &s.KeepConnections }},
}, rollout()...)

// rollout are the keys of [run] that say how an apply goes over many hosts.
func rollout() []setting {
	var out []setting
	for _, k := range rolloutKeys {
		out = append(out, setting{schema.Key{Name: "run." + k.name, Takes: k.takes, Doc: k.doc},
			func(s *Settings) any {
				into := manifest.Fields{}
				s.Rollout.Fields(into)
				return into[k.name]
			}})
	}
	return out
}

// Keys document every setting of jadekettle.toml but [data.lists] and the
// environments.
var Keys = func() (out []schema.Key) {
	for _, s := range all {
		out = append(out, s.Key)
	}
	return out
}()

// EnvKeys document the keys of [env.NAME].
var EnvKeys = append([]schema.Key{
	{Name: "about", Takes: schema.TakesText, Doc: "A description of the environment."},
	{Name: "inventory", Takes: schema.TakesList, Doc: "Its inventory files, instead of [inventory] files."},
	{Name: "recipients", Takes: schema.TakesList,
		Doc: "The recipients of its own layers, instead of [secrets] recipients."},
	{Name: "default", Takes: schema.TakesBool, Default: "false", Doc: "Whether it is used if none is selected."},
}, rolloutEnv()...)

func rolloutEnv() []schema.Key {
	var out []schema.Key
	for _, k := range rolloutKeys {
		out = append(out, schema.Key{Name: k.name, Takes: k.takes, Doc: k.doc, Default: "that of [run]"})
	}
	return out
}

func names(keys []schema.Key) []string {
	var out []string
	for _, k := range keys {
		out = append(out, k.Name)
	}
	slices.Sort(out)
	return out
}

func (s *Settings) setProject(n *manifest.Node) error {
	text, _ := n.Value.(string)
	if !projectForm().MatchString(text) {
		return problem.Errorf("project must be 4 to 64 letters, digits, dashes and underscores").
			Remedy("write, for example, project = \"tide-pier\" and do not change it later: hosts use this name to " +
				"remember what is managed")
	}
	s.Project = text
	return nil
}

func (s *Settings) setRequires(n *manifest.Node) error {
	text, _ := n.Value.(string)
	if !requiresForm().MatchString(text) {
		return problem.Errorf("invalid version in requires: %s", value.Shown(n.Plain())).
			Remedy(`use the minimum version, such as ">= 0.1"`)
	}
	s.Requires, s.RequiresPlace = text, n.Place
	return nil
}

func (s *Settings) setLayers(n *manifest.Node) error {
	for _, item := range n.Items {
		s.LayerPlaces = append(s.LayerPlaces, item.Place)
	}
	return manifest.Assign(schema.Key{Name: "layers"}, n.Plain(), &s.Layers)
}

func (s *Settings) setStatusFacts(n *manifest.Node) error {
	if err := manifest.Assign(schema.Key{Name: "facts"}, n.Plain(), &s.StatusFacts); err != nil {
		return err
	}
	for _, f := range s.StatusFacts {
		if err := facts.CheckPath(strings.Split(f, ".")); err != nil {
			return fmt.Errorf("%q: %w", f, err)
		}
	}
	return nil
}

// setHistoryURL takes no password: settings are read by many.
func (s *Settings) setHistoryURL(n *manifest.Node) error {
	text, _ := n.Value.(string)
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql" {
		return problem.Errorf("history.url is not the address of a PostgreSQL database").
			Remedy(`write "postgres://USER@HOST/DATABASE"`)
	}
	asks := u.Query()
	if _, has := u.User.Password(); has || asks.Has("password") || asks.Has("sslpassword") {
		return problem.Errorf("history.url contains a password in plain text").
			Remedy("move the password to ~/.pgpass or PGPASSWORD, and remove it from the address")
	}
	s.HistoryURL = text
	return nil
}

// files reads a list of paths inside the project.
func files(to *[]string) func(*manifest.Node) error {
	return func(n *manifest.Node) error {
		err := manifest.Assign(schema.Key{Name: "files"}, n.Plain(), manifest.Some{To: to})
		if err != nil || slices.ContainsFunc(*to, func(f string) bool { return !fs.ValidPath(f) }) {
			return problem.Errorf("files must be a list of paths inside the project").
				Remedy(`write files = ["hosts.toml"]`)
		}
		return nil
	}
}

// table reads the tables whose keys are names: [data.lists] and [env.NAME].
func (s *Settings) table(name string, k manifest.Key, problems *problem.Problems) bool {
	switch {
	case name == "data.lists":
		s.Lists = map[string]layers.Rule{}
		s.lists("", k.Node, problems)
	case name == "notify":
		for _, t := range k.Node.Keys {
			s.readNotify(t, problems)
		}
	case name == "env":
		s.Envs = map[string]Environment{}
		for _, e := range k.Node.Keys {
			s.environment(e, problems)
		}
	default:
		return false
	}
	return true
}

// lists reads the rules; a dotted key and a table in a table say the same.
func (s *Settings) lists(at string, n *manifest.Node, problems *problem.Problems) {
	for _, k := range n.Keys {
		if k.Node.Kind == manifest.Table {
			s.lists(at+k.Name+".", k.Node, problems)
			continue
		}
		rule, _ := k.Node.Value.(string)
		if !slices.Contains(layers.Rules, rule) {
			problems.At(k.Node.Place, fmt.Sprintf("data.lists.%s%s is not a valid rule", at, k.Name),
				"available: "+strings.Join(layers.Rules, ", "))
			continue
		}
		s.Lists[at+k.Name] = layers.Rule(rule)
	}
}

var envForm = lazy.Regexp(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)

func (s *Settings) environment(k manifest.Key, problems *problem.Problems) {
	if k.Node.Kind != manifest.Table || !envForm().MatchString(k.Name) {
		problems.At(k.Place, fmt.Sprintf("env.%s is not a valid environment", k.Name),
			"write [env.NAME], the name in letters, digits, dashes and underscores")
		return
	}
	e := Environment{Place: k.Place}
	fields := manifest.Fields{"about": &e.About, "inventory": files(&e.Inventory), "recipients": &e.Recipients,
		"default": &e.Default}
	e.Rollout.Fields(fields)
	k.Node.Decode("an environment", EnvKeys, fields, problems)
	s.Envs[k.Name] = e
}

// Choose settles the environment of a call; an empty one is the default. The
// error names the environments there are.
func (s *Settings) Choose(env string) error {
	names := value.Keys(s.Envs)
	switch {
	case env == "":
		for _, name := range names {
			if s.Envs[name].Default {
				env = name
			}
		}
		if env == "" && len(names) > 0 {
			return problem.Errorf("no environment selected; this project has %s", strings.Join(names, ", ")).
				Remedy("select one, or set default = true for one in %s: `--env NAME`", File)
		}
	case len(names) == 0:
		return problem.Errorf("unknown environment %q: this project defines none", env).
			Remedy("add [env.%s] to %s, or drop `--env`", env, File)
	}
	e, ok := s.Envs[env]
	if !ok && env != "" {
		return problem.Errorf("unknown environment %q", env).Meant(env, names,
			"available: "+strings.Join(names, ", "))
	}
	s.Env = env
	s.Rollout = e.Rollout.Over(s.Rollout)
	if len(e.Inventory) > 0 {
		s.Inventory = e.Inventory
	}
	return nil
}

var requiresForm = lazy.Regexp(`^>= *[0-9]{1,6}(\.[0-9]{1,6}){0,2}$`)

// Glance gives a project's settings as far as they can be read, and leaves what
// is wrong with them to Load.
func Glance(project fs.FS) Settings { return Load(project, &problem.Problems{}) }

// Load reads a project's settings. What is wrong goes into problems, and the
// default is in its place.
func Load(project fs.FS, problems *problem.Problems) Settings {
	s := defaults()
	data, err := fs.ReadFile(project, File)
	if err != nil {
		problems.AddErr(value.Place{File: File}, problem.Errorf("this is not a Jade Kettle project: %w", err).
			Remedy("create one with `jadekettle init DIR`"))
		return s
	}
	root, whole := manifest.ParseTOML(File, data, problems)
	var walk func(prefix string, n *manifest.Node)
	walk = func(prefix string, n *manifest.Node) {
		for _, k := range n.Keys {
			name := prefix + k.Name
			if k.Node.Kind == manifest.Table {
				if s.table(name, k, problems) {
					continue
				}
				walk(name+".", k.Node)
				continue
			}
			i := slices.IndexFunc(all, func(s setting) bool { return s.Name == name })
			if i < 0 {
				problems.At(k.Place, fmt.Sprintf("unknown setting %q", name), problem.Meant(name, names(Keys),
					"available: "+strings.Join(names(Keys), ", ")))
				continue
			}
			one := k.Node.Under(name) // whose key is the whole name of the setting
			one.Decode("a project", Keys, manifest.Fields{name: all[i].to(&s)}, problems)
		}
	}
	walk("", root)
	if at := root.Get("history"); s.History != "" && s.HistoryURL != "" {
		problems.At(at.Place, "the history has both a file and a url",
			"remove one of file and url")
	}
	if whole && s.Project == "" && root.Get("project") == nil {
		problems.At(value.Place{File: File, Line: 1, Col: 1},
			"project is not set; hosts use it to remember what manages them",
			`add a line project = "..." with a name that no other project has`)
	}
	return s
}
