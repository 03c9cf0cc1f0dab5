package expr

import (
	"cmp"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/big"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"text/template"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Func is a function that expressions and templates share. An expression may
// write it before its arguments or after the first: upper(x) and x.upper().
type Func struct {
	Name   string
	Area   string // the heading it is listed under
	Params []Param
	Gives  string // the type of its result
	Doc    string // one sentence
	Uses   []Use

	call  func(args []any) (any, error)
	macro bool // only documented here: the language itself has it
}

// Param is one argument of a function: text, int, number, bool, list, table or any.
type Param struct{ Name, Type string }

// Use is an example that is itself tested: an expression and what it gives, in
// JSON.
type Use struct {
	Expr  string `json:"expression" doc:"An expression."`
	Gives string `json:"gives" doc:"What it gives."`
}

// Signature writes how the function is called.
func (f Func) Signature() string {
	var params []string
	for _, p := range f.Params {
		params = append(params, p.Name)
	}
	return f.Name + "(" + strings.Join(params, ", ") + ")"
}

// Functions lists every function, by area.
func Functions() []Func { return slices.Clone(functions) }

// FunctionNames lists the functions' names.
func FunctionNames() []string {
	var out []string
	for _, f := range functions {
		out = append(out, f.Name)
	}
	return out
}

// Function looks a function up by name.
func Function(name string) (Func, bool) {
	if name == sizeFunction {
		name = "bytes"
	}
	for _, f := range functions {
		if f.Name == name {
			return f, true
		}
	}
	return Func{}, false
}

// Bounds on what one function may make.
const (
	maxResult = 1 << 20 // bytes of text
	maxItems  = 100_000
)

// sizeFunction is what bytes() is called inside CEL, where that name is taken.
const sizeFunction = "size_in_bytes"

// params reads "text text, sep text" into a list.
func params(s string) []Param {
	var out []Param
	for p := range strings.SplitSeq(s, ", ") {
		if name, typ, ok := strings.Cut(p, " "); ok {
			out = append(out, Param{name, typ})
		}
	}
	return out
}

func str(args []any, i int) string { s, _ := args[i].(string); return s }
func list(args []any, i int) []any { l, _ := args[i].([]any); return l }
func num(args []any, i int) int64  { n, _ := args[i].(int64); return n }

// functions is the table of all. The order is the one they are listed in.
var functions = []Func{
	{Name: "split", Area: "text", Params: params("text string, by string"), Gives: "list",
		Doc:  "Splits a string at every separator.",
		Uses: []Use{{`split("a,b,c", ",")`, `["a","b","c"]`}}, call: func(a []any) (any, error) {
			return texts(strings.Split(str(a, 0), str(a, 1))), nil
		}},
	{Name: "join", Area: "text", Params: params("items list, by string"), Gives: "string",
		Doc:  "Joins a list into one string with a separator.",
		Uses: []Use{{`join(["a", "b"], ", ")`, `"a, b"`}, {`["gauge", 1].join("-")`, `"gauge-1"`}},
		call: func(a []any) (any, error) {
			var out []string
			length := len(str(a, 1)) * len(list(a, 0))
			for _, item := range list(a, 0) {
				s, ok := value.Text(item)
				if !ok {
					return nil, problem.Errorf("an item is %s, which cannot be converted to a string",
						value.TypeName(item)).
						Remedy("select a string from each with map()")
				}
				if length += len(s); length > maxResult {
					return nil, errTooLong
				}
				out = append(out, s)
			}
			return strings.Join(out, str(a, 1)), nil
		}},
	{Name: "replace", Area: "text", Params: params("text string, old string, new string"), Gives: "string",
		Doc:  "Replaces every occurrence of a string.",
		Uses: []Use{{`replace("north pier", " ", "-")`, `"north-pier"`}}, call: func(a []any) (any, error) {
			if n := strings.Count(str(a, 0), str(a, 1)); n*len(str(a, 2)) > maxResult {
				return nil, errTooLong
			}
			return strings.ReplaceAll(str(a, 0), str(a, 1), str(a, 2)), nil
		}},
	{Name: "replace_regex", Area: "text", Params: params("text string, pattern string, new string"), Gives: "string",
		Doc: "Replaces every match of a regular expression (RE2); ${1} or ${name} in the new text refers to a " +
			"group, and $$ is a dollar sign.",
		Uses: []Use{{`replace_regex("gauge-01", "-0*([0-9]+)", " number ${1}")`, `"gauge number 1"`}},
		call: func(a []any) (any, error) {
			re, err := pattern(str(a, 1))
			if err != nil {
				return nil, err
			}
			if len(str(a, 0))*(1+len(str(a, 2))) > 16*maxResult {
				return nil, errTooLong
			}
			return re.ReplaceAllString(str(a, 0), str(a, 2)), nil
		}},
	{Name: "find", Area: "text", Params: params("text string, pattern string"), Gives: "string",
		Doc: "Returns the first match of a regular expression (RE2), or its first group if it has one; an empty " +
			"string if nothing matches.",
		Uses: []Use{{`find("gauge-07.example.org", "[0-9]+")`, `"07"`},
			{`find("depth=12m", "depth=([0-9]+)")`, `"12"`}},
		call: func(a []any) (any, error) {
			re, err := pattern(str(a, 1))
			if err != nil {
				return nil, err
			}
			m := re.FindStringSubmatch(str(a, 0))
			switch {
			case m == nil:
				return "", nil
			case len(m) > 1:
				return m[1], nil
			}
			return m[0], nil
		}},
	{Name: "trim", Area: "text", Params: params("text string"), Gives: "string", Doc: "Removes white space from " +
		"both ends.",
		Uses: []Use{{`trim("  ebb \n")`, `"ebb"`}},
		call: func(a []any) (any, error) { return strings.TrimSpace(str(a, 0)), nil }},
	{Name: "trim_prefix", Area: "text", Params: params("text string, prefix string"), Gives: "string",
		Doc:  "Removes a prefix, if present.",
		Uses: []Use{{`trim_prefix("gauge-01", "gauge-")`, `"01"`}},
		call: func(a []any) (any, error) { return strings.TrimPrefix(str(a, 0), str(a, 1)), nil }},
	{Name: "trim_suffix", Area: "text", Params: params("text string, suffix string"), Gives: "string",
		Doc:  "Removes a suffix, if present.",
		Uses: []Use{{`trim_suffix("pier.example.org", ".example.org")`, `"pier"`}},
		call: func(a []any) (any, error) { return strings.TrimSuffix(str(a, 0), str(a, 1)), nil }},
	{Name: "upper", Area: "text", Params: params("text string"), Gives: "string", Doc: "Converts a string to upper " +
		"case.",
		Uses: []Use{{`upper("ebb")`, `"EBB"`}}, call: func(a []any) (any,
			error) {
			return strings.ToUpper(str(a, 0)), nil
		}},
	{Name: "lower", Area: "text", Params: params("text string"), Gives: "string", Doc: "Converts a string to lower " +
		"case.",
		Uses: []Use{{`lower("North-Pier")`, `"north-pier"`}},
		call: func(a []any) (any, error) { return strings.ToLower(str(a, 0)), nil }},
	{Name: "indent", Area: "text", Params: params("text string, width int"), Gives: "string",
		Doc:  "Indents every line that is not empty.",
		Uses: []Use{{`indent("a\nb", 2)`, `"  a\n  b"`}}, call: func(a []any) (any, error) {
			n := num(a, 1)
			if n < 0 || n > 200 {
				return nil, errors.New("the width must be from 0 to 200")
			}
			lines := strings.Split(str(a, 0), "\n")
			if (len(lines))*int(n) > maxResult {
				return nil, errTooLong
			}
			for i, l := range lines {
				if l != "" {
					lines[i] = strings.Repeat(" ", int(n)) + l
				}
			}
			return strings.Join(lines, "\n"), nil
		}},
	{Name: "format", Area: "text", Params: params("form string, values list"), Gives: "string",
		Doc: "Formats values: %s takes any value, %d an integer, %03d pads with zeros, %.1f takes a number, %q " +
			"quotes a string.",
		Uses: []Use{{`format("gauge-%02d at %s", [7, "pier"])`, `"gauge-07 at pier"`}}, call: format},
	{Name: "quote_sh", Area: "text", Params: params("text string"), Gives: "string",
		Doc:  "Quotes a string so that sh reads it as one word.",
		Uses: []Use{{`quote_sh("keeper's log")`, `"'keeper'\\''s log'"`}}, call: func(a []any) (any, error) {
			// always in quotes, as people expect of it
			return "'" + strings.ReplaceAll(str(a, 0), "'", `'\''`) + "'", nil
		}},
	{Name: "contains", Area: "text", Params: params("text string, part string"), Gives: "bool",
		Doc:  "Reports whether a string contains another; in expressions, written after the string.",
		Uses: []Use{{`"north-pier".contains("pier")`, `true`}}, macro: true,
		call: func(a []any) (any, error) { return strings.Contains(str(a, 0), str(a, 1)), nil }},
	{Name: "startsWith", Area: "text", Params: params("text string, start string"), Gives: "bool",
		Doc:  "Reports whether a string has this prefix; in expressions, written after the string.",
		Uses: []Use{{`"gauge-01".startsWith("gauge")`, `true`}}, macro: true,
		call: func(a []any) (any, error) { return strings.HasPrefix(str(a, 0), str(a, 1)), nil }},
	{Name: "endsWith", Area: "text", Params: params("text string, end string"), Gives: "bool",
		Doc:  "Reports whether a string has this suffix; in expressions, written after the string.",
		Uses: []Use{{`"gauge-01".endsWith("1")`, `true`}}, macro: true,
		call: func(a []any) (any, error) { return strings.HasSuffix(str(a, 0), str(a, 1)), nil }},
	{Name: "matches", Area: "text", Params: params("text string, pattern string"), Gives: "bool",
		Doc: "Reports whether a regular expression (RE2) matches anywhere in a string; in expressions, written " +
			"after the string.",
		Uses: []Use{{`"gauge-01".matches("^gauge-[0-9]+$")`, `true`}}, macro: true, call: func(a []any) (any, error) {
			re, err := pattern(str(a, 1))
			if err != nil {
				return nil, err
			}
			return re.MatchString(str(a, 0)), nil
		}},

	{Name: "size", Area: "lists and tables", Params: params("of any"), Gives: "int",
		Doc:  "Counts the items of a list, the keys of a table or the characters of a string.",
		Uses: []Use{{`size(["a", "b"])`, `2`}, {`size("ebb")`, `3`}}, macro: true, call: func(a []any) (any, error) {
			switch v := a[0].(type) {
			case string:
				return int64(utf8.RuneCountInString(v)), nil
			case []any:
				return int64(len(v)), nil
			case map[string]any:
				return int64(len(v)), nil
			}
			return nil, fmt.Errorf("%s has no size", value.TypeName(a[0]))
		}},
	{Name: "has", Area: "lists and tables", Params: params("name any"), Gives: "bool",
		Doc:  "Reports whether a name such as data.gauge.depth exists; false if any step of it is missing.",
		Uses: []Use{{`has(data.gauge.nowhere)`, `false`}}, macro: true},
	{Name: "value_or", Area: "lists and tables", Params: params("name any, otherwise any"), Gives: "any",
		Doc:  "Returns the value of a name such as data.gauge.depth, or a fallback if any step of it is missing.",
		Uses: []Use{{`value_or(data.gauge.nowhere, 5)`, `5`}}, macro: true},
	{Name: "map", Area: "lists and tables", Params: params("x any, expression any"), Gives: "list",
		Doc: "Returns a list with the result of an expression for every item x; written after the list. In " +
			"templates, use range.",
		Uses: []Use{{`[1, 2].map(x, x * 10)`, `[10,20]`}}, macro: true},
	{Name: "filter", Area: "lists and tables", Params: params("x any, condition any"), Gives: "list",
		Doc: "Keeps the items x for which a condition is true; written after the list. In templates, use range and " +
			"if.",
		Uses: []Use{{`[1, 2, 3].filter(x, x > 1)`, `[2,3]`}}, macro: true},
	{Name: "exists", Area: "lists and tables", Params: params("x any, condition any"), Gives: "bool",
		Doc:  "Reports whether a condition is true for any item x; written after the list.",
		Uses: []Use{{`[1, 2].exists(x, x > 1)`, `true`}}, macro: true},
	{Name: "all", Area: "lists and tables", Params: params("x any, condition any"), Gives: "bool",
		Doc:  "Reports whether a condition is true for every item x; written after the list.",
		Uses: []Use{{`[1, 2].all(x, x > 1)`, `false`}}, macro: true},
	{Name: "keys", Area: "lists and tables", Params: params("of table"), Gives: "list",
		Doc:  "Lists the keys of a table, sorted.",
		Uses: []Use{{`keys({"b": 1, "a": 2})`, `["a","b"]`}}, call: func(a []any) (any, error) {
			return texts(value.Keys(a[0].(map[string]any))), nil
		}},
	{Name: "values", Area: "lists and tables", Params: params("of table"), Gives: "list",
		Doc:  "Lists the values of a table, in the order of its sorted keys.",
		Uses: []Use{{`values({"b": 1, "a": 2})`, `[2,1]`}}, call: func(a []any) (any, error) {
			m := a[0].(map[string]any)
			out := []any{}
			for _, k := range value.Keys(m) {
				out = append(out, m[k])
			}
			return out, nil
		}},
	{Name: "entries", Area: "lists and tables", Params: params("of table"), Gives: "list",
		Doc:  "Lists the entries of a table, sorted by key, each a table of key and value.",
		Uses: []Use{{`entries({"a": 2})`, `[{"key":"a","value":2}]`}}, call: func(a []any) (any, error) {
			m := a[0].(map[string]any)
			out := []any{}
			for _, k := range value.Keys(m) {
				out = append(out, map[string]any{"key": k, "value": m[k]})
			}
			return out, nil
		}},
	{Name: "merge", Area: "lists and tables", Params: params("under table, over table"), Gives: "table",
		Doc:  "Merges one table over another: nested tables key by key; other values are replaced.",
		Uses: []Use{{`merge({"a": 1, "b": {"x": 1}}, {"b": {"y": 2}})`, `{"a":1,"b":{"x":1,"y":2}}`}},
		call: func(a []any) (any, error) {
			return mergeTables(a[0].(map[string]any), a[1].(map[string]any)), nil
		}},
	{Name: "first", Area: "lists and tables", Params: params("of list"), Gives: "any",
		Doc:  "Returns the first item; an empty list is an error.",
		Uses: []Use{{`first(["a", "b"])`, `"a"`}}, call: func(a []any) (any, error) {
			if len(list(a, 0)) == 0 {
				return nil, errEmpty
			}
			return list(a, 0)[0], nil
		}},
	{Name: "last", Area: "lists and tables", Params: params("of list"), Gives: "any",
		Doc:  "Returns the last item; an empty list is an error.",
		Uses: []Use{{`last(["a", "b"])`, `"b"`}}, call: func(a []any) (any, error) {
			l := list(a, 0)
			if len(l) == 0 {
				return nil, errEmpty
			}
			return l[len(l)-1], nil
		}},
	{Name: "part", Area: "lists and tables", Params: params("of list, from int, to int"), Gives: "list",
		Doc: "Returns the items from one index up to, but not including, another, counted from 0; indexes out of " +
			"range are ignored.",
		Uses: []Use{{`part(["a", "b", "c"], 1, 9)`, `["b","c"]`}}, call: func(a []any) (any, error) {
			l := list(a, 0)
			n := int64(len(l))
			from, to := min(max(num(a, 1), 0), n), min(max(num(a, 2), 0), n)
			return slices.Clone(l[from:max(from, to)]), nil
		}},
	{Name: "sort", Area: "lists and tables", Params: params("of list"), Gives: "list",
		Doc:  "Sorts numbers by size and strings alphabetically.",
		Uses: []Use{{`sort(["b", "a"])`, `["a","b"]`}, {`sort([10, 9])`, `[9,10]`}}, call: func(a []any) (any, error) {
			return sorted(list(a, 0), func(v any) any { return v })
		}},
	{Name: "sort_by", Area: "lists and tables", Params: params("of list, key string"), Gives: "list",
		Doc:  "Sorts tables by the value of a key.",
		Uses: []Use{{`sort_by([{"n": 2}, {"n": 1}], "n")`, `[{"n":1},{"n":2}]`}}, call: func(a []any) (any, error) {
			return sorted(list(a, 0), func(v any) any { m, _ := v.(map[string]any); return m[str(a, 1)] })
		}},
	{Name: "unique", Area: "lists and tables", Params: params("of list"), Gives: "list",
		Doc:  "Keeps the first occurrence of each item.",
		Uses: []Use{{`unique(["a", "b", "a"])`, `["a","b"]`}}, call: func(a []any) (any, error) {
			out := []any{}
			seen := map[any]bool{}
			for _, v := range list(a, 0) {
				if scalar(v) {
					if !seen[v] {
						seen[v] = true
						out = append(out, v)
					}
					continue
				}
				if !slices.ContainsFunc(out, func(o any) bool { return value.Equal(o, v) }) {
					out = append(out, v)
				}
			}
			return out, nil
		}},
	{Name: "flatten", Area: "lists and tables", Params: params("of list"), Gives: "list",
		Doc:  "Flattens nested lists into one, at any depth.",
		Uses: []Use{{`flatten([["a"], "b", [["c"]]])`, `["a","b","c"]`}}, call: func(a []any) (any, error) {
			out, fit := flatten(list(a, 0), []any{})
			if !fit {
				return nil, errTooMany
			}
			return out, nil
		}},
	{Name: "without", Area: "lists and tables", Params: params("of list, items list"), Gives: "list",
		Doc:  "Removes items from a list.",
		Uses: []Use{{`without(["a", "b"], ["b"])`, `["a"]`}}, call: func(a []any) (any, error) {
			out := []any{}
			for _, v := range list(a, 0) {
				if !slices.ContainsFunc(list(a, 1), func(o any) bool { return value.Equal(o, v) }) {
					out = append(out, v)
				}
			}
			return out, nil
		}},
	{Name: "upto", Area: "lists and tables", Params: params("count int"), Gives: "list",
		Doc:  "Returns a list of this many numbers, counting from 0.",
		Uses: []Use{{`upto(3)`, `[0,1,2]`}}, call: func(a []any) (any, error) {
			if num(a, 0) < 0 || num(a, 0) > maxItems {
				return nil, fmt.Errorf("the count must be from 0 to %d", maxItems)
			}
			out := make([]any, num(a, 0))
			for i := range out {
				out[i] = int64(i)
			}
			return out, nil
		}},

	{Name: "sum", Area: "numbers", Params: params("of list"), Gives: "number", Doc: "Adds up numbers.",
		Uses: []Use{{`sum([1, 2, 3])`, `6`}}, call: func(a []any) (any, error) {
			whole, total := true, 0.0
			var count int64
			for _, v := range list(a, 0) {
				switch v := v.(type) {
				case int64:
					if sum := count + v; (sum > count) != (v > 0) && v != 0 {
						return nil, errors.New("the sum does not fit 64 bits")
					}
					count += v
					total += float64(v)
				case float64:
					whole = false
					total += v
				default:
					return nil, fmt.Errorf("an item is %s, not a number", value.TypeName(v))
				}
			}
			if whole {
				return count, nil
			}
			return total, nil
		}},
	{Name: "least", Area: "numbers", Params: params("of list"), Gives: "any",
		Doc:  "Returns the smallest number, or the alphabetically first string.",
		Uses: []Use{{`least([3, 1, 2])`, `1`}}, call: func(a []any) (any, error) { return end(list(a, 0), 0) }},
	{Name: "most", Area: "numbers", Params: params("of list"), Gives: "any",
		Doc:  "Returns the largest number, or the alphabetically last string.",
		Uses: []Use{{`most([3, 1, 2])`, `3`}}, call: func(a []any) (any, error) { return end(list(a, 0), -1) }},
	{Name: "round", Area: "numbers", Params: params("number number"), Gives: "int",
		Doc:  "Rounds to the nearest whole number, halves away from zero.",
		Uses: []Use{{`round(2.5)`, `3`}}, call: func(a []any) (any, error) { return whole(a[0], math.Round) }},
	{Name: "floor", Area: "numbers", Params: params("number number"), Gives: "int", Doc: "Rounds down to a whole " +
		"number.",
		Uses: []Use{{`floor(2.9)`, `2`}}, call: func(a []any) (any, error) { return whole(a[0], math.Floor) }},
	{Name: "ceil", Area: "numbers", Params: params("number number"), Gives: "int", Doc: "Rounds up to a whole number.",
		Uses: []Use{{`ceil(2.1)`, `3`}}, call: func(a []any) (any, error) { return whole(a[0], math.Ceil) }},
	{Name: "string", Area: "numbers", Params: params("of any"), Gives: "string",
		Doc:  "Converts a number or a bool to a string.",
		Uses: []Use{{`string(60)`, `"60"`}}, macro: true, call: func(a []any) (any, error) {
			if s, ok := value.Text(a[0]); ok {
				return s, nil
			}
			return nil, fmt.Errorf("%s cannot be converted to a string", value.TypeName(a[0]))
		}},
	{Name: "int", Area: "numbers", Params: params("of any"), Gives: "int",
		Doc:  "Converts a string to an integer, or truncates a number.",
		Uses: []Use{{`int("60")`, `60`}}, macro: true, call: func(a []any) (any, error) {
			switch v := a[0].(type) {
			case int64:
				return v, nil
			case float64:
				if math.IsNaN(v) || v < math.MinInt64 || v >= math.MaxInt64 {
					return nil, errors.New("the number does not fit 64 bits")
				}
				return int64(v), nil
			case string:
				n, err := strconv.ParseInt(v, 10, 64)
				if err != nil {
					return nil, errors.New("the string is not an integer")
				}
				return n, nil
			}
			return nil, fmt.Errorf("%s is not a number", value.TypeName(a[0]))
		}},

	{Name: "to_json", Area: "encodings", Params: params("of any"), Gives: "string",
		Doc:  "Writes a value as JSON with sorted keys.",
		Uses: []Use{{`to_json({"a": [1, true]})`, `"{\"a\":[1,true]}"`}}, call: func(a []any) (any, error) {
			if weight(a[0], maxResult) > maxResult {
				return nil, errTooLong
			}
			var b strings.Builder
			e := json.NewEncoder(&b)
			e.SetEscapeHTML(false)
			if err := e.Encode(a[0]); err != nil {
				return nil, err
			}
			return strings.TrimSuffix(b.String(), "\n"), nil
		}},
	{Name: "from_json", Area: "encodings", Params: params("text string"), Gives: "any", Doc: "Reads a value from JSON.",
		Uses: []Use{{`from_json("{\"depth\": 3}").depth`, `3`}}, call: func(a []any) (any, error) {
			d := json.NewDecoder(strings.NewReader(str(a, 0)))
			d.UseNumber()
			var v any
			if err := d.Decode(&v); err != nil {
				return nil, errors.New("the string is not JSON")
			}
			if _, err := d.Token(); !errors.Is(err, io.EOF) {
				return nil, errors.New("there is text after the JSON value")
			}
			return fromJSON(v)
		}},
	{Name: "base64_encode", Area: "encodings", Params: params("text string"), Gives: "string",
		Doc:  "Encodes a string in base64 (RFC 4648).",
		Uses: []Use{{`base64_encode("ebb")`, `"ZWJi"`}},
		call: func(a []any) (any, error) { return base64.StdEncoding.EncodeToString([]byte(str(a, 0))), nil }},
	{Name: "base64_decode", Area: "encodings", Params: params("text string"), Gives: "string",
		Doc:  "Decodes a string from base64 (RFC 4648).",
		Uses: []Use{{`base64_decode("ZWJi")`, `"ebb"`}}, call: func(a []any) (any, error) {
			out, err := base64.StdEncoding.DecodeString(str(a, 0))
			if err != nil || !utf8.Valid(out) {
				return nil, errors.New("the string is not valid base64 of text")
			}
			return string(out), nil
		}},
	{Name: "url_encode", Area: "encodings", Params: params("text string"), Gives: "string",
		Doc:  "Escapes a string for the query of a URL.",
		Uses: []Use{{`url_encode("north pier")`, `"north+pier"`}},
		call: func(a []any) (any, error) { return url.QueryEscape(str(a, 0)), nil }},

	{Name: "sha256", Area: "hashes", Params: params("text string"), Gives: "string",
		Doc:  "The SHA-256 of a string, in hex.",
		Uses: []Use{{`sha256("ebb")`, `"79571a56229fead48072831402cf3d9c05d9663c177d30e9468fba9ce05fd56e"`}},
		call: func(a []any) (any, error) {
			sum := sha256.Sum256([]byte(str(a, 0)))
			return hex.EncodeToString(sum[:]), nil
		}},
	{Name: "sha512", Area: "hashes", Params: params("text string"), Gives: "string",
		Doc:  "The SHA-512 of a string, in hex.",
		Uses: []Use{{`size(sha512("ebb"))`, `128`}}, call: func(a []any) (any, error) {
			sum := sha512.Sum512([]byte(str(a, 0)))
			return hex.EncodeToString(sum[:]), nil
		}},
	{Name: "md5", Area: "hashes", Params: params("text string"), Gives: "string",
		Doc:  "The MD5 of a string, in hex; for names and distribution, never for security.",
		Uses: []Use{{`md5("ebb")`, `"43289cd437c0341064d1d20424e7bf84"`}}, call: func(a []any) (any, error) {
			sum := md5.Sum([]byte(str(a, 0)))
			return hex.EncodeToString(sum[:]), nil
		}},
	{Name: "spread", Area: "hashes", Params: params("text string, below int"), Gives: "int",
		Doc: "A number from 0 up to, but not including, a bound; always the same for the same string. Use it to " +
			"spread hosts over time.",
		Uses: []Use{{`spread("gauge-01", 60)`, `24`}}, call: func(a []any) (any, error) {
			if num(a, 1) < 1 {
				return nil, errors.New("the bound must be at least 1")
			}
			sum := sha256.Sum256([]byte(str(a, 0)))
			var n uint64
			for _, b := range sum[:8] {
				n = n<<8 | uint64(b)
			}
			return int64(n % uint64(num(a, 1))), nil
		}},

	{Name: "net_nth", Area: "networks", Params: params("net string, n int"), Gives: "string",
		Doc: "The nth address of a network; -1 is the last one.",
		Uses: []Use{{`net_nth("192.0.2.0/24", 21)`, `"192.0.2.21"`}, {`net_nth("2001:db8::/64", 1)`, `"2001:db8::1"`},
			{`net_nth("192.0.2.0/24", -1)`, `"192.0.2.255"`}},
		call: func(a []any) (any, error) { return nth(str(a, 0), num(a, 1)) }},
	{Name: "net_mask", Area: "networks", Params: params("net string"), Gives: "string",
		Doc:  "The netmask of a network.",
		Uses: []Use{{`net_mask("192.0.2.0/26")`, `"255.255.255.192"`}}, call: func(a []any) (any, error) {
			p, err := network(str(a, 0))
			if err != nil {
				return nil, err
			}
			mask := make([]byte, p.Addr().BitLen()/8)
			for i := range p.Bits() {
				mask[i/8] |= 0x80 >> (i % 8)
			}
			addr, _ := netip.AddrFromSlice(mask)
			return addr.String(), nil
		}},
	{Name: "net_first", Area: "networks", Params: params("net string"), Gives: "string",
		Doc:  "The address of the network itself.",
		Uses: []Use{{`net_first("192.0.2.77/26")`, `"192.0.2.64"`}}, call: func(a []any) (any, error) {
			p, err := network(str(a, 0))
			if err != nil {
				return nil, err
			}
			return p.Addr().String(), nil
		}},
	{Name: "net_bits", Area: "networks", Params: params("net string"), Gives: "int",
		Doc:  "The prefix length of a network, in bits.",
		Uses: []Use{{`net_bits("192.0.2.0/26")`, `26`}}, call: func(a []any) (any, error) {
			p, err := network(str(a, 0))
			if err != nil {
				return nil, err
			}
			return int64(p.Bits()), nil
		}},
	{Name: "net_contains", Area: "networks", Params: params("net string, address string"), Gives: "bool",
		Doc: "Reports whether a network contains an address or another network.",
		Uses: []Use{{`net_contains("192.0.2.0/24", "192.0.2.21")`, `true`},
			{`net_contains("192.0.2.0/24", "192.0.2.128/25")`, `true`},
			{`net_contains("2001:db8::/32", "192.0.2.1")`, `false`}},
		call: func(a []any) (any, error) {
			p, err := network(str(a, 0))
			if err != nil {
				return nil, err
			}
			if strings.Contains(str(a, 1), "/") {
				q, err := network(str(a, 1))
				if err != nil {
					return nil, err
				}
				return p.Contains(q.Addr()) && q.Bits() >= p.Bits(), nil
			}
			addr, err := netip.ParseAddr(str(a, 1))
			if err != nil {
				return nil, fmt.Errorf("invalid address: %q", str(a, 1))
			}
			return p.Contains(addr), nil
		}},
	{Name: "address_family", Area: "networks", Params: params("address string"), Gives: "string",
		Doc:  "Returns \"ipv4\" or \"ipv6\" for an address.",
		Uses: []Use{{`address_family("2001:db8::21")`, `"ipv6"`}}, call: func(a []any) (any, error) {
			addr, err := netip.ParseAddr(str(a, 0))
			if err != nil {
				return nil, fmt.Errorf("invalid address: %q", str(a, 0))
			}
			if addr.Is4() {
				return "ipv4", nil
			}
			return "ipv6", nil
		}},

	{Name: "bytes", Area: "sizes and times", Params: params("size string"), Gives: "int",
		Doc: "Converts a size to bytes: kB, MB, GB and TB are powers of 1000; KiB, MiB, GiB and TiB are powers of " +
			"1024.",
		Uses: []Use{{`bytes("2TB")`, `2000000000000`}, {`bytes("1.5 GiB")`, `1610612736`}},
		call: func(a []any) (any, error) { return measure.ParseBytes(str(a, 0)) }},
	{Name: "size_text", Area: "sizes and times", Params: params("bytes int"), Gives: "string",
		Doc:  "Writes a number of bytes in readable form, in powers of 1024.",
		Uses: []Use{{`size_text(1610612736)`, `"1.5 GiB"`}},
		call: func(a []any) (any, error) { return measure.BytesText(num(a, 0)), nil }},
	{Name: "seconds", Area: "sizes and times", Params: params("time string"), Gives: "int",
		Doc:  "Converts a duration such as 90s, 10m, 1h30m or 7d to whole seconds.",
		Uses: []Use{{`seconds("1h30m")`, `5400`}, {`seconds("7d")`, `604800`}},
		call: func(a []any) (any, error) { return measure.ParseSeconds(str(a, 0)) }},

	{Name: "version_at_least", Area: "versions", Params: params("version string, wanted string"), Gives: "bool",
		Doc:  "Reports whether a version is at least the wanted one; numbers in it are compared as numbers.",
		Uses: []Use{{`version_at_least("1.10.0", "1.9")`, `true`}, {`version_at_least("2.0~rc1", "2.0")`, `false`}},
		call: func(a []any) (any, error) {
			return CompareVersions(str(a, 0), str(a, 1)) >= 0, nil
		}},
	{Name: "version_compare", Area: "versions", Params: params("one string, other string"), Gives: "int",
		Doc:  "Compares two versions: -1 if the first is older, 0 if they are equal, 1 if it is newer.",
		Uses: []Use{{`version_compare("12", "9.5")`, `1`}},
		call: func(a []any) (any, error) { return int64(CompareVersions(str(a, 0), str(a, 1))), nil }},
}

var (
	errTooLong = errors.New("the result is longer than 1 MiB")
	errTooMany = fmt.Errorf("the resulting list has more than %d items", maxItems)
	errEmpty   = errors.New("the list is empty")
)

// weight estimates what a value takes as text, in bytes, and stops counting
// beyond a bound: a list may hold one long text many times over.
func weight(v any, bound int) int {
	n := 4
	switch v := v.(type) {
	case string:
		n += len(v)
	case []any:
		for _, item := range v {
			if n += weight(item, bound-n); n > bound {
				return n
			}
		}
	case map[string]any:
		for k, item := range v {
			if n += len(k) + weight(item, bound-n); n > bound {
				return n
			}
		}
	default:
		n += 16
	}
	return n
}

func texts(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

func scalar(v any) bool {
	switch v.(type) {
	case bool, int64, float64, string:
		return true
	}
	return false
}

// pattern compiles a regular expression; Go's run in time linear in the text.
func pattern(s string) (*regexp.Regexp, error) {
	if len(s) > 1000 {
		return nil, errors.New("the regular expression is longer than 1000 bytes")
	}
	re, err := regexp.Compile(s)
	if err != nil {
		return nil, fmt.Errorf("the regular expression is not valid: %s", strings.TrimPrefix(err.Error(),
			"error parsing regexp: "))
	}
	return re, nil
}

var verb = lazy.Regexp(`%[-+0 ]?[0-9]{0,3}(?:\.[0-9]{1,2})?[a-zA-Z%]`)

func format(a []any) (any, error) {
	values, at := list(a, 1), 0
	if len(str(a, 0))+weight(values, maxResult)+256*len(values) > maxResult {
		return nil, errTooLong
	}
	var failed error
	out := verb().ReplaceAllStringFunc(str(a, 0), func(v string) string {
		last := v[len(v)-1]
		if last == '%' {
			return "%"
		}
		if at >= len(values) {
			failed = errors.New("there are fewer values than the format needs")
			return ""
		}
		x := values[at]
		at++
		switch last {
		case 'd', 'x', 'o':
			if _, ok := x.(int64); !ok {
				failed = fmt.Errorf("%s takes an integer, not %s", v, value.TypeName(x))
				return ""
			}
			return fmt.Sprintf(v, x)
		case 'f', 'g', 'e':
			if n, ok := x.(int64); ok {
				x = float64(n)
			}
			if _, ok := x.(float64); !ok {
				failed = fmt.Errorf("%s takes a number, not %s", v, value.TypeName(x))
				return ""
			}
			return fmt.Sprintf(v, x)
		case 's', 'q', 'v':
			s, ok := value.Text(x)
			if !ok {
				failed = fmt.Errorf("%s takes a string, a number or a bool, not %s", v, value.TypeName(x))
				return ""
			}
			return fmt.Sprintf(strings.Replace(v, "v", "s", 1), s)
		}
		failed = fmt.Errorf("unknown verb %s", v)
		return ""
	})
	if failed == nil && at < len(values) {
		failed = errors.New("there are more values than the format needs")
	}
	return out, failed
}

func mergeTables(under, over map[string]any) map[string]any {
	out := make(map[string]any, len(under)+len(over))
	for k, v := range under {
		out[k] = v
	}
	for k, v := range over {
		a, ok1 := out[k].(map[string]any)
		b, ok2 := v.(map[string]any)
		if ok1 && ok2 {
			out[k] = mergeTables(a, b)
			continue
		}
		out[k] = v
	}
	return out
}

// flatten is false when there are too many items.
func flatten(l []any, out []any) ([]any, bool) {
	for _, v := range l {
		inner, ok := v.([]any)
		if !ok {
			inner = nil
			out = append(out, v)
		} else if out, ok = flatten(inner, out); !ok {
			return nil, false
		}
		if len(out) > maxItems {
			return nil, false
		}
	}
	return out, true
}

// sorted sorts by a key, which must be numbers only or texts only.
func sorted(l []any, key func(any) any) (any, error) {
	out := slices.Clone(l)
	if out == nil {
		out = []any{}
	}
	var failed error
	slices.SortStableFunc(out, func(a, b any) int {
		c, err := order(key(a), key(b))
		if err != nil {
			failed = err
		}
		return c
	})
	return out, failed
}

func order(a, b any) (int, error) {
	if x, ok := a.(string); ok {
		if y, ok := b.(string); ok {
			return strings.Compare(x, y), nil
		}
	}
	if x, ok := exact(a); ok {
		if y, ok := exact(b); ok {
			return x.Cmp(y), nil
		}
	}
	return 0, fmt.Errorf("%s and %s cannot be compared", value.TypeName(a), value.TypeName(b))
}

// exact gives a number as it is: those of 64 bits have more digits than a float
// has.
func exact(v any) (*big.Float, bool) {
	switch v := v.(type) {
	case int64:
		return new(big.Float).SetInt64(v), true
	case float64:
		if math.IsNaN(v) {
			return nil, false
		}
		return new(big.Float).SetFloat64(v), true
	}
	return nil, false
}

func float(v any) (float64, bool) {
	switch v := v.(type) {
	case int64:
		return float64(v), true
	case float64:
		return v, true
	}
	return 0, false
}

func end(l []any, at int) (any, error) {
	s, err := sorted(l, func(v any) any { return v })
	if err != nil {
		return nil, err
	}
	all := s.([]any)
	if len(all) == 0 {
		return nil, errEmpty
	}
	return all[(at+len(all))%len(all)], nil
}

func whole(v any, how func(float64) float64) (any, error) {
	if n, ok := v.(int64); ok {
		return n, nil
	}
	f, ok := float(v)
	if !ok || math.IsNaN(f) || math.Abs(f) > 1<<53 {
		return nil, errors.New("it cannot be converted to an integer")
	}
	return int64(how(f)), nil
}

func fromJSON(v any) (any, error) {
	var err error
	switch v := v.(type) {
	case json.Number:
		if !strings.ContainsAny(v.String(), ".eE") {
			n, err := v.Int64()
			if err != nil {
				return nil, fmt.Errorf("the integer %s does not fit 64 bits", v)
			}
			return n, nil
		}
		f, err := v.Float64()
		if err != nil {
			return nil, fmt.Errorf("%s is not a number", v)
		}
		return f, nil
	case []any:
		for i := range v {
			if v[i], err = fromJSON(v[i]); err != nil {
				return nil, err
			}
		}
	case map[string]any:
		for k := range v {
			if v[k], err = fromJSON(v[k]); err != nil {
				return nil, err
			}
		}
	}
	return v, nil
}

func network(s string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(s)
	if err != nil {
		return p, problem.Errorf("invalid network: %q", s).Remedy("write it like 192.0.2.0/24")
	}
	return p.Masked(), nil
}

func nth(net string, n int64) (any, error) {
	p, err := network(net)
	if err != nil {
		return nil, err
	}
	raw := p.Addr().AsSlice()
	if n < 0 { // from the end: begin with the last address
		for i := p.Bits(); i < len(raw)*8; i++ {
			raw[i/8] |= 0x80 >> (i % 8)
		}
		n++
	}
	for i := len(raw) - 1; i >= 0 && n != 0; i-- {
		sum := int64(raw[i]) + n
		raw[i] = byte(sum & 0xff)
		n = sum >> 8
	}
	addr, _ := netip.AddrFromSlice(raw)
	if n != 0 || !p.Contains(addr) {
		return nil, fmt.Errorf("the network %s does not have that many addresses", net)
	}
	return addr.String(), nil
}

// CompareVersions compares as Debian's packagers do (Debian Policy, 5.6.12): an
// epoch before a colon counts first, then what the authors gave, then the
// revision behind the last dash, of which none is as good as 0. In each runs of
// digits count as numbers, and ~ sorts before the end of the text.
func CompareVersions(a, b string) int {
	ea, ra := epoch(a)
	eb, rb := epoch(b)
	ua, va := revision(ra)
	ub, vb := revision(rb)
	return cmp.Or(cmp.Compare(ea, eb), compareParts(ua, ub), compareParts(va, vb))
}

func revision(v string) (upstream, revision string) {
	if i := strings.LastIndexByte(v, '-'); i >= 0 {
		return v[:i], v[i+1:]
	}
	return v, ""
}

func compareParts(a, b string) int {
	for a != "" || b != "" {
		var x, y string
		x, a = run(a, func(c byte) bool { return c < '0' || c > '9' })
		y, b = run(b, func(c byte) bool { return c < '0' || c > '9' })
		if c := compareWords(x, y); c != 0 {
			return c
		}
		x, a = run(a, func(c byte) bool { return c >= '0' && c <= '9' })
		y, b = run(b, func(c byte) bool { return c >= '0' && c <= '9' })
		x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
		if c := cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y)); c != 0 {
			return c
		}
	}
	return 0
}

