package measure

import (
	"strings"
	"testing"
	"time"
)

func TestLengthsOfTime(t *testing.T) {
	const day = 24 * time.Hour
	for text, want := range map[string]time.Duration{"90s": 90 * time.Second, "1h30m": 90 * time.Minute, "7d": 7 * day,
		"1d12h": 36 * time.Hour, "0s": 0, "0d": 0, "250ms": 250 * time.Millisecond, "1.5h": 90 * time.Minute} {
		if got, err := ParseDuration(text); err != nil || got != want {
			t.Errorf("%q is %v (%v)", text, got, err)
		}
	}
	for _, text := range []string{"", "d", "-1s", "-1d", "1d-1h", "1d 2h", "soon", "10", "1.5d",
		"99999d9999999h", "200000d",
		"1w", "٣d"} {
		got, err := ParseDuration(text)
		if err == nil || !strings.Contains(err.Error(), "invalid duration") {
			t.Errorf("%q is %v (%v)", text, got, err)
		}
	}
	if got, err := ParseSeconds("1m"); got != 60 || err != nil {
		t.Errorf("1m is %d seconds (%v)", got, err)
	}
	if _, err := ParseSeconds("1500ms"); err == nil {
		t.Error("1500ms is a number of seconds")
	}
}

func TestSizes(t *testing.T) {
	for text, want := range map[string]int64{"512": 512, "2TB": 2e12, "1.5 GiB": 3 << 29, "1k": 1000, "1KiB": 1024,
		"0.5 B": 1} {
		if got, err := ParseBytes(text); err != nil || got != want {
			t.Errorf("%q is %d (%v)", text, got, err)
		}
	}
	for _, text := range []string{"", "large", "-1", "1i", "1 EiB", "99999999PiB"} {
		if got, err := ParseBytes(text); err == nil {
			t.Errorf("%q is %d", text, got)
		}
	}
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1 KiB", 3 << 29: "1.5 GiB",

		1 << 60: "1024 PiB"} {
		if got := BytesText(n); got != want {
			t.Errorf("%d is %q", n, got)
		}
	}
}

// FuzzParseDuration has a length of time that is read be one that is at least 0, whatever is written.
func FuzzParseDuration(f *testing.F) {
	f.Add("1d12h")
	f.Add("106751d23h47m16s")
	f.Fuzz(func(t *testing.T, text string) {
		if d, err := ParseDuration(text); err == nil && d < 0 {
			t.Errorf("%q is %v", text, d)
		}
	})
}
