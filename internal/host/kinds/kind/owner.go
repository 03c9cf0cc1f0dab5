package kind

import (
	"fmt"
	"strconv"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/machine"
)

// OwnerAttrs are the attributes of whatever is at a path.
var OwnerAttrs = []schema.Attr{
	{Name: "owner", Type: schema.Name, Wanted: true,
		Default: "unchanged; for new ones, the login user (root when elevated)", Doc: "The owner.",
		Examples: []string{`"root"`}},
	{Name: "group", Type: schema.Name, Default: "unchanged", Doc: "The group.",
		Examples: []string{`"adm"`}},
	{Name: "mode", Type: schema.Mode, Wanted: true,
		Default: "unchanged; 0644 for a new file, 0755 for a new directory",
		Doc:     "The permission bits, as a quoted octal number.", Examples: []string{`"0644"`}},
}

// OwnerNeeds are the references that a path's owner and group imply.
func OwnerNeeds(n schema.Needer) []value.Ref {
	out := ParentDirs(n)
	if owner := n.Attrs.Text("owner"); owner != "" {
		out = append(out, value.Ref{Kind: "user", Name: owner})
	}
	return append(out, GroupNeeds(n, n.Attrs.Text("group"))...)
}

// GroupNeeds are what makes a group: its own declaration, or else that of the
// user whose name it bears, whose primary group it is by default.
func GroupNeeds(n schema.Needer, group string) []value.Ref {
	made, by := value.Ref{Kind: "group", Name: group}, value.Ref{Kind: "user", Name: group}
	switch {
	case group == "":
		return nil
	case !n.Declared(made) && by != n.Ref:
		return []value.Ref{by}
	}
	return []value.Ref{made}
}

// Ownership is whose the thing at a path is, and by which rights.
type Ownership struct {
	Owner, Group, Mode string

	Info   machine.Info // of the thing that was compared
	Folder machine.Info // of the folder that it is in

	Extras []string // the names of its extended attributes, where ReadExtras was called
	me     int      // whose rights the worker has
}

// special are the bits by which a program gets the rights of its owner or
// group. They are what is declared, and nothing else.
const special = 0o6000

// OwnershipOf puts names to what Lstat reports of a thing and of its folder.
func (e *Env) OwnershipOf(d machine.Dir, info machine.Info) (Ownership, error) {
	a, err := e.Accounts()
	if err != nil {
		return Ownership{}, err
	}
	folder, err := d.Lstat(".")
	if err != nil {
		return Ownership{}, err
	}
	folder.Time, folder.Size = time.Time{}, 0 // which a candidate beside the thing changes as well
	return Ownership{Owner: a.UserName(info.UID), Group: a.GroupName(info.GID), Mode: fmt.Sprintf("%04o", info.Mode),
		Info: info, Folder: folder, me: e.Machine.UID()}, nil
}

// Attrs declares whose the thing is.
func (o Ownership) Attrs() value.Attrs {
	return value.Attrs{"owner": o.Owner, "group": o.Group, "mode": o.Mode}
}

// Compare gives the declared parts that differ. With rewritten, the content of
// the thing will be another.
func (o Ownership) Compare(t plan.Task, rewritten bool) []plan.Change {
	want := t.Attrs.Text("mode")
	owned := t.Attrs.Has("owner") || t.Attrs.Has("group") || t.Content != nil
	changed := rewritten || differs(t, "owner", o.Owner) || differs(t, "group", o.Group)
	if want == "" && o.Info.Mode&special != 0 && owned && (changed || !o.Info.Type.IsDir()) {
		want = fmt.Sprintf("%04o", o.Info.Mode&^special)
	}
	var out []plan.Change
	for _, c := range []plan.Change{
		{What: "owner", Was: o.Owner, Becomes: t.Attrs.Text("owner")},
		{What: "group", Was: o.Group, Becomes: t.Attrs.Text("group")},
		{What: "mode", Was: o.Mode, Becomes: want},
	} {
		if c.Becomes != "" && c.Becomes != c.Was {
			out = append(out, c)
		}
	}
	return append(out, o.lost(t, rewritten)...)
}

func differs(t plan.Task, attr, current string) bool {
	text := t.Attrs.Text(attr)
	return text != "" && text != current
}

// GivesAway says why a thing of root's is not given to somebody who may have put it at its path: in
// a folder of theirs they can give any name to what root has left there. What this project made is
// meant.
func (o Ownership) GivesAway(e *Env, t plan.Task) error {
	ours := false
	if e.Store != nil {
		entry, known := e.Store.Entries[t.Ref]
		ours = known && entry.Project == e.Run.Project
	}
	if ours || o.Info.UID != 0 || !differs(t, "owner", o.Owner) || o.Folder.UID == 0 ||
		o.Folder.OnlyBy(e.Machine.UID()) {
		return nil
	}
	return problem.Errorf("%s belongs to %s, and the owner of its directory may have put another user's file under "+
		"this name", t.Ref.Name, o.Owner).
		Remedy("inspect it, then give it to %s by hand or remove it", t.Attrs.Text("owner"))
}

