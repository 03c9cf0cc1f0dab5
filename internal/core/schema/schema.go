// Package schema describes kinds of declarations: which attributes they take,
// of which types, how their names are written canonically, and which other
// declarations they imply a need for. Checks, documentation and messages all
// come from here, so nothing about a kind is written twice.
package schema

import (
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Type is the type of an attribute's value.
type Type int

// The attribute types. All but Bool and Int are written as text.
const (
	Text     Type = iota // any text
	Bool                 // true or false
	Int                  // a whole number
	Mode                 // permission bits in octal, such as "0644"
	Path                 // an absolute, clean path on the host
	Name                 // an account or group name
	Version              // a package version
	Template             // a path in the manifest's folder: a template that gives the content
	Copy                 // a path in the manifest's folder: a file that is the content
	Body                 // the content itself
	Command              // a command line, run on the host by sh
	Hidden               // a secret: text that is never shown
	RefTo                // a reference to a declaration, kind name
	Pattern              // a regular expression (RE2)
	Quiet                // text that may be made of a secret
	Values               // a table of texts, numbers and bools by names of its own; they may be secrets
	Nested               // such a table with lists and tables in it as well
	ID                   // the number of an account or a group, which is one's alone
	Table                // a table with the fields that the attribute names
	Scalar               // a text or a number, kept as text
	Duration             // a length of time, such as "90s"
	Origin               // a file in the manifest's folder, an address (http, https), or an absolute path on the host
	Tree                 // a path in the manifest's folder: a folder with all that is in it
)

// types are the short name of each type, for the reference and documents, and what it is in a message.
var types = [...]struct{ name, what string }{
	Text:     {"string", "a string"},
	Bool:     {"bool", "true or false"},
	Int:      {"int", "an integer"},
	Mode:     {"mode", `a mode such as "0644"`},
	Path:     {"path", "an absolute path"},
	Name:     {"name", "a name"},
	Version:  {"version", "a version"},
	Template: {"template", "the path of a template in the manifest's directory"},
	Copy:     {"file", "the path of a file in the manifest's directory"},
	Body:     {"string", "a string"},
	Command:  {"command", "a command line"},
	Hidden:   {"secret", "a secret string"},
	RefTo:    {"reference", `a reference such as "service tide-logger"`},
	Pattern:  {"regex", "a regular expression"},
	Quiet:    {"string", "a string"},
	Values:   {"table", "a table of values"},
	Nested:   {"table", "a table of values"},
	ID:       {"int", "an integer"},
	Table:    {"table", "a table"},
	Scalar:   {"string or number", "a string or a number"},
	Duration: {"duration", `a duration such as "90s"`},
	Origin:   {"source", "a file in the manifest's directory, a URL or a path"},
	Tree:     {"directory", "the path of a directory in the manifest's directory"},
}

// MarshalText gives the short name of a type, such as duration.
func (t Type) MarshalText() ([]byte, error) { return []byte(types[t].name), nil }

// String gives a type in words, to follow "must be".
func (t Type) String() string { return types[t].what }

// TypeNames gives the short name of every type with its meaning, each once and in the order of the types.
func TypeNames() (names, meanings []string) {
	for _, t := range types {
		if !slices.Contains(names, t.name) {
			names, meanings = append(names, t.name), append(meanings, t.what)
		}
	}
	return names, meanings
}

// Attr is one attribute of a kind.
type Attr struct {
	Name string `json:"name" doc:"Its name."`
	Type Type   `json:"takes" doc:"The type of its values."`
	// List refuses a single value, so that every list is written alike.
	List     bool     `json:"list" doc:"Whether it takes a list."`
	Either   bool     `json:"-"`                                      // takes one value or a list of them
	Required bool     `json:"required" doc:"Whether it is required."` // except where the declaration is absent
	Choices  []string `json:"choices" doc:"The allowed values; empty if any value of its type is allowed."`
	Default  string   `json:"default" doc:"The default, in words."`
	Doc      string   `json:"doc" doc:"A description."`                     // one sentence
	Examples []string `json:"examples" doc:"Examples, as written in TOML."` // values as they are written in TOML

	Fields []Attr `json:"-"` // of a Table
	Fill   any    `json:"-"` // of a custom kind: the value that holds when it is not declared

	// Triggers says what a change of the declarations that it names makes due here,
	// of an attribute with the type RefTo: an action of package plan. Empty for an
	// edge alone.
	Triggers string `json:"-"`
	// Turned says that the edge runs the other way: what it names comes later.
	Turned bool `json:"-"`
	// Wanted says that lint asks for it where it is not declared.
	Wanted bool `json:"-"`
	// Floating is a value that means another thing from day to day; lint remarks
	// on it in production.
	Floating string `json:"-"`
}

// Needer is what an implied edge may look at: one declaration, and whether
// another is declared on the same host.
type Needer struct {
	Ref      value.Ref
	Attrs    value.Attrs
	Declared func(value.Ref) bool
	In       func(folder string) []value.Ref // what is declared to lie in a folder, or as a part of a file there
}

// Kind describes one kind of declaration.
type Kind struct {
	Name     string
	Area     string // the heading it is listed under
	About    string // one line
	Doc      string // a paragraph or more
	Attrs    []Attr
	Examples []Example
	Space    string // kinds with one Space share their names; empty means the kind's own
	Single   bool   // a host has one of it, and its name says which
	Asks     bool   // it changes nothing: it is asked once all changes are made, and never in a preview
	Signs    bool   // a file that it writes names the manifest that declares it
	Reboots  bool   // what it writes ends every program on the host, which is then waited for
	Program  string // of a custom kind: the project's file that answers on the host
	NoAbsent string // when not empty, absent is refused with this remedy
	// Leave are the attributes that stand for a removal, of a kind without absent that
	// can be taken away all the same.
	Leave    value.Attrs
	Tools    []Tool   // the programs that its changes run on the host
	Captures []string // the attributes that a capture gives; absent may always be
	TooMany  string   // when not empty, all of it cannot be captured; an example of one that can

	// Canon gives a name's canonical form, or an error that says what a name
	// must look like.
	Canon func(name string) (string, error)
	// Part gives the path of the file of which this declares a part, so that the
	// whole of it may not be declared as well. May be nil.
	Part func(name string) string
	// Edit gives what a file is to hold by this declaration, of a part of it, given what it
	// holds: of two that take back what the other does the file would never be as declared. May
	// be nil.
	Edit func(name string, absent bool, a value.Attrs, text string) (string, error)
	// Needs gives the references that this declaration implies a need for;
	// those that are not declared are ignored. May be nil.
	Needs func(Needer) []value.Ref
	// Check looks at attributes together, after each was checked alone. It
	// gives the attribute to blame (or "" for the declaration). May be nil.
	Check func(name string, a value.Attrs) (attr string, err error)
}

// Example is a part of a manifest that shows the kind at work. Each is itself
// tried on a simulated host.
type Example struct {
	About string            `json:"about" doc:"What it shows."` // a sentence without its stop
	TOML  string            `json:"toml" doc:"The declarations."`
	Files map[string]string `json:"-"` // that lie beside the manifest; may be nil
}

// Paths is the name space of what is at a path.
const Paths = "path"

// NameSpace gives the name space that the kind's names live in.
func (k *Kind) NameSpace() string {
	if k.Space != "" {
		return k.Space
	}
	return k.Name
}

// For and If are the names of the attributes that are CEL.
const (
	For = "for"
	If  = "if"
)

// OnlyIfChanged is the name of the attribute that makes a task depend on what others
// did in the same run.
const OnlyIfChanged = "only_if_changed"

// Follow is what a change makes due by the attribute After: to do at all what is
// only done after a change.
const Follow = "follow"

// Labels is the name of the attribute that holds a declaration's labels.
const Labels = "labels"

// Common are the attributes that every kind takes.
var Common = []Attr{
	{Name: "about", Type: Text, Doc: "A description; not evaluated."},
	{Name: "absent", Type: Bool, Default: "false", Doc: "Whether it must not exist.", Examples: []string{"true"}},
	{Name: If, Type: Text, Doc: "A CEL condition; if it is false, the declaration is skipped.",
		Examples: []string{`'"debian" in facts.os.like'`}},
	{Name: For, Type: Text, Either: true,
		Doc: "Declares one thing for every item of a list, or entry of a table in the order of its keys; a list of " +
			"clauses is nested from left to right.",
		Examples: []string{`"person in data.keepers"`, `"name, port in data.ports"`,
			`["site in data.sites", "gauge in site.gauges"]`}},
	{Name: Labels, Type: Text, List: true, Doc: "Labels to select it by; not evaluated.",
		Examples: []string{`["nightly"]`}},
	{Name: "after", Type: RefTo, List: true, Doc: "What must be done before this, and must not have failed.",
		Examples: []string{`["package tide-logger"]`}},
	{Name: "before", Type: RefTo, List: true, Turned: true, Doc: "What this must be done before.",
		Examples: []string{`["service tide-logger"]`}},
	{Name: OnlyIfChanged, Type: RefTo, List: true, Triggers: Follow,
		Doc:      "Do this only if one of these has changed; if a run could not do it, the next run does.",
		Examples: []string{`["file /etc/tide-logger.toml"]`}},
	{Name: OnRemoval, Type: Text, Choices: []string{Keep, Remove}, Default: `that of its use or group, else "keep"`,
		Doc:      "What happens to it once it is no longer declared: it is kept and listed as undeclared, or removed.",
		Examples: []string{`"remove"`}},
	{Name: Timeout, Type: Duration, Default: "[run] timeout, else none except those of the programs",
		Doc: "The time limit for one attempt; whatever it has started is killed then.", Examples: []string{`"5m"`}},
	{Name: Retries, Type: Int, Default: "[run] retries, else 0", Doc: "The number of retries if it fails.",
		Examples: []string{"3"}},
	{Name: RetryEvery, Type: Duration, Default: "[run] retry_every, else 10s", Doc: "The wait before a retry.",
		Examples: []string{`"30s"`}},
}

// OnRemoval is the name of the attribute that says what becomes of a thing when nothing
// declares it any more, and Keep and Remove are what it takes.
const (
	OnRemoval = "on_removal"
	Keep      = "keep"
	Remove    = "remove"
)

// The names of the common attributes that say how long and how often something is
// tried. A kind may have a Timeout of its own meaning.
const (
	Timeout    = "timeout"
	Retries    = "retries"
	RetryEvery = "retry_every"
)

// MaxRetries bounds how often something is tried again.
const MaxRetries = 1000

// Reserved are the words that cannot be a kind, since they head other tables
// of a manifest.
var Reserved = []string{"about", "param", "use", "manifest", "data", "host", "fleet", "labels", "job", "source", "fact"}

// Attr looks an attribute up, the common ones included.
func (k *Kind) Attr(name string) (Attr, bool) {
	for _, list := range [][]Attr{k.Attrs, Common} {
		for _, a := range list {
			if a.Name == name {
				return a, true
			}
		}
	}
	return Attr{}, false
}

// Owns says whether an attribute is the kind's own, though it may be called like a common
// one.
func (k *Kind) Owns(name string) bool {
	return slices.ContainsFunc(k.Attrs, func(a Attr) bool { return a.Name == name })
}

// RequiredFirst lists the kind's own attributes, those that must be declared
// before the others.
func (k *Kind) RequiredFirst() []Attr {
	out := slices.Clone(k.Attrs)
	slices.SortStableFunc(out, func(a, b Attr) int {
		switch {
		case a.Required == b.Required:
			return 0
		case a.Required:
			return -1
		}
		return 1
	})
	return out
}

// Beside says whether an Origin is a file in the manifest's folder.
func Beside(origin string) bool { return !strings.HasPrefix(origin, "/") && !Remote(origin) }

// Remote says whether an Origin is to be fetched.
func Remote(origin string) bool {
	return strings.HasPrefix(origin, "http://") || strings.HasPrefix(origin, "https://")
}

// origin checks where something comes from.
func (a Attr) origin(s string) (any, error) {
	switch {
	case strings.HasPrefix(s, "/"):
		return CleanPath(s)
	case Remote(s):
		return s, CheckAddress(s)
	case strings.Contains(s, "://"):
		return nil, problem.Errorf("%s is %q, which is not an HTTP or HTTPS address", a.Name, s).
			Remedy("use an address that starts with https:// or http://")
	}
	return Attr{Name: a.Name, Type: Copy}.one(s)
}

// CheckAddress says what is wrong with an address that is fetched by HTTP or
// HTTPS.
func CheckAddress(s string) error {
	u, err := url.Parse(s)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || strings.ContainsAny(s, " \t\r\n"):
		return problem.Errorf("invalid address: %q", s).
			Remedy("use one such as https://charts.example.org/coast.tar.gz")
	case u.User != nil:
		return problem.Errorf("the address contains a user name, and every user of the host can see it").
			Remedy("use headers, which may contain secrets")
	case SecretQuery(u) != "":
		return problem.Errorf("the address contains a secret, %s, and every user of the host can see it",
			SecretQuery(u)).
			Remedy("use headers, which may contain secrets")
	}
	return nil
}

