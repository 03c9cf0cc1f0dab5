package schema

// Key describes one key of a table that people write besides declarations: in
// settings, inventories, params, uses and rehearsals. Messages, the reference,
// the JSON Schemas and completion come from these lists.
type Key struct {
	Name    string
	Takes   Takes
	Default string // as it is written in TOML; may be empty
	Doc     string // one sentence
	Choices []string
	Items   []Key // of a table whose keys are fixed
}

// Takes is what a key takes.
type Takes string

// What keys take.
const (
	TakesText   Takes = "string"
	TakesInt    Takes = "int"
	TakesBool   Takes = "bool"
	TakesList   Takes = "list"  // of strings
	TakesTable  Takes = "table" // by names of its own
	TakesSize   Takes = "size"  // bytes, as a number or a string such as "2 GiB"
	TakesCount  Takes = "int or string"
	TakesAny    Takes = "any"
	TakesEither Takes = "string or list"
)

// KeyNames lists the names of keys.
func KeyNames(keys []Key) []string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = k.Name
	}
	return out
}
