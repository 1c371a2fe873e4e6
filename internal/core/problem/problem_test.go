package problem_test

import (
	"errors"
	"fmt"
	"io"
	"testing"

	"redstart/internal/core/problem"
)

func TestErrorSaysCauseSubjectAndNext(t *testing.T) {
	e := problem.New(problem.Device, "it did not come back",
		"look at the box").About("02:00:00:00:00:01").Because(io.EOF)
	if want := "02:00:00:00:00:01: it did not come back (EOF). Look at the box."; e.Error() != want {
		t.Errorf("%q, want %q", e.Error(), want)
	}
	wrapped := fmt.Errorf("outer: %w", e)
	if problem.KindOf(wrapped) != problem.Device || !errors.Is(wrapped, io.EOF) {
		t.Error("kind or cause is lost when wrapped")
	}
	if problem.KindOf(io.EOF) != "" {
		t.Error("a foreign error has no kind")
	}
	if got := problem.New(problem.Usage, "no", "").Error(); got != "no" {
		t.Errorf("%q", got)
	}
}

func TestCellsPrintAsTheyAreLookedFor(t *testing.T) {
	c := problem.Cell{Row: 3, Column: "address", Value: "10.40.8.300", Reason: "is not an IPv4 address"}
	if want := `row 3, column address, "10.40.8.300": is not an IPv4 address`; c.String() != want {
		t.Errorf("%q, want %q", c, want)
	}
	if want := "row 9: too short"; (problem.Cell{Row: 9, Reason: "too short"}).String() != want {
		t.Error("a cell without column prints wrong")
	}
}