// SecretQuery gives the name of a parameter of an address that is a password, a token or a key;
// empty where there is none. A signature, which is for this address alone and for a while, is none.
func SecretQuery(u *url.URL) string {
	for name, values := range u.Query() {
		plain := strings.NewReplacer("_", "", "-", "").Replace(strings.ToLower(name))
		if slices.Contains([]string{"token", "accesstoken", "privatetoken", "authtoken", "apikey", "apitoken", "key",
			"password", "passwd",
			"pass", "secret", "clientsecret"}, plain) && values[0] != "" {
			return name
		}
	}
	return ""
}

// CanonWords gives a Canon for names in free words: one line of text.
func CanonWords(of, hint string) func(string) (string, error) {
	return func(name string) (string, error) {
		name = strings.TrimSpace(name)
		control := func(r rune) bool { return r < ' ' || r == 0x7f }
		if name == "" || len(name) > 255 || strings.ContainsFunc(name, control) {
			return "", problem.Errorf("%q is not a valid name for %s", name, of).Remedy("%s", hint)
		}
		return name, nil
	}
}

// Spread lists attributes with the fields of tables behind them, as put[].text.
func Spread(list []Attr) []Attr {
	var out []Attr
	for _, a := range list {
		out = append(out, a)
		for _, f := range a.Fields {
			dot := "."
			if a.List {
				dot = "[]."
			}
			f.Name = a.Name + dot + f.Name
			out = append(out, f)
		}
	}
	return out
}

