package match

import (
	"fmt"
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
	behind map[string][]*device.Found // by the port as the plan writes it, TAG/port
}

func newPorts(s Segment) *ports {
	byMAC := map[string]*device.Found{}
	for _, f := range s.Found {
		byMAC[f.MAC.String()] = f
	}
	p := &ports{map[string][]*device.Found{}}
	for _, f := range s.Found {
		tag := switchTag(f, s)
		if tag == "" {
			continue
		}
		for part, macs := range f.Neighbours() {
			port, ok := strings.CutPrefix(part, "port ")
			if !ok {
				continue
			}
			for _, mac := range macs {
				if b := byMAC[mac]; b != nil {
					p.behind[plain(tag+"/"+port)] = append(p.behind[plain(tag+"/"+port)], b)
				}
			}
		}
	}
	return p
}

// switchTag tells which entry a switch is: by its match, or by what the plan
// names or it has already.
func switchTag(f *device.Found, s Segment) string {
	if tag := s.Matched[f.MAC]; tag != "" {
		return tag
	}
	for _, e := range s.Entries {
		if (!e.MAC.IsZero() || e.Serial != "") && is(e, f) || e.Profile == f.Profile &&
			(e.Name != "" && strings.EqualFold(f.Value(fact.Name), e.Name) ||
				slices.Contains(f.Addresses(), e.Address)) {
			return e.Tag
		}
	}
	return ""
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
	Told  time.Time
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
	for _, f := range s.Found {
		tag := switchTag(f, s)
		if tag == "" {
			continue
		}
		var told time.Time
		for _, x := range f.Facts {
			if x.Key == fact.Behind && x.Last.After(told) {
				told = x.Last
			}
		}
		for part, macs := range f.Neighbours() {
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
					list[mac], fewest[mac] = Hangs{tag + "/" + port, len(macs) == 1, told}, len(macs)
				}
			}
		}
	}
	return list
}

// SamePort reports whether two name the same port of a switch, however they write it.
func SamePort(a, b string) bool { return plain(a) == plain(b) }

// why says that a device hangs on the entry's planned port, alone of its
// profile; "" when it does not.
func (p *ports) why(e plan.Entry, f *device.Found) string {
	if e.SwitchPort == "" {
		return ""
	}
	same, here := 0, false
	for _, b := range p.behind[plain(e.SwitchPort)] {
		if mayBe(e, b) {
			same++
			here = here || b.MAC == f.MAC
		}
	}
	if !here || same > 1 {
		return ""
	}
	return fmt.Sprintf("it hangs on the planned switch port %s", e.SwitchPort)
}
