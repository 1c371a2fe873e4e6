// Package hands plays the person at the simulated site: it follows over the API what is to
// be done by hand, as a technician would on the phone, and does it with the simulated boxes.
package hands

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
)

// OnlyTaken is how long a person takes who does only what somebody says to be at.
const OnlyTaken = -1 * time.Nanosecond

// Person does what is asked.
type Person struct {
	// Do does with a box what an instruction says, and reports whether there was such a
	// thing to do.
	Do func(mac address.MAC, instruction string) bool
	// Takes is how long each thing takes: the way there, reading, doing. Whatever somebody
	// takes on the list is done at once; with OnlyTaken nothing else is.
	Takes time.Duration
	// Accepts is the name by which terms are accepted; "": they are left to real people.
	Accepts string
	// Wrong says that it is done without doing it.
	Wrong bool
	// Say tells what was done; nil: nobody is told.
	Say func(tag, what string)
}

// With makes what does things with boxes of this process.
func With(boxes []*box.Box) func(address.MAC, string) bool {
	byMAC := map[address.MAC]*box.Box{}
	for _, b := range boxes {
		byMAC[b.MAC] = b
	}
	return func(mac address.MAC, instruction string) bool {
		b := byMAC[mac]
		return b != nil && b.Hand(instruction)
	}
}

// Serve does what is asked until the context ends.
func (p Person) Serve(ctx context.Context, c *client.Client) error {
	var under sync.WaitGroup
	defer under.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	asked := map[string]*asking{}
	take := func(d api.RunDevice) {
		if d.State != state.Parked || d.Hand.Do == "" {
			return
		}
		key := d.Tag + "\x00" + d.Hand.Since.Time.String()
		if asked[key] == nil {
			a := &asking{taken: make(chan struct{})}
			asked[key] = a
			under.Go(func() { p.do(ctx, c, d, a.taken) })
		}
		if d.Hand.Who != "" {
			asked[key].once.Do(func() { close(asked[key].taken) })
		}
	}
	err := c.Follow(ctx, func(e client.Event) bool {
		switch e.Kind {
		case "hello": // what waits already
			runs, err := c.OpenRuns(ctx)
			for _, r := range runs {
				for _, d := range r.Devices {
					take(d)
				}
			}
			return err == nil
		case "run":
			var d api.RunDevice
			if json.Unmarshal(e.Data, &d) == nil {
				take(d)
			}
		}
		return true
	})
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// asking is one thing that is asked for; taken closes when somebody says to be at it.
type asking struct {
	taken chan struct{}
	once  sync.Once
}

// do goes there and does it. What the segment shows by itself needs no word.
func (p Person) do(ctx context.Context, c *client.Client, d api.RunDevice, taken <-chan struct{}) {
	there := make(<-chan time.Time)
	if p.Takes >= 0 {
		timer := time.NewTimer(p.Takes)
		defer timer.Stop()
		there = timer.C
	}
	select {
	case <-there:
	case <-taken:
	case <-ctx.Done():
		return
	}
	what := d.Hand.Do
	switch {
	case d.Hand.Terms != "":
		if p.Accepts == "" || c.Did(ctx, d.Run, api.Hands{Tags: []string{d.Tag}, Accept: true, Name: p.Accepts}) != nil {
			return
		}
		what = "read and accept: " + d.Hand.Terms
	case p.Wrong:
		if c.Did(ctx, d.Run, api.Hands{Tags: []string{d.Tag}}) != nil {
			return
		}
		what = "say that it was done, and do nothing: " + d.Hand.Do
	case !p.Do(d.MAC, d.Hand.Do):
		return
	}
	if p.Say != nil {
		p.Say(d.Tag, what)
	}
}