// Common lists the attributes of every kind that this one takes.
func (k *Kind) Common() []Attr {
	return slices.DeleteFunc(slices.Clone(Common), func(at Attr) bool {
		return at.Name == "absent" && k.NoAbsent != "" || k.Owns(at.Name)
	})
}

// Names lists the kind's attributes, the common ones included.
func (k *Kind) Names() []string {
	var names []string
	for _, a := range slices.Concat(k.Attrs, Common) {
		if !slices.Contains(names, a.Name) {
			names = append(names, a.Name)
		}
	}
	return names
}

// Kinds is the set of kinds that a project may use.
type Kinds struct{ kinds []*Kind }

// NewKinds makes the list of kinds; the order is the one they are listed in.
func NewKinds(kinds ...*Kind) Kinds { return Kinds{kinds} }

// With gives these kinds and more.
func (c Kinds) With(more []*Kind) Kinds { return Kinds{slices.Concat(c.kinds, more)} }

// Kind looks a kind up by name.
func (c Kinds) Kind(name string) (*Kind, bool) {
	for _, k := range c.kinds {
		if k.Name == name {
			return k, true
		}
	}
	return nil, false
}

// Names lists the kinds.
func (c Kinds) Names() []string {
	var names []string
	for _, k := range c.kinds {
		names = append(names, k.Name)
	}
	return names
}

