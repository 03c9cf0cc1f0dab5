package kind

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Edit is a kind that declares a part of a text file: given what the file holds,
// it says what it is to hold. [Edits] makes a Kind of it.
type Edit interface {
	Schema() *schema.Kind
	// File gives the path of the file for a declaration.
	File(t plan.Task) string
	// Edit gives the text that the file is to hold, which is the one that it gets
	// where all is as declared.
	Edit(t plan.Task, text string) (string, error)
}

// Pure is what a schema says of an Edit, for those that look at declarations without a host.
func Pure(e interface {
	Edit(t plan.Task, text string) (string, error)
}) func(name string, absent bool, a value.Attrs, text string) (string, error) {
	return func(name string, absent bool, a value.Attrs, text string) (string, error) {
		return e.Edit(plan.Task{Ref: value.Ref{Name: name}, Absent: absent, Attrs: a}, text)
	}
}

// Remover is an Edit whose file goes as a whole where it is declared absent.
type Remover interface{ Removes() bool }

func removes(e Edit) bool {
	r, ok := e.(Remover)
	return ok && r.Removes()
}

// Moder is an Edit whose new files have another mode than 0644.
type Moder interface{ Mode() uint32 }

// EditAttrs are the attributes that kinds of this sort share.
var EditAttrs = []schema.Attr{
	{Name: "check", Type: schema.Command,
		Doc: "A command that must succeed before the file is put in place; ${candidate} is the path of the " +
			"new file.",
		Examples: []string{`"sshd -t -f ${candidate}"`}},
	{Name: "create", Type: schema.Bool, Default: "false",
		Doc: "Create the file, with mode 0644, if it does not exist.", Examples: []string{"true"}},
}

// PartOf gives the path of a name such as /etc/ssh/sshd_config#root-login, where
// the word that distinguishes several declarations for one file.
func PartOf(name string) (file, word string) {
	file, word, _ = strings.Cut(name, "#")
	return file, word
}

var partWord = lazy.Regexp(`^[A-Za-z0-9][A-Za-z0-9_.-]*$`)

// CanonPart is the canonical form of such a name.
func CanonPart(name string) (string, error) {
	file, word, several := strings.Cut(name, "#")
	file, err := schema.FilePath(file)
	if err != nil || !several {
		return file, err
	}
	if !partWord().MatchString(word) {
		return "", problem.Errorf("%q has no name after the #", name).
			Remedy("write a path and, after #, a name of letters, digits, dots, dashes and underscores")
	}
	return file + "#" + word, nil
}

// FileOfPart is the path of such a name.
func FileOfPart(name string) string {
	file, _ := PartOf(name)
	return file
}

// PartNeeds are what such a declaration implies a need for.
func PartNeeds(n schema.Needer) []value.Ref {
	n.Ref.Name = FileOfPart(n.Ref.Name)
	return ParentDirs(n)
}

// CheckEdit holds the shared attributes together.
func CheckEdit(_ string, a value.Attrs) (string, error) {
	if c := a.Text("check"); c != "" && !strings.Contains(c, "${candidate}") {
		return "check", problem.Errorf("check does not use ${candidate}").
			Remedy("put ${candidate} where the command expects the file")
	}
	return "", nil
}

// Edits makes a Kind of an Edit.
func Edits(e Edit) Kind { return Each(edits{e}) }

type edits struct{ Edit }

func (k edits) Stale() []Topic { return stale(k.Edit) }

// edited is a file and what it is to hold.
type edited struct {
	Text
	want string
}

func (k edits) Read(_ context.Context, env *Env, t plan.Task) (edited, error) {
	st, err := env.ReadText(k.File(t))
	if errors.Is(err, ErrNotYet) && t.Absent {
		return edited{}, nil
	}
	if errors.Is(err, ErrNotYet) { // its folder may be about to come: a preview shows what the file will hold
		want, e := k.Edit.Edit(t, "")
		return edited{st, want}, cmp.Or(e, err)
	}
	if err != nil {
		return edited{Text: st, want: st.Text}, err
	}
	if !st.There && t.Absent {
		return edited{}, nil
	}
	if t.Absent && removes(k.Edit) {
		return edited{Text: st}, nil
	}
	want, err := k.Edit.Edit(t, st.Text)
	if _, asks := k.Schema().Attr("create"); err == nil && asks && !st.There && !t.Attrs.Bool("create") {
		err = NotYet(problem.Errorf("the file %s does not exist", st.Path).
			Remedy("declare what installs it, or set create = true to create it"))
	}
	if err == nil && st.There && want != st.Text {
		err = env.rewritten(&st)
	}
	return edited{st, want}, err
}

func (e *Env) rewritten(st *Text) error {
	d, name, err := e.Split(st.Path)
	if err != nil {
		return err
	}
	defer d.Close()
	return e.Rewritten(d, name, st.Path, &st.Own, ", or declare the whole file, with follow = true")
}

