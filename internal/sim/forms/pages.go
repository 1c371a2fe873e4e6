package forms

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/core/naming"
	"redstart/internal/sim/box"
)

// Name is the page on which the device gets its name.
func Name(rules naming.Rules, e Effect) Page {
	return Page{
		Path: "/name", Effect: e, Fields: []string{"name"},
		Show: func(b *box.Box) [][2]string { return [][2]string{{"name", b.Running().Name}} },
		Take: func(s *box.Settings, typed func(string) string) error {
			s.Name = typed("name")
			return rules.Check(s.Name)
		},
	}
}

// Network is the page on which the device gets its address, mask and gateway.
func Network(e Effect) Page {
	return Page{
		Path: "/network", Effect: e, Fields: []string{"address", "mask", "gateway"},
		Show: func(b *box.Box) [][2]string {
			s := b.Running()
			return [][2]string{{"address", box.AddrText(s.Address.Addr())}, {"mask", box.Mask(s.Address)},
				{"gateway", box.AddrText(s.Gateway)}}
		},
		Take: func(s *box.Settings, typed func(string) string) error {
			at, via, err := box.Network(typed("address"), typed("mask"), typed("gateway"))
			if err != nil {
				return err
			}
			s.Address, s.Gateway = at, via
			return nil
		},
	}
}

// NetworkDHCP is the same with the DHCP client, on or off, at a place of the model's own
// settings. While it is on, an address lasts until the next start.
func NetworkDHCP[O any](e Effect, at func(*O) *string) Page {
	p := Network(e)
	p.Fields = append(p.Fields, "dhcp")
	show, take := p.Show, p.Take
	p.Show = func(b *box.Box) [][2]string {
		own := b.Running().Own.(O)
		return append(show(b), [2]string{"dhcp", *at(&own)})
	}
	p.Take = func(s *box.Settings, typed func(string) string) error {
		if err := take(s, typed); err != nil {
			return err
		}
		own := s.Own.(O)
		if dhcp := typed("dhcp"); dhcp != "" {
			if err := OneOf("on", "off")(dhcp); err != nil {
				return err
			}
			*at(&own) = dhcp
		}
		if s.Own = own; *at(&own) == "on" {
			s.Address = netip.Prefix{}
		}
		return nil
	}
	return p
}

// Field is one of a model's own, which are all texts.
type Field[O any] struct {
	Name  string
	At    func(*O) *string
	Check func(string) error // nil: anything
	// Hidden is never shown again.
	Hidden bool
	// Digest shows the SHA-256 of what was given instead.
	Digest bool
}

// Own is a page of settings that only one model has. A field that is not typed stays as it is.
func Own[O any](path string, e Effect, fields ...Field[O]) Page {
	p := Page{Path: path, Effect: e}
	for _, f := range fields {
		p.Fields = append(p.Fields, f.Name)
	}
	p.Show = func(b *box.Box) (list [][2]string) {
		own := b.Running().Own.(O)
		for _, f := range fields {
			switch v := *f.At(&own); {
			case f.Hidden:
			case f.Digest && v != "":
				sum := sha256.Sum256([]byte(v))
				list = append(list, [2]string{f.Name, hex.EncodeToString(sum[:])})
			default:
				list = append(list, [2]string{f.Name, v})
			}
		}
		return list
	}
	p.Take = func(s *box.Settings, typed func(string) string) error {
		own := s.Own.(O)
		for _, f := range fields {
			v := typed(f.Name)
			if f.Check != nil {
				if err := f.Check(v); err != nil {
					return fmt.Errorf("%s: %w", f.Name, err)
				}
			}
			*f.At(&own) = v
		}
		s.Own = own
		return nil
	}
	return p
}

// Between takes whole numbers.
func Between(least, most int) func(string) error {
	return func(typed string) error {
		if n, err := strconv.Atoi(typed); err != nil || n < least || n > most {
			return fmt.Errorf("it is %d to %d", least, most)
		}
		return nil
	}
}

// OneOf takes some words.
func OneOf(words ...string) func(string) error {
	return func(typed string) error {
		if !slices.Contains(words, typed) {
			return fmt.Errorf("it is one of %s", strings.Join(words, ", "))
		}
		return nil
	}
}

// AnAddress takes an IPv4 address.
func AnAddress(typed string) error {
	if a, err := netip.ParseAddr(typed); err != nil || !a.Is4() {
		return fmt.Errorf("it is an address")
	}
	return nil
}

// OrNothing takes nothing as well.
func OrNothing(check func(string) error) func(string) error {
	return func(typed string) error {
		if typed == "" {
			return nil
		}
		return check(typed)
	}
}