// ParseRef reads a reference and brings its name into canonical form.
func (c Kinds) ParseRef(s string) (value.Ref, error) {
	ref, ok := value.ParseRef(s)
	if !ok {
		return ref, problem.Errorf("invalid reference: %q", s).
			Remedy("write KIND NAME, such as \"service tide-logger\"")
	}
	k, ok := c.Kind(ref.Kind)
	if !ok {
		return ref, problem.Errorf("%q refers to the unknown kind %q", s, ref.Kind).
			Meant(ref.Kind, c.Names(), "available: "+strings.Join(c.Names(), ", "))
	}
	var err error
	ref.Name, err = k.Canon(ref.Name)
	return ref, err
}

// Value checks one attribute value against its type and gives it in canonical
// form: modes with four digits, clean paths, secrets as Secret.
func (a Attr) Value(v any) (any, error) {
	if _, isList := v.([]any); !a.List && !(a.Either && isList) {
		return a.one(v)
	}
	list, ok := v.([]any)
	if !ok {
		return nil, problem.Errorf("%s must be a list, not %s", a.Name, value.TypeName(v)).
			Remedy("write %s = [%s]", a.Name, value.Shown(v))
	}
	out := make([]any, len(list))
	for i, item := range list {
		var err error
		if out[i], err = a.one(item); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// values checks a table whose keys are names of its own.
func (a Attr) values(v any) (any, error) {
	table, ok := v.(map[string]any)
	if !ok {
		return nil, problem.Errorf("%s must be %s, not %s", a.Name, a.Type, shown(v)).
			Remedy("write %s = { NAME = \"...\" }", a.Name)
	}
	for _, name := range value.Keys(table) {
		if wrong := a.unfit(table[name]); wrong != nil {
			do := "use a string, a number or a bool"
			if a.Type == Nested {
				do += ", or a list or table of these"
			}
			return nil, problem.Errorf("%s.%s is %s", a.Name, name, value.TypeName(wrong[0])).Remedy("%s", do)
		}
	}
	return table, nil
}

// unfit gives what may not be in a table of values; nil when all may.
func (a Attr) unfit(v any) []any {
	var inside []any
	switch v := v.(type) {
	case value.Secret:
		return nil
	case []any:
		inside = v
	case map[string]any:
		for _, name := range value.Keys(v) {
			inside = append(inside, v[name])
		}
	default:
		if text, scalar := value.Text(v); !scalar || strings.ContainsRune(text, 0) {
			return []any{v}
		}
		return nil
	}
	if a.Type != Nested {
		return []any{v}
	}
	for _, one := range inside {
		if wrong := a.unfit(one); wrong != nil {
			return wrong
		}
	}
	return nil
}

// table checks a table with fixed fields.
func (a Attr) table(v any) (any, error) {
	table, ok := v.(map[string]any)
	if !ok {
		return nil, problem.Errorf("%s must be %s, not %s", a.Name, a.Type, shown(v)).
			Remedy("write { %s = ... }", a.Fields[0].Name)
	}
	out := make(map[string]any, len(table))
	for _, name := range value.Keys(table) {
		i := slices.IndexFunc(a.Fields, func(f Attr) bool { return f.Name == name })
		if i < 0 {
			return nil, problem.Errorf("unknown key %q in %s", name, a.Name).
				Meant(name, names(a.Fields), "available: "+strings.Join(names(a.Fields), ", "))
		}
		one, err := a.Fields[i].Value(table[name])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", a.Name, err)
		}
		out[name] = one
	}
	for _, f := range a.Fields {
		if _, given := table[f.Name]; f.Required && !given {
			return nil, problem.Errorf("missing required key %q in %s", f.Name, a.Name).Remedy("set it in every table")
		}
	}
	return out, nil
}

func names(list []Attr) []string {
	var out []string
	for _, a := range list {
		out = append(out, a.Name)
	}
	return out
}

// maxID is the highest number of an account or group: (uid_t)-1 means that one is left as it is
// (chown(2)).
const maxID = 1<<32 - 2

var nameForm = lazy.Regexp(`^[A-Za-z_][A-Za-z0-9_.-]{0,31}\$?$`)

func (a Attr) one(v any) (any, error) {
	if list, ok := v.([]any); ok {
		one := "..."
		if len(list) > 0 {
			one = value.Shown(list[0])
		}
		return nil, problem.Errorf("%s must be a single value, not a list", a.Name).Remedy("write %s = %s", a.Name, one)
	}
	switch a.Type {
	case Values, Nested:
		return a.values(v)
	case Scalar:
		switch v.(type) {
		case int64, float64:
			text, _ := value.Text(v)
			return text, nil
		}
	case Table:
		return a.table(v)
	case Bool:
		if _, ok := v.(bool); !ok {
			wrong := problem.Errorf("%s must be true or false, without quotes, not %s", a.Name, shown(v))
			switch fmt.Sprint(v) {
			case "yes", "on", "true", "1":
				return nil, wrong.Remedy("write %s = true", a.Name)
			case "no", "off", "false", "0":
				return nil, wrong.Remedy("write %s = false", a.Name)
			}
			return nil, wrong
		}
		return v, nil
	case Int, ID:
		n, ok := v.(int64)
		if !ok {
			return nil, fmt.Errorf("%s must be an integer, without quotes, not %s", a.Name, shown(v))
		}
		if n < 0 {
			return nil, fmt.Errorf("%s must not be negative", a.Name)
		}
		if a.Type == ID && n > maxID {
			return nil, problem.Errorf("%s is %d, which is above the largest user or group ID, %d",
				a.Name, n, int64(maxID)).Remedy("choose a smaller one")
		}
		return v, nil
	case Hidden:
		if s, ok := v.(value.Secret); ok {
			if _, isText := s.Scalar().(string); !isText {
				return nil, problem.Errorf("%s must be a string, but the encrypted value is %s", a.Name,
					value.TypeName(s.Scalar())).
					Remedy("put it in quotes where it is encrypted")
			}
			return s, nil
		}
	case Body, Quiet:
		if s, ok := v.(value.Secret); ok && !strings.ContainsRune(s.Reveal(), 0) {
			return s, nil
		}
	}
	if _, ok := v.(value.Secret); ok {
		return nil, problem.Errorf("%s contains a secret, but it is shown", a.Name).
			Remedy("use secrets only in passwords, contents and templates")
	}
	s, ok := v.(string)
	if !ok {
		if a.Type == Hidden { // the value is not repeated: it may be the secret
			return nil, problem.Errorf("%s must be a string, not %s", a.Name, value.TypeName(v)).
				Remedy("put it in quotes")
		}
		return nil, problem.Errorf("%s must be %s, not %s", a.Name, a.Type, shown(v)).
			Remedy("write %s = %s", a.Name, a.quoted(v))
	}
	if len(a.Choices) > 0 && !slices.Contains(a.Choices, s) {
		return nil, problem.Errorf("invalid %s: %q", a.Name, s).Remedy("use %s", strings.Join(a.Choices, ", "))
	}
	return a.text(s)
}

// mayBeEmpty says whether an empty text is a value: of what a file holds, of what is cleared by it,
// and of one argument among others. Anywhere else it would pass for what is not declared.
func (a Attr) mayBeEmpty() bool {
	switch a.Type {
	case Body, Quiet, Scalar:
		return true
	}
	return slices.Contains([]string{"text", "comment", "options", "section", "proxy", "about"}, a.Name) ||
		a.Name == "run" && a.List
}

func (a Attr) text(s string) (any, error) {
	if strings.ContainsRune(s, 0) {
		return nil, problem.Errorf("%s contains a NUL byte", a.Name).Remedy("remove it")
	}
	if strings.TrimSpace(s) == "" && !a.mayBeEmpty() {
		return nil, problem.Errorf("%s is empty", a.Name).Remedy("set a value, or remove it")
	}
	switch a.Type {
	case Mode:
		m, err := ParseMode(s)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", a.Name, err)
		}
		return fmt.Sprintf("%04o", m), nil
	case Path:
		p, err := CleanPath(s)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", a.Name, err)
		}
		return p, nil
	case Name:
		if !nameForm().MatchString(s) {
			return nil, problem.Errorf("%s: invalid user or group name %q", a.Name, s).
				Remedy("use up to 32 letters, digits, dots, dashes and underscores, starting with a letter or " +
					"underscore")
		}
	case Duration:
		if d, err := measure.ParseDuration(s); err != nil || d <= 0 {
			return nil, problem.Errorf("%s: invalid duration %q", a.Name, s).
				Remedy("use \"90s\", \"10m\", \"24h\" or \"7d\"")
		}
	case Pattern:
		if _, err := regexp.Compile(s); err != nil {
			return nil, problem.Errorf("%s: invalid regular expression %q: %s", a.Name, s,
				strings.TrimPrefix(err.Error(), "error parsing regexp: ")).
				Remedy("escape special characters with a backslash, in single quotes")
		}
	case Origin:
		return a.origin(s)
	case Template, Copy, Tree:
		if !fs.ValidPath(s) || s == "." {
			return nil, problem.Errorf("invalid %s: %q", a.Name, s).
				Remedy("use a path inside the manifest's directory, without a leading slash or ..")
		}
	case Hidden:
		return value.NewSecret(s), nil
	case Version:
		if s == "" || strings.ContainsAny(s, " \t\n=/") {
			return nil, problem.Errorf("%s: invalid version %q", a.Name, s).
				Remedy("use \"newest\", or a version as the package manager prints it")
		}
	}
	return s, nil
}

