package jobs

import (
	"errors"
	"fmt"
	"testing"

	"redstart/internal/lan"
	"redstart/internal/segments"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Whoever notices first that the segment went, it is said in the same words.
func TestWhatCutsWorkOff(t *testing.T) {
	for _, c := range []struct{ err, want error }{
		{fmt.Errorf("sending: %w", lan.ErrClosed), segments.ErrGone},
		{errors.Join(errors.New("reach"), segments.ErrDark), segments.ErrDark},
		{store.ErrUnwritable, store.ErrUnwritable},
		{vault.ErrLocked, vault.ErrLocked},
		{errors.New("the box refused"), nil},
		{nil, nil},
	} {
		if got := CutOffBy(c.err); !errors.Is(got, c.want) {
			t.Errorf("%v: cut off by %v, want %v", c.err, got, c.want)
		}
	}
}
