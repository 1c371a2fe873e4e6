// Package works keeps what is under way: several works side by side, which boxes each has in
// hand, how far it is, and how it is stopped or cut off. What a work does it does not know.
package works

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/shield"
)

// How many works are kept in sight after they ended: those that made something, and the others.
const (
	mostMade  = 8
	mostEnded = 20
)

// Works are those of one service.
type Works struct {
	// Log is where it is noted what began and ended.
	Log *slog.Logger
	// Tell tells everyone of a work that moved on.
	Tell func(api.Work)
	// CutOffBy gives what in an error cut a work off that can go on later; nil for any other.
	CutOffBy func(error) error

	life context.Context // ends when the service does
	all  sync.WaitGroup

	mu   sync.Mutex
	list []*Work // oldest first
	last int64   // number of the latest
}

// Under gives the works of a service that ends with a context.
func Under(life context.Context) *Works { return &Works{life: life} }

// Wait waits until every work has ended.
func (s *Works) Wait() { s.all.Wait() }

// Needs are what a work has for itself while it is under way.
type Needs struct {
	// On is the segment; nil for a work on none. The same MAC on another is another box.
	On any
	// Boxes are those that it talks to, with their tags. Each is free as soon as the work
	// frees it, at the latest when the work ends.
	Boxes map[address.MAC]string
	// Alone says that it is the only one of its kind on its segment.
	Alone bool
}

// Work is one work.
type Work struct {
	s     *Works
	needs Needs
	stop  chan struct{} // closes when a person stops it
	ended chan struct{} // closes when it has ended

	// Under the lock of all.
	now    api.Work
	cut    context.CancelCauseFunc // nil once it has ended
	result any
	forget func()
	wrong  error // why it came to no end
}

// List lists the works under way and those that ended lately, the latest first.
func (s *Works) List() []api.Work {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := []api.Work{}
	for _, w := range slices.Backward(s.list) {
		if w.now.State != "" {
			list = append(list, w.now)
		}
	}
	return list
}

// UnderWay reports whether any work is under way that a test picks.
func (s *Works) UnderWay(pick func(api.Work) bool) bool {
	return slices.ContainsFunc(s.List(), func(w api.Work) bool { return w.State == state.Running && pick(w) })
}

// On reports whether anything is under way on a segment that a test picks, held boxes included.
func (s *Works) On(segment any, pick func(api.Work) bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.ContainsFunc(s.list, func(w *Work) bool { return w.cut != nil && w.needs.On == segment && pick(w.now) })
}

// Find gives the latest work that a test picks; nil for none.
func (s *Works) Find(pick func(api.Work) bool) *Work {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range slices.Backward(s.list) {
		if pick(w.now) {
			return w
		}
	}
	return nil
}

// claim joins the works under way, unless one of them has what the new one needs.
func (s *Works) claim(w *Work) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, other := range s.list {
		if other.cut == nil || other.needs.On != w.needs.On {
			continue
		}
		if w.needs.Alone && other.now.Kind == w.now.Kind {
			return problem.New(problem.Conflict, fmt.Sprintf("a %s is under way on this segment", other.now.Kind),
				"wait until it is done, or stop it")
		}
		for mac, tag := range w.needs.Boxes {
			if _, held := other.needs.Boxes[mac]; held {
				return problem.New(problem.Conflict, other.holding(), "wait until that is done, or stop it").About(tag)
			}
		}
	}
	s.last++
	w.now.ID = s.last
	s.list = append(s.list, w)
	s.forgetEnded(mostMade, func(w *Work) bool { return w.now.Kind == api.Making })
	s.forgetEnded(mostEnded, func(w *Work) bool { return w.now.Kind != api.Making })
	return nil
}

// forgetEnded forgets the oldest ended works of a kind until no more than so many are left. The
// lock is held.
func (s *Works) forgetEnded(most int, kind func(*Work) bool) {
	n := 0
	for _, w := range s.list {
		if kind(w) {
			n++
		}
	}
	s.list = slices.DeleteFunc(s.list, func(w *Work) bool {
		if n <= most || w.cut != nil || !kind(w) {
			return false
		}
		n--
		w.forgetResult()
		return true
	})
}

