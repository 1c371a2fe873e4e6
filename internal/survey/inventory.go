package survey

import (
	"context"
	"encoding/binary"
	"iter"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ndp"
)

const (
	asking   = 64 // devices asked side by side who they are
	askTries = 2
)

// MostFound bounds what a flood of made-up senders may make us remember.
const MostFound = 1 << 14

// inventory is everything a survey or a watch has heard, and the addresses that it
// asks from. One goroutine owns it.
type inventory struct {
	bench    *bench.Bench
	profiles profile.Set
	options  Options
	emit     func(*device.Found)
	now      func() time.Time

	answered map[address.MAC]bool   // sent something to us alone
	idle     []address.MAC          // came in this order, and answered nothing yet
	stale    []address.MAC          // known from before, the ones that were heard the longest ago first
	gone     func(address.MAC) bool // is a known one not here, so that another may have its room
	dropped  func(address.MAC)      // told of each that is forgotten to make room
	flooded  int                    // frames of senders that there was no room for

	told map[address.MAC]telling // how much was told of each lately
	late map[address.MAC]bool    // there is more to tell of these

	found map[address.MAC]*device.Found
	seen  map[address.MAC]time.Time // when each was heard last, by this survey or watch

	six     netip.Addr
	xid     uint32
	wanted  map[netip.Prefix][]netip.Addr // addresses that we might ask from, by subnet
	refused map[netip.Addr]bool           // somebody has, or wants, these
	sources []netip.Addr                  // ours to ask from
	nets    []netip.Prefix                // the subnet of each

	asked   map[address.MAC]int  // how often
	done    map[address.MAC]bool // it answered
	busy    map[address.MAC]bool // being asked, or waiting for it
	open    int                  // asks under way
	waiting []*device.Found      // for a free place to be asked
	answers chan answer
	asking  sync.WaitGroup
}

// telling is how often something new was told of a device since a moment.
type telling struct {
	since time.Time
	times int
}

// mostTold is how often in a second something new is told of one device: what one that never
// stops changing says in between is told with the next.
const mostTold = 32

type answer struct {
	mac  address.MAC
	told []device.Sighting
	err  error
}

func newInventory(b *bench.Bench, profiles profile.Set, o Options) *inventory {
	inv := &inventory{bench: b, profiles: profiles, options: o, now: time.Now, found: map[address.MAC]*device.Found{},
		seen: map[address.MAC]time.Time{}, answered: map[address.MAC]bool{},
		told: map[address.MAC]telling{}, late: map[address.MAC]bool{},
		xid: rand.Uint32(), wanted: map[netip.Prefix][]netip.Addr{}, refused: map[netip.Addr]bool{},
		asked: map[address.MAC]int{}, done: map[address.MAC]bool{}, busy: map[address.MAC]bool{},
		answers: make(chan answer, asking)}
	// A random interface identifier (RFC 7217 in spirit): the computer's own
	// addresses are left alone.
	link := [16]byte{0xfe, 0x80}
	binary.BigEndian.PutUint64(link[8:], rand.Uint64())
	inv.six = netip.AddrFrom16(link)
	for _, f := range o.Known {
		inv.found[f.MAC] = f
		if !o.Keep[f.MAC] {
			inv.stale = append(inv.stale, f.MAC)
		}
	}
	slices.SortStableFunc(inv.stale, func(a, b address.MAC) int { return inv.found[a].Last.Compare(inv.found[b].Last) })
	inv.gone = func(mac address.MAC) bool { return inv.seen[mac].IsZero() }
	inv.dropped = func(address.MAC) {}
	return inv
}

// source gives the address of ours to ask from for an address; the zero value where we have none in its
// subnet.
func (inv *inventory) source(a netip.Addr) netip.Addr {
	for i, p := range inv.nets {
		if p.Contains(a) {
			return inv.sources[i]
		}
	}
	return netip.Addr{}
}

// close gives the borrowed addresses back.
func (inv *inventory) close() { inv.bench.Release(inv.sources...) }

// wants leaves conversations to those who hold them.
func (inv *inventory) wants(f ethernet.Frame) bool { return f.Source != inv.bench.MAC() }

// questions are the frames of one stage of a pass.
func (inv *inventory) questions(p *pass, stage int) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for _, prober := range probers {
			if prober.ask == nil || prober.stage != stage || prober.writes && inv.options.LookOnly {
				continue
			}
			for frame := range prober.ask(p) {
				if !yield(frame) {
					return
				}
			}
		}
	}
}

// snapshot copies the devices heard so far, for the sender.
func (inv *inventory) snapshot() []*device.Found {
	var list []*device.Found
	for mac := range inv.seen {
		list = append(list, inv.found[mac].Clone())
	}
	slices.SortFunc(list, func(a, b *device.Found) int { return slices.Compare(a.MAC[:], b.MAC[:]) })
	return list
}

