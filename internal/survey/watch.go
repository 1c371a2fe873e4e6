package survey

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
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
	Learned  = "learned"  // it is there, and something about it is new
	Departed = "departed" // it has been silent although it was asked
)

// Watch keeps listening to the segment until the context ends, and asks each
// device that it knows, quietly and by itself, whether it is still there: once in
// every round. What arrives is handed to emit with its first frame, from one
// goroutine. Known devices count as there until they prove silent, and whoever
// answers the first questions was there as well.
func Watch(ctx context.Context, b *bench.Bench, profiles profile.Set, o Options, round time.Duration,
	emit func(kind string, f *device.Found)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	w := newWatch(b, profiles, o, emit)
	inv := w.inventory
	listener := b.Listen(earDepth, inv.wants)
	defer listener.Close()
	defer inv.close()
	defer inv.asking.Wait()
	defer cancel()
	var err error
	if w.link, err = b.Link(ctx); err != nil {
		return err
	}
	tick := time.NewTicker(round)
	defer tick.Stop()
	// Questions go out one by one, between listening: with many devices a round
	// takes longer than it is wished to, and still nobody who comes has to wait.
	var waiting []question
	var next <-chan time.Time
	for {
		select {
		case f := <-listener.Frames():
			w.frame = f
			was, missed := w.here[f.Source], w.missed[f.Source]
			mac, _ := inv.hear(ctx, f)
			delete(w.missed, mac)
			switch found := inv.found[mac]; {
			case found == nil:
			case !w.here[mac]:
				inv.emit(found) // it is back, with nothing new to tell
			case was && restarted(missed, f):
				emit(Returned, found.Clone())
			}
		case a := <-inv.answers:
			inv.take(ctx, a)
		case <-tick.C:
			inv.catchUp(true)
			w.part(round, emit)
			if len(waiting) == 0 {
				w.settled = w.asked && w.turn >= len(w.factory)
				w.asked = true
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

func newWatch(b *bench.Bench, profiles profile.Set, o Options, emit func(kind string, f *device.Found)) *watch {
	inv := newInventory(b, profiles, o)
	w := &watch{inventory: inv, here: map[address.MAC]bool{}, missed: map[address.MAC]int{}}
	inv.emit = func(f *device.Found) {
		kind := Learned
		// Who answers our first questions was there before; who comes meanwhile
		// says so itself.
		if here, known := w.here[f.MAC]; known && !here || !known && (w.settled || starts(w.frame)) {
			kind = Arrived
		}
		w.here[f.MAC] = true
		emit(kind, f.Clone())
	}
	inv.gone = func(mac address.MAC) bool { return !w.here[mac] }
	inv.dropped = func(mac address.MAC) {
		delete(w.here, mac)
		delete(w.missed, mac)
	}
	for _, p := range profiles.Sorted() {
		for _, a := range p.Factory.Address.List() {
			if !slices.Contains(w.factory, a) {
				w.factory = append(w.factory, a)
			}
		}
	}
	now := time.Now()
	for _, f := range o.Known {
		w.here[f.MAC], inv.seen[f.MAC] = true, now
	}
	return w
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
	*inventory
	here    map[address.MAC]bool
	missed  map[address.MAC]int // questions since it was heard last
	factory []netip.Addr        // of all profiles
	turn    int                 // where the rotation through them is
	asked   bool                // a round was asked
	settled bool                // everything was asked once
	link    netip.Addr          // ours, good on this link alone
	seeking []netip.Addr        // asked for: we would ask from these
	proving bool                // and probed for, where nobody said to have them
	frame   ethernet.Frame      // that was heard last
}

// question asks one device whether it is there, or a group of them, newcomers
// among them.
type question struct {
	to    address.MAC // zero: a group
	group string
	frame []byte
}

// Groups that one question is for.
const (
	stations  = "dcp"
	nodes     = "icmp6"
	newcomers = "arp"     // at a factory address; known ones are asked alone
	sources   = "sources" // who has an address that we would ask from
)

// rotation is for how many factory addresses a round asks.
const rotation = 16

// part notes who has been silent for too long.
func (w *watch) part(round time.Duration, emit func(string, *device.Found)) {
	for mac := range w.here {
		if !w.here[mac] {
			continue
		}
		silent := time.Since(w.seen[mac])
		gone := w.missed[mac] >= silentRounds && silent > silentRounds*round
		if w.question(mac) == nil && w.group(mac) == "" {
			gone = silent > max(silentRounds*round, shyTime) // a box that waits for DHCP speaks when it likes
		}
		if gone {
			w.here[mac] = false
			if !w.options.Keep[mac] && !slices.Contains(w.stale, mac) {
				w.stale = append(w.stale, mac)
			}
			emit(Departed, w.found[mac].Clone())
		}
	}
}

// questions ask each device that is there, alone; stations and IPv6 nodes all at
// once; and for boxes that came to a factory address and said nothing.
func (w *watch) questions() []question {
	from := w.bench.MAC()
	list := append(w.seek(), []question{
		{group: stations, frame: dcp.IdentifyAll(w.xid, identifyDelay).Frame(from, dcp.IdentifyMulticast)},
		{group: nodes, frame: ndp.Echo(from, w.six, uint16(w.xid), 1)},
	}...)
	for range min(rotation, len(w.factory)) {
		if a := w.factory[w.turn%len(w.factory)]; !slices.Contains(w.sources, a) {
			list = append(list, question{group: newcomers, frame: w.asking(address.Broadcast, a)})
		}
		w.turn++
	}
	for mac, here := range w.here {
		if frame := w.question(mac); here && frame != nil {
			list = append(list, question{to: mac, frame: frame})
		}
	}
	return list
}

// count notes that a question was asked; whoever answers is counted anew.
func (w *watch) count(q question) {
	if q.group == "" {
		w.missed[q.to]++
		return
	}
	for mac, here := range w.here {
		if here && w.group(mac) == q.group {
			w.missed[mac]++
		}
	}
}

// question asks one device by its address; nil for one without.
func (w *watch) question(mac address.MAC) []byte {
	if a := w.found[mac].AddressNow(); a.IsValid() {
		return w.asking(mac, a)
	}
	return nil
}

// asking is an ordinary request for an address, from one of ours beside it.
func (w *watch) asking(to address.MAC, a netip.Addr) []byte {
	return arp.Ask(w.bench.MAC(), to, cmp.Or(w.source(a), w.link), a)
}

// seek looks for addresses to ask from, where we have none yet: a round asks for some, the next probes
// for those that nobody said to have (RFC 5227, 2.1.1), and the one after takes what is free.
func (w *watch) seek() (list []question) {
	from := w.bench.MAC()
	switch {
	case w.proving:
		w.settle()
		w.seeking, w.proving = nil, false
	case len(w.seeking) > 0:
		for _, a := range w.unclaimed(w.seeking) {
			list = append(list, question{group: sources, frame: arp.Probe(from, address.Broadcast, a)})
		}
		w.proving = true
	default:
		w.seeking = w.candidates()
		for _, a := range w.seeking {
			list = append(list, question{group: sources, frame: arp.Ask(from, address.Broadcast, w.link, a)})
		}
	}
	return list
}

// group tells to which group's question a device without an address answers; ""
// for one that can only be waited for.
func (w *watch) group(mac address.MAC) string {
	switch f := w.found[mac]; {
	case f.AddressNow().IsValid():
		return ""
	case slices.Contains(f.Protocols(), "dcp"):
		return stations
	case f.Value(fact.Address6) != "":
		return nodes
	}
	return ""
}
