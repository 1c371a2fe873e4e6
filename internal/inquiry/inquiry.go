// Package inquiry asks a found device who it is, as far as the profiles that
// may fit it want: its page, its certificate, its shell's banner, its ONVIF
// device information, its SNMP tables. It only reads.
package inquiry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
)

const (
	wholeTime = 25 * time.Second // for one device
	oneTime   = 4 * time.Second  // for one question
)

// Inquirer asks devices over a bench.
type Inquirer struct {
	Bench    *bench.Bench
	Profiles profile.Set
	Avoid    func(netip.Addr) bool // addresses that are not ours to borrow
}

// Ask gives what a device tells. The error says that it told nothing, or that
// some of it did not come in time: then it is worth asking again.
func (q Inquirer) Ask(ctx context.Context, f *device.Found) ([]device.Sighting, error) {
	ctx, cancel := context.WithTimeout(ctx, wholeTime)
	defer cancel()
	var asks []string
	var ports []uint16
	var fitting []*profile.Profile
	for _, id := range append([]string{f.Profile}, f.Maybe...) {
		if p := q.Profiles[id]; p != nil {
			fitting = append(fitting, p)
			asks, ports = append(asks, p.Ask...), append(ports, p.Ports...)
		}
	}
	at := f.AddressNow()
	if len(fitting) == 0 || !at.IsValid() {
		return nil, nil
	}
	var told []device.Sighting
	var failed error
	for _, p := range fitting {
		if len(p.Acts[profile.Identify]) == 0 || !p.NeedsAddress(profile.Identify) {
			continue
		}
		client := driver.New(q.Bench, driver.Target{MAC: f.MAC, Address: at, Bits: p.Factory.Address.Bits, Profile: p,
			Avoid: q.Avoid})
		facts, err := client.Do(ctx, profile.Identify, nil)
		client.Close()
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		// Its up-time is another one each time: that is for who sets it, not for who looks for it.
		maps.DeleteFunc(facts, func(key, _ string) bool {
			k, ok := fact.Of(key)
			return !ok || k.By&fact.Finding == 0
		})
		told = append(told, device.Sighting{MAC: f.MAC, Protocol: p.Over(profile.Identify), At: time.Now(), Facts: facts})
	}
	if len(asks) > 0 {
		conv, err := q.Bench.Open(ctx, bench.Peer{MAC: f.MAC, Address: at, Bits: fitting[0].Factory.Address.Bits,
			Avoid: q.Avoid})
		if err != nil {
			return told, errors.Join(failed, err)
		}
		defer conv.Close()
		t := &talker{Conversation: conv, at: time.Now(), found: f, profile: fitting[0],
			isSwitch: fitting[0].Kind == "switch"}
		slices.Sort(asks)
		for _, ask := range slices.Compact(asks) {
			if err := t.ask(ctx, ask); err != nil {
				failed = errors.Join(failed, err)
			}
		}
		t.knock(ctx, ports)
		told = append(told, t.told...)
	}
	// A refusal is an answer; what did not come in time may come next time.
	var n net.Error
	late := errors.Is(failed, context.DeadlineExceeded) || errors.As(failed, &n) && n.Timeout()
	if len(told) > 0 && !late {
		failed = nil
	}
	return told, failed
}

// talker asks one device.
type talker struct {
	*bench.Conversation
	at       time.Time // one for all that is told: what is missing from the same reading is no more
	found    *device.Found
	profile  *profile.Profile // that fits best
	isSwitch bool
	told     []device.Sighting
}

// question is one thing that a device can be asked. A new one is one file, a line in
// questions, and its name in package profile.
type question struct {
	name string
	time time.Duration // for all of its answer
	ask  func(context.Context, *talker) error
}

// questions are all of them.
var questions = []question{page, securePage, banner, onvif, snmpTables}

func (t *talker) ask(ctx context.Context, what string) error {
	i := slices.IndexFunc(questions, func(q question) bool { return q.name == what })
	if i < 0 {
		return fmt.Errorf("nothing here asks over %s", what)
	}
	ctx, cancel := context.WithTimeout(ctx, questions[i].time)
	defer cancel()
	return questions[i].ask(ctx, t)
}

func (t *talker) tell(protocol, part string, pairs ...string) {
	s := device.Sighting{MAC: t.found.MAC, Part: part, Protocol: protocol, At: t.at, Facts: map[string]string{}}
	for i := 0; i < len(pairs); i += 2 {
		s.Facts[pairs[i]] = pairs[i+1]
	}
	t.told = append(t.told, s)
}

// knock notes which of the profile's ports answer.
func (t *talker) knock(ctx context.Context, ports []uint16) {
	slices.Sort(ports)
	for _, port := range slices.Compact(ports) {
		open := fmt.Sprintf("%d/tcp", port)
		if slices.ContainsFunc(t.told, func(s device.Sighting) bool { return s.Facts[fact.Open] == open }) {
			continue
		}
		knocking, cancel := context.WithTimeout(ctx, oneTime)
		c, err := t.Dial(knocking, port)
		cancel()
		if err == nil {
			c.Close()
			t.tell("tcp", "", fact.Open, open)
		}
	}
}
