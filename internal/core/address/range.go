package address

import (
	"encoding/binary"
	"fmt"
	"iter"
	"net/netip"
	"strings"
)

// Range is an inclusive run of IPv4 addresses. The zero value holds none.
type Range struct {
	From, To netip.Addr
}

// ParseRange reads "a-b" or a single address.
func ParseRange(s string) (Range, error) {
	from, to, two := strings.Cut(strings.TrimSpace(s), "-")
	if !two {
		to = from
	}
	var r Range
	var err error
	if r.From, err = ParseIPv4(from); err != nil {
		return Range{}, err
	}
	if r.To, err = ParseIPv4(to); err != nil {
		return Range{}, err
	}
	if r.To.Less(r.From) {
		return Range{}, fmt.Errorf("the range %s ends before it begins", s)
	}
	return r, nil
}

// ParseIPv4 reads a dotted-quad address and complains in plain words.
func ParseIPv4(s string) (netip.Addr, error) {
	a, err := netip.ParseAddr(strings.TrimSpace(s))
	if err != nil || !a.Is4() {
		return netip.Addr{}, fmt.Errorf("%q is not an IPv4 address: four numbers from 0 to 255 divided by dots", s)
	}
	return a, nil
}

// Contains reports whether a lies in r.
func (r Range) Contains(a netip.Addr) bool {
	return r.From.IsValid() && !a.Less(r.From) && !r.To.Less(a)
}

// Size counts the addresses in r.
func (r Range) Size() int {
	if !r.From.IsValid() {
		return 0
	}
	return int(Number(r.To)-Number(r.From)) + 1
}

// String prints what ParseRange reads.
func (r Range) String() string {
	if !r.From.IsValid() {
		return ""
	}
	if r.From == r.To {
		return r.From.String()
	}
	return r.From.String() + "-" + r.To.String()
}

// MarshalText implements encoding.TextMarshaler.
func (r Range) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (r *Range) UnmarshalText(b []byte) (err error) {
	if len(b) == 0 {
		*r = Range{}
		return nil
	}
	*r, err = ParseRange(string(b))
	return err
}

// Number gives an IPv4 address as a number; 0 for anything else.
func Number(a netip.Addr) uint32 {
	if !a.Is4() {
		return 0
	}
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

// FromNumber is the opposite of Number.
func FromNumber(n uint32) netip.Addr {
	var b [4]byte
	binary.BigEndian.PutUint32(b[:], n)
	return netip.AddrFrom4(b)
}

// Network gives the first address of a prefix.
func Network(p netip.Prefix) netip.Addr { return p.Masked().Addr() }

// LastOf gives the last address of a prefix, which is its broadcast address; the
// zero Addr for an invalid prefix.
func LastOf(p netip.Prefix) netip.Addr {
	if !p.IsValid() {
		return netip.Addr{}
	}
	return FromNumber(Number(Network(p)) | ^uint32(0)>>p.Bits())
}

// Hosts gives the addresses of a prefix that a host may use. For /31 and /32
// that is all of them (RFC 3021).
func Hosts(p netip.Prefix) Range {
	if !p.IsValid() {
		return Range{}
	}
	first, last := Network(p), LastOf(p)
	if p.Bits() >= 31 {
		return Range{first, last}
	}
	return Range{first.Next(), last.Prev()}
}

// Mask prints the prefix length as a dotted mask; "" for an invalid prefix.
func Mask(p netip.Prefix) string {
	if !p.IsValid() {
		return ""
	}
	return FromNumber(^(^uint32(0) >> p.Bits())).String()
}

// mostNeighbours bounds how many neighbours are offered.
const mostNeighbours = 1024

// Neighbours gives host addresses near a, nearest block first, that share ever
// shorter prefixes with it: first within the /29, then /28 and so on up to
// within. A source picked early is on-link for a device at a under almost any
// mask. Network and broadcast addresses of each block are left out.
func Neighbours(a netip.Addr, within int) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		given, self := 0, Number(a)
		inner := Range{a, a} // was given before
		for bits := 29; bits >= within; bits-- {
			hosts := Hosts(netip.PrefixFrom(a, bits))
			for n := Number(hosts.From); n <= Number(hosts.To) && given < mostNeighbours; n++ {
				// .0 and .255 are network or broadcast under some usual mask.
				if last := n & 0xff; n == self || last == 0 || last == 0xff || n >= Number(inner.From) &&
					n <= Number(inner.To) {
					continue
				}
				given++
				if !yield(FromNumber(n)) {
					return
				}
			}
			inner = hosts
		}
	}
}

// MaskBits gives the prefix length of a mask in dotted decimal; one with a hole in it
// is refused.
func MaskBits(mask string) (int, error) {
	a, err := ParseIPv4(mask)
	if err != nil {
		return 0, err
	}
	n := Number(a)
	bits := 0
	for bits < 32 && n&(1<<(31-bits)) != 0 {
		bits++
	}
	if n<<bits != 0 && bits < 32 {
		return 0, fmt.Errorf("%s is no mask", mask)
	}
	return bits, nil
}