func epoch(v string) (int, string) {
	if e, rest, ok := strings.Cut(v, ":"); ok {
		if n, err := strconv.Atoi(e); err == nil {
			return n, rest
		}
	}
	return 0, v
}

func run(s string, in func(byte) bool) (string, string) {
	i := 0
	for i < len(s) && in(s[i]) {
		i++
	}
	return s[:i], s[i:]
}

// compareWords compares what is there between numbers: ~ before the end, the end
// before letters, letters before all else.
func compareWords(a, b string) int {
	rank := func(s string, i int) int {
		switch {
		case i >= len(s):
			return 0
		case s[i] == '~':
			return -1
		case s[i] >= 'a' && s[i] <= 'z' || s[i] >= 'A' && s[i] <= 'Z':
			return int(s[i])
		}
		return int(s[i]) + 256
	}
	for i := 0; i < max(len(a), len(b)); i++ {
		if c := cmp.Compare(rank(a, i), rank(b, i)); c != 0 {
			return c
		}
	}
	return 0
}

// check holds arguments to the function's params, and a result to its bounds.
func (f Func) do(args []any) (any, error) {
	if len(args) != len(f.Params) {
		return nil, problem.Errorf("%s takes %d arguments, not %d", f.Name, len(f.Params), len(args)).
			Remedy("write %s", f.Signature())
	}
	for i, p := range f.Params {
		if !fits(p.Type, args[i]) {
			return nil, problem.Errorf("%s takes %s as %s, not %s", f.Name, article(p.Type), p.Name,
				value.TypeName(args[i])).
				Remedy("write %s", f.Signature())
		}
	}
	out, err := f.call(args)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Name, err)
	}
	switch v := out.(type) {
	case string:
		if len(v) > maxResult {
			return nil, fmt.Errorf("%s: %w", f.Name, errTooLong)
		}
	case []any:
		if len(v) > maxItems {
			return nil, fmt.Errorf("%s: %w", f.Name, errTooMany)
		}
	}
	return out, nil
}

