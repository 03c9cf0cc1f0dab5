// Package measure parses and formats the durations and sizes that people write: in manifests, settings, jobs, params
// and rehearsals, and on the command line. It is the only parser for them, so "1d" is a day everywhere.
//
//	measure.ParseDuration("1d12h")  // 36 hours
//	measure.DurationText(time.Hour) // "1h"
//	measure.ParseBytes("1.5 GiB")   // 1610612736
//	measure.BytesText(1610612736)   // "1.5 GiB"
package measure

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
)

// What to do about one that is invalid.
const (
	DurationForms = `use a form such as "90s", "10m", "1h30m" or "7d"`
	SizeForms     = `use a form such as "512", "2TB" or "1.5 GiB"`
)

var daysForm = lazy.Regexp(`^([0-9]{1,5})d(.*)$`)

// ParseDuration parses a duration such as 90s, 10m, 1h30m, 7d or 1d12h. Negative durations, and durations of more than
// about 290 years, are errors.
func ParseDuration(s string) (time.Duration, error) {
	rest, days := s, time.Duration(0)
	if m := daysForm().FindStringSubmatch(s); m != nil {
		n, _ := strconv.Atoi(m[1])
		rest, days = m[2], time.Duration(n)*24*time.Hour
	}
	d, err := time.Duration(0), error(nil)
	if rest != "" || rest == s {
		d, err = time.ParseDuration(rest)
	}
	if err != nil || d < 0 || days+d < days {
		return 0, problem.Errorf("invalid duration %q", s).Remedy(DurationForms)
	}
	return days + d, nil
}

// DurationText writes a duration as people do: 30m and 2h, and not 30m0s and 2h0m0s.
func DurationText(d time.Duration) string {
	out := d.String()
	if s, ok := strings.CutSuffix(out, "m0s"); ok {
		out = s + "m"
	}
	if s, ok := strings.CutSuffix(out, "h0m"); ok {
		out = s + "h"
	}
	return out
}

// ParseSeconds reads a length of time in whole seconds.
func ParseSeconds(s string) (int64, error) {
	d, err := ParseDuration(s)
	if err == nil && d%time.Second != 0 {
		err = problem.Errorf("invalid duration %q: whole seconds are required", s).Remedy(DurationForms)
	}
	return int64(d / time.Second), err
}

var sizeForm = lazy.Regexp(`^\s*([0-9]+(?:\.[0-9]+)?)\s*([kKMGTP]?i?)[bB]?\s*$`)

// ParseBytes reads a size: 512, 2TB, 1.5 GiB. k, M, G, T and P count in
// thousands (SI), Ki to Pi in 1024s (IEC 80000-13).
func ParseBytes(s string) (int64, error) {
	m := sizeForm().FindStringSubmatch(s)
	if m == nil {
		return 0, problem.Errorf("invalid size %q", s).Remedy(SizeForms)
	}
	r, ok := new(big.Rat).SetString(m[1])
	base, unit := int64(1000), strings.TrimSuffix(m[2], "i")
	if unit != m[2] {
		base = 1024
	}
	if !ok || unit == "" && m[2] == "i" {
		return 0, problem.Errorf("invalid size %q", s).Remedy(SizeForms)
	}
	for range strings.Index("kMGTP", strings.Replace(unit, "K", "k", 1)) + 1 {
		if unit == "" {
			break
		}
		r.Mul(r, new(big.Rat).SetInt64(base))
	}
	r.Add(r, big.NewRat(1, 2)) // halves are rounded up
	n := new(big.Int).Quo(r.Num(), r.Denom())
	if !n.IsInt64() {
		return 0, problem.Errorf("%q does not fit 64 bits", s).Remedy("use a smaller size")
	}
	return n.Int64(), nil
}

// BytesText writes bytes for people, in 1024s.
func BytesText(n int64) string {
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	f, i := float64(n)/1024, 0
	for f >= 1024 && i < 4 {
		f, i = f/1024, i+1
	}
	return strings.TrimSuffix(strconv.FormatFloat(f, 'f', 1, 64), ".0") + " " + "KMGTP"[i:i+1] + "iB"
}
