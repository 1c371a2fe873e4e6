package check

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"redstart/internal/core/result"
	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

const (
	// networkTime is how long what hangs behind a router has to answer: MS/TP is slow.
	networkTime = 3 * time.Second
	// networkAgain is after how long it is asked once more: a broadcast may be lost.
	networkAgain = time.Second
)

// networks asks what hangs on each BACnet network behind the device to show itself through
// it (ASHRAE 135, 16.10 and 6.5). With a wrong speed or number nothing there answers.
var networks = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, key := range s.Profile.Networks {
			if n := s.Given.Settings[key]; n != "" {
				list = append(list, Want{Name: "network " + n, Expected: "answers", Key: key})
			}
		}
		return list
	},
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		number, err := strconv.ParseUint(v.Given.Settings[w.Key], 10, 16)
		if err != nil {
			return result.Unseen("its number is none"), nil
		}
		heard, err := v.whoIs(ctx, bacnet.Station{Network: uint16(number)})
		switch {
		case err != nil:
			return result.Unseen(plain(err).Error()), ctx.Err()
		case len(heard) > 0:
			return result.Saw(fmt.Sprintf("%d answer", len(heard)), true), nil
		case v.Hanging[w.Key] == 0:
			return result.Unseen("nothing answers there, and nothing is planned there"), nil
		}
		return result.Saw("nothing answers there", false), nil
	},
}

// whoIs tells which stations answer on a network behind the device, asked once in a visit.
func (v *Visit) whoIs(ctx context.Context, on bacnet.Station) (map[string]bool, error) {
	if heard, asked := v.stations[on.Network]; asked {
		return heard, nil
	}
	heard, err := v.askStations(ctx, on)
	if err == nil {
		v.stations[on.Network] = heard
	}
	return heard, err
}

func (v *Visit) askStations(ctx context.Context, on bacnet.Station) (map[string]bool, error) {
	out, err := v.conversation().Datagrams(ctx, bacnet.Port)
	if err != nil {
		return nil, err
	}
	defer out.Close()
	in := v.bench.ListenTo(v.MAC, 64, func(f ethernet.Frame) bool { return answersFrom(f, v.Address, on.Network) != "" })
	defer in.Close()
	question := bacnet.Message{Kind: bacnet.KindWhoIs, To: on}.Frame(false)
	if _, err := out.Write(question); err != nil {
		return nil, err
	}
	again, end := time.NewTimer(networkAgain), time.NewTimer(networkTime)
	defer again.Stop()
	defer end.Stop()
	seen := map[string]bool{}
	for {
		select {
		case f := <-in.Frames():
			seen[answersFrom(f, v.Address, on.Network)] = true
		case <-again.C:
			if len(seen) > 0 {
				return seen, nil
			}
			if _, err := out.Write(question); err != nil {
				return nil, err
			}
		case <-end.C:
			return seen, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// answersFrom tells which station behind an address a frame shows; "" for none of that
// network.
func answersFrom(f ethernet.Frame, at netip.Addr, network uint16) string {
	p, err := ip.Parse(f)
	if err != nil || p.Source != at {
		return ""
	}
	d, ok := p.UDP()
	if !ok || d.Source.Port() != bacnet.Port {
		return ""
	}
	m, err := bacnet.Parse(d.Payload)
	if err != nil || m.Kind != bacnet.KindIAm || m.From.Network != network {
		return ""
	}
	return cmp.Or(m.From.String(), "?")
}
