package box

import (
	"net/netip"

	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

// offer starts the TCP and UDP services of a device that has an address.
func (i *instance) offer(b *Box) error {
	for _, service := range b.Model.Services {
		if err := i.serve(b, service); err != nil {
			return err
		}
	}
	for _, d := range b.Model.Datagrams {
		c, err := i.host.ListenUDP(d.Port, d.Group)
		if err != nil {
			return err
		}
		i.datagrams = append(i.datagrams, c)
		i.ended.Add(1)
		go func() {
			defer i.ended.Done()
			in := make([]byte, 2048)
			for {
				n, from, err := c.ReadFrom(in)
				if err != nil {
					return
				}
				asker, err := netip.ParseAddrPort(from.String())
				if err != nil {
					continue
				}
				d.Answer(b, asker, in[:n], func(answer []byte, to netip.AddrPort) {
					if to.IsValid() {
						own := netip.AddrPortFrom(b.Running().Address.Addr(), d.Port)
						b.Send(ip.Datagram{Source: own, Destination: to, TTL: 255, Payload: answer}.Frame(b.MAC,
							ip.GroupMAC(to.Addr())))
						return
					}
					_, _ = c.WriteTo(answer, from) // a lost answer is part of the simulation
				})
			}
		}()
	}
	return nil
}

// wants reports whether a device's stack has a use for an IPv4 frame: what is
// for itself, and what is for everybody at a port where it listens. It hands out
// and asks for addresses on the side.
func (b *Box) wants(f ethernet.Frame) bool {
	if !f.Destination.IsGroup() && b.Model.Class == "" {
		return true
	}
	p, err := ip.Parse(f)
	if err != nil {
		return !f.Destination.IsGroup()
	}
	d, ok := p.UDP()
	if !ok {
		return !f.Destination.IsGroup()
	}
	if b.dhcp(f, d) {
		return false
	}
	if !f.Destination.IsGroup() {
		return true
	}
	for _, service := range b.Model.Datagrams {
		if service.Port == d.Destination.Port() {
			return true
		}
	}
	return false
}
