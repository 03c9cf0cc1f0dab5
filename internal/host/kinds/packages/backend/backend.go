// Package backend is the seam between the kind package and the package manager
// of a host. What one manager says, names or allows lives in its own folder
// beside this one.
package backend

import (
	"context"
	"strings"
	"time"

	"jadekettle/internal/host/kinds/kind"
)

// State is what is there of one package.
type State struct {
	Version string // installed; empty when it is not
	Half    string // the manager's word when it is neither installed nor absent
	Held    bool   // it is left in its version when all is brought up to date
	Remains bool   // it is removed, and its configuration files are still there
}

// Offer is what the package lists have of one package. The zero Offer is one of
// a package that no list knows.
type Offer struct {
	Newest   string   // the version that is installed when none is named
	Versions []string // newest first
}

// Want is a package to be installed, of any version when it names none.
type Want struct{ Name, Version string }

// Effect is what a transaction does to one package.
type Effect struct {
	Name         string
	Arch         string // where names of the manager may end in .ARCH
	Was, Becomes string // its versions; empty where it is not installed
	Essential    bool   // the manager says that the host needs it
}

// Of says whether it is what happens to the package of this name, which may have its architecture:
// NAME.ARCH with rpm, NAME:ARCH with dpkg.
func (e Effect) Of(name string) bool {
	if name == e.Name || e.Arch != "" && name == e.Name+"."+e.Arch {
		return true
	}
	a, archA, _ := strings.Cut(name, ":")
	b, archB, _ := strings.Cut(e.Name, ":")
	return a == b && (archA == "" || archB == "")
}

// Manager is one package manager. Names and versions that it is given are
// those that it knows, letter by letter.
type Manager interface {
	// Program is the command by whose presence a host is known to have it.
	Program() string
	// CheckName says what is wrong with a name that no package of it can have.
	CheckName(name string) error
	// Installed reads what is there of these packages, at little cost; without any, of all
	// that are installed.
	Installed(ctx context.Context, env *kind.Env, names []string) (map[string]State, error)
	// Asked lists the packages that people asked for, not those that came along
	// with others.
	Asked(ctx context.Context, env *kind.Env) ([]string, error)
	// Offers looks names up in the package lists, as they lie on the host.
	Offers(ctx context.Context, env *kind.Env, names []string) (map[string]Offer, error)
	// ListAge is how long ago the lists were refreshed.
	ListAge(env *kind.Env) time.Duration
	Refresh(ctx context.Context, env *kind.Env) error
	// Foresee lists what Install, or Remove, of these would do to which packages, including
	// those that are named, without doing it.
	Foresee(ctx context.Context, env *kind.Env, install []Want, remove []string, purge bool) ([]Effect, error)
	// Install and Remove act on all in one transaction.
	Install(ctx context.Context, env *kind.Env, list []Want) error
	// Inside says which package a file is, and in which version.
	Inside(ctx context.Context, env *kind.Env, p string) (name, version string, err error)
	// InstallFile installs a package from a file, whose name ends in Suffix.
	InstallFile(ctx context.Context, env *kind.Env, p string) error
	Suffix() string
	Remove(ctx context.Context, env *kind.Env, names []string, purge bool) error
	// Hold says whether a package is left in its version.
	Hold(ctx context.Context, env *kind.Env, name string, hold bool) error
}

// Fetcher is a Manager that can have what would be installed lie ready, for when nobody can fetch it any more.
type Fetcher interface {
	Fetch(ctx context.Context, env *kind.Env, list []Want) error
}

// Repairer is a Manager whose work can be cut off in a way that it takes up again only
// when it is asked to.
type Repairer interface {
	// Interrupted says whether it was.
	Interrupted(env *kind.Env) bool
	// Repair has it finish what it had begun.
	Repair(ctx context.Context, env *kind.Env) error
}

// Author is a Manager that keeps who asked it for what.
type Author interface {
	// Who says by whom, and with which command, it last changed a package, as in "by maren
	// (1000) with `apt-get install`", and when. Empty when that is not known.
	Who(env *kind.Env, name string) (who string, when time.Time)
}

// Bringer is a Manager that knows which files its packages brought.
type Bringer interface {
	// Brought gives all such files by path, with the checksum that each came with:
	// "md5:", "sha1:" or "sha256:" and hexadecimal digits, or nothing where none is known.
	Brought(ctx context.Context, env *kind.Env) (map[string]string, error)
}

// Source is a repository that packages come from.
type Source struct {
	Name          string
	About         string
	URLs          []string
	Suites        []string // of Debian's kin
	Components    []string // of Debian's kin
	Architectures []string // all that the host has when empty
	Key           string   // that it is signed with, in the armored form; empty when it is not
	Signature     string   // the comment at the top of its file
}

// File is a file that a manager reads.
type File struct{ Path, Text string }

// Repositories is a Manager that repositories can be added to.
type Repositories interface {
	// CheckSource says what is wrong with a source that cannot be added to it.
	CheckSource(s Source) error
	// SourceFiles gives the files that define a source: the one that names it, and
	// the one with its key, without a text where there is none.
	SourceFiles(s Source) (source, key File)
	// Sources is the folder of the files that name sources, and how these end.
	Sources() (folder, suffix string)
	// ParseSource reads back what SourceFiles writes, and its like by hand; false for
	// what holds more, or other things. keyFile is the path that its key is at; empty
	// when it has none.
	ParseSource(name, text string) (s Source, keyFile string, ok bool)
	// TrySource fetches the lists of one source alone, which shows whether it is
	// there and its key is right.
	TrySource(ctx context.Context, env *kind.Env, name string) error
}