// quoted is how v would be written rightly for this attribute.
func (a Attr) quoted(v any) string {
	if n, ok := v.(int64); ok && a.Type == Mode {
		// TOML reads 0o644 as 420, and 644 as it is: one of the two is a mode
		// that people use.
		if written, err := ParseMode(fmt.Sprintf("%04d", n)); err != nil || usualMode(uint32(n)) &&
			!usualMode(written) {
			return fmt.Sprintf("\"%04o\"", n)
		}
		return fmt.Sprintf("\"%04d\"", n)
	}
	if text, ok := value.Text(v); ok {
		return value.Quote(text)
	}
	return `"..."`
}

// usualMode says whether an owner may read, and nobody may do more than the
// owner.
func usualMode(m uint32) bool {
	owner, group, others := m>>6&7, m>>3&7, m&7
	return m <= 0o7777 && owner >= 4 && owner&group == group && owner&others == others
}

func shown(v any) string {
	switch v.(type) {
	case bool, int64, float64, string:
		return value.TypeName(v) + " (" + value.Shown(v) + ")"
	}
	return value.TypeName(v)
}

// ParseMode reads permission bits written in octal, "0644" or "4755".
func ParseMode(s string) (uint32, error) {
	if len(s) < 3 || len(s) > 4 {
		return 0, problem.Errorf("invalid mode %q", s).Remedy("use four octal digits, for example \"0644\"")
	}
	var m uint32
	for _, c := range s {
		if c < '0' || c > '7' {
			return 0, problem.Errorf("invalid mode %q", s).Remedy("use four octal digits, for example \"0644\"")
		}
		m = m<<3 | uint32(c-'0')
	}
	return m, nil
}

