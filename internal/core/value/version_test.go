package value_test

import (
	"testing"

	"redstart/internal/core/value"
)

func TestVersionsAreOrdered(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"2.6.0", "2.6.0", 0}, {"2.10", "2.9", 1}, {"2.6", "2.6.0", 0}, {"V2.6.1", "2.6", 1}, {"2.6.0b1", "2.6.0b2", -1},
		{"", "1", -1}, {"1.4.2", "1.4.10", -1}, {"3", "2.9.9", 1}, {"r12", "r9", 1},
	} {
		if got := value.CompareVersions(c.a, c.b); got != c.want {
			t.Errorf("%s and %s: %d, want %d", c.a, c.b, got, c.want)
		}
		if got := value.CompareVersions(c.b, c.a); got != -c.want {
			t.Errorf("%s and %s: %d, want %d", c.b, c.a, got, -c.want)
		}
	}
}

func FuzzCompareVersions(f *testing.F) {
	f.Add("2.6.0", "2.10b")
	f.Fuzz(func(t *testing.T, a, b string) {
		if value.CompareVersions(a, b) != -value.CompareVersions(b, a) || value.CompareVersions(a, a) != 0 {
			t.Errorf("%q and %q", a, b)
		}
	})
}
