package value

import "testing"

func TestCount(t *testing.T) {
	for want, got := range map[string]string{
		"1 device": Count(1, "device"), "0 devices": Count(0, "device"), "2 entries": Count(2, "entry"), "3 matches": Count(3, "match"),
	} {
		if got != want {
			t.Errorf("said %q, want %q", got, want)
		}
	}
}
