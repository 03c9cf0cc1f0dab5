package shell

import (
	"math/rand/v2"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// TestWordsAsShHasThem holds both ways to sh itself, with words of odd letters.
func TestWordsAsShHasThem(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	letters := []rune(`ab '"\$` + "`" + `*?~;&|<>()#!=/-.,:ä` + "\n\t")
	for range 60 {
		var words []string
		for range 1 + random.IntN(4) {
			var b strings.Builder
			for range random.IntN(8) {
				b.WriteRune(letters[random.IntN(len(letters))])
			}
			words = append(words, b.String())
		}
		line := Join(words...)
		if got := Split(line); !slices.Equal(got, words) {
			t.Errorf("%q comes apart as %q", line, got)
		}
		out, err := exec.Command("sh", "-c", `for w in `+line+`; do printf '%s\0' "$w"; done`).Output()
		if err != nil || string(out) != strings.Join(words, "\x00")+"\x00" {
			t.Errorf("sh takes %q as %q (%v), not %q", line, out, err, words)
		}
	}
}

func TestSplit(t *testing.T) {
	for line, want := range map[string][]string{
		`tide-logger --check '/etc/a b'`: {"tide-logger", "--check", "/etc/a b"},
		`a "b \"c\" \d" e\ f`:            {"a", `b "c" \d`, "e f"},
		"  \t":                           nil,
		`''`:                             {""},
	} {
		if got := Split(line); !slices.Equal(got, want) {
			t.Errorf("%s is %q, want %q", line, got, want)
		}
	}
}
