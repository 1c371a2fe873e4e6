package site

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"redstart/internal/api"
	"redstart/internal/commission"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/lan"
	"redstart/internal/shield"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// working is a work with what steers it.
type working struct {
	s *Service
	api.Work
	on    *segment
	holds holds
	stop  chan struct{}           // closes when a person stops it
	ended chan struct{}           // closes when it has ended
	cut   context.CancelCauseFunc // nil once it has ended
	// runner carries the run out, where it is one.
	runner *commission.Runner
	made   *made // the document, where it made one
	wrong  error // why it came to no end
}

// holds is what a work needs for itself.
type holds struct {
	boxes map[address.MAC]string // that it talks to, with their tags
	alone bool                   // it is the only one of its kind on its segment
}

// mostEnded is how many ended works are kept in sight.
const mostEnded = 20

// Works lists the works under way and those that ended lately, the latest first.
func (s *Service) Works() []api.Work {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := []api.Work{}
	for _, w := range slices.Backward(s.works) {
		if w.State != "" {
			list = append(list, w.Work)
		}
	}
	return list
}

// underWay reports whether any work is under way that a test picks.
func (s *Service) underWay(pick func(api.Work) bool) bool {
	return slices.ContainsFunc(s.Works(), func(w api.Work) bool { return w.State == store.Running && pick(w) })
}

// claim joins the works under way, unless one of them has what the new one needs.
func (s *Service) claim(w *working) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, other := range s.works {
		if other.cut == nil {
			continue
		}
		if w.holds.alone && other.Kind == w.Kind && other.on == w.on {
			return problem.New(problem.Conflict, fmt.Sprintf("a %s is under way on this segment", other.Kind),
				"wait until it is done, or stop it")
		}
		for mac, tag := range w.holds.boxes {
			if other.on != w.on {
				break // the same MAC there is another box
			}
			if _, held := other.holds.boxes[mac]; held {
				return problem.New(problem.Conflict, other.holding(), "wait until that is done, or stop it").About(tag)
			}
		}
	}
	s.lastWork++
	w.ID = s.lastWork
	s.works = append(s.works, w)
	s.forgetEnded(mostMade, func(w *working) bool { return w.Kind == api.Making })
	s.forgetEnded(mostEnded, func(w *working) bool { return w.Kind != api.Making })
	return nil
}

// forgetEnded forgets the oldest ended works of a kind until no more than so many are left, with
// what they made. The lock is held.
func (s *Service) forgetEnded(most int, kind func(*working) bool) {
	n := 0
	for _, w := range s.works {
		if kind(w) {
			n++
		}
	}
	s.works = slices.DeleteFunc(s.works, func(w *working) bool {
		if n <= most || !kind(w) || w.cut != nil {
			return false
		}
		n--
		s.forgetMade(w)
		return true
	})
}

// forgetMade takes away what a work made.
func (s *Service) forgetMade(w *working) {
	if w.made == nil {
		return
	}
	if err := os.RemoveAll(w.made.dir); err != nil {
		s.log.Error("a document is left behind", "folder", w.made.dir, "error", err)
	}
}

// holding says in whose hands a box is.
func (w *working) holding() string {
	switch {
	case w.Run != 0:
		return fmt.Sprintf("run %d has it in hand", w.Run)
	case w.Kind == api.Verifying:
		return "a verification is looking at it"
	}
	return "it is in the hands of: " + w.Kind
}

// held tells in whose hands boxes of the site's segment are, by MAC.
func (s *Site) held() map[address.MAC]string {
	on := s.segment()
	s.mu.Lock()
	defer s.mu.Unlock()
	held := map[address.MAC]string{}
	for _, w := range s.works {
		if w.cut == nil || w.on != on {
			continue
		}
		for mac := range w.holds.boxes {
			held[mac] = w.holding()
		}
	}
	return held
}

// begin starts a work on the site's segment, unless another has what it needs.
func (s *Site) begin(w *working, prepare func() error, do func(ctx context.Context) error) (api.Work, error) {
	if err := s.may(w.Kind != api.Finding); err != nil {
		return api.Work{}, err
	}
	w.on = s.segment()
	return s.start(w, prepare, do)
}

