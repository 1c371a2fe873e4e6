package e2e

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/address"
	"redstart/internal/core/match"
	"redstart/internal/core/state"
	"redstart/internal/lan"
	"redstart/internal/lan/segment"
	"redstart/internal/lan/vlan"
	"redstart/internal/segments"
	"redstart/internal/sim/skerry"
)

// noted is a port that keeps to whom frames went.
type noted struct {
	lan.Port
	mu sync.Mutex
	to map[address.MAC]bool
}

func (n *noted) Send(frame []byte) error {
	n.mu.Lock()
	if n.to == nil {
		n.to = map[address.MAC]bool{}
	}
	n.to[address.MACFrom(frame)] = true
	n.mu.Unlock()
	return n.Port.Send(frame)
}

// Two segments at once, with boxes at one and the same factory address on both: two
// sites, two surveys, two runs and two verifications side by side, and nothing that is
// for a box on one goes out on the other.
func TestTwoSegmentsAtOnce(t *testing.T) {
	t.Parallel()
	far := skerry.Start(skerry.Options{Devices: 4, Only: "C20", Seed: 52, Pace: quick})
	t.Cleanup(far.Close)
	wires := []*noted{{}, {Port: far.Attach()}}
	r := &rig{
		wrap: func(p lan.Port) lan.Port { wires[0].Port = p; return wires[0] },
		more: []segments.Plug{{Name: "quay", Port: wires[1]}},
	}
	startAs(t, r, skerry.Options{Devices: 4, Only: "C20", Seed: 51})
	ctx := patience(t)
	data := skerry.Data()
	data.Key, data.Name = "quay-site", "Quay"
	if _, err := r.c.AddSite(ctx, data); err != nil {
		t.Fatal(err)
	}
	redstart := r.with(t)
	redstart(0, []string{"The site uses quay"}, "find", "plug", "quay", "--site", "quay-site")
	redstart(0, []string{"simulated site", "quay-site", "skerry-point"}, "find", "segments")
	sites := []*client.Client{r.c, r.c.At("quay-site")}
	plans := [][]byte{r.site.Plan(), far.Plan()}
	both := func(what string, do func(i int, c *client.Client) error) {
		t.Helper()
		var all sync.WaitGroup
		for i, c := range sites {
			all.Add(1)
			go func() {
				defer all.Done()
				if err := do(i, c); err != nil {
					t.Errorf("%s on site %d: %v", what, i, err)
				}
			}()
		}
		if all.Wait(); t.Failed() {
			t.FailNow()
		}
	}
	work := func(begin func(c *client.Client) (api.Work, error)) func(int, *client.Client) error {
		return func(i int, c *client.Client) error {
			w := follow(t, c, func(context.Context) (api.Work, error) { return begin(c) }, nil)
			if w.State != state.Done || w.Failed > 0 {
				t.Errorf("site %d: %+v", i, w)
			}
			return nil
		}
	}
	both("planning", func(i int, c *client.Client) error {
		_, err := c.Import(ctx, plans[i], api.ImportOptions{})
		return err
	})
	both("finding", work(func(c *client.Client) (api.Work, error) { return c.Find(ctx, api.FindOptions{}) }))
	both("matching", func(i int, c *client.Client) error {
		found, err := c.Devices(ctx)
		if len(found.Devices) != 4 {
			t.Errorf("site %d found %d boxes", i, len(found.Devices))
		}
		if err == nil {
			_, err = c.Accept(ctx, api.Acceptance{Reasons: match.Reasons})
		}
		return err
	})
	both("commissioning", work(func(c *client.Client) (api.Work, error) {
		return c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	}))
	both("verifying", work(func(c *client.Client) (api.Work, error) {
		return c.Verify(ctx, api.VerifyOptions{Chosen: chosen(nil)})
	}))
	boxes := [][]address.MAC{}
	for _, of := range []*skerry.Site{r.site, far} {
		var macs []address.MAC
		for _, b := range of.Boxes {
			macs = append(macs, b.MAC)
			if !strings.HasPrefix(b.Running().Address.String(), "10.40.") {
				t.Errorf("%s is at %s", b.MAC, b.Running().Address)
			}
		}
		boxes = append(boxes, macs)
	}
	for i, wire := range wires {
		for to := range wire.to {
			if slices.Contains(boxes[1-i], to) {
				t.Errorf("a frame for %s went out on the wrong wire", to)
			}
		}
		for _, mac := range boxes[i] {
			if !wire.to[mac] {
				t.Errorf("nothing was sent to %s", mac)
			}
		}
	}
	// It is unplugged and plugged in again while it runs; the site keeps to its segment.
	redstart(0, []string{"The service left quay"}, "find", "unplug", "quay")
	redstart(1, []string{"the service is not plugged into quay, which this site uses"}, "find", "--site", "quay-site")
	redstart(0, nil, "find", "--site", "skerry-point")
	// A site that uses the first one without naming it never finds itself on another.
	redstart(0, nil, "find", "plug", "simulated site", "--site", "quay-site")
	redstart(0, []string{"The service left simulated site"}, "find", "unplug", "simulated site")
	redstart(1, []string{"the service is not plugged into simulated site"}, "find", "--site", "skerry-point")
}

// A segment that is a virtual LAN on the same wire as another.
func TestAVirtualLANIsASegment(t *testing.T) {
	t.Parallel()
	// The boxes hang on a switch whose uplink carries them as number 108.
	var uplink segment.Segment
	switched := address.MAC{2, 0x52, 0x53, 0, 0, 9}
	on := func(id uint16) func(lan.Port) lan.Port {
		return func(down lan.Port) lan.Port {
			up := vlan.On(uplink.Attach(switched, 1<<12), 108)
			ended := make(chan struct{})
			go func() { defer close(ended); segment.Bridge(down, up) }()
			t.Cleanup(func() { up.Close(); <-ended })
			return vlan.On(uplink.Attach(down.MAC(), 1<<12), id)
		}
	}
	r := startAs(t, &rig{wrap: on(108)}, skerry.Options{Devices: 3, Seed: 53})
	r.upToVerify()
	r.allVerified()
	for _, id := range []uint16{vlan.None, 107} {
		r.stop()
		r.wrap = on(id)
		r.serve(r.site.Attach())
		if w := r.find(); !strings.HasPrefix(w.Text, "0 devices") {
			t.Errorf("heard on number %d: %s", id, w.Text)
		}
	}
}