// forgetResult takes away what it made. The lock is held.
func (w *Work) forgetResult() {
	if w.forget != nil {
		w.forget()
	}
	w.result, w.forget = nil, nil
}

// Forget forgets ended works that a test picks, with what they made.
func (s *Works) Forget(pick func(api.Work) bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = slices.DeleteFunc(s.list, func(w *Work) bool {
		if w.cut != nil || !pick(w.now) {
			return false
		}
		w.forgetResult()
		return true
	})
}

// holding says in whose hands a box is. The lock is held.
func (w *Work) holding() string {
	switch {
	case w.now.Run != 0:
		return fmt.Sprintf("run %d has it in hand", w.now.Run)
	case w.now.Kind == api.Verifying:
		return "a verification is looking at it"
	}
	return "it is in the hands of: " + w.now.Kind
}

// Held tells in whose hands boxes of a segment are, by MAC.
func (s *Works) Held(on any) map[address.MAC]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	held := map[address.MAC]string{}
	for _, w := range s.list {
		if w.cut == nil || w.needs.On != on {
			continue
		}
		for mac := range w.needs.Boxes {
			held[mac] = w.holding()
		}
	}
	return held
}

// Start starts a work in a goroutine of its own, unless another has what it needs. first is what
// is told of it. prepare may complete it or prevent it; nil does neither. do gets a context that
// ends with the service; then is called after it, before anybody hears that it ended, and may be
// nil.
func (s *Works) Start(first api.Work, needs Needs, prepare func(*Work) error, do func(context.Context, *Work) error,
	then func(api.Work)) (api.Work, error) {
	needs.Boxes = cloned(needs.Boxes)
	w := &Work{s: s, now: first, needs: needs, stop: make(chan struct{}), ended: make(chan struct{})}
	ctx, cut := context.WithCancelCause(s.life)
	w.cut = cut
	if err := s.claim(w); err != nil {
		cut(nil)
		return api.Work{}, err
	}
	if prepare != nil {
		if err := prepare(w); err != nil {
			w.drop()
			return api.Work{}, err
		}
	}
	w.Progress(func(a *api.Work) { a.State, a.Began = state.Running, time.Now().UTC() })
	a := w.Now()
	s.Log.Info("work began", "work", a.ID, "kind", a.Kind, "total", a.Total)
	s.all.Add(1)
	go func() {
		defer s.all.Done()
		err := shield.Do(s.Log, a.Kind, func() error { return do(ctx, w) })
		if then != nil {
			then(w.Now())
		}
		by := s.CutOffBy(context.Cause(ctx))
		if by == nil {
			by = s.CutOffBy(err)
		}
		cut(nil)
		w.end(err, by)
	}()
	return a, nil
}

func cloned(boxes map[address.MAC]string) map[address.MAC]string {
	own := make(map[address.MAC]string, len(boxes))
	for mac, tag := range boxes {
		own[mac] = tag
	}
	return own
}

// Hold has a box for a moment, as any other work would; it is not shown among them.
func (s *Works) Hold(ctx context.Context, on any, mac address.MAC, name, kind string) (context.Context, func(), error) {
	ctx, cut := context.WithCancelCause(ctx)
	w := &Work{s: s, now: api.Work{Kind: kind}, needs: Needs{On: on, Boxes: map[address.MAC]string{mac: name}}, cut: cut,
		stop: make(chan struct{}), ended: make(chan struct{})}
	if err := s.claim(w); err != nil {
		cut(nil)
		return ctx, nil, err
	}
	return ctx, w.drop, nil
}

// drop takes a work back that never began, or that is not shown.
func (w *Work) drop() {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	w.cut(nil)
	w.cut = nil
	w.s.list = slices.DeleteFunc(w.s.list, func(o *Work) bool { return o == w })
}

