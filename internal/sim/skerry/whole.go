package skerry

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/model/fs24"
	"redstart/internal/sim/stranger"
)

// Other is a device of the whole terminal besides those of the usual site.
type Other struct {
	*box.Box
	Tag    string // of the entry that it truly is; "" for what the plan does not hold
	port   int    // of the managed switch; 0 for behind a field switch
	speaks bool   // LLDP
	fresh  box.Settings
}

// Reset does what a pin held in the hole for fifteen seconds does: it is as from the factory.
func (o Other) Reset() {
	o.Store(func(s *box.Settings) { *s = o.fresh })
	o.PowerCut()
}

// terminal is all that stands at the whole terminal, in the order of its plan.
var terminal = slices.Concat(all.Stock, stranger.Stock)

// askEvery is how often a box that waits for an address asks again.
const askEvery = 3 * time.Second

// makeOthers makes the rest of the terminal, not yet powered.
func (s *Site) makeOthers(o Options, random *rand.Rand, used map[string]bool) {
	for _, item := range terminal {
		for _, stand := range item.Stands {
			if !stand.Missing {
				s.Others = append(s.Others, s.makeOther(item, stand, o, random, used))
			}
		}
	}
}

func (s *Site) makeOther(item box.Stock, stand box.Stand, o Options, random *rand.Rand, used map[string]bool) Other {
	spec := box.Spec{
		Factory: item.Factory(""), Away: scale(item.Away, o.Pace), Every: scale(askEvery, o.Pace),
		Pace: o.Pace, Guest: stand.Guest, MAC: stand.MAC, Around: s.around,
	}
	spec.Serial = unused(used, func() string { return fmt.Sprintf(item.Serial, random.IntN(1000000)) })
	if stand.Factory != nil {
		spec.Factory = *stand.Factory
	}
	if spec.MAC.IsZero() {
		spec.MAC = anyMAC(item.Prefix, random, used)
	}
	boot := stand.Boot
	if boot == 0 {
		boot = time.Duration(random.IntN(300)) * time.Millisecond
	}
	spec.Boot = scale(boot, o.Pace)
	model := item.Model
	if stand.Model != nil {
		model = *stand.Model
	}
	return Other{s.plug(spec, model, o, len(s.Boxes)+len(s.Others)), stand.Tag, stand.Port, stand.Speaks,
		item.Factory(spec.Serial)}
}

// anyMAC gives a MAC of a maker: they come in no order, as from a pallet.
func anyMAC(prefix [3]byte, random *rand.Rand, used map[string]bool) address.MAC {
	return address.MACFrom([]byte(unused(used, func() string {
		return string(append(prefix[:], byte(random.UintN(256)), byte(random.UintN(256)), byte(random.UintN(256))))
	})))
}

// around tells the managed switch what hangs where: all that is not on a port of its own
// is behind the field switches at ports 1 to 6.
func (s *Site) around() []box.Hang {
	var list []box.Hang
	for i, b := range s.Boxes {
		list = append(list, box.Hang{MAC: b.MAC, Port: 1 + i%6})
	}
	for i, o := range s.Others {
		switch {
		case o.Model.Name == fs24.Model.Name:
		case o.port == 0:
			list = append(list, box.Hang{MAC: o.MAC, Port: 1 + i%6, Speaks: o.speaks})
		default:
			list = append(list, box.Hang{MAC: o.MAC, Port: o.port, Speaks: o.speaks})
		}
	}
	return list
}
