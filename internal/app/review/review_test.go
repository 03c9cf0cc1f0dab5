package review

import (
	"strings"
	"testing"

	"jadekettle/internal/core/value"
)

// FuzzRead: whatever a saved preview holds, it is refused or says of each of its hosts what an apply is
// held to, and written again it reads the same.
func FuzzRead(f *testing.F) {
	digest := strings.Repeat("ab", 32)
	f.Add("format = 2\nproject = 'tide'\nenv = ''\nrevision = ''\nedited = false\nmade = 2026-01-01T00:00:00Z\nby " +
		"= 'maren'\n[[host]]\nname = 'gauge-01'\nunchanged = ['file /a']\nleft_out = []\n[[host.task]]\ndeclared = " +
		"'file /b'\nstatus = 'would change'\ndigest = '" + digest + "'\n" +
		"[[host.task.change]]\nwhat = 'mode'\nwas = ''\nbecomes = '0644'\n")
	f.Add("format = 2\n[[host]]\nname = 'gauge-01'\n[[host.task]]\ndeclared = 'x'\n")
	f.Add("")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Read("tonight.toml", []byte(text))
		if err != nil {
			return
		}
		foreseen, err := p.Foreseen(value.ParseRef)
		if err == nil && len(foreseen) > len(p.Hosts) {
			t.Errorf("of %d hosts it says something of %d", len(p.Hosts), len(foreseen))
		}
		data, err := p.Bytes()
		if err != nil {
			t.Fatal(err)
		}
		if again, err := Read("tonight.toml", data); err != nil || len(again.Hosts) != len(p.Hosts) {
			t.Errorf("written again it is %v, %v", again, err)
		}
	})
}
