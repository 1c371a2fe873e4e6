package works_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/state"
	"redstart/internal/works"
)

var (
	one, two = address.MAC{2, 0, 0, 0, 0, 1}, address.MAC{2, 0, 0, 0, 0, 2}
	errCable = errors.New("the cable was pulled")
)

// service is works under way with what was told of them.
type service struct {
	*works.Works
	t    *testing.T
	end  context.CancelFunc
	mu   sync.Mutex
	told []string
}

func begin(t *testing.T) *service {
	life, end := context.WithCancel(context.Background())
	s := &service{Works: works.Under(life), t: t, end: end}
	s.Log = slog.New(slog.DiscardHandler)
	s.CutOffBy = func(err error) error {
		if errors.Is(err, errCable) {
			return err
		}
		return nil
	}
	s.Tell = func(a api.Work) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.told = append(s.told, fmt.Sprint(a.ID, " ", a.State))
	}
	t.Cleanup(func() {
		end()
		s.Wait()
	})
	return s
}

// until starts a work that lasts until the channel closes or it is cut off.
func (s *service) until(kind string, needs works.Needs, over <-chan struct{}) (api.Work, error) {
	return s.Start(api.Work{Kind: kind}, needs, nil, func(ctx context.Context, w *works.Work) error {
		select {
		case <-over:
		case <-w.Stopping():
		case <-ctx.Done():
		}
		return ctx.Err()
	}, nil)
}

func (s *service) ends(id int64, to, text string) {
	s.t.Helper()
	a, err := s.Outcome(context.Background(), id)
	if err != nil || a.State != to || !strings.Contains(a.Text, text) {
		s.t.Errorf("work %d ended as %s, %q (%v); want %s, %q", id, a.State, a.Text, err, to, text)
	}
}

// A box is one work's alone, and free as soon as that is done with it; the same MAC on another
// segment is another box.
func TestABoxIsHeldByOneWorkAndFreedBeforeItEnds(t *testing.T) {
	s := begin(t)
	over, freed := make(chan struct{}), make(chan struct{})
	run, err := s.Start(api.Work{Kind: api.Commissioning, Run: 7}, works.Needs{On: "lan", Boxes: map[address.MAC]string{one: "A", two: "B"}},
		nil, func(ctx context.Context, w *works.Work) error {
			w.Free(one)
			close(freed)
			<-over
			return nil
		}, nil)
	if err != nil {
		t.Fatal(err)
	}
	<-freed
	if held := s.Held("lan"); len(held) != 1 || held[two] != "run 7 has it in hand" || len(s.Held("other")) != 0 {
		t.Errorf("held: %v", held)
	}
	if _, err := s.until(api.Verifying, works.Needs{On: "lan", Boxes: map[address.MAC]string{two: "B"}}, over); err == nil ||
		!strings.Contains(err.Error(), "run 7 has it in hand") {
		t.Errorf("a box that is held was given away: %v", err)
	}
	for on, mac := range map[string]address.MAC{"lan": one, "other": two} {
		if _, err := s.until(api.Verifying, works.Needs{On: on, Boxes: map[address.MAC]string{mac: "X"}}, over); err != nil {
			t.Errorf("%s on %s: %v", mac, on, err)
		}
	}
	if _, _, err := s.Hold(context.Background(), "lan", one, "A", "a trial"); err == nil ||
		!strings.Contains(err.Error(), "a verification is looking at it") {
		t.Errorf("%v", err)
	}
	close(over)
	s.ends(run.ID, state.Done, "")
	s.Wait()
	_, release, err := s.Hold(context.Background(), "lan", two, "B", "a trial")
	if err != nil {
		t.Fatal(err)
	}
	if len(s.List()) != 3 || !s.On("lan", func(api.Work) bool { return true }) {
		t.Errorf("a hold is shown among the works, or holds nothing: %+v", s.List())
	}
	release()
	if s.On("lan", func(api.Work) bool { return true }) {
		t.Error("it is held after its release")
	}
}

func TestWorksAreStoppedAndCutOff(t *testing.T) {
	s := begin(t)
	never := make(chan struct{})
	if err := s.Stop(0); err == nil {
		t.Error("nothing was stopped, without a word")
	}
	survey, err := s.until(api.Finding, works.Needs{On: "lan", Alone: true}, never)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.until(api.Finding, works.Needs{On: "lan", Alone: true}, never); err == nil {
		t.Error("two surveys go on side by side")
	}
	other, err := s.until(api.Finding, works.Needs{On: "other", Alone: true}, never)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Stop(0); err == nil || !strings.Contains(err.Error(), "2 works are under way") {
		t.Errorf("which is stopped? %v", err)
	}
	if err := errors.Join(s.Stop(survey.ID), s.Stop(survey.ID)); err != nil {
		t.Error(err)
	}
	s.ends(survey.ID, state.Stopped, "")
	s.CutOff("other", errCable)
	s.ends(other.ID, state.Interrupted, "cable")
	if err := s.Stop(other.ID); err == nil {
		t.Error("what has ended was stopped")
	}
	failed, err := s.Start(api.Work{Kind: "x"}, works.Needs{}, nil, func(context.Context, *works.Work) error { panic("a defect") }, nil)
	if err != nil {
		t.Fatal(err)
	}
	s.ends(failed.ID, state.Failed, "a defect of ours")
	if _, err := s.Start(api.Work{Kind: "x"}, works.Needs{}, func(*works.Work) error { return errCable }, nil, nil); err == nil ||
		len(s.List()) != 3 {
		t.Errorf("what was prevented is shown: %v, %+v", err, s.List())
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if !slices.Contains(s.told, "1 running") || !slices.Contains(s.told, "1 stopped") || !slices.Contains(s.told, "2 interrupted") {
		t.Errorf("told: %v", s.told)
	}
}

// What works made is kept for the latest of them, and taken away with the others.
func TestWhatWasMadeIsKeptForAWhile(t *testing.T) {
	s := begin(t)
	const many = 40
	forgotten := 0
	for i := range many {
		a, err := s.Start(api.Work{Kind: api.Making}, works.Needs{}, nil, func(_ context.Context, w *works.Work) error {
			w.Keep(i, func() { forgotten++ })
			return nil
		}, nil)
		if err != nil {
			t.Fatal(err)
		}
		s.ends(a.ID, state.Done, "")
	}
	kept := s.List()
	if len(kept) != 8 || forgotten != many-len(kept) {
		t.Errorf("%d are kept, %d forgotten", len(kept), forgotten)
	}
	if made, wrong := s.Find(func(a api.Work) bool { return a.ID == many }).Result(); made != many-1 || wrong != nil {
		t.Errorf("%v, %v", made, wrong)
	}
	s.Forget(func(api.Work) bool { return true })
	if len(s.List()) != 0 || forgotten != many {
		t.Errorf("%d are kept, %d forgotten", len(s.List()), forgotten)
	}
}