// heardOf counts the devices heard, and those behind them that answered.
func (inv *inventory) heardOf() int {
	n := len(inv.seen)
	for mac := range inv.seen {
		for _, x := range inv.found[mac].Facts {
			if x.Part != "" && x.Key == fact.Instance {
				n++
			}
		}
	}
	return n
}

// subnets are those to ask from: of factory addresses, planned ones, and the
// surroundings of every address heard besides.
func (inv *inventory) subnets() []netip.Prefix {
	list := slices.Clone(inv.options.Subnets)
	add := func(a netip.Addr, bits int) {
		if slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(a) }) {
			return
		}
		if p, err := a.Prefix(bits); err == nil {
			list = append(list, p)
		}
	}
	for _, p := range inv.profiles.Sorted() {
		for _, f := range []profile.FactoryAddress{p.Factory.Address, p.Factory.Service} {
			if !f.None() {
				add(f.From, f.Bits)
			}
		}
	}
	for _, f := range inv.snapshot() {
		for _, a := range f.Addresses() {
			add(a, 24)
		}
	}
	return list
}

// candidates are addresses to take if nobody has them: two in each subnet where
// we have none yet, near its upper end.
func (inv *inventory) candidates() []netip.Addr {
	var list []netip.Addr
	for _, p := range inv.subnets() {
		if slices.Contains(inv.nets, p) {
			continue
		}
		hosts := address.Hosts(p)
		var two []netip.Addr
		for n := address.Number(hosts.To) - 1; n > address.Number(hosts.From) && len(two) < 2; n-- {
			a := address.FromNumber(n)
			if !inv.refused[a] && (inv.options.Avoid == nil || !inv.options.Avoid(a)) {
				two = append(two, a)
			}
		}
		inv.wanted[p] = two
		list = append(list, two...)
	}
	return list
}

// unclaimed are those of some addresses that nobody said to have and that may be probed for now.
func (inv *inventory) unclaimed(list []netip.Addr) []netip.Addr {
	return slices.DeleteFunc(slices.Clone(list), func(a netip.Addr) bool { return inv.refused[a] || !inv.bench.MayProbe(a) })
}

// settle takes one address in each subnet that was probed for and nobody has.
func (inv *inventory) settle() {
	for p, list := range inv.wanted {
		for _, a := range list {
			if !inv.refused[a] {
				inv.sources, inv.nets = append(inv.sources, a), append(inv.nets, p)
				inv.bench.Reserve(a)
				break
			}
		}
	}
	clear(inv.wanted)
}

// hear reads a frame and answers whoever asks for an address of ours.
func (inv *inventory) hear(ctx context.Context, f ethernet.Frame) (who address.MAC, news bool) {
	if !inv.admit(f) {
		return address.MAC{}, false
	}
	inv.defend(f)
	for _, s := range read(f, inv.now()) {
		news = inv.merge(ctx, s) || news
	}
	return f.Source, news
}

// admit reports whether a sender is kept. When there is no room for more, whoever was known
// before and is not here makes room; then only one that answers us finds some, in the place of
// the one that came first and never did.
func (inv *inventory) admit(f ethernet.Frame) bool {
	toUs := f.Destination == inv.bench.MAC()
	_, known := inv.found[f.Source]
	switch {
	case known:
	case len(inv.found) >= MostFound && !inv.evict(&inv.stale, inv.gone):
		if inv.flooded++; !toUs || !inv.evict(&inv.idle, func(mac address.MAC) bool { return !inv.answered[mac] }) {
			return false
		}
		fallthrough
	default:
		if !toUs {
			inv.idle = append(inv.idle, f.Source)
		}
	}
	if toUs {
		inv.answered[f.Source] = true
	}
	return true
}

// evict forgets the first of a list that may go, and takes it and those before it off the list.
func (inv *inventory) evict(list *[]address.MAC, may func(address.MAC) bool) bool {
	for len(*list) > 0 {
		mac := (*list)[0]
		*list = (*list)[1:]
		if inv.found[mac] == nil || inv.busy[mac] || !may(mac) {
			continue
		}
		delete(inv.found, mac)
		delete(inv.seen, mac)
		delete(inv.asked, mac)
		delete(inv.done, mac)
		delete(inv.told, mac)
		delete(inv.late, mac)
		inv.dropped(mac)
		return true
	}
	return false
}

// mostRefused bounds the addresses that are remembered as somebody's. Whoever has one that we
// want answers the probes for it once more.
const mostRefused = 1 << 16

// refuse notes that an address is somebody else's.
func (inv *inventory) refuse(a netip.Addr) {
	if len(inv.refused) >= mostRefused {
		clear(inv.refused)
	}
	inv.refused[a] = true
}

