package match

import (
	"slices"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
)

// ports is what the switches of the site know: which boxes hang on which port,
// from their forwarding tables and their LLDP neighbours.
type ports struct {
	behind map[string][]*device.Found  // by the port as the plan writes it, TAG/port
	alone  map[[2]string]*device.Found // by port and profile: the only one there; nil for none or several
}

func newPorts(s Segment) *ports {
	byMAC := map[string]*device.Found{}
	for _, f := range s.Found {
		byMAC[f.MAC.String()] = f
	}
	p := &ports{map[string][]*device.Found{}, map[[2]string]*device.Found{}}
	for _, sw := range switches(s) {
		for part, macs := range sw.behind {
			port, ok := strings.CutPrefix(part, "port ")
			if !ok {
				continue
			}
			for _, mac := range macs {
				if b := byMAC[mac]; b != nil {
					p.behind[plain(sw.tag+"/"+port)] = append(p.behind[plain(sw.tag+"/"+port)], b)
				}
			}
		}
	}
	return p
}

// switching is a device that tells what hangs behind it.
type switching struct {
	*device.Found
	tag    string              // of its entry: by its match, or by what the plan names or it has already
	behind map[string][]string // MACs by part
}

// switches lists the devices of the plan that tell what hangs behind them.
func switches(s Segment) (list []switching) {
	var all *tags
	for _, f := range s.Found {
		behind := f.Neighbours()
		if len(behind) == 0 {
			continue
		}
		tag := s.Matched[f.MAC]
		if tag == "" {
			if all == nil {
				all = newTags(s.Entries)
			}
			tag = all.of(f)
		}
		if tag != "" {
			list = append(list, switching{f, tag, behind})
		}
	}
	return list
}

// plain makes "SW-01/Port 7", "sw-01/port7" and "SW-01/7" the same.
func plain(port string) string {
	tag, name, _ := strings.Cut(strings.ToLower(port), "/")
	return tag + "/" + strings.TrimSpace(strings.TrimPrefix(name, "port"))
}

// Hangs is where a box hangs, as a switch of the site told last.
type Hangs struct {
	At    string // TAG/port, as plans write it
	Alone bool   // nothing else was seen behind that port
	Seen  time.Time
}

// Contradicts reports whether it hangs elsewhere than at a planned port: at another one of that
// switch, or alone at another switch. Behind a port with others it may hang anywhere.
func (h Hangs) Contradicts(planned string) bool {
	if planned == "" || h.At == "" || SamePort(planned, h.At) {
		return false
	}
	a, _, _ := strings.Cut(plain(planned), "/")
	b, _, _ := strings.Cut(plain(h.At), "/")
	return a == b || h.Alone
}

// OnPorts tells where each box hangs. Of several ports the one with fewest boxes behind it is
// meant, since the others lead there; where that leaves two, nobody knows.
func OnPorts(s Segment) map[address.MAC]Hangs {
	list, fewest := map[address.MAC]Hangs{}, map[address.MAC]int{}
	for _, sw := range switches(s) {
		var told time.Time
		for _, x := range sw.Facts {
			if x.Key == fact.Behind && x.Last.After(told) {
				told = x.Last
			}
		}
		for part, macs := range sw.behind {
			port, ok := strings.CutPrefix(part, "port ")
			if !ok {
				continue
			}
			for _, text := range macs {
				mac, err := address.ParseMAC(text)
				switch n := fewest[mac]; {
				case err != nil || n != 0 && n < len(macs):
				case n == len(macs):
					list[mac] = Hangs{}
				default:
					list[mac], fewest[mac] = Hangs{sw.tag + "/" + port, len(macs) == 1, told}, len(macs)
				}
			}
		}
	}
	return list
}

// SamePort reports whether two name the same port of a switch, however they write it.
func SamePort(a, b string) bool { return plain(a) == plain(b) }

// only gives the device that hangs on an entry's planned port, alone of its profile; nil when
// there is none.
func (p *ports) only(e plan.Entry) *device.Found {
	if e.SwitchPort == "" {
		return nil
	}
	key := [2]string{plain(e.SwitchPort), e.Profile}
	f, known := p.alone[key]
	if !known {
		of := slices.DeleteFunc(slices.Clone(p.behind[key[0]]), func(b *device.Found) bool { return !mayBe(e, b) })
		if len(of) == 1 {
			f = of[0]
		}
		p.alone[key] = f
	}
	return f
}
