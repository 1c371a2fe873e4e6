package e2e

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/state"
	"redstart/internal/sim/model/fs5"
	"redstart/internal/sim/skerry"
)

// mostKills is at how many random points the service is killed.
const mostKills = 200

// BenchmarkKills kills the service at random points of two runs side by side and starts it
// again, until it was killed often enough, over boxes of every model that can be set.
// Nothing may be lost: each run goes on as the same run, and in the end every device is
// verified. It tells how long a start takes.
func BenchmarkKills(b *testing.B) {
	for range b.N {
		random := rand.New(rand.NewPCG(7, 7))
		var starts []time.Duration
		for seed := uint64(100); len(starts) < mostKills; seed++ {
			site := skerry.Start(skerry.Options{Devices: 24, Every: true, Seed: seed, Pace: quick})
			starts = append(starts, killedUntilDone(b, site, random)...)
			site.Close()
		}
		slices.Sort(starts)
		b.Logf("%d kills; a start takes %v, at most %v", len(starts), starts[len(starts)/2], starts[len(starts)-1])
		b.ReportMetric(float64(starts[len(starts)/2].Milliseconds()), "start-ms")
		b.ReportMetric(float64(len(starts)), "kills")
	}
}

// killedUntilDone does a whole job with a service that is killed at random points of
// its run, and gives how long each start after a kill took.
func killedUntilDone(b *testing.B, site *skerry.Site, random *rand.Rand) (starts []time.Duration) {
	b.Helper()
	dir := b.TempDir()
	serve := []string{os.Args[0], "serve", "--listen", "127.0.0.1:0", "--vxlan", offer(b, site)}
	lines := plugLines(b, site)
	for _, l := range lines {
		serve = append(serve, "--line", l.Name)
	}
	p := spawn(b, "Segment:", dir, serve...)
	c := open(b, dir)
	toMatched(b, c, labelled(b, site, nil))
	beside := []netip.Addr{fs5.Factory.Address.Addr()}
	entries, err := c.Entries(patience(b))
	if err != nil {
		b.Fatal(err)
	}
	halves := [2][]string{}
	for i, e := range entries {
		half := i % 2
		if slices.Contains([]string{"tolvern-d1", "tolvern-d4", "tolvern-m7", "tolvern-v2", "ovalis-c20", "ovalis-r16"}, e.Profile) {
			half = 0 // they come after each other
		}
		halves[half] = append(halves[half], e.Tag)
	}
	begin := func(ctx context.Context) (w api.Work, err error) {
		for _, tags := range halves {
			if err == nil {
				w, err = c.Commission(ctx, api.RunOptions{Chosen: chosen(tags), OtherServers: beside, Lines: onLines(b, c, lines, tags)})
			}
		}
		return w, err
	}
	for {
		// Later and later, or it would never get beyond what it repeats after each kill.
		end := handsOf(site, c)
		killAfter(b, p, c, begin, 1+random.IntN(20+20*len(starts)))
		_ = end() // they lost the service
		began := time.Now()
		p = spawn(b, "Segment:", dir, serve...)
		starts = append(starts, time.Since(began))
		c = open(b, dir)
		open, done := []int64{}, 0
		for id := int64(1); id <= 2; id++ {
			switch run, err := c.Run(patience(b), id); {
			case err != nil:
				b.Fatalf("run %d is lost: %v", id, err)
			case run.State == state.Interrupted:
				open = append(open, id)
			case run.State == state.Done:
				done++
			case run.State == state.Running, run.State == state.Parked: // only hands are left in it: it went on by itself
			default:
				b.Fatalf("after kill -9 run %d is %s", id, run.State)
			}
		}
		if done == 2 {
			break
		}
		begin = func(ctx context.Context) (w api.Work, err error) {
			for _, id := range open {
				if err == nil {
					w, err = c.Resume(ctx, id)
				}
			}
			if runs, fault := c.OpenRuns(ctx); err == nil && fault == nil && len(runs) == 0 {
				err = errOver
			}
			return w, err
		}
	}
	follow(b, c, func(ctx context.Context) (api.Work, error) {
		return c.Verify(ctx, api.VerifyOptions{Chosen: chosen(nil)})
	}, nil)
	if entries, err = c.Entries(patience(b)); err != nil {
		b.Fatal(err)
	}
	for _, e := range entries {
		if e.State != state.Verified && len(e.Unseen) == 0 {
			b.Errorf("%s is %s: %s", e.Tag, e.State, e.Reason)
		}
	}
	p.kill()
	return starts
}
