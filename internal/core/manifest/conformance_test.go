package manifest_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math"
	"strconv"
	"strings"
	"testing"

	tomltest "github.com/toml-lang/toml-test/v2"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
)

// exceptions are the cases of the public suite that this reader sees otherwise,
// with the reason, which docs/explain/data.md gives as well.
var exceptions = map[string]string{}

// TestConformance holds the reader to the public suite of the TOML project for
// TOML 1.0: what is valid is read as it is meant, and what is not is refused.
func TestConformance(t *testing.T) {
	all := tomltest.TestCases()
	list, err := fs.ReadFile(all, "files-toml-1.0.0")
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for name := range strings.FieldsSeq(string(list)) {
		if !strings.HasSuffix(name, ".toml") {
			continue
		}
		n++
		text, err := fs.ReadFile(all, name)
		if err != nil {
			t.Fatal(err)
		}
		var ps problem.Problems
		root, _ := manifest.ParseTOML(name, text, &ps)
		err = ps.Err()
		valid := strings.HasPrefix(name, "valid/")
		if why := exceptions[name]; why != "" {
			if valid == (err == nil) {
				t.Errorf("%s is not an exception any more (%s)", name, why)
			}
			continue
		}
		switch {
		case valid && err != nil:
			t.Errorf("%s is valid, and refused: %v", name, err)
		case !valid && err == nil:
			t.Errorf("%s is not valid, and taken", name)
		case valid:
			data, err := fs.ReadFile(all, strings.TrimSuffix(name, ".toml")+".json")
			if err != nil {
				t.Fatal(err)
			}
			var want any
			if err := json.Unmarshal(data, &want); err != nil {
				t.Fatal(err)
			}
			if diff := otherwise(root.Plain(), want); diff != "" {
				t.Errorf("%s: %s", name, diff)
			}
		}
	}
	if n < 500 {
		t.Errorf("there are only %d cases", n)
	}
}

// otherwise says in what a value differs from what the suite wants, or "".
func otherwise(got, want any) string {
	switch want := want.(type) {
	case []any:
		list, ok := got.([]any)
		if !ok || len(list) != len(want) {
			return fmt.Sprintf("%v is not a list of %d", got, len(want))
		}
		for i := range want {
			if diff := otherwise(list[i], want[i]); diff != "" {
				return diff
			}
		}
		return ""
	case map[string]any:
		typ, isScalar := want["type"].(string)
		text, isText := want["value"].(string)
		if isScalar && isText && len(want) == 2 {
			return scalarOtherwise(got, typ, text)
		}
		table, ok := got.(map[string]any)
		if !ok || len(table) != len(want) {
			return fmt.Sprintf("%v is not a table of %d keys", got, len(want))
		}
		for k := range want {
			if diff := otherwise(table[k], want[k]); diff != "" {
				return k + ": " + diff
			}
		}
		return ""
	}
	return fmt.Sprintf("the suite has %v", want)
}

func scalarOtherwise(got any, typ, text string) string {
	same := false
	switch v := got.(type) {
	case string: // dates and times are text here
		same = typ == "string" && v == text || strings.Contains(typ, "date") || strings.Contains(typ, "time")
	case bool:
		same = typ == "bool" && strconv.FormatBool(v) == text
	case int64:
		same = typ == "integer" && strconv.FormatInt(v, 10) == text
	case float64:
		f, err := strconv.ParseFloat(text, 64)
		same = typ == "float" && (err == nil && f == v || math.IsNaN(v) && strings.HasSuffix(text, "nan"))
	}
	if same {
		return ""
	}
	return fmt.Sprintf("%#v is not the %s %s", got, typ, text)
}
