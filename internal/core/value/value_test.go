package value

import (
	"encoding/json"
	"fmt"
	"testing"
)

func TestSecretsAreNotShown(t *testing.T) {
	s := NewSecret("salt")
	text, err := json.Marshal(map[string]any{"a": s})
	if err != nil {
		t.Fatal(err)
	}
	all := string(text) + fmt.Sprintf("%v %+v %#v %s %q %x", s, s, s, s, s, []any{s}) +
		fmt.Sprint(map[string]any{"k": s}, []Secret{s}, &s)
	if want := "salt"; len(all) == 0 || contains(all, want) || contains(all, "73616c74") {
		t.Errorf("printed in some way, a secret shows: %s", all)
	}
}

func contains(s, sub string) bool {
	for i := 0; i+len(sub) <= len(s); i++ {
		if s[i:i+len(sub)] == sub {
			return true
		}
	}
	return false
}

func TestReferences(t *testing.T) {
	for in, want := range map[string]string{"service tide-logger": "service tide-logger",
		"file /etc/a b": "file /etc/a b", "service": "", " x": "", "x ": ""} {
		ref, ok := ParseRef(in)
		if ok && ref.String() != want || ok != (want != "") {
			t.Errorf("%q is %q, %v", in, ref, ok)
		}
	}
}
