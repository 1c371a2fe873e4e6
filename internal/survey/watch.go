package survey

import (
	"context"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ndp"
)

const (
	silentRounds = 3               // a device that was silent for so many has gone
	shyTime      = 3 * time.Minute // one that cannot be asked, only after this
)

// Kinds of event of a watch.
const (
	Arrived  = "arrived"  // it was not there before
	Returned = "returned" // it was away for a moment: somebody switched it off and on, or it restarted
	Told     = "told"     // it is there, and something about it is new
	Departed = "departed" // it has been silent although it was asked
)

// Watch keeps listening to the segment until the context ends, and asks each
// device that it knows, quietly and by itself, whether it is still there: once in
// every round. What arrives is handed to emit with its first frame, from one
// goroutine. Known devices count as there until they prove silent.
func Watch(ctx context.Context, b *bench.Bench, profiles profile.Set, o Options, round time.Duration, emit func(kind string, f *device.Found)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	k := newBook(b, profiles, o)
	w := &watch{book: k, here: map[address.MAC]bool{}, missed: map[address.MAC]int{}}
	k.emit = func(f *device.Found) {
		kind := Told
		if !w.here[f.MAC] {
			kind = Arrived
		}
		w.here[f.MAC] = true
		emit(kind, f.Clone())
	}
	now := time.Now()
	for _, f := range o.Known {
		w.here[f.MAC], k.seen[f.MAC] = true, now
	}
	ear := b.Listen(earDepth, k.wants)
	defer ear.Close()
	defer k.asking.Wait()
	defer cancel()
	tick := time.NewTicker(round)
	defer tick.Stop()
	// Questions go out one by one, between listening: with many devices a round
	// takes longer than it is wished to, and still nobody who comes has to wait.
	var waiting []question
	var next <-chan time.Time
	for {
		select {
		case f := <-ear.Frames():
			was, missed := w.here[f.Source], w.missed[f.Source]
			mac, _ := k.hear(ctx, f)
			delete(w.missed, mac)
			switch found := k.found[mac]; {
			case found == nil:
			case !w.here[mac]:
				k.emit(found) // it is back, with nothing new to tell
			case was && restarted(missed, f):
				emit(Returned, found.Clone())
			}
		case a := <-k.answers:
			k.take(ctx, a)
		case <-tick.C:
			w.part(round, emit)
			if len(waiting) == 0 {
				waiting, next = w.questions(), time.After(0)
			}
		case <-next:
			next = nil
			if err := b.Send(waiting[0].frame); err != nil {
				return err
			}
			w.count(waiting[0])
			if waiting = waiting[1:]; len(waiting) > 0 {
				next = time.After(time.Second / Gentle)
			}
		case <-b.Done():
			return bench.ErrGone
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// restarted reports whether a device that is heard after it left some questions
// unanswered was off meanwhile: one lost question is nothing, unless the device
// does what a host does when it starts.
func restarted(missed int, f ethernet.Frame) bool {
	return missed > 1 || missed == 1 && starts(f)
}

// starts reports whether a frame is what hosts send when their link comes up: an
// announcement of their address or a question whether somebody has it (RFC 5227,
// RFC 4862, 5.4), or one for an address (RFC 2131).
func starts(f ethernet.Frame) bool {
	if p, ok := bench.ARP(f); ok {
		return p.SenderIP.IsUnspecified() || p.IsAnnouncement()
	}
	h := hear(f, time.Time{})
	if h.isUDP && h.udp.Destination.Port() == dhcp.ServerPort {
		m, err := dhcp.Parse(h.udp.Payload)
		return err == nil && m.Client == f.Source && (m.Kind == dhcp.Discover || m.Kind == dhcp.Request)
	}
	m, err := ndp.Parse(h.packet)
	return err == nil && m.Type == ndp.Solicitation && h.packet.Source.IsUnspecified()
}

type watch struct {
	*book
	here   map[address.MAC]bool
	missed map[address.MAC]int // questions since it was heard last
}

// question asks one device, or all IPv6 nodes, whether they are there.
type question struct {
	to    address.MAC // zero: IPv6 nodes
	frame []byte
}

// part notes who has been silent for too long.
func (w *watch) part(round time.Duration, emit func(string, *device.Found)) {
	for mac := range w.here {
		if !w.here[mac] {
			continue
		}
		silent := time.Since(w.seen[mac])
		gone := w.missed[mac] >= silentRounds && silent > silentRounds*round
		if !w.answers6(mac) && w.question(mac) == nil {
			gone = silent > max(silentRounds*round, shyTime) // a box that waits for DHCP speaks when it likes
		}
		if gone {
			w.here[mac] = false
			emit(Departed, w.found[mac].Clone())
		}
	}
}

// questions ask each device that is there, alone, and IPv6 nodes all at once.
func (w *watch) questions() []question {
	list := []question{{frame: ndp.Echo(w.bench.MAC(), w.six, uint16(w.xid), 1)}}
	for mac, here := range w.here {
		if frame := w.question(mac); here && frame != nil {
			list = append(list, question{mac, frame})
		}
	}
	return list
}

// count notes that a question was asked; whoever answers is counted anew.
func (w *watch) count(q question) {
	if !q.to.IsZero() {
		w.missed[q.to]++
		return
	}
	for mac, here := range w.here {
		if here && w.answers6(mac) && w.question(mac) == nil {
			w.missed[mac]++
		}
	}
}

func (w *watch) answers6(mac address.MAC) bool { return w.found[mac].Value(device.Address6) != "" }

// question asks one device whether it is there; nil for one that can only be
// waited for.
func (w *watch) question(mac address.MAC) []byte {
	f := w.found[mac]
	if a := f.Addresses(); len(a) > 0 {
		return arp.Probe(w.bench.MAC(), mac, a[0])
	}
	if slices.Contains(f.Protocols(), "dcp") {
		return dcp.GetRequest(w.xid).Frame(w.bench.MAC(), mac)
	}
	return nil
}
