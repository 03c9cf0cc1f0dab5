package rpm

import "testing"

// The pairs are those that rpm-version(7) and rpm's own tests give.
func TestOrder(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"1.0-1", "1.0-1", 0}, {"1.10-1", "1.9-1", 1}, {"2:1.0-1", "9.9-1", 1}, {"1.0-2", "1.0-10", -1},
		{"1.0~rc1-1", "1.0-1", -1}, {"1.0~rc1-1", "1.0~rc2-1", -1}, {"1.0^git1-1", "1.0-1", 1},
		{"1.0^git1-1", "1.0.1-1", -1}, {"1.0a-1", "1.0.1-1", -1}, {"1.05-1", "1.5-1", 0}, {"1.0-1.el9", "1.0-1", 1},
		{"xyz.4", "8", -1}, {"fc4", "fc.4", 0}, {"2_0", "2.0", 0}, {"1.0~", "1.0", -1}, {"5.5p10", "5.5p2", 1},
	} {
		if got := Order(c.a, c.b); got != c.want {
			t.Errorf("Order(%s, %s) is %d, want %d", c.a, c.b, got, c.want)
		}
		if got := Order(c.b, c.a); got != -c.want {
			t.Errorf("Order(%s, %s) is %d, want %d", c.b, c.a, got, -c.want)
		}
	}
}

// FuzzOrder holds whatever versions a host reports: the order of two is the same
// from both sides, and that of one with itself is none.
func FuzzOrder(f *testing.F) {
	for _, v := range []string{"", "1:2.0~rc1^git3-4.el9", "^", "~^~", "1..2", "a1b", "-", ":", "٣.é"} {
		f.Add(v, "1.0-1")
		f.Add(v, v+"^")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if got, back := Order(a, b), Order(b, a); got != -back {
			t.Errorf("Order(%q, %q) is %d, and the other way round %d", a, b, got, back)
		}
		if got := Order(a, a); got != 0 {
			t.Errorf("Order(%q, itself) is %d", a, got)
		}
	})
}
