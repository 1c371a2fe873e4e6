package watch

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/evidence"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/ethernet"
)

// Why a box that was to restart is not where it should be.
var (
	ErrNoRestart  = errors.New("it is there, but nothing shows that it restarted; what was set may be lost at a power cut")
	ErrNoReturn   = errors.New("it did not come back")
	ErrOldAddress = errors.New("it is at its old address; the new one was not taken or not kept")
	ErrNoAddress  = errors.New("it is there, but has no address")
)

// How long a box is given besides what its profile says.
const (
	leastGrace = 8 * time.Second  // to go at all; a busy box takes its time
	askFirst   = 12 * time.Second // for the answer about its up-time before it goes
	askTime    = 4 * time.Second  // for one answer afterwards; longer where that is too short
	askLongest = 16 * time.Second
	askAgain   = 400 * time.Millisecond // between two of them
	lately     = 5 * round              // heard within this: it is there
	goneFor    = 20 * round             // silent for so long: it will not answer what it was asked before
)

// Restart follows one box through a restart, and says what showed it. It is
// begun before whatever makes the box go.
type Restart struct {
	// Tell asks the box at an address what its profile takes as up-time or start
	// counter; nil when the profile has neither.
	Tell func(ctx context.Context, at netip.Addr) (map[string]string, error)
	// Fatal says which of Tell's errors asking again would not mend.
	Fatal func(error) bool

	watch    *Watch
	rules    profile.RestartTimes
	overDCP  bool
	old      netip.Addr // where it is before; invalid: it has no address
	want     netip.Addr // where it should come back
	before   evidence.Mark
	held     net.Conn // from before; nil when none is held
	conv     *bench.Conversation
	began    time.Time
	silent   int // rounds in a row in which it answered nothing
	longest  int
	heard    bool // in this round
	at       netip.Addr
	here     bool // it answered lately, at an address or over DCP
	lastTell time.Time
	patience time.Duration // with the next answer
}

// Result is how a restart went.
type Result struct {
	At       netip.Addr // where the box is now; invalid: nowhere, or without an address
	Here     bool       // it is on the segment
	Evidence string     // what showed the restart
	Took     time.Duration
}

// Begin notes what the box tells before it goes.
func (r *Restart) Begin(ctx context.Context, b *bench.Bench, mac address.MAC, p *profile.Profile, old, want netip.Addr,
	bits int, avoid func(netip.Addr) bool) {
	r.watch, r.rules, r.overDCP, r.old, r.want, r.at = New(b, mac, avoid), p.Restart, p.TellsWithoutAddress(), old, want, old
	if r.Tell != nil && old.IsValid() {
		asked := time.Now()
		asking, cancel := context.WithTimeout(ctx, askFirst)
		// A box that does not tell now is judged by when it says that it started.
		if facts, err := r.Tell(asking, old); err == nil {
			r.before = evidence.Read(facts, asked, time.Now())
		}
		cancel()
	}
	if r.rules.ShownBy(evidence.Connection) && old.IsValid() && old == want && p.Port() != 0 {
		asking, cancel := context.WithTimeout(ctx, askTime)
		defer cancel()
		if conv, err := b.Open(asking, bench.Peer{MAC: mac, Address: old, Bits: bits, Avoid: avoid}); err == nil {
			r.conv = conv
			r.held, _ = conv.Dial(asking, p.Port()) // without one there is that much less to go by
		}
	}
	r.began = time.Now()
}

// Starts is the box's start counter before it went; negative when it did not tell.
func (r *Restart) Starts() int64 {
	if !r.before.HasStarts {
		return -1
	}
	return r.before.Starts
}

// Close ends it.
func (r *Restart) Close() {
	if r.watch != nil {
		r.watch.Close()
	}
	if r.held != nil {
		r.held.Close()
	}
	if r.conv != nil {
		r.conv.Close()
	}
}

// During carries out what makes the box go. Once the box is gone, or at its new
// address, the answer that it may still owe is not waited for.
func (r *Restart) During(ctx context.Context, do func(context.Context) error) error {
	acting, stop := context.WithCancel(ctx)
	defer stop()
	done := make(chan error, 1)
	go func() { done <- do(acting) }()
	next := time.NewTicker(round)
	defer next.Stop()
	xid := rand.Uint32()
	for {
		select {
		case err := <-done:
			return err
		case f := <-r.watch.listener.Frames():
			r.hear(f, xid)
			continue
		case <-next.C:
		}
		r.count(xid)
		if r.here && r.at == r.want && r.want != r.old || time.Duration(r.silent)*round >= goneFor {
			stop()
			return <-done
		}
		if err := r.question(ctx, xid); err != nil {
			stop()
			return errors.Join(err, <-done)
		}
	}
}

// Wait waits until the box is where it should be and has shown that it
// restarted, or until it is plain that it has not.
func (r *Restart) Wait(ctx context.Context) (Result, error) {
	all := ctx
	ctx, cancel := context.WithTimeout(ctx, time.Duration(r.rules.AtMost))
	defer cancel()
	next := time.NewTicker(round)
	defer next.Stop()
	xid := rand.Uint32()
	grace := max(time.Duration(r.rules.Takes), leastGrace)
	var unsure error
	result := func() Result {
		return Result{At: r.at, Here: r.here, Took: time.Since(r.began)}
	}
	if err := r.question(ctx, xid); err != nil {
		return result(), err
	}
	for {
		select {
		case f := <-r.watch.listener.Frames():
			r.hear(f, xid)
			continue
		case <-next.C:
		case <-ctx.Done():
			if err := r.lastLook(all, next, xid); err != nil {
				return result(), err
			}
			return result(), r.lost(unsure)
		}
		r.count(xid)
		if err := r.question(ctx, xid); err != nil {
			return result(), err
		}
		if !r.here || r.at != r.want {
			if r.here && time.Since(r.began) >= grace {
				return result(), r.elsewhere()
			}
			continue
		}
		how, sure, err := r.shown(ctx)
		switch {
		case how != "":
			out := result()
			out.Evidence = how
			return out, nil
		case err != nil && r.Fatal != nil && r.Fatal(err):
			return result(), err
		case err != nil:
			// It may have gone while it was asked.
			unsure = err
			r.forget(xid)
		case sure && time.Since(r.began) >= grace:
			return result(), ErrNoRestart
		}
	}
}