// Free gives a box back that the work is done with, while it goes on with others.
func (w *Work) Free(mac address.MAC) {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	delete(w.needs.Boxes, mac)
}

// Stopping closes when a person stops it.
func (w *Work) Stopping() <-chan struct{} { return w.stop }

// Until gives a context that ends when a person stops the work.
func (w *Work) Until(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-w.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

// Stopped reports whether a person stopped it.
func (w *Work) Stopped() bool {
	select {
	case <-w.stop:
		return true
	default:
		return false
	}
}

// end notes how a work ended: by is what cut it off, if anything did.
func (w *Work) end(err, by error) {
	w.s.mu.Lock()
	w.cut, w.wrong = nil, cmp.Or(by, err)
	made := w.result != nil
	w.s.mu.Unlock()
	w.Progress(func(a *api.Work) {
		a.State, a.Seconds, a.Parked = state.Done, 0, 0
		if w.Stopped() && !made { // what is made came before the word
			a.State = state.Stopped
		}
		switch {
		case by != nil:
			a.State, a.Text = state.Interrupted, by.Error()
		case err != nil && !errors.Is(err, context.Canceled):
			a.State, a.Text = state.Failed, err.Error()
		}
	})
	defer close(w.ended)
	a := w.Now()
	w.s.Log.Info("work ended", "work", a.ID, "kind", a.Kind, "state", a.State, "done", a.Done, "failed", a.Failed,
		"text", a.Text)
}

// Outcome waits until a work has ended, and gives how.
func (s *Works) Outcome(ctx context.Context, id int64) (api.Work, error) {
	w := s.Find(func(a api.Work) bool { return a.ID == id })
	if w == nil {
		return api.Work{}, problem.New(problem.Missing, "there is no such work", "")
	}
	return w.Outcome(ctx)
}

// Outcome waits until the work has ended, and gives how.
func (w *Work) Outcome(ctx context.Context) (api.Work, error) {
	select {
	case <-w.ended:
		return w.Now(), nil
	case <-ctx.Done():
		return api.Work{}, ctx.Err()
	}
}

// Now gives the work as it is.
func (w *Work) Now() api.Work {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	return w.now
}

// UnderWay reports whether the work has not ended.
func (w *Work) UnderWay() bool {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	return w.cut != nil
}

// Keep keeps what the work made, for as long as it is in sight; forget takes it away then.
func (w *Work) Keep(result any, forget func()) {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	w.result, w.forget = result, forget
}

// Result gives what the work keeps, and why it came to no end.
func (w *Work) Result() (any, error) {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	return w.result, w.wrong
}

// Progress changes the work and tells everyone.
func (w *Work) Progress(change func(*api.Work)) {
	w.s.mu.Lock()
	change(&w.now)
	a := w.now
	w.s.mu.Unlock()
	if a.State != "" { // else it has not begun
		w.s.Tell(a)
	}
}

// Stop asks a work under way to stop; 0 means the only one there is.
func (s *Works) Stop(id int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var list []*Work
	for _, w := range s.list {
		if w.cut != nil && (id == 0 || w.now.ID == id) {
			list = append(list, w)
		}
	}
	switch {
	case len(list) == 0 && id != 0:
		return problem.New(problem.Conflict, fmt.Sprintf("work %d is not under way", id), "")
	case len(list) == 0:
		return problem.New(problem.Conflict, "nothing is under way", "")
	case len(list) > 1:
		var names []string
		for _, w := range list {
			names = append(names, fmt.Sprintf("%d, %s", w.now.ID, w.now.Kind))
		}
		return problem.New(problem.Conflict, fmt.Sprintf("%d works are under way: %s", len(list),
			strings.Join(names, "; ")), "say which by its number")
	}
	select {
	case <-list[0].stop:
	default:
		close(list[0].stop)
	}
	return nil
}

// CutOff cuts off what is under way on a segment.
func (s *Works) CutOff(on any, cause error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range s.list {
		if w.cut != nil && w.needs.On == on {
			w.cut(cause)
		}
	}
}
