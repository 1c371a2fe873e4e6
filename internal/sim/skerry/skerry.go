// Package skerry is the simulated site, Skerry Point Ferry Terminal: a flat
// segment with switches, cameras, controllers and much else as they leave the
// factory.
package skerry

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/lan"
	"redstart/internal/lan/faults"
	"redstart/internal/lan/segment"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/model/b4"
	"redstart/internal/sim/model/c20"
	"redstart/internal/sim/model/fs8"
	"redstart/internal/sim/model/v2"
)

// Devices is the size of the usual site: 6 switches, 10 cameras, 4 controllers.
const Devices = 20

// Options shape the site. The zero value is the usual one.
type Options struct {
	Devices int           // how many in all; 0: Devices
	Seed    uint64        // serials, MACs, boot times
	Pace    float64       // restart times are multiplied by this; 0: 1
	Faults  faults.Faults // of every device's cable
	// Whole adds the rest of the terminal: what can be found and is not set yet.
	Whole bool
	// Only limits the site to one model, by its name; "" takes the mix.
	Only string
	// Every deals out all models that can be set, in turn, instead of the usual mix.
	Every bool
	// Broken gives single devices faults, by their position in Boxes.
	Broken map[int]box.Faults
}

// Site is a running simulation.
type Site struct {
	Segment *segment.Segment
	Boxes   []*box.Box
	Others  []Other

	usual  bool // the terminal's own devices, whose whole plan is known
	cancel context.CancelFunc
	unplug []func() // serial lines
	ended  sync.WaitGroup
}

// boxDepth is how many frames wait at a device; it is small, as in small devices.
const boxDepth = 128

// shares are how many of twenty devices of the usual mix are of a model; cameras take
// up what rounding leaves.
var shares = map[string]int{fs8.Model.Name: 6, c20.Model.Name: 10, b4.Model.Name: 4}

// Start powers a site up. Close it when done.
func Start(o Options) *Site {
	if o.Devices <= 0 {
		o.Devices = Devices
	}
	usual := o.Devices == Devices && o.Only == "" && !o.Every
	if o.Pace <= 0 {
		o.Pace = 1
	}
	ctx, cancel := context.WithCancel(context.Background())
	s := &Site{Segment: &segment.Segment{}, usual: usual, cancel: cancel}
	random := rand.New(rand.NewPCG(o.Seed, 40))
	used := map[string]bool{}
	for i, item := range mix(o) {
		spec := box.Spec{Away: scale(item.Away, o.Pace), Faults: o.Broken[i], Pace: o.Pace,
			Every: scale(askEvery, o.Pace)}
		// Serials and MACs come in no order, as from a pallet.
		spec.Serial = unused(used, func() string { return fmt.Sprintf(item.Serial, random.IntN(1000000)) })
		spec.MAC = anyMAC(item.Prefix, random, used)
		spec.Factory = item.Factory(spec.Serial)
		spec.Boot = scale(time.Duration(random.IntN(300))*time.Millisecond, o.Pace)
		s.Boxes = append(s.Boxes, s.plug(spec, item.Model, o, i))
	}
	if o.Whole {
		s.makeOthers(o, random, used)
	}
	for _, b := range s.All() {
		s.ended.Add(1)
		go func() {
			defer s.ended.Done()
			b.Run(ctx)
		}()
	}
	return s
}

// All are the devices that are set and the others.
func (s *Site) All() []*box.Box {
	list := slices.Clone(s.Boxes)
	for _, o := range s.Others {
		list = append(list, o.Box)
	}
	return list
}

// plug makes a device and gives it its cable.
func (s *Site) plug(spec box.Spec, model box.Model, o Options, number int) *box.Box {
	var plugged atomic.Pointer[box.Box]
	port := s.Segment.AttachFor(spec.MAC, boxDepth, func(frame []byte) bool {
		b := plugged.Load()
		return b != nil && b.Takes(frame)
	})
	b := box.New(spec, model, faults.On(port, o.Faults, o.Seed+uint64(number)))
	plugged.Store(b)
	return b
}

func scale(d time.Duration, by float64) time.Duration { return time.Duration(float64(d) * by) }

func unused(used map[string]bool, make func() string) string {
	for {
		if s := make(); !used[s] {
			used[s] = true
			return s
		}
	}
}

// mix deals the devices out in their shares, or all of one model.
func mix(o Options) []box.Stock {
	var list []box.Stock
	if o.Every {
		for i := range o.Devices {
			list = append(list, all.Stock[i%len(all.Stock)])
		}
		return list
	}
	rest := o.Devices
	for _, item := range all.Stock {
		rest -= o.Devices * shares[item.Model.Name] / Devices
	}
	for _, item := range all.Stock {
		n := o.Devices * shares[item.Model.Name] / Devices
		switch {
		case o.Only != "" && strings.EqualFold(o.Only, item.Model.Name):
			n = o.Devices
		case o.Only != "":
			n = 0
		case item.Model.Name == c20.Model.Name:
			n += rest
		}
		list = append(list, slices.Repeat([]box.Stock{item}, n)...)
	}
	return list
}

// Plug powers a device up again that did not come back.
func (s *Site) Plug(b *box.Box) {
	b.SetFaults(box.Faults{})
	b.PowerUp()
}

// Mend takes the faults of one device away, by its position in Boxes.
func (s *Site) Mend(i int) { s.Boxes[i].SetFaults(box.Faults{}) }

// Close cuts the power and waits until every device is down.
func (s *Site) Close() {
	for _, unplug := range s.unplug {
		unplug()
	}
	s.unplug = nil
	s.cancel()
	s.ended.Wait()
}

// Line is a serial line with the console of a device at its other end.
type Line struct {
	Name, Device string
	MAC          address.MAC // of the device
	Only         bool        // the device cannot be set without it
}

// PlugLines hangs a serial line on every console of the site, until it is closed.
func (s *Site) PlugLines() ([]Line, error) {
	var lines []Line
	for _, b := range s.All() {
		if b.Model.Console == nil {
			continue
		}
		name, unplug, err := b.PlugLine()
		if err != nil {
			return lines, err
		}
		s.unplug = append(s.unplug, unplug)
		lines = append(lines, Line{name, b.Model.Maker + " " + b.Model.Name + ", serial " + b.Serial, b.MAC,
			b.Model.Name == v2.Model.Name})
	}
	return lines, nil
}

// Attach plugs something else into the site, such as the computer that
// Redstart runs on.
func (s *Site) Attach() lan.Port {
	return s.Segment.Attach(address.MAC{0x02, 0x52, 0x53, 0, 0, 1}, 1<<14)
}
