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

// book is everything a survey or a watch has heard, and the addresses that it
// asks from. One goroutine owns it.
type book struct {
	bench    *bench.Bench
	profiles profile.Set
	options  Options
	emit     func(*device.Found)
	now      func() time.Time

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

type answer struct {
	mac  address.MAC
	told []device.Sighting
	err  error
}

func newBook(b *bench.Bench, profiles profile.Set, o Options) *book {
	k := &book{bench: b, profiles: profiles, options: o, now: time.Now, found: map[address.MAC]*device.Found{}, seen: map[address.MAC]time.Time{},
		xid: rand.Uint32(), wanted: map[netip.Prefix][]netip.Addr{}, refused: map[netip.Addr]bool{},
		asked: map[address.MAC]int{}, done: map[address.MAC]bool{}, busy: map[address.MAC]bool{}, answers: make(chan answer, asking)}
	// A random interface identifier (RFC 7217 in spirit): the computer's own
	// addresses are left alone.
	link := [16]byte{0xfe, 0x80}
	binary.BigEndian.PutUint64(link[8:], rand.Uint64())
	k.six = netip.AddrFrom16(link)
	for _, f := range o.Known {
		k.found[f.MAC] = f
	}
	return k
}

// close gives the borrowed addresses back.
func (k *book) close() { k.bench.Release(k.sources...) }

// wants leaves conversations to those who hold them.
func (k *book) wants(f ethernet.Frame) bool { return f.Source != k.bench.MAC() }

// questions are the frames of one stage of a pass.
func (k *book) questions(p *pass, stage int) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for _, prober := range probers {
			if prober.ask == nil || prober.stage != stage || prober.writes && k.options.LookOnly {
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
func (k *book) snapshot() []*device.Found {
	var list []*device.Found
	for mac := range k.seen {
		list = append(list, k.found[mac].Clone())
	}
	slices.SortFunc(list, func(a, b *device.Found) int { return slices.Compare(a.MAC[:], b.MAC[:]) })
	return list
}

// heardOf counts the devices heard, and those behind them that answered.
func (k *book) heardOf() int {
	n := len(k.seen)
	for mac := range k.seen {
		for _, x := range k.found[mac].Facts {
			if x.Part != "" && x.Key == fact.Instance {
				n++
			}
		}
	}
	return n
}

// subnets are those to ask from: of factory addresses, planned ones, and the
// surroundings of every address heard besides.
func (k *book) subnets() []netip.Prefix {
	list := slices.Clone(k.options.Subnets)
	add := func(a netip.Addr, bits int) {
		if slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(a) }) {
			return
		}
		if p, err := a.Prefix(bits); err == nil {
			list = append(list, p)
		}
	}
	for _, p := range k.profiles.Sorted() {
		for _, f := range []profile.FactoryAddress{p.Factory.Address, p.Factory.Service} {
			if !f.None() {
				add(f.From, f.Bits)
			}
		}
	}
	for _, f := range k.snapshot() {
		for _, a := range f.Addresses() {
			add(a, 24)
		}
	}
	return list
}

// candidates are addresses to take if nobody has them: two in each subnet where
// we have none yet, near its upper end.
func (k *book) candidates() []netip.Addr {
	var list []netip.Addr
	for _, p := range k.subnets() {
		if slices.Contains(k.nets, p) {
			continue
		}
		hosts := address.Hosts(p)
		var two []netip.Addr
		for n := address.Number(hosts.To) - 1; n > address.Number(hosts.From) && len(two) < 2; n-- {
			a := address.FromNumber(n)
			if !k.refused[a] && (k.options.Avoid == nil || !k.options.Avoid(a)) {
				two = append(two, a)
			}
		}
		k.wanted[p] = two
		list = append(list, two...)
	}
	return list
}

// settle takes one address in each subnet that was probed for and nobody has.
func (k *book) settle() {
	for p, list := range k.wanted {
		for _, a := range list {
			if !k.refused[a] {
				k.sources, k.nets = append(k.sources, a), append(k.nets, p)
				k.bench.Reserve(a)
				break
			}
		}
	}
	clear(k.wanted)
}

// hear reads a frame and answers whoever asks for an address of ours.
func (k *book) hear(ctx context.Context, f ethernet.Frame) (who address.MAC, news bool) {
	if _, known := k.found[f.Source]; !known && len(k.found) >= MostFound {
		return address.MAC{}, false
	}
	k.defend(f)
	for _, s := range read(f, k.now()) {
		news = k.merge(ctx, s) || news
	}
	return f.Source, news
}

// defend answers for the addresses that we ask from (RFC 826, RFC 4861), and
// notes which are somebody else's.
func (k *book) defend(f ethernet.Frame) {
	if p, ok := bench.ARP(f); ok {
		k.refused[p.SenderIP] = true
		if p.SenderIP.IsUnspecified() {
			k.refused[p.TargetIP] = true // somebody is about to take it
		} else if p.Operation == arp.Request && slices.Contains(k.sources, p.TargetIP) {
			_ = k.bench.Send(p.Answer(k.bench.MAC())) // who asked will ask again
		}
		return
	}
	if f.Type != ethernet.TypeIPv6 {
		return
	}
	h := hear(f, time.Time{})
	if m, err := ndp.Parse(h.packet); err == nil && m.Type == ndp.Solicitation && m.Target == k.six && !h.packet.Source.IsUnspecified() {
		_ = k.bench.Send(ndp.Advertise(k.bench.MAC(), f.Source, k.six, h.packet.Source))
	}
}

// merge adds a sighting, recognises the device anew, and asks it who it is.
func (k *book) merge(ctx context.Context, sighting device.Sighting) (news bool) {
	f := k.found[sighting.MAC]
	if f == nil {
		f = &device.Found{}
		k.found[sighting.MAC] = f
	}
	_, before := k.seen[sighting.MAC]
	news = f.Add(sighting) || !before
	if sighting.At.After(k.seen[sighting.MAC]) { // an answer may be told later than it was asked for
		k.seen[sighting.MAC] = sighting.At
	}
	if news {
		if k.options.Choice != nil {
			chosen := k.options.Choice(f.MAC)
			if f.Chosen = chosen != ""; f.Chosen {
				f.Profile = chosen
			}
		}
		f.Recognise(k.profiles)
		k.emit(f)
	}
	k.ask(ctx, f)
	return news
}

// ask has a device that a profile fits asked who it is, once it has an address.
func (k *book) ask(ctx context.Context, f *device.Found) {
	if k.options.Ask == nil || k.done[f.MAC] || k.busy[f.MAC] || k.asked[f.MAC] == askTries || !f.AddressNow().IsValid() || !k.mayAsk(f) {
		return
	}
	k.busy[f.MAC] = true
	if k.open == asking {
		k.waiting = append(k.waiting, f)
		return
	}
	k.asked[f.MAC]++
	k.open++
	k.asking.Add(1)
	known := f.Clone()
	go func() {
		defer k.asking.Done()
		told, err := k.options.Ask(ctx, known)
		select {
		case k.answers <- answer{known.MAC, told, err}:
		case <-ctx.Done():
		}
	}()
}

// mayAsk reports whether a profile that fits wants the device asked.
func (k *book) mayAsk(f *device.Found) bool {
	for _, id := range append([]string{f.Profile}, f.Maybe...) {
		if p := k.profiles[id]; p != nil && (len(p.Ask) > 0 || p.NeedsAddress(profile.Identify)) {
			return true
		}
	}
	return false
}

// take takes in what a device answered, and asks the next.
func (k *book) take(ctx context.Context, a answer) (news bool) {
	k.open--
	delete(k.busy, a.mac)
	if a.err == nil {
		k.done[a.mac] = true
	}
	for _, s := range a.told {
		s.MAC = a.mac
		news = k.merge(ctx, s) || news
	}
	if a.err != nil {
		k.ask(ctx, k.found[a.mac])
	}
	for len(k.waiting) > 0 && k.open < asking {
		next := k.waiting[0]
		k.waiting = k.waiting[1:]
		delete(k.busy, next.MAC)
		k.ask(ctx, next)
	}
	return news
}
