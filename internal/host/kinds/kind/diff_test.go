package kind

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestHunksCountTheirLines holds the numbers of random diffs to what the lines
// of both texts are, and patch(1), where it is, to taking them.
func TestHunksCountTheirLines(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for round := range 200 {
		var old, now []string
		for i := range 60 {
			line := fmt.Sprintf("line %d", i)
			switch random.IntN(10) {
			case 0:
				old = append(old, line)
			case 1:
				now = append(now, line)
			default:
				old, now = append(old, line), append(now, line)
			}
		}
		a, b := strings.Join(old, "\n")+"\n", strings.Join(now, "\n")+"\n"
		diff := Diff("a", "b", a, b)
		var from, to int
		for line := range strings.Lines(diff) {
			if m := hunkForm().FindStringSubmatch(line); m != nil {
				fmt.Sscanf(strings.NewReplacer(",", " ", "-", "", "+", "").
					Replace(strings.Fields(line)[1]), "%d", &from)
				fmt.Sscanf(strings.NewReplacer(",", " ", "+", "").Replace(strings.Fields(line)[2]), "%d", &to)
				continue
			}
			text := strings.TrimSuffix(line[1:], "\n")
			switch {
			case strings.HasPrefix(line, "---"), strings.HasPrefix(line, "+++"):
				continue
			case line[0] != '+' && old[from-1] != text, line[0] != '-' && now[to-1] != text:
				t.Fatalf("round %d: %q is not at %d and %d\n%s", round, line, from, to, diff)
			}
			if line[0] != '+' {
				from++
			}
			if line[0] != '-' {
				to++
			}
		}
		if round < 5 {
			patch(t, a, b, diff)
		}
	}
}

func patch(t *testing.T, old, want, diff string) {
	t.Helper()
	if _, err := exec.LookPath("patch"); err != nil {
		return
	}
	file := filepath.Join(t.TempDir(), "a")
	os.WriteFile(file, []byte(old), 0o644)
	c := exec.Command("patch", "--fuzz=0", file)
	c.Stdin = strings.NewReader(diff)
	if out, err := c.CombinedOutput(); err != nil || strings.Contains(string(out), "offset") {
		t.Errorf("patch says %s (%v)\n%s", out, err, diff)
	}
	if got, _ := os.ReadFile(file); string(got) != want {
		t.Error("patched it is another text")
	}
}
