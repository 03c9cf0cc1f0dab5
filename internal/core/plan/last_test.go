package plan_test

import (
	"encoding/json"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

// TestWhatIsRemembered comes back from JSON as it was, without what is secret.
func TestWhatIsRemembered(t *testing.T) {
	task := plan.Task{Ref: value.Ref{Kind: "file", Name: "/etc/tide"},
		Attrs: value.Attrs{"mode": "0644", "port": int64(7),
			"add": []any{map[string]any{"line": "a", "n": int64(1)}}, "token": value.NewSecret("salt & water"),
			"env": map[string]any{"T": value.NewSecret("salt & water")}},
		Content: &plan.Content{SHA256: "ab", Size: 1 << 40}}
	last := plan.LastOf(task)
	data, err := json.Marshal(last)
	if err != nil || strings.Contains(string(data), "salt") {
		t.Fatalf("it is kept as %s, %v", data, err)
	}
	var back plan.Last
	if err := json.Unmarshal(data, &back); err != nil || !back.Same(last) || !back.Secret || len(back.Attrs) != 3 {
		t.Errorf("it comes back as %+v, %v", back, err)
	}
	other := task
	other.Attrs = value.Attrs{"mode": "0600"}
	if back.Same(plan.LastOf(other)) || back.Same(nil) {
		t.Error("another declaration is taken for the same")
	}
	task.Content.Secret = true
	if again := plan.LastOf(task); again.Content != nil || !again.Secret {
		t.Errorf("of a secret content is kept %+v", again)
	}
}
