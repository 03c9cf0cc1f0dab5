package kind

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/machine"
)

// capability is the extended attribute of a file's capabilities (capabilities(7)).
// They say of one content and one owner what it may do, and of no other.
const capability = "security.capability"

// signatures are extended attributes that the kernel itself makes of a content; see
// Documentation/ABI/testing/evm and ima_policy in the kernel's source.
var signatures = []string{"security.ima", "security.evm"}

// ReadExtras notes which extended attributes a file has, ACLs and capabilities among
// them, where a task would change the file. Compare reports those that it loses.
func (e *Env) ReadExtras(d machine.Dir, name string, o *Ownership) error {
	f, err := d.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	have, err := f.Extras()
	o.Extras = value.Keys(have)
	return err
}

// Rewritten looks at a file that is to be given another content: one with several names
// is refused, since the others would keep the old one, and otherwise it says what else
// is to be done about that. What the file may lose with its content is read.
func (e *Env) Rewritten(d machine.Dir, name, at string, o *Ownership, otherwise string) error {
	if o.Info.Links > 1 {
		return problem.Errorf("%s has %d hard links, and the others would keep the old content", at, o.Info.Links).
			Remedy("find them with `find / -xdev -samefile %s` and remove them%s", at, otherwise)
	}
	return e.ReadExtras(d, name, o)
}

// keeps says whether what is put in a file's place gets its extended attributes. Who
// can exchange the file, or loses it to another owner, may have set them for himself.
func (o Ownership) keeps(t plan.Task) bool {
	ours := o.Info.UID == 0 || o.Info.UID == o.me
	return o.Folder.OnlyBy(o.me) && (ours || !differs(t, "owner", o.Owner))
}

// lost lists what a change drops of a file's extended attributes.
func (o Ownership) lost(t plan.Task, rewritten bool) []plan.Change {
	owned := differs(t, "owner", o.Owner) || differs(t, "group", o.Group)
	var out []plan.Change
	var others []string
	for _, name := range o.Extras {
		switch {
		case name == capability && (rewritten || owned):
			out = append(out, plan.Change{What: "capabilities", Was: "set", Becomes: "none"})
		case name == capability, slices.Contains(signatures, name):
		case rewritten && !o.keeps(t) && !strings.HasPrefix(name, "security."):
			others = append(others, name)
		}
	}
	if len(others) > 0 {
		out = append(out, plan.Change{What: "extended attributes", Was: strings.Join(others, ", "), Becomes: "none"})
	}
	return out
}

// carry gives a new file the extended attributes of the one whose place it takes. What
// the system's own policy says of it, such as a label of SELinux, it may refuse.
func carry(from, to machine.File) error {
	have, err := from.Extras()
	delete(have, capability)
	if err != nil || len(have) == 0 {
		return err
	}
	return GiveExtras(to, have)
}

// GiveExtras gives a file that holds what another held, or a folder, the extended attributes of that.
func GiveExtras(to machine.File, have map[string][]byte) error {
	if len(have) == 0 {
		return nil
	}
	got, err := to.Extras()
	if err != nil {
		return err
	}
	for _, name := range value.Keys(have) {
		if slices.Contains(signatures, name) || bytes.Equal(have[name], got[name]) {
			continue
		}
		err := to.SetExtra(name, have[name])
		if err != nil && !strings.HasPrefix(name, "security.") {
			return fmt.Errorf("carry over the extended attribute %s: %w", name, err)
		}
	}
	return nil
}
