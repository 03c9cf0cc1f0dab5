// Package plan holds what a host is asked to be and what comes back: tasks in order with the edges between them,
// results, and ledger entries.
//
// A [Task] is a fully evaluated declaration: no expression, loop or condition remains in it. It follows every task that
// it waits for. A [Result] is the outcome of one task, or in a preview what the outcome would be. These types travel
// over the wire (package wire) and are remembered by hosts (package ledger), so existing fields keep their meaning.
package plan

import (
	"time"

	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Content names what a file is to hold, by hash; the bytes travel only when
// the host has others.
type Content struct {
	SHA256 string `cbor:"1,keyasint" json:"sha256"`      // lower-case hex
	Size   int64  `cbor:"2,keyasint" json:"size"`        // bytes
	Secret bool   `cbor:"3,keyasint,omitempty" json:"-"` // made of a secret: neither shown nor compared in words
}

// Task is one declaration on one host in one run.
type Task struct {
	ID       int         `cbor:"1,keyasint"` // its index in the plan
	Ref      value.Ref   `cbor:"2,keyasint"`
	Attrs    value.Attrs `cbor:"3,keyasint"`
	Absent   bool        `cbor:"4,keyasint,omitempty"`
	Needs    []int       `cbor:"5,keyasint,omitempty"` // tasks that come before; when one fails this is blocked
	Triggers []Pending   `cbor:"6,keyasint,omitempty"` // what its change makes due
	Content  *Content    `cbor:"7,keyasint,omitempty"`
	// Masks are the secrets (value.Secret) that went into the content, to be
	// hidden in whatever this task prints.
	Masks []any `cbor:"8,keyasint,omitempty"`
	// Only are the tasks of which at least one must have changed in this run,
	// or in an earlier one after which this is still pending; otherwise this one is skipped.
	Only []int `cbor:"9,keyasint,omitempty"`
	// Follows says that the task is only done after a change of others, even
	// when none of them is in the plan.
	Follows bool `cbor:"10,keyasint,omitempty"`
	// Tree is what a folder is to hold, in the order of the paths.
	Tree []Leaf `cbor:"11,keyasint,omitempty"`
	// Program is what answers for a custom kind.
	Program *Content `cbor:"12,keyasint,omitempty"`
	Tries   Tries    `cbor:"13,keyasint,omitzero"`
	// OnRemoval says what becomes of it when nothing declares it any more; empty, it is
	// kept.
	OnRemoval string `cbor:"14,keyasint,omitempty"`
	// From is the manifest that a file written for it names; empty of kinds that write none, and of projects that
	// are made up for one call.
	From string `cbor:"15,keyasint,omitempty"`
	// Leaves says that nothing declares it any more: it goes, and what others put in it stays.
	Leaves bool `cbor:"-"`
	// Extras are the extended attributes of what is made again as it was, ACLs among them.
	Extras map[string][]byte `cbor:"-"`

	Places    []value.Place `cbor:"-"` // where it is declared, first place first
	Manifests []string      `cbor:"-"` // by which manifests
	Labels    []string      `cbor:"-"`
}

// Tries says how long one try of a task may take, 0 without a limit of its own, how
// often it is tried again when it fails, and how long is waited before that.
type Tries struct {
	Limit time.Duration `cbor:"1,keyasint,omitempty"`
	More  int           `cbor:"2,keyasint,omitempty"`
	Every time.Duration `cbor:"3,keyasint,omitempty"`
}

// Leaf is one file of a folder that is copied whole.
type Leaf struct {
	Path       string `cbor:"1,keyasint" json:"path"` // below the folder
	SHA256     string `cbor:"2,keyasint" json:"sha256"`
	Size       int64  `cbor:"3,keyasint" json:"size"`
	Executable bool   `cbor:"4,keyasint,omitempty" json:"executable,omitempty"`
}

// Content names what the file is to hold.
func (l Leaf) Content() Content { return Content{SHA256: l.SHA256, Size: l.Size} }

// Wants lists all contents that a task may ask for.
func (t *Task) Wants() []Content {
	var out []Content
	if t.Content != nil {
		out = append(out, *t.Content)
	}
	if t.Program != nil {
		out = append(out, *t.Program)
	}
	for _, l := range t.Tree {
		out = append(out, l.Content())
	}
	return out
}

// The actions that can be pending for a service.
const (
	Restart = "restart"
	Reload  = "reload"
	Follow  = schema.Follow // to do at all what is only done after a change
)

// Pending is what a change makes due, such as the restart of a service. The task
// that it is due to need not be part of the plan: what is pending is written down
// all the same.
type Pending struct {
	Service value.Ref `cbor:"1,keyasint" json:"service"`
	Action  string    `cbor:"2,keyasint" json:"action"`
}

// Omitted is a declaration that its condition skipped.
type Omitted struct {
	Ref    value.Ref // the name as written when it was not evaluated
	Place  value.Place
	Reason string
}

// Bytes says where the bytes of a Content are: text at hand, or a file of
// the project when Path is set.
type Bytes struct {
	Text string
	Path string
}

// Plan is all there is to do on one host.
type Plan struct {
	Tasks    []Task
	Skipped  []Omitted
	Contents map[string]Bytes // by SHA256
}

// Status is how a task ended.
type Status string

// The statuses. In a preview Changed means "would change".
const (
	Changed   Status = "changed"
	Failed    Status = "failed"
	Unchanged Status = "unchanged"
	Skipped   Status = "skipped"
	Blocked   Status = "blocked"
)

// Change is one difference between what is there and what is declared.
type Change struct {
	What    string `cbor:"1,keyasint" json:"what" doc:"An attribute, or content, existence, restart and the like."`
	Was     string `cbor:"2,keyasint" json:"was" doc:"The old value; empty if there was none."`
	Becomes string `cbor:"3,keyasint" json:"becomes" doc:"The declared value."`
	Diff    string `cbor:"4,keyasint,omitempty" json:"diff" doc:"A unified diff, for text."`
	Secret  bool   `cbor:"5,keyasint,omitempty" json:"-"` // both sides are hidden
	Closed  bool   `cbor:"6,keyasint,omitempty" json:"closed" doc:"Whether the old text is private and hidden."`
}

// Result is the outcome of one task.
type Result struct {
	ID        int           `cbor:"1,keyasint"`
	Ref       value.Ref     `cbor:"2,keyasint"`
	Status    Status        `cbor:"3,keyasint"`
	Changes   []Change      `cbor:"4,keyasint,omitempty"`
	Message   string        `cbor:"5,keyasint,omitempty"`
	Output    string        `cbor:"6,keyasint,omitempty"`                 // of a command that failed, head and tail
	BlockedBy value.Ref     `cbor:"7,keyasint,omitzero" json:",omitzero"` // what blocked it
	Took      time.Duration `cbor:"8,keyasint,omitempty"`
	Gone      bool          `cbor:"9,keyasint,omitempty"`  // declared absent: there is nothing to remember
	Do        string        `cbor:"10,keyasint,omitempty"` // what to do about a failure
	Tries     int           `cbor:"11,keyasint,omitempty"` // how often it was tried, where that was more than once
	// Drift says in a preview why something differs; empty where that is not known.
	Drift Drift `cbor:"12,keyasint,omitempty" json:",omitempty"`
	// Written are the differences from what was last written, when that was, in Unix
	// seconds, and by whom. They are reported when they are asked for.
	Written []Change `cbor:"13,keyasint,omitempty" json:",omitempty"`
	Since   int64    `cbor:"14,keyasint,omitempty" json:",omitempty"`
	By      string   `cbor:"15,keyasint,omitempty" json:",omitempty"`
	// Digest means all that the task declares, in a preview that asks for it: an HMAC, whose
	// key the host keeps, since secrets are among it.
	Digest []byte `cbor:"16,keyasint,omitempty" json:",omitempty"`
	// Again says that the task was reported as changed, and has failed after all: what it did is put back.
	Again bool `cbor:"17,keyasint,omitempty" json:",omitempty"`
}

// Drift is why something differs from what is declared.
type Drift string

// The reasons.
const (
	ByHost        Drift = "host"        // it was changed on the host since it was last written
	ByDeclaration Drift = "declaration" // it is declared otherwise now
	ByBoth        Drift = "both"
	ByLeaving     Drift = "undeclared" // no longer declared, so it is removed
)

// Captured is one thing that is on a host, as it would be declared.
type Captured struct {
	Ref     value.Ref      `cbor:"1,keyasint"`
	Attrs   map[string]any `cbor:"2,keyasint,omitempty"` // bool, int64, string or a list of strings
	Note    string         `cbor:"3,keyasint,omitempty"` // what the attributes do not say
	Problem string         `cbor:"4,keyasint,omitempty"` // why it cannot be captured
	Do      string         `cbor:"5,keyasint,omitempty"` // and what to do about it
	// Guarded says that it may hold a secret and is only reported when it is asked for
	// by name. Problem says why.
	Guarded bool `cbor:"6,keyasint,omitempty"`
	// Bytes is what a file holds that is not a text.
	Bytes []byte `cbor:"7,keyasint,omitempty"`
	// Files are the paths of files that the attributes say all of.
	Files []string `cbor:"8,keyasint,omitempty"`
}

// Entry is what a host remembers of one thing that is managed on it.
type Entry struct {
	Project string    `json:"project"`
	Env     string    `json:"env,omitempty"`
	Run     string    `json:"run"` // the run that last changed it or first found it right
	Since   time.Time `json:"since"`
	Left    bool      `json:"left,omitempty"` // its project no longer declares it

	Who       string `json:"who,omitempty"`        // whose run that was
	Order     int    `json:"order,omitempty"`      // its place in the plan
	OnRemoval string `json:"on_removal,omitempty"` // what becomes of it when it is no longer declared
	Last      *Last  `json:"last,omitempty"`       // as it was declared; nil when that is not known
}

// Run says what a run is, as the host needs to know it.
type Run struct {
	ID      string `cbor:"1,keyasint" json:"run"`     // UUIDv7
	Project string `cbor:"2,keyasint" json:"project"` // the project's identity from jadekettle.toml
	Env     string `cbor:"3,keyasint,omitempty" json:"env,omitempty"`
	Preview bool   `cbor:"4,keyasint,omitempty" json:"preview,omitempty"`
	Who     string `cbor:"5,keyasint" json:"who"` // who runs it, user@machine
	// resolved whole and without error, so undeclared can be reported
	Whole bool `cbor:"6,keyasint,omitempty" json:"-"`
	// ListAge is how old the package list may be before a package declared
	// newest makes it be refreshed.
	ListAge time.Duration `cbor:"7,keyasint,omitempty" json:"-"`
	// ShowClosed lets the old text be shown of files that only their owner may
	// read and that Jade Kettle never wrote.
	ShowClosed bool `cbor:"8,keyasint,omitempty" json:"-"`
	// Passing says that what is done is not noted as managed: it is a help to other
	// runs, and no declaration.
	Passing bool `cbor:"9,keyasint,omitempty" json:"-"`
	// Take removes all that is no longer declared, and Forget lets it go.
	Take   bool `cbor:"10,keyasint,omitempty" json:"-"`
	Forget bool `cbor:"11,keyasint,omitempty" json:"-"`
	// Adopt takes over what another project claims.
	Adopt bool `cbor:"12,keyasint,omitempty" json:"-"`
	// Drift has a preview report what differs from what was last written, too.
	Drift bool `cbor:"13,keyasint,omitempty" json:"-"`
	// Revision is the commit that the project is at, Edited whether its files were
	// changed since. Both are for the host's own journal.
	Revision string `cbor:"14,keyasint,omitempty" json:"-"`
	Edited   bool   `cbor:"15,keyasint,omitempty" json:"-"`
}