// start starts a work in a goroutine of its own, unless another has what it needs.
// prepare may complete it or prevent it; nil does neither. do gets a context that ends
// with the service.
func (s *Site) start(w *working, prepare func() error, do func(ctx context.Context) error) (api.Work, error) {
	w.s, w.stop, w.ended = s.Service, make(chan struct{}), make(chan struct{})
	ctx, cut := context.WithCancelCause(s.life)
	w.cut = cut
	if err := s.claim(w); err != nil {
		cut(nil)
		return api.Work{}, err
	}
	if prepare != nil {
		if err := prepare(); err != nil {
			cut(nil)
			s.mu.Lock()
			s.works = slices.DeleteFunc(s.works, func(o *working) bool { return o == w })
			s.mu.Unlock()
			return api.Work{}, err
		}
	}
	w.progress(func(a *api.Work) { a.State, a.Began = store.Running, time.Now().UTC() })
	a := w.now()
	s.log.Info("work began", "work", a.ID, "kind", a.Kind, "total", a.Total)
	s.work.Add(1)
	go func() {
		defer s.work.Done()
		noted := func(string, string) {}
		if a.Kind != api.Making {
			noted = s.noting()
		}
		err := shield.Do(s.log, a.Kind, func() error { return do(ctx) })
		if s.underWay(func(o api.Work) bool { return o.ID != a.ID && o.Site == a.Site && o.Kind != api.Making }) {
			noted("", "") // any of them may have taken it away
		} else {
			noted(a.Who, did(w.now()))
		}
		by := cutOffBy(context.Cause(ctx))
		if by == nil {
			by = cutOffBy(err)
		}
		cut(nil)
		w.end(err, by)
	}()
	return a, nil
}

// stopped reports whether a person stopped it.
func (w *working) stopped() bool {
	select {
	case <-w.stop:
		return true
	default:
		return false
	}
}

// end notes how a work ended: by is what cut it off, if anything did.
func (w *working) end(err, by error) {
	w.s.mu.Lock()
	w.cut, w.wrong = nil, cmp.Or(by, err)
	w.s.mu.Unlock()
	w.progress(func(a *api.Work) {
		a.State, a.Seconds, a.Parked = store.Done, 0, 0
		if w.stopped() && w.made == nil { // what is made came before the word
			a.State = store.Stopped
		}
		switch {
		case by != nil:
			a.State, a.Text = store.Interrupted, by.Error()
		case err != nil && !errors.Is(err, context.Canceled):
			a.State, a.Text = store.Failed, err.Error()
		}
	})
	defer close(w.ended)
	a := w.now()
	w.s.log.Info("work ended", "work", a.ID, "kind", a.Kind, "state", a.State, "done", a.Done, "failed", a.Failed,
		"text", a.Text)
}

// cutOffBy gives what cut work off that can go on later; nil for any other error.
func cutOffBy(err error) error {
	switch {
	case errors.Is(err, lan.ErrClosed): // who sends may notice before who looks after the segment
		return errGone
	case errors.Is(err, errGone), errors.Is(err, errDark), errors.Is(err, store.ErrUnwritable),
		errors.Is(err, vault.ErrLocked):
		return err
	}
	return nil
}

// outcome waits until a work has ended, and gives how.
func (s *Service) outcome(ctx context.Context, id int64) (api.Work, error) {
	s.mu.Lock()
	i := slices.IndexFunc(s.works, func(w *working) bool { return w.ID == id })
	if i < 0 {
		s.mu.Unlock()
		return api.Work{}, problem.New(problem.Missing, "there is no such work", "")
	}
	w := s.works[i]
	s.mu.Unlock()
	select {
	case <-w.ended:
		return w.now(), nil
	case <-ctx.Done():
		return api.Work{}, ctx.Err()
	}
}

// now gives the work as it is.
func (w *working) now() api.Work {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	return w.Work
}

// progress changes the work and tells everyone.
func (w *working) progress(change func(*api.Work)) {
	w.s.mu.Lock()
	change(&w.Work)
	a := w.Work
	w.s.mu.Unlock()
	if a.State != "" { // else it has not begun
		w.s.hub.Publish("", "work", a)
	}
}

// Stop asks a work under way to stop; 0 means the only one there is.
func (s *Service) Stop(id int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var list []*working
	for _, w := range s.works {
		if w.cut != nil && (id == 0 || w.ID == id) {
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
			names = append(names, fmt.Sprintf("%d, %s", w.ID, w.Kind))
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

// cutOffWork cuts off what is under way on a segment.
func (s *Service) cutOffWork(at *segment, cause error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range s.works {
		if w.cut != nil && w.on == at {
			w.cut(cause)
		}
	}
}

// until gives a context that ends when the channel closes.
func until(ctx context.Context, stop <-chan struct{}) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