// Refused says why what is at a path is not given rights by name alone: where
// others can write the folder, anybody may have put it there. With rewritten
// nothing of it is kept but its owner, where none is declared.
func (o Ownership) Refused(e *Env, t plan.Task, rewritten bool) error {
	me := e.Machine.UID()
	if o.Folder.OnlyBy(me) {
		return nil
	}
	expected := o.Info.UID == 0 || o.Info.UID == me || o.Owner == t.Attrs.Text("owner")
	mode, _ := schema.ParseMode(t.Attrs.Text("mode"))
	gives := differs(t, "owner", o.Owner) || differs(t, "group", o.Group) || mode&special != 0
	switch {
	case rewritten && t.Attrs.Text("owner") == "" && !expected && o.Info.UID != o.Folder.UID:
		return problem.Errorf("%s belongs to %s, which is not the declared owner, and users other than root can "+
			"write to its directory",
			t.Ref.Name, o.Owner).
			Remedy("declare its owner, or remove it by hand")
	case rewritten:
		return nil
	case gives && !expected:
		return problem.Errorf("%s belongs to %s, who controls its content, and changing only its owner would keep "+
			"that content",
			t.Ref.Name, o.Owner).
			Remedy("inspect it and remove it by hand, or declare its content")
	case gives && o.Info.Links > 1 && !o.Info.Type.IsDir():
		return problem.Errorf("%s has %d hard links, and the others would change owner with it", t.Ref.Name,
			o.Info.Links).
			Remedy("users other than root can write to its directory; inspect it and remove it by hand")
	}
	return nil
}

// IDs gives the numbers of the declared owner and group, -1 for what is not
// declared.
func (e *Env) IDs(t plan.Task) (uid, gid int, err error) {
	uid, gid = -1, -1
	owner, group := t.Attrs.Text("owner"), t.Attrs.Text("group")
	if owner == "" && group == "" {
		return uid, gid, nil
	}
	a, err := e.Accounts()
	if err != nil {
		return -1, -1, err
	}
	if owner != "" {
		u, ok := a.User(owner)
		if n, err := strconv.Atoi(owner); !ok && err == nil && n >= 0 { // as a thing was whose account is gone
			u.UID, ok = n, true
		}
		if !ok {
			return -1, -1, NotYet(problem.Errorf("the owner %s does not exist on this host", owner).
				Remedy("declare it: [user.%s]", owner))
		}
		uid = u.UID
	}
	if group != "" {
		g, ok := a.Group(group)
		if n, err := strconv.Atoi(group); !ok && err == nil && n >= 0 {
			g.GID, ok = n, true
		}
		if !ok {
			return -1, -1, NotYet(problem.Errorf("the group %s does not exist on this host", group).
				Remedy("declare it: [group.%s]", group))
		}
		gid = g.GID
	}
	return uid, gid, nil
}

// Target gives the mode and owner that a thing is to have: what is declared,
// else what is there (without setuid and setgid), else the given mode and the
// worker's user.
func (e *Env) Target(t plan.Task, current *Ownership, otherwise uint32) (mode uint32, uid, gid int, err error) {
	if uid, gid, err = e.IDs(t); err != nil {
		return 0, -1, -1, err
	}
	mode = otherwise
	if current != nil {
		mode = current.Info.Mode &^ special
		if uid < 0 {
			uid = current.Info.UID
		}
		if gid < 0 {
			gid = current.Info.GID
		}
	}
	if m := t.Attrs.Text("mode"); m != "" {
		mode, err = schema.ParseMode(m)
	}
	return mode, uid, gid, err
}

// Own sets owner, group and mode of what was compared: on the open file, once
// it is sure to be that one, and never by name. The owner comes first, since
// changing it may clear bits of the mode.
func (e *Env) Own(d machine.Dir, name string, t plan.Task, was Ownership) error {
	f, err := d.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Info()
	if err != nil {
		return err
	}
	if !info.Same(was.Info) {
		return Exchanged(t)
	}
	if err := was.Refused(e, t, false); err != nil {
		return err
	}
	mode, uid, gid, err := e.Target(t, &was, 0)
	if err != nil {
		return err
	}
	owned := uid != info.UID || gid != info.GID
	if owned {
		if err := f.Chown(uid, gid); err != nil {
			return fmt.Errorf("change the owner: %w", err)
		}
	}
	if t.Attrs.Text("mode") == "" && info.Type.IsDir() && !owned {
		return f.Sync() // nothing of it is another's now
	}
	if err := f.Chmod(mode); err != nil {
		return fmt.Errorf("change the mode: %w", err)
	}
	return f.Sync()
}

// Exchanged is the problem of a thing that is not the one any more that was
// compared.
func Exchanged(t plan.Task) error {
	return problem.Errorf("%s was modified by someone else while it was being changed", t.Ref.Name).
		Remedy("find out what else modifies it, and run again")
}
