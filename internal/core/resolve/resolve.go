// Package resolve makes the plan of one host from a compiled project: a function
// of the project, the host, its facts and what is known of the fleet. It reads
// no clock, no network, and no disk but the project.
//
// [Plan] gives the plan alone. [Trace] remembers where everything came from, for
// whoever explains or advises. [Plans] makes the plans of a whole run.
package resolve

import (
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Known is what is known, besides the project, when a host is resolved. With
// the zero Known no host was ever read.
type Known struct {
	Facts *facts.Facts // of the host itself
	Fleet *expr.Fleet  // of all hosts; see Snapshot
	// Asked receives what each condition came to, from many goroutines. May be nil.
	Asked func(cond *expr.Program, yes, known bool)
}

// Traced is a host resolved, with a memory of where everything came from.
type Traced struct {
	Host    *inventory.Host
	Project *compile.Project
	Groups  []*inventory.Group
	Maybe   []*inventory.Group // that it is in if its facts say so
	Vars    *expr.Vars         // without params
	Items   []*Item            // what is declared; by Task.ID in the order of a run when Ordered
	Omitted []*Item            // what conditions skipped
	Used    []*Context         // by uses that give params
	Dropped [][2]*Item         // implied edges, from and to, that contradict those written
	Ordered bool               // nothing is wrong, so that tasks have their order
}

// Item is a declaration evaluated for one host.
type Item struct {
	Kind     *schema.Kind
	Task     plan.Task
	Decl     *compile.Decl
	Vars     *expr.Vars
	Contexts []*Context // how it came here, one for each place that declares it
	Maybe    bool       // its condition depends on facts not known
	Partial  bool       // an attribute depends on facts not known

	Needs []*Item  // what it needs, explicit first
	Whys  []string // for each of Needs, in a Trace

	held   bool    // the content of its task is a text, not a file
	text   string  // this
	only   []*Item // of these one must have changed
	placed bool
	mark   int // of the last search that came by
}

// Context is how a declaration came to a host.
type Context struct {
	Group *inventory.Group
	From  inventory.Use // by which the group gives the manifest
	Uses  []UsedAt      // from the group's manifest inwards
	Maybe bool          // only if facts that are not known say so
	Vars  *expr.Vars
	Unit  *compile.Unit
	Given []compile.Gift // that the use gives
	Outer *expr.Vars     // which these are evaluated with
}

// UsedAt is a use with the values that it was evaluated with.
type UsedAt struct {
	*compile.Use
	Vars *expr.Vars
}

// resolver resolves one host.
type resolver struct {
	Traced
	explain  bool // keep what only a Trace wants
	asked    func(*expr.Program, bool, bool)
	dataless bool            // the data could not be put together
	open     map[string]bool // kinds of which some names are not known; * for all
	plan     *plan.Plan
	problems problem.Problems

	byRef   map[value.Ref]*Item
	bySpace map[value.Ref]*Item // by name space and name
	left    map[value.Ref]bool
	search  int
	looped  int // how often loops have gone round
}
