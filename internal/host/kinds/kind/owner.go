package kind

import (
	"fmt"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/machine"
)

// OwnerAttrs are the attributes of whatever lies at a path.
var OwnerAttrs = []schema.Attr{
	{Name: "owner", Type: schema.Name, Default: "left as it is; the login user (root when elevated) for what is new", Doc: "The user it belongs to.", Examples: []string{`"root"`}},
	{Name: "group", Type: schema.Name, Default: "left as it is", Doc: "The group it belongs to.", Examples: []string{`"adm"`}},
	{Name: "mode", Type: schema.Mode, Default: "left as it is; 0644 for a new file, 0755 for a new folder", Doc: "The permission bits, in octal and in quotes.", Examples: []string{`"0644"`}},
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

// Ownership is the owner, group and mode that stand at a path.
type Ownership struct {
	Owner, Group, Mode string
}

// OwnershipOf puts names to what Lstat tells.
func (e *Env) OwnershipOf(info machine.Info) (Ownership, error) {
	a, err := e.Accounts()
	if err != nil {
		return Ownership{}, err
	}
	return Ownership{a.UserName(info.UID), a.GroupName(info.GID), fmt.Sprintf("%04o", info.Mode)}, nil
}

// Compare gives the declared parts that differ.
func (o Ownership) Compare(t plan.Task) []plan.Change {
	var out []plan.Change
	for _, c := range []plan.Change{
		{What: "owner", Before: o.Owner, After: t.Attrs.Text("owner")},
		{What: "group", Before: o.Group, After: t.Attrs.Text("group")},
		{What: "mode", Before: o.Mode, After: t.Attrs.Text("mode")},
	} {
		if c.After != "" && c.After != c.Before {
			out = append(out, c)
		}
	}
	return out
}

// IDs gives the numbers of the declared owner and group, -1 for what is not
// declared.
func (e *Env) IDs(t plan.Task) (uid, gid int, err error) {
	a, err := e.Accounts()
	if err != nil {
		return -1, -1, err
	}
	uid, gid = -1, -1
	if name := t.Attrs.Text("owner"); name != "" {
		u, ok := a.User(name)
		if !ok {
			return -1, -1, NotYet("the owner %s is no user of this host; declare user:%s", name, name)
		}
		uid = u.UID
	}
	if name := t.Attrs.Text("group"); name != "" {
		g, ok := a.Group(name)
		if !ok {
			return -1, -1, NotYet("the group %s is not on this host; declare group:%s", name, name)
		}
		gid = g.GID
	}
	return uid, gid, nil
}

// Own sets owner, group and mode of what exists in a folder, those of them
// that are declared. The owner comes first, since changing it may clear bits
// of the mode.
func (e *Env) Own(d machine.Dir, name string, t plan.Task) error {
	uid, gid, err := e.IDs(t)
	if err != nil {
		return err
	}
	info, err := d.Lstat(name)
	if err != nil {
		return err
	}
	mode := info.Mode
	if m := t.Attrs.Text("mode"); m != "" {
		if mode, err = schema.ParseMode(m); err != nil {
			return err
		}
	}
	if uid >= 0 && uid != info.UID || gid >= 0 && gid != info.GID {
		if err := d.Chown(name, uid, gid); err != nil {
			return fmt.Errorf("change the owner: %w", err)
		}
		return d.Chmod(name, mode)
	}
	if mode == info.Mode {
		return nil
	}
	return d.Chmod(name, mode)
}
