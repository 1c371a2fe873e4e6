package segments_test

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/events"
	"redstart/internal/lan"
	"redstart/internal/lan/segment"
	"redstart/internal/segments"
	"redstart/internal/store"
	"redstart/internal/works"
)

// uses keeps in memory which segment each site uses.
type uses struct {
	mu   sync.Mutex
	list []store.Use
}

func (u *uses) Uses(context.Context) ([]store.Use, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	return slices.Clone(u.list), nil
}

func (u *uses) SetUse(_ context.Context, site int64, name string) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	for i, x := range u.list {
		if x.Site == site {
			u.list[i].Segment = name
		}
	}
	return nil
}

// cable is a port that may lose its link, or its interface.
type cable struct {
	lan.Port
	mu   sync.Mutex
	dark bool
}

func (c *cable) Link() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return !c.dark
}

func (c *cable) cut(dark bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.dark = dark
}

// bed is a service that is plugged into nothing yet.
type bed struct {
	*segments.Segments
	records *uses
	mu      sync.Mutex
	left    []string // keys of sites whose segment was left
	resumed int
}

func open(t *testing.T, lookOnly bool) *bed {
	t.Helper()
	life, end := context.WithCancel(context.Background())
	b := &bed{records: &uses{list: []store.Use{{Site: 1, Key: "quay"}, {Site: 2, Key: "berth"}}}}
	s, err := segments.New(t.Context(), life, segments.Config{LookOnly: lookOnly, Records: b.records, Works: works.Under(life), Hub: events.New(),
		Log: slog.New(slog.DiscardHandler),
		Ends: func(_ *segments.Segment, site string) {
			b.mu.Lock()
			defer b.mu.Unlock()
			b.left = append(b.left, site)
		},
		Resumes: func(context.Context) error {
			b.mu.Lock()
			defer b.mu.Unlock()
			b.resumed++
			return nil
		}})
	if err != nil {
		t.Fatal(err)
	}
	b.Segments = s
	t.Cleanup(func() {
		end()
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return b
}

// until waits for a change of the segments until something is so.
func (b *bed) until(t *testing.T, what string, is func() bool) {
	t.Helper()
	enough := time.After(time.Minute)
	for {
		next := b.Change()
		if is() {
			return
		}
		select {
		case <-next:
		case <-enough:
			t.Fatalf("it never came to: %s", what)
		}
	}
}

// A site uses the first segment until it names one; what names none is pinned to what it used
// before that is left.
func TestEachSiteUsesItsSegment(t *testing.T) {
	t.Parallel()
	b := open(t, false)
	quay, berth := b.At(1, "quay"), b.At(2, "berth")
	if err := quay.May(false); !errors.Is(err, segments.ErrNone) || quay.Bench() != nil || quay.Plugged() != nil {
		t.Errorf("without a segment: %v", err)
	}
	var one, two segment.Segment
	first := b.Join(segments.Plug{Name: "one", Port: one.Attach(address.MAC{2, 0, 0, 0, 0, 1}, 8)})
	second := b.Join(segments.Plug{Name: "two", Port: two.Attach(address.MAC{2, 0, 0, 0, 0, 1}, 8)})
	if quay.Segment() != first || berth.Segment() != first || quay.May(true) != nil {
		t.Error("they do not use the first")
	}
	if err := berth.Use(t.Context(), "two"); err != nil || berth.Segment() != second {
		t.Fatalf("%v", err)
	}
	list, err := b.List(t.Context())
	if err != nil || len(list) != 2 || !slices.Equal(list[0].Sites, []string{"quay"}) || !slices.Equal(list[1].Sites, []string{"berth"}) ||
		!list[0].Here || list[0].Dark {
		t.Errorf("%+v, %v", list, err)
	}
	if err := b.Unplug("one"); err != nil {
		t.Fatal(err)
	}
	if now, _ := b.records.Uses(t.Context()); now[0].Segment != "one" {
		t.Errorf("%+v", now)
	}
	if err := quay.May(false); problem.KindOf(err) != problem.Machine || quay.Segment() != nil {
		t.Errorf("it found itself on another: %v", err)
	}
	if err := b.Unplug("one"); problem.KindOf(err) != problem.Missing {
		t.Errorf("%v", err)
	}
	if !slices.Contains(b.left, "") || !slices.Contains(b.left, "berth") || b.resumed == 0 {
		t.Errorf("what stood was told %v, and %d times to go on", b.left, b.resumed)
	}
}

// A cable that is pulled and an interface that goes cut off what may be done, until they are back.
func TestACableComesBack(t *testing.T) {
	t.Parallel()
	b := open(t, true)
	var wire segment.Segment
	plug := func() *cable { return &cable{Port: wire.Attach(address.MAC{2, 0, 0, 0, 0, 1}, 8)} }
	c := plug()
	b.Join(segments.Plug{Name: "one", Port: c, Reopen: func() (lan.Port, error) { return plug(), nil }})
	quay := b.At(1, "quay")
	if quay.May(false) != nil || quay.May(true) == nil {
		t.Error("it only looks")
	}
	c.cut(true)
	b.until(t, "no link", func() bool { return errors.Is(quay.May(false), segments.ErrDark) })
	c.cut(false)
	b.until(t, "a link", func() bool { return quay.May(false) == nil })
	was := quay.Plugged()
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	b.until(t, "gone and back", func() bool { return quay.Plugged() != nil && quay.Plugged() != was })
	if list, err := b.Interfaces(t.Context(), 0); err != nil {
		t.Errorf("%+v, %v", list, err)
	}
}