func article(t string) string {
	switch t {
	case "string":
		return "a string"
	case "int":
		return "an integer"
	}
	return "a " + t
}

func fits(typ string, v any) bool {
	switch typ {
	case "string":
		_, ok := v.(string)
		return ok
	case "int":
		_, ok := v.(int64)
		return ok
	case "number":
		_, ok := float(v)
		return ok
	case "bool":
		_, ok := v.(bool)
		return ok
	case "list":
		_, ok := v.([]any)
		return ok
	case "table":
		_, ok := v.(map[string]any)
		return ok
	}
	return true
}

var celTypes = map[string]*cel.Type{
	"string": cel.StringType, "int": cel.IntType, "bool": cel.BoolType,
	"list": cel.ListType(cel.DynType), "table": cel.MapType(cel.StringType, cel.DynType),
}

func celType(name string) *cel.Type {
	if t := celTypes[name]; t != nil {
		return t
	}
	return cel.DynType // any, and numbers of either sort
}

// celFunctions declares the functions to CEL, in both ways of writing them.
func celFunctions() []cel.EnvOption {
	var out []cel.EnvOption
	for _, f := range functions {
		if f.macro {
			continue
		}
		var args []*cel.Type
		for _, p := range f.Params {
			args = append(args, celType(p.Type))
		}
		bound := cel.FunctionBinding(func(in ...ref.Val) ref.Val {
			args := make([]any, len(in))
			for i, v := range in {
				if types.IsUnknownOrError(v) {
					return v
				}
				var err error
				if args[i], err = plain(v); err != nil {
					return types.WrapErr(err)
				}
			}
			v, err := f.do(args)
			if err != nil {
				return types.WrapErr(err)
			}
			return types.DefaultTypeAdapter.NativeToValue(v)
		})
		name := f.Name
		if name == "bytes" {
			name = sizeFunction
		}
		out = append(out, cel.Function(name,
			cel.Overload(name+"_before", args, celType(f.Gives), bound),
			cel.MemberOverload(name+"_after", args, celType(f.Gives), bound)))
	}
	return out
}

