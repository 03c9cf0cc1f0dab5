// Package mount is the kind of mounted file systems.
package mount

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// table is what is mounted at boot; see fstab(5).
const table = "/etc/fstab"

var about = &schema.Kind{
	Name:  "mount",
	Area:  "system",
	Tools: []schema.Tool{{When: []string{"mounted"}, Any: []string{"mount"}, Package: "mount"}},
	About: "A mounted file system.",
	Doc: "The name is the mount point; its directory is created if it does not exist. The file system is mounted " +
		"first, and is added to /etc/fstab only if that succeeds. Options that are not in effect, as far as the " +
		"kernel shows them, are set by remounting. Another file system mounted there is replaced, and restored if " +
		"the new one cannot be mounted. A dir with the same path comes after it and sets the owner of the mounted " +
		"directory. If declared absent, it is unmounted and its line is removed from /etc/fstab.",
	Attrs: []schema.Attr{
		{Name: "what", Type: schema.Text, Required: true, Doc: "The device, UUID=..., LABEL=... or network share.",
			Examples: []string{`"UUID=6b1a-55c2"`, `"archive.example.org:/srv/tide"`}},
		{Name: "type", Type: schema.Text, Required: true, Doc: "The type of the file system.",
			Examples: []string{`"ext4"`}},
		{Name: "options", Type: schema.Text, List: true, Default: `["defaults"]`, Doc: "Its options.",
			Examples: []string{`["ro", "noexec"]`}},
		{Name: "mounted", Type: schema.Bool, Default: "true", Doc: "Whether it is mounted now.",
			Examples: []string{"false"}},
		{Name: "at_boot", Type: schema.Bool, Default: "true",
			Doc:      "Whether it is in /etc/fstab.",
			Examples: []string{"false"}},
		{Name: "check_order", Type: schema.Int, Default: "0",
			Doc:      "The check order at boot: 1 for the root file system, 2 for others, 0 for never.",
			Examples: []string{"2"}},
	},
	Examples: []schema.Example{
		{About: "A directory in memory, lost at every reboot", TOML: `[dir."/srv/scratch"]
owner = "root"
mode = "0755"

[mount."/srv/scratch"]
what = "tmpfs"
type = "tmpfs"
options = ["size=64m", "mode=0755", "noexec"]
`},
		{About: "A file system to unmount", TOML: `[mount."/mnt/old-archive"]
absent = true
`},
	},
	Captures: []string{"what", "type", "options", "mounted", "at_boot", "check_order"},
	Canon:    schema.CleanPath,
	Part:     func(string) string { return table },
	Needs: func(n schema.Needer) []value.Ref {
		out := kind.ParentDirs(n)
		if n.Attrs.Bool("absent") { // before its folder goes, which turns this round
			out = append(out, value.Ref{Kind: "dir", Name: n.Ref.Name})
		}
		return append(out, value.Ref{Kind: "package", Name: "nfs-common"},
			value.Ref{Kind: "package", Name: "cifs-utils"})
	},
	Check: func(name string, a value.Attrs) (string, error) {
		if a.Bool("absent") {
			if a.Has("what") || a.Has("type") {
				return "", problem.Errorf("what and type cannot be combined with absent").
					Remedy("remove them")
			}
			return "", nil
		}
		if name == "/" && (a.Has("mounted") && !a.Bool("mounted")) {
			return "mounted", problem.Errorf("the root file system cannot be unmounted").Remedy("remove mounted")
		}
		if w := a.Text("what"); a.Has("what") && (w == "" || strings.HasPrefix(w, "-") || value.HasControl(w)) {
			return "what", problem.Errorf("invalid file system %q", w).
				Remedy("use a device or a network share")
		}
		if t := a.Text("type"); a.Has("type") && !typeForm().MatchString(t) {
			return "type", problem.Errorf("invalid file system type %q", t).
				Remedy("use one such as ext4, xfs, nfs or tmpfs")
		}
		for _, o := range a.Texts("options") {
			if o == "" || strings.ContainsAny(o, ", ") || value.HasControl(o) {
				return "options", problem.Errorf("invalid option %q", o).Remedy("list each separately, without spaces")
			}
		}
		return "", nil
	},
}

var typeForm = lazy.Regexp(`^[a-z0-9][a-z0-9._-]*$`)

// Kind is the kind of mounts.
func Kind() kind.Kind { return kind.Each(mounts{}) }

type mounts struct{}

func (mounts) Schema() *schema.Kind { return about }