// defend answers for the addresses that we ask from (RFC 826, RFC 4861), and
// notes which are somebody else's: such a one is left to them at once.
func (inv *inventory) defend(f ethernet.Frame) {
	if p, ok := bench.ARP(f); ok {
		theirs := p.SenderIP
		if p.IsProbe() {
			theirs = p.TargetIP // about to be
		}
		inv.refuse(theirs)
		if i := slices.Index(inv.sources, theirs); i >= 0 {
			inv.bench.Release(theirs)
			inv.sources, inv.nets = slices.Delete(inv.sources, i, i+1), slices.Delete(inv.nets, i, i+1)
		} else if p.Operation == arp.Request && slices.Contains(inv.sources, p.TargetIP) {
			_ = inv.bench.Send(p.Answer(inv.bench.MAC())) // who asked will ask again
		}
		return
	}
	if f.Type != ethernet.TypeIPv6 {
		return
	}
	h := hear(f, time.Time{})
	if m, err := ndp.Parse(h.packet); err == nil && m.Type == ndp.Solicitation && m.Target == inv.six &&
		!h.packet.Source.IsUnspecified() {
		_ = inv.bench.Send(ndp.Advertise(inv.bench.MAC(), f.Source, inv.six, h.packet.Source))
	}
}

// merge adds a sighting, recognises the device anew, and asks it who it is.
func (inv *inventory) merge(ctx context.Context, sighting device.Sighting) (news bool) {
	f := inv.found[sighting.MAC]
	if f == nil {
		f = &device.Found{}
		inv.found[sighting.MAC] = f
	}
	_, before := inv.seen[sighting.MAC]
	news = f.Add(sighting) || !before
	if sighting.At.After(inv.seen[sighting.MAC]) { // an answer may be told later than it was asked for
		inv.seen[sighting.MAC] = sighting.At
	}
	if news {
		if inv.options.Choice != nil {
			chosen := inv.options.Choice(f.MAC)
			if f.Chosen = chosen != ""; f.Chosen {
				f.Profile = chosen
			}
		}
		f.Recognise(inv.profiles)
		inv.tell(f)
	}
	inv.catchUp(false)
	inv.ask(ctx, f)
	return news
}

// tell tells of a device, unless much was told of it in this second.
func (inv *inventory) tell(f *device.Found) {
	now, t := inv.now(), inv.told[f.MAC]
	if now.Sub(t.since) >= time.Second {
		t = telling{since: now}
	}
	t.times++
	inv.told[f.MAC] = t
	if t.times > mostTold {
		inv.late[f.MAC] = true
		return
	}
	delete(inv.late, f.MAC)
	inv.emit(f)
}

// catchUp tells what was held back, as soon as its second is over, or at once.
func (inv *inventory) catchUp(all bool) {
	for mac := range inv.late {
		if all || inv.now().Sub(inv.told[mac].since) >= time.Second {
			delete(inv.late, mac)
			inv.emit(inv.found[mac])
		}
	}
}

// ask has a device that a profile fits asked who it is, once it has an address.
func (inv *inventory) ask(ctx context.Context, f *device.Found) {
	if inv.options.Ask == nil || inv.done[f.MAC] || inv.busy[f.MAC] || inv.asked[f.MAC] == askTries ||
		!f.AddressNow().IsValid() || !inv.mayAsk(f) {
		return
	}
	inv.busy[f.MAC] = true
	if inv.open == asking {
		inv.waiting = append(inv.waiting, f)
		return
	}
	inv.asked[f.MAC]++
	inv.open++
	inv.asking.Add(1)
	known := f.Clone()
	go func() {
		defer inv.asking.Done()
		told, err := inv.options.Ask(ctx, known)
		select {
		case inv.answers <- answer{known.MAC, told, err}:
		case <-ctx.Done():
		}
	}()
}

// mayAsk reports whether a profile that fits wants the device asked.
func (inv *inventory) mayAsk(f *device.Found) bool {
	for _, id := range append([]string{f.Profile}, f.Maybe...) {
		if p := inv.profiles[id]; p != nil && (len(p.Ask) > 0 || p.NeedsAddress(profile.Identify)) {
			return true
		}
	}
	return false
}

// take takes in what a device answered, and asks the next.
func (inv *inventory) take(ctx context.Context, a answer) (news bool) {
	inv.open--
	delete(inv.busy, a.mac)
	if a.err == nil {
		inv.done[a.mac] = true
	}
	for _, s := range a.told {
		s.MAC = a.mac
		news = inv.merge(ctx, s) || news
	}
	if a.err != nil {
		inv.ask(ctx, inv.found[a.mac])
	}
	for len(inv.waiting) > 0 && inv.open < asking {
		next := inv.waiting[0]
		inv.waiting = inv.waiting[1:]
		delete(inv.busy, next.MAC)
		inv.ask(ctx, next)
	}
	return news
}
