// Package verifytest looks at a simulated terminal, for tests of checks and of verification.
package verifytest

import (
	"log/slog"
	"sync"
	"testing"

	"redstart/internal/core/result"
	"redstart/internal/task/tasktest"
	"redstart/internal/verify"
)

// Verifier looks at the terminal, with records in memory.
func Verifier(x *tasktest.Terminal) *verify.Verifier {
	return &verify.Verifier{Bench: x.Bench, Records: x, Boxes: x, Secrets: x, Logins: x, Profiles: x.Plan.Profiles,
		Log: slog.New(slog.DiscardHandler)}
}

// LookAt looks at entries side by side, and gives the checks of each.
func LookAt(t testing.TB, x *tasktest.Terminal, restart string, tags ...string) map[string][]result.Check {
	t.Helper()
	v := Verifier(x)
	var mu sync.Mutex
	lists := map[string][]result.Check{}
	var all sync.WaitGroup
	for _, e := range x.Entries(tags...) {
		all.Go(func() {
			got, err := v.At(t.Context(), x.Plan.Resolve(), verify.Look{Box: e, Own: true}, restart, x.Plan.Needs(), "x")
			if err != nil {
				t.Errorf("%s: %v", e.Tag, err)
			}
			mu.Lock()
			lists[e.Tag] = got[e.Tag]
			mu.Unlock()
		})
	}
	all.Wait()
	return lists
}
