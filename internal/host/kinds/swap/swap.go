// Package swap is the kind of swap files and devices.
package swap

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name: "swap",
	Area: "system",
	Tools: []schema.Tool{{When: []string{"size"}, Any: []string{"mkswap"}, Package: "util-linux"},
		{When: []string{"size", "in use", "priority"}, Any: []string{"swapon"}, Package: "mount"}},
	Space: schema.Paths,
	About: "A swap file or device: in use now and at every boot.",
	Doc: "The name is its path. With size, it is a file, which is created; without size, it is a device, which " +
		"is formatted with mkswap only if it is empty. It is added to /etc/fstab, and the kernel is checked to " +
		"confirm that it is in use.",
	Attrs: []schema.Attr{
		{Name: "size", Type: schema.Text, Doc: "The size of a swap file.", Examples: []string{`"2 GiB"`, `"512 MiB"`}},
		{Name: "priority", Type: schema.Int, Default: "chosen by the kernel",
			Doc: "The priority, from 0 to 32767; the highest is used first.", Examples: []string{"10"}},
	},
	Examples: []schema.Example{
		{About: "A swap file", TOML: `[swap."/swapfile"]
size = "2 MiB"
`},
		{About: "A device that is used before others", TOML: `[swap."/dev/vdb2"]
priority = 10
`},
	},
	Captures: []string{"size"},
	Part:     func(string) string { return fstab },
	Canon:    schema.FilePath,
	Needs:    kind.ParentDirs,
	Check: func(name string, a value.Attrs) (string, error) {
		device := strings.HasPrefix(name, "/dev/")
		n, _ := a.Int("priority")
		_, wrong := parseSize(a.Text("size"))
		switch {
		case strings.ContainsAny(name, " \t\\"):
			return "", problem.Errorf("%q contains white space or a backslash", name).Remedy("use another path")
		case n < 0 || n > 32767:
			return "priority", problem.Errorf("invalid priority %d", n).Remedy("use a number from 0 to 32767")
		case device && a.Has("size"):
			return "size", problem.Errorf("%s is a device, so its size cannot be set", name).Remedy("remove size")
		case !device && !a.Has("size") && !a.Bool("absent"):
			return "", problem.Errorf("size is required for a file").Remedy("write size = \"2 GiB\"")
		case a.Has("size") && wrong != nil:
			return "size", wrong
		}
		return "", nil
	},
}

// parseSize gives bytes.
func parseSize(s string) (int64, error) {
	n, err := measure.ParseBytes(s)
	if err != nil || n < 1<<20 || n > 1<<41 || n%(1<<20) != 0 {
		return 0, problem.Errorf("invalid swap file size %q", s).
			Remedy(`use whole MiB, from "1 MiB" to "2048 GiB"`)
	}
	return n, nil
}

func mebibytes(n int64) string {
	if n%(1<<20) != 0 && n < 1<<20 {
		return kind.Bytes(n)
	}
	return fmt.Sprintf("%d MiB", n>>20)
}

// Kind is the kind of swap.
func Kind() kind.Kind { return kind.Each(swaps{}) }

type swaps struct{}

func (swaps) Schema() *schema.Kind { return about }

const fstab = "/etc/fstab"

type state struct {
	there bool
	size  int64
	used  bool
	level string // its priority, as the kernel reports it
	table kind.Text
	want  string // what fstab is to hold
}

// Read looks at the file, at fstab and at what the kernel uses.
func (swaps) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	d, name, err := env.Split(t.Ref.Name)
	if err != nil && !(t.Absent && errors.Is(err, kind.ErrNotYet)) {
		return st, err
	}
	if err == nil {
		defer d.Close()
		info, err := d.Lstat(name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return st, err
		case !strings.HasPrefix(t.Ref.Name, "/dev/") && !info.Type.IsRegular():
			return st, problem.Errorf("%s exists but is not a regular file", t.Ref.Name).Remedy("move it away by hand")
		default:
			st.there, st.size = true, info.Size
		}
	}
	if !st.there && strings.HasPrefix(t.Ref.Name, "/dev/") && !t.Absent {
		return st, kind.NotYet(problem.Errorf("the device %s does not exist", t.Ref.Name).
			Remedy("`lsblk` on the host lists them"))
	}
	st.used, st.level, err = inUse(env, t.Ref.Name)
	if err != nil {
		return st, err
	}
	if st.table, err = env.ReadText(fstab); err != nil {
		return st, err
	}
	st.want = entry(t, st.table.Text)
	return st, nil
}

