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
	"redstart/internal/sim/box"
	"redstart/internal/store"
)

// Person does what is asked.
type Person struct {
	Boxes map[address.MAC]*box.Box
	// Takes is how long each thing takes: the way there, reading, doing.
	Takes time.Duration
	// Say tells what was done; nil: nobody is told.
	Say func(tag, what string)
}

// Serve does what is asked until the context ends.
func (p Person) Serve(ctx context.Context, c *client.Client) error {
	var under sync.WaitGroup
	defer under.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	asked := map[string]bool{}
	take := func(d store.RunDevice) {
		if d.State != store.Parked || d.Hand.Do == "" || p.Boxes[d.MAC] == nil {
			return
		}
		if key := d.Tag + "\x00" + d.Hand.Since.Time.String(); !asked[key] {
			asked[key] = true
			under.Go(func() { p.do(ctx, c, d) })
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
			var d store.RunDevice
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

// do goes there, does it, and says so. What the segment shows by itself needs no word; the
// word for it comes too late then, and is refused.
func (p Person) do(ctx context.Context, c *client.Client, d store.RunDevice) {
	there := time.NewTimer(p.Takes)
	defer there.Stop()
	select {
	case <-there.C:
	case <-ctx.Done():
		return
	}
	if d.Hand.Terms != "" {
		if c.Did(ctx, d.Run, api.Hands{Tags: []string{d.Tag}, Accept: true,
			Name: "a person who is simulated"}) == nil && p.Say != nil {
			p.Say(d.Tag, "read and accept: "+d.Hand.Terms)
		}
		return
	}
	if !p.Boxes[d.MAC].Hand(d.Hand.Do) {
		return
	}
	if p.Say != nil {
		p.Say(d.Tag, d.Hand.Do)
	}
}