// lastLook finds out whether the box is there when the time is up.
func (r *Restart) lastLook(ctx context.Context, next *time.Ticker, xid uint32) error {
	r.forget(xid)
	for range lately / round {
		if err := r.question(ctx, xid); err != nil {
			return err
		}
		select {
		case <-next.C:
		case <-ctx.Done():
			return ctx.Err()
		}
		if r.drain(xid); r.here {
			break
		}
	}
	return nil
}

// forget takes the box for gone until it is heard anew; what waits to be heard is
// from before.
func (r *Restart) forget(xid uint32) {
	r.drain(xid)
	r.here, r.at = false, netip.Addr{}
}

// elsewhere says what is wrong with a box that is there, but not at its address.
func (r *Restart) elsewhere() error {
	if !r.at.IsValid() {
		return ErrNoAddress
	}
	return ErrOldAddress
}

func (r *Restart) lost(unsure error) error {
	switch {
	case !r.here:
		return ErrNoReturn
	case r.at != r.want:
		return r.elsewhere()
	case unsure != nil:
		return fmt.Errorf("it is there, but does not tell whether it restarted: %w", unsure)
	}
	return ErrNoRestart
}

// question asks where it should be, where it was, and over DCP.
func (r *Restart) question(ctx context.Context, xid uint32) error {
	list := []netip.Addr{r.want}
	if r.old.IsValid() && r.old != r.want {
		list = append(list, r.old)
	}
	if r.overDCP {
		if err := r.watch.bench.Send(dcp.GetRequest(xid).Frame(r.watch.bench.MAC(), r.watch.mac)); err != nil {
			return err
		}
	}
	return r.watch.ask(ctx, list...)
}

func (r *Restart) hear(f ethernet.Frame, xid uint32) {
	if p, ok := bench.ARP(f); ok && !p.SenderIP.IsUnspecified() {
		r.heard, r.here, r.at = true, true, p.SenderIP
		return
	}
	if p, err := dcp.Parse(f.Payload); f.Type == ethernet.TypePROFINET && err == nil && p.Xid == xid &&
		p.ServiceType == dcp.TypeSuccess {
		r.heard, r.here = true, true
		if at, err := netip.ParseAddr(p.Station()["address"]); err == nil {
			r.at = at
		} else {
			r.at = netip.Addr{}
		}
	}
}

// count ends a round: what came in is taken in first, so that a busy computer
// does not take for silence what it has not looked at.
func (r *Restart) count(xid uint32) {
	r.drain(xid)
	if r.heard {
		r.silent = 0
	} else {
		r.silent++
		r.longest = max(r.longest, r.silent)
		if time.Duration(r.silent)*round > lately {
			r.here, r.at = false, netip.Addr{}
		}
	}
	r.heard = false
}

// drain takes in what was heard and not looked at yet.
func (r *Restart) drain(xid uint32) {
	for {
		select {
		case f := <-r.watch.listener.Frames():
			r.hear(f, xid)
		default:
			return
		}
	}
}

// shown looks for what shows that the box, which is where it should be,
// restarted. sure says that it was asked, so that its not showing anything means
// something.
func (r *Restart) shown(ctx context.Context) (how string, sure bool, err error) {
	// What a box tells of itself comes before its silence: a slow segment is silent too.
	if quiet := time.Duration(r.longest) * round; r.Tell == nil && r.rules.ShownBy(evidence.Silence) &&
		quiet >= r.rules.SilentFor() {
		return fmt.Sprintf("it answered nothing for %s", quiet), true, nil
	}
	sure = true
	if r.Tell != nil {
		if time.Since(r.lastTell) < askAgain {
			return "", false, nil
		}
		asked := time.Now()
		r.patience = min(max(r.patience, askTime), askLongest)
		asking, cancel := context.WithTimeout(ctx, r.patience)
		facts, err := r.Tell(asking, r.at)
		cancel()
		r.lastTell = time.Now()
		if err != nil {
			if errors.Is(err, context.DeadlineExceeded) || r.lastTell.Sub(asked) >= r.patience {
				r.patience *= 2 // it may be slow, or this computer busy
			}
			return "", false, err
		}
		after := evidence.Read(facts, asked, r.lastTell)
		if !after.Known() {
			return "", false, errors.New("what it tells of its up-time cannot be understood")
		}
		if r.before.Known() {
			how = after.Since(r.before)
		} else {
			how = after.SinceWrite(r.began, -1)
			if how == "" && !after.HasUptime {
				return "", false, errors.New("its start counter was not read before it was to go")
			}
		}
		if how != "" {
			return how, true, nil
		}
	}
	if r.held != nil && died(r.held) {
		return "a connection from before was reset by it", true, nil
	}
	return "", sure, nil
}

// died reports whether the other end knows nothing of a connection any more. That
// it merely closed it shows nothing.
func died(c net.Conn) bool {
	_ = c.SetDeadline(time.Now().Add(time.Second))
	_, err := c.Write([]byte("\r\n"))
	if err == nil {
		_, err = c.Read(make([]byte, 1))
	}
	return err != nil && strings.Contains(err.Error(), "reset")
}