// templateFunctions are the same functions for templates, and text/template's
// own where those are not bounded, or say nothing of what is missing.
func templateFunctions() template.FuncMap {
	out := template.FuncMap{
		"index":    index,
		"print":    func(args ...any) (string, error) { return printed("", args) },
		"println":  func(args ...any) (string, error) { return printed(" ", args) },
		"printf":   func(form string, args ...any) (any, error) { return format([]any{form, natives(args)}) },
		"html":     func(args ...any) (string, error) { return escapedBy(template.HTMLEscapeString, args) },
		"js":       func(args ...any) (string, error) { return escapedBy(template.JSEscapeString, args) },
		"urlquery": func(args ...any) (string, error) { return escapedBy(url.QueryEscape, args) },
	}
	for _, f := range functions {
		if f.call == nil {
			continue
		}
		out[f.Name] = func(args ...any) (any, error) {
			in := make([]any, len(args))
			for i, a := range args {
				in[i] = Native(a)
			}
			return f.do(in)
		}
	}
	return out
}

func natives(args []any) []any {
	out := make([]any, len(args))
	for i, a := range args {
		out[i] = Native(a)
	}
	return out
}

// printed puts values together to one text.
func printed(by string, args []any) (string, error) {
	var b strings.Builder
	for i, a := range args {
		text, err := printable(Native(a))
		if err != nil {
			return "", err
		}
		if i > 0 {
			b.WriteString(by)
		}
		if b.Len()+len(text) > maxResult {
			return "", errTooLong
		}
		b.WriteString(text)
	}
	if by != "" {
		b.WriteByte('\n')
	}
	return b.String(), nil
}

