package result_test

import (
	"testing"
	"time"

	"redstart/internal/core/result"
)

// The zero of everything is that nobody looked.
func TestTheZeroValuePassesNothing(t *testing.T) {
	var zero result.Verdict
	if text, _ := zero.MarshalText(); string(text) != "not looked at" {
		t.Errorf("the zero verdict prints as %q", text)
	}
	zero = result.Passed
	if zero.UnmarshalText([]byte("pass")) != nil || zero != result.NotLookedAt {
		t.Error("a word that is no verdict counts as one")
	}
	c := result.Of("echo", "answers", result.Look{}, time.Time{})
	if c.Verdict != result.NotLookedAt || c.Observed != "not asked" {
		t.Errorf("%+v", c)
	}
	if result.Verified(nil) || result.Verified([]result.Check{c}) || len(result.NotLooked([]result.Check{c})) != 1 {
		t.Error("what nobody looked at counts as verified")
	}
}
