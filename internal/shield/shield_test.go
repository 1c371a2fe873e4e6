package shield_test

import (
	"bytes"
	"errors"
	"log/slog"
	"strings"
	"testing"

	"redstart/internal/core/problem"
	"redstart/internal/shield"
)

func TestAPanicIsAnErrorOfOneDevice(t *testing.T) {
	var out bytes.Buffer
	log := slog.New(slog.NewTextHandler(&out, nil))
	var list []int
	err := shield.Do(log, "02:00:00:00:00:01", func() error { list[0] = 1; return nil })
	if problem.KindOf(err) != problem.Machine || !strings.HasPrefix(err.Error(),
		"02:00:00:00:00:01: a defect of ours") {
		t.Errorf("%v", err)
	}
	if !strings.Contains(out.String(), "index out of range") || !strings.Contains(out.String(), "shield_test.go") {
		t.Errorf("the log has no stack: %s", out.String())
	}
	plain := errors.New("x")
	if err := shield.Do(log, "", func() error { return plain }); err != plain {
		t.Errorf("an error of its own: %v", err)
	}
}