// FilePath is CleanPath for what cannot be the root of all.
func FilePath(s string) (string, error) {
	p, err := CleanPath(s)
	if err == nil && p == "/" {
		err = problem.Errorf("/ is the root directory and cannot be anything else").Remedy("use a path below it")
	}
	return p, err
}

// CleanPath is the canonical form of a path on a host: absolute, without
// doubled or trailing slashes and without dots.
func CleanPath(s string) (string, error) {
	switch {
	case !strings.HasPrefix(s, "/"):
		return "", problem.Errorf("path must be absolute: %q", s).Remedy("start it with /")
	case strings.ContainsAny(s, "\x00\n"):
		return "", problem.Errorf("%q contains a line break or a NUL", s).Remedy("remove it")
	case slices.Contains(strings.Split(s, "/"), ".."):
		return "", problem.Errorf("%q contains ..", s).Remedy("write the path out")
	}
	return path.Clean(s), nil
}

// AccountName is the canonical form of user and group names.
func AccountName(s string) (string, error) {
	v, err := Attr{Name: "the name", Type: Name}.text(s)
	if err != nil {
		return "", err
	}
	return v.(string), nil
}

// Several says whether an attribute takes a list, or may.
func (a Attr) Several() bool { return a.List || a.Either }

// IsBool says whether an attribute takes true or false.
func (a Attr) IsBool() bool { return a.Type == Bool }