func escapedBy(how func(string) string, args []any) (string, error) {
	text, err := printed("", args)
	if err != nil {
		return "", err
	}
	if text = how(text); len(text) > maxResult {
		return "", errTooLong
	}
	return text, nil
}

// index takes steps into lists and tables, by number and by key. What is not
// there is an error, and the nearest key is named.
func index(at any, steps ...any) (any, error) {
	at = Native(at)
	for _, s := range natives(steps) {
		switch from := at.(type) {
		case map[string]any:
			key, ok := s.(string)
			if !ok {
				return nil, fmt.Errorf("table keys are strings, not %s", value.TypeName(s))
			}
			if at, ok = from[key]; !ok {
				return nil, problem.Errorf("unknown key %q", key).Meant(key, value.Keys(from),
					"available: "+short(value.Keys(from)))
			}
		case []any:
			n, ok := s.(int64)
			if !ok {
				return nil, fmt.Errorf("list items are selected by number, counted from 0, not by %s",
					value.TypeName(s))
			}
			if n < 0 || n >= int64(len(from)) {
				return nil, fmt.Errorf("the list has %d items; index %d is out of range (indexes start at 0)",
					len(from), n)
			}
			at = from[n]
		default:
			return nil, fmt.Errorf("%s has no keys or items", value.TypeName(at))
		}
	}
	return at, nil
}

// Native brings the values that templates make into ours.
func Native(v any) any {
	switch v := v.(type) {
	case int:
		return int64(v)
	case []string:
		return texts(v)
	}
	return v
}