// inUse looks into /proc/swaps: a heading, then path, type, size, used and
// priority (proc(5)).
func inUse(env *kind.Env, p string) (used bool, level string, err error) {
	text, err := machine.ReadFile(env.Machine, "/proc/swaps")
	if errors.Is(err, fs.ErrNotExist) {
		return false, "", nil // a kernel without swap
	}
	for line := range strings.Lines(string(text)) {
		if f := strings.Fields(line); len(f) == 5 && f[0] == p {
			return true, f[4], nil
		}
	}
	return false, "", err
}

// entry gives fstab with the line that is declared (fstab(5)).
func entry(t plan.Task, text string) string {
	l := kind.SplitLines(text)
	line := t.Ref.Name + " none swap " + options(t) + " 0 0"
	var out []string
	done := t.Absent
	for _, old := range l.List {
		f := strings.Fields(old)
		switch {
		case len(f) < 3 || f[0] != t.Ref.Name || f[2] != "swap":
			out = append(out, old)
		case !done:
			out, done = append(out, line), true
		}
	}
	if !done {
		out = append(out, line)
	}
	l.List = out
	return l.String()
}

func options(t plan.Task) string {
	if n, given := t.Attrs.Int("priority"); given {
		return fmt.Sprintf("sw,pri=%d", n)
	}
	return "sw"
}

// Compare says what differs.
func (swaps) Compare(t plan.Task, st state) []plan.Change {
	var out []plan.Change
	if t.Absent {
		if st.used || st.there && !strings.HasPrefix(t.Ref.Name, "/dev/") {
			out = append(out, kind.Existence(true))
		}
		return append(out, st.named()...)
	}
	want, _ := parseSize(t.Attrs.Text("size"))
	switch {
	case !st.there:
		out = append(out, plan.Change{What: "size", Was: "absent", Becomes: mebibytes(want)})
	case want > 0 && st.size != want:
		out = append(out, plan.Change{What: "size", Was: mebibytes(st.size), Becomes: mebibytes(want)})
	}
	if !st.used {
		out = append(out, plan.Change{What: "in use", Was: "no", Becomes: "yes"})
	}
	if n, given := t.Attrs.Int("priority"); given && st.used && st.level != fmt.Sprint(n) {
		out = append(out, plan.Change{What: "priority", Was: st.level, Becomes: fmt.Sprint(n)})
	}
	return append(out, st.named()...)
}

// named gives what differs in fstab, under its name.
func (st state) named() []plan.Change {
	if st.want == st.table.Text {
		return nil
	}
	list := st.table.Change(st.want)
	for i := range list {
		list[i].What = "fstab"
	}
	return list
}

// Write makes the file beside the one that is there, puts it to use and writes fstab last, so that
// what cannot be used is not tried at boot. What fails is taken back.
func (swaps) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) (err error) {
	t := w.Task
	st, err := swaps{}.Read(ctx, env, t) // since a neighbour may have been written
	if err != nil {
		return err
	}
	do := func(args ...string) error {
		_, err := machine.Do(ctx, env.Machine, machine.Command{Args: args, Limit: 10 * time.Minute}, nil)
		return err
	}
	var undo []func() error
	defer func() {
		for _, back := range slices.Backward(undo) {
			if err == nil {
				return
			}
			if wrong := back(); wrong != nil {
				err = fmt.Errorf("%w; the changes could not be reverted: %w", err, wrong)
				return
			}
		}
	}()
	made := !t.Absent && w.Differs("size")
	var candidate string
	if made {
		if candidate, err = build(env, t, do); err != nil {
			return err
		}
		undo = append(undo, func() error { return drop(env, candidate) })
	}
	if st.used && (t.Absent || made || w.Differs("priority")) {
		if err := do("swapoff", t.Ref.Name); err != nil {
			return err
		}
		undo = append(undo, func() error { return again(t, st, do) })
	}
	if t.Absent {
		if st.want != st.table.Text { // it stays, even with nothing in it
			if err := env.WriteText(ctx, t, st.table, st.want, 0o644, ""); err != nil {
				return err
			}
		}
		return remove(env, t, st)
	}
	if made {
		back, err := exchange(env, t, path.Base(candidate))
		if err != nil {
			return err
		}
		undo = append(undo, back)
	}
	if !st.used || made || w.Differs("priority") {
		if err := use(t, made || st.used, do); err != nil {
			return err
		}
		undo = append(undo, func() error { return do("swapoff", t.Ref.Name) })
	}
	if err := env.WriteText(ctx, t, st.table, st.want, 0o644, ""); err != nil {
		return err
	}
	if made {
		return drop(env, candidate) // what was there before, which has that name now
	}
	return nil
}