// Stale says that what was read lies elsewhere now.
func (mounts) Stale() []kind.Topic { return []kind.Topic{kind.TheServices} }

// entry is one line of fstab(5), or of /proc/mounts, which has the same form.
type entry struct {
	what, at, sort string
	options        []string
	order          string
}

type state struct {
	folder  bool // where it is mounted is there
	mounted bool
	now     entry
	before  []string // the options that we last mounted it with; nil when that is not known
	listed  bool
	line    entry
	file    kind.Text
}

// Spaces and the like stand as octal numbers in both files.
var (
	plain   = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
	encoded = strings.NewReplacer(`\`, `\134`, " ", `\040`, "\t", `\011`, "\n", `\012`)
)

func parse(line string) (entry, bool) {
	f := strings.Fields(line)
	if len(f) < 4 || strings.HasPrefix(f[0], "#") {
		return entry{}, false
	}
	e := entry{what: plain.Replace(f[0]), at: plain.Replace(f[1]), sort: f[2], options: strings.Split(f[3], ","),
		order: "0"}
	if len(f) > 5 {
		e.order = f[5]
	}
	return e, true
}

// options names the change of the options of what is mounted.
const options = "options"

// declared is the line for what is declared.
func declared(t plan.Task) entry {
	e := entry{what: t.Attrs.Text("what"), at: t.Ref.Name, sort: t.Attrs.Text("type"),
		options: t.Attrs.Texts("options"),
		order:   "0"}
	if len(e.options) == 0 {
		e.options = []string{"defaults"}
	}
	if n, ok := t.Attrs.Int("check_order"); ok {
		e.order, _ = value.Text(n)
	}
	return e
}

func (e entry) String() string {
	at := encoded.Replace(e.at)
	return strings.Join([]string{encoded.Replace(e.what), at, e.sort, strings.Join(e.options, ","), "0", e.order}, " ")
}

// wants says whether something is to be so, where the usual is yes.
func wants(t plan.Task, name string) bool {
	return !t.Absent && (!t.Attrs.Has(name) || t.Attrs.Bool(name))
}

// Read looks at what is mounted, and at what is at boot.
func (mounts) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	now, err := machine.ReadFile(env.Machine, "/proc/mounts")
	if err != nil {
		return st, err
	}
	for line := range strings.Lines(string(now)) { // the last one on a path is the one that is seen
		if e, ok := parse(line); ok && e.at == t.Ref.Name {
			st.mounted, st.now = true, e
		}
	}
	if e, ours := env.Store.Entries[t.Ref]; ours && e.Last != nil && !env.Did[t.Ref] {
		st.before = declared(e.Last.Task(t.ID, t.Ref)).options
	}
	if st.file, err = env.ReadText(table); err != nil {
		return st, err
	}
	for _, line := range kind.SplitLines(st.file.Text).List {
		if e, ok := parse(line); ok && e.at == t.Ref.Name {
			st.listed, st.line = true, e
		}
	}
	if !wants(t, "mounted") || t.Ref.Name == "/" {
		return st, nil
	}
	d, name, err := env.Split(t.Ref.Name)
	if err != nil {
		return st, err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return st, nil
	case err == nil && !info.Type.IsDir():
		err = problem.Errorf("%s is not a directory on this host", t.Ref.Name).
			Remedy("remove it, or use another mount point")
	}
	st.folder = true
	return st, err
}

// other says whether something else is mounted than what is declared. What has a
// name of another sort, such as a UUID, cannot be compared with it here.
func other(now, want entry) bool {
	if now.sort != want.sort && want.sort != "auto" && want.sort != "none" && !strings.HasPrefix(now.sort, want.sort) {
		return true
	}
	comparable := !strings.Contains(want.what, "=") && path.Dir(want.what) == path.Dir(now.what)
	return comparable && now.what != want.what
}

// Compare says what differs.
func (mounts) Compare(t plan.Task, st state) []plan.Change {
	want := declared(t)
	var out []plan.Change
	if wants(t, "mounted") && t.Ref.Name != "/" && !st.folder {
		out = append(out, plan.Change{What: "directory", Was: "absent", Becomes: "present"})
	}
	switch mounted := wants(t, "mounted"); {
	case mounted && !st.mounted:
		out = append(out, plan.Change{What: "mounted", Was: "no", Becomes: "yes"})
	case mounted && other(st.now, want):
		out = append(out, plan.Change{What: "mounted", Was: st.now.what + " (" + st.now.sort + ")",
			Becomes: want.what + " (" + want.sort + ")"})
	case mounted && !inForce(st, want):
		out = append(out, plan.Change{What: options, Was: strings.Join(st.now.options, ","),
			Becomes: strings.Join(want.options, ",")})
	case !mounted && st.mounted:
		out = append(out, plan.Change{What: "mounted", Was: "yes", Becomes: "no"})
	}
	switch boot := wants(t, "at_boot"); {
	case boot && !st.listed:
		out = append(out, plan.Change{What: "at boot", Was: "not mounted", Becomes: want.String()})
	case boot && st.line.String() != want.String():
		out = append(out, plan.Change{What: "at boot", Was: st.line.String(), Becomes: want.String()})
	case !boot && st.listed:
		out = append(out, plan.Change{What: "at boot", Was: st.line.String(), Becomes: "not mounted"})
	}
	return out
}

// Write mounts first, so that a line that cannot be mounted never gets into the
// table.
func (mounts) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	t, st, want := w.Task, w.State, declared(w.Task)
	run := func(args ...string) error {
		_, err := machine.Do(ctx, env.Machine, machine.Command{Args: args}, nil)
		return err
	}
	if w.Differs("mounted") && st.mounted {
		if err := run("umount", "--", t.Ref.Name); err != nil {
			return err
		}
	}
	if w.Differs("directory") {
		if err := env.Mkdir(t.Ref.Name, -1, -1); err != nil {
			return err
		}
	}
	switch {
	case w.Differs("mounted") && wants(t, "mounted"):
		if err := run(want.mount()...); err != nil {
			if st.mounted {
				return back(err, st.now, run(st.now.mount()...))
			}
			return err
		}
	case w.Differs(options), wants(t, "mounted") && st.listed && !slices.Equal(st.line.options, want.options):
		if err := run(want.remount()...); err != nil {
			return err
		}
		if env.Did == nil {
			env.Did = map[value.Ref]bool{}
		}
		env.Did[t.Ref] = true // what the kernel does not show of its options holds
	}
	if !w.Differs("at boot") {
		return nil
	}
	l := kind.SplitLines(st.file.Text)
	var out []string
	done := !wants(t, "at_boot")
	for _, line := range l.List {
		e, ok := parse(line)
		switch {
		case !ok || e.at != t.Ref.Name:
			out = append(out, line)
		case !done:
			out, done = append(out, want.String()), true
		}
	}
	if !done {
		out = append(out, want.String())
	}
	l.List = out
	return env.WriteText(ctx, t, st.file, l.String(), 0o644, "")
}

// back adds to an error that what was mounted before is mounted again, or is not.
func back(err error, old entry, again error) error {
	if again != nil {
		return problem.Errorf("%w; %s, which was mounted there, could not be mounted again: %w", err, old.what, again).
			Remedy("mount it by hand")
	}
	return fmt.Errorf("%w; %s is mounted there again", err, old.what)
}

// mount is the command that mounts it.
func (e entry) mount() []string {
	return []string{"mount", "-t", e.sort, "-o", strings.Join(e.options, ","), "--", e.what, e.at}
}

// remount is the command that gives it these options and no others: with what is mounted named,
// mount(8) adds none from fstab.
func (e entry) remount() []string {
	return []string{"mount", "-o", strings.Join(append([]string{"remount"}, e.options...), ","), "--", e.what, e.at}
}

// Names lists what is mounted at boot, but for swap.
func (mounts) Names(_ context.Context, env *kind.Env) ([]string, error) {
	st, err := env.ReadOptional(table)
	var out []string
	for _, line := range kind.SplitLines(st.Text).List {
		if e, ok := parse(line); ok && path.IsAbs(e.at) && e.sort != "swap" && !slices.Contains(out, e.at) {
			out = append(out, e.at)
		}
	}
	return out, err
}

// Capture declares a mount as the table has it, or else as it is mounted.
func (mounts) Capture(_ context.Context, _ *kind.Env, _ plan.Task, st state) (plan.Captured, error) {
	e := st.line
	switch {
	case !st.mounted && !st.listed:
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	case !st.listed:
		e = st.now
	}
	var options []any
	for _, o := range e.options {
		options = append(options, o)
	}
	c := plan.Captured{Attrs: map[string]any{"what": e.what, "type": e.sort, "options": options}}
	if n, err := strconv.ParseInt(e.order, 10, 64); err == nil && n > 0 {
		c.Attrs["check_order"] = n
	}
	if !st.mounted {
		c.Attrs["mounted"] = false
	}
	if !st.listed {
		c.Attrs["at_boot"] = false
	}
	return c, nil
}
