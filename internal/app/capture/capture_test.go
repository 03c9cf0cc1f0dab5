package capture

import (
	"testing"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// FuzzCapture holds whatever a host says of itself to be one declaration of what was asked for, with the
// very values that it said, and no expression among them.
func FuzzCapture(f *testing.F) {
	f.Add("cron", "tide", "environment", "${data.brine}", "a note\n[file.\"/x\"]", byte(2))
	f.Add("file", "/etc/motd", "content", "$${x}\"\"\"\n[package.x]", "", byte(0))
	f.Add("user", "maren", "groups", "a\", \"b", "\u2028[x]", byte(1))
	f.Add("kmod", "tun", "options", "'''", "\r", byte(2))
	schemas := kinds.Schemas()
	at := func(int) value.Place { return value.Place{} }
	f.Fuzz(func(t *testing.T, kind, name, attr, text, note string, form byte) {
		said := []any{text, []any{text}, map[string]any{"A": text}}[form%3]
		c := plan.Captured{Ref: value.Ref{Kind: kind, Name: name}, Attrs: map[string]any{attr: said}, Note: note}
		attrs, err := Check(schemas, []value.Ref{{Kind: kind}}, &c)
		if err != nil {
			return
		}
		k, _ := schemas.Kind(kind)
		out := Text(k, Literal(c.Ref.Name), attrs, c.Note)
		var ps problem.Problems
		root, _ := manifest.ParseTOML("captured", []byte(out), &ps)
		if ps.Err() != nil || len(root.Keys) != 1 || root.Keys[0].Name != kind || len(root.Keys[0].Node.Keys) != 1 {
			t.Fatalf("it is not a single declaration (%v):\n%s", ps.Err(), out)
		}
		declared := root.Keys[0].Node.Keys[0]
		want := value.Attrs{}
		if v, err := func() (any, error) { at, _ := k.Attr(attr); return at.Value(said) }(); err == nil {
			want[attr] = v
		}
		evaluated := func(text string) any {
			parsed, err := expr.ParseText(text, at, "", expr.Scope{})
			if err != nil {
				t.Fatalf("%q is an expression: %v", text, err)
			}
			v, err := parsed.Eval(&expr.Vars{})
			if err != nil {
				t.Fatalf("%q is an expression: %v", text, err)
			}
			return v
		}
		if canon, _ := k.Canon(name); evaluated(declared.Name) != canon {
			t.Errorf("the name %q comes as %q", canon, declared.Name)
		}
		got := value.Attrs{}
		for _, key := range declared.Node.Keys {
			got[key.Name] = each(key.Node.Plain(), evaluated)
		}
		if !value.Equal(map[string]any(got), map[string]any(want)) {
			t.Errorf("%s %s: it said %q, and this is declared: %q\n%s", kind, name, want, got, out)
		}
	})
}

// each does something with each text of a value.
func each(v any, do func(string) any) any {
	switch v := v.(type) {
	case string:
		return do(v)
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = each(v[i], do)
		}
		return out
	case map[string]any:
		out := map[string]any{}
		for k := range v {
			out[k] = each(v[k], do)
		}
		return out
	}
	return v
}