// again uses swap as it was used before.
func again(t plan.Task, was state, do func(...string) error) error {
	if n, err := strconv.Atoi(was.level); err == nil && n >= 0 {
		return do("swapon", "-p", was.level, t.Ref.Name)
	}
	return do("swapon", t.Ref.Name)
}

// exchange has the new file and the one that is there, if one is, take each other's names. back
// takes that back.
func exchange(env *kind.Env, t plan.Task, candidate string) (back func() error, err error) {
	swap := func() error {
		d, name, err := env.Split(t.Ref.Name)
		if err != nil {
			return err
		}
		defer d.Close()
		const aside = ".old"
		if err := d.Rename(name, candidate+aside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := d.Rename(candidate, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := d.Rename(candidate+aside, candidate); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return d.Sync()
	}
	return swap, swap()
}

// drop removes a file of ours, if it is there.
func drop(env *kind.Env, at string) error {
	d, name, err := env.Split(at)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// use puts swap to use. A device that holds nothing is prepared first; mkswap
// refuses by itself what is mounted, and wipefs shows what a device holds.
func use(t plan.Task, prepared bool, do func(...string) error) error {
	args := []string{"swapon"}
	if n, given := t.Attrs.Int("priority"); given {
		args = append(args, "-p", fmt.Sprint(n))
	}
	args = append(args, t.Ref.Name)
	err := do(args...)
	if err == nil || prepared {
		return err
	}
	if do("blkid", "-p", t.Ref.Name) == nil {
		return problem.Errorf("%s cannot be used as swap and is not empty: %w", t.Ref.Name, err).
			Remedy("check it with `blkid %s`; if its content is not needed, run `mkswap` by hand", t.Ref.Name)
	}
	if err := do("mkswap", t.Ref.Name); err != nil {
		return err
	}
	return do(args...)
}

// build makes a file beside that of the task which is written whole, since a swap file has no holes
// (swapon(8)), and prepares it.
func build(env *kind.Env, t plan.Task, do func(...string) error) (at string, err error) {
	size, err := parseSize(t.Attrs.Text("size"))
	if err != nil {
		return "", err
	}
	folder := path.Dir(t.Ref.Name)
	_, free, err := env.Machine.Space(folder)
	if err == nil && free < size {
		return "", problem.Errorf("a file of %s does not fit: only %s are free", mebibytes(size), mebibytes(free)).
			Remedy("declare a smaller one; an existing one is kept until the new one is in use")
	}
	d, _, err := env.Split(t.Ref.Name)
	if err != nil {
		return "", err
	}
	defer d.Close()
	name, err := env.Candidate(t, folder)
	if err != nil {
		return "", err
	}
	at = path.Join(folder, name)
	f, err := d.Create(name, 0o600, -1, -1)
	if err != nil {
		return "", err
	}
	_, err = io.CopyN(f, zeros{}, size)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = do("mkswap", at)
	}
	if err != nil {
		d.Remove(name)
	}
	return at, err
}

// zeros is a source of nothing but.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

func remove(env *kind.Env, t plan.Task, st state) error {
	if !st.there || strings.HasPrefix(t.Ref.Name, "/dev/") {
		return nil
	}
	d, name, err := env.Split(t.Ref.Name)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Remove(name)
}

// Names lists what fstab has.
func (swaps) Names(_ context.Context, env *kind.Env) ([]string, error) {
	st, err := env.ReadText(fstab)
	var out []string
	for line := range strings.Lines(st.Text) {
		if f := strings.Fields(line); len(f) > 2 && f[2] == "swap" && strings.HasPrefix(f[0], "/") {
			out = append(out, f[0])
		}
	}
	return out, err
}

// Capture declares swap as it is.
func (swaps) Capture(_ context.Context, _ *kind.Env, t plan.Task, st state) (plan.Captured, error) {
	if !st.used && st.table.Text == st.want && !st.there {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	attrs := map[string]any{}
	if !strings.HasPrefix(t.Ref.Name, "/dev/") {
		if st.size%(1<<20) != 0 {
			return plan.Captured{}, problem.Errorf("its %d bytes are not a whole number of MiB", st.size).
				Remedy("declare it by hand")
		}
		attrs["size"] = fmt.Sprintf("%d MiB", st.size>>20)
	}
	return plan.Captured{Attrs: attrs}, nil
}