func (k edits) Compare(t plan.Task, st edited) []plan.Change {
	if t.Absent && removes(k.Edit) && st.There {
		return []plan.Change{Existence(true)}
	}
	if t.Absent && st.want == st.Text.Text {
		return nil
	}
	changes := st.Change(st.want)
	if len(changes) > 0 && value.HoldsSecret(map[string]any(t.Attrs)) {
		changes[0] = plan.Change{What: "content", Was: "another one", Becomes: value.Hidden, Secret: true}
	}
	switch whole, ok := k.whole(t); {
	case ok && st.There:
		changes = append(changes, st.Own.Compare(whole, len(changes) > 0)...)
	case len(changes) > 0:
		changes = append(changes, st.Own.lost(plan.Task{}, true)...)
	}
	return changes
}

// mode is that of a new file.
func (k edits) mode(t plan.Task) uint32 {
	if value.HoldsSecret(map[string]any(t.Attrs)) {
		return 0o600
	}
	if m, ok := k.Edit.(Moder); ok {
		return m.Mode()
	}
	return 0o644
}

// whole is a declaration of a whole file of ours with the mode that it has to
// have; false for a part of somebody else's.
func (k edits) whole(t plan.Task) (plan.Task, bool) {
	if !removes(k.Edit) || t.Absent {
		return t, false
	}
	t.Attrs = value.Attrs{"mode": fmt.Sprintf("%04o", k.mode(t))}
	return t, true
}

// Write edits what is there by now: a neighbour may have edited the file since it
// was read.
func (k edits) Write(ctx context.Context, env *Env, w Differing[edited]) error {
	st, err := env.ReadText(k.File(w.Task))
	if err != nil {
		return err
	}
	if w.Task.Absent && removes(k.Edit) {
		return env.RemoveText(w.Task, st)
	}
	want, err := k.Edit.Edit(w.Task, st.Text)
	if err != nil {
		return err
	}
	if !st.There || want != st.Text {
		if err := env.WriteText(ctx, w.Task, st, want, k.mode(w.Task), w.Task.Attrs.Text("check")); err != nil {
			return err
		}
	}
	return k.own(env, w.Task)
}

// own gives a whole file of ours its mode.
func (k edits) own(env *Env, t plan.Task) error {
	whole, ok := k.whole(t)
	if !ok {
		return nil
	}
	st, err := env.ReadText(k.File(t))
	if err != nil || len(st.Own.Compare(whole, false)) == 0 {
		return err
	}
	d, name, err := env.Split(st.Path)
	if err != nil {
		return err
	}
	defer d.Close()
	return env.Own(d, name, whole, st.Own)
}

// Prior gives the whole file.
func (k edits) Prior(_ context.Context, env *Env, t plan.Task, st edited) ([]plan.Prior, error) {
	return env.PriorAt(cmp.Or(st.Path, k.File(t)))
}

// Capture says that a part of a file is declared by hand: nobody can say which
// part was meant.
func (k edits) Capture(context.Context, *Env, plan.Task, edited) (plan.Captured, error) {
	return plan.Captured{}, problem.Errorf("%s is part of a file", k.Schema().Name).
		Remedy("declare it by hand, or capture the file")
}

// Lines are the lines of a text file, and how it ends them.
type Lines struct {
	List []string // without their ends; where some end in \r\n and some do not, \r is a part of the line
	end  string
	last string // the last line of a file whose last line has no end
	open bool
}

// SplitLines takes a text apart.
func SplitLines(text string) Lines {
	l := Lines{end: "\n"}
	if text == "" {
		return l
	}
	if n := strings.Count(text, "\n"); n > 0 && n == strings.Count(text, "\r\n") {
		l.end = "\r\n"
	}
	l.open = !strings.HasSuffix(text, "\n")
	l.List = strings.Split(strings.TrimSuffix(text, l.end), l.end)
	if l.open {
		l.last = l.List[len(l.List)-1]
	}
	return l
}

// String puts the lines together, each with its end. A last line that had none gets one only when
// it is another one by now.
func (l Lines) String() string {
	if len(l.List) == 0 {
		return ""
	}
	text := strings.Join(l.List, l.end)
	if l.open && l.List[len(l.List)-1] == l.last {
		return text
	}
	return text + l.end
}

// Spot finds where something new belongs: behind the last line that below finds,
// before the first that above finds, else at the end. Patterns may be empty, and
// are known to compile.
func (l Lines) Spot(below, above string) int {
	if below != "" {
		re := regexp.MustCompile(below)
		for i := len(l.List) - 1; i >= 0; i-- {
			if re.MatchString(l.List[i]) {
				return i + 1
			}
		}
	}
	if above != "" {
		re := regexp.MustCompile(above)
		for i, line := range l.List {
			if re.MatchString(line) {
				return i
			}
		}
	}
	return len(l.List)
}

// CommentMarks splits what a file's comments begin and end with, such as "#" or
// "<!-- -->".
func CommentMarks(s string) (begin, end string) {
	begin, end, _ = strings.Cut(cmp.Or(s, "#"), " ")
	if end != "" {
		end = " " + end
	}
	return begin, end
}
