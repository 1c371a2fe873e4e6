package e2e

import (
	"context"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
)

// mostKills is at how many random points the service is killed.
const mostKills = 200

// BenchmarkKills kills the service at random points of its runs and starts it again,
// until it was killed often enough, over boxes of every model that can be set. Nothing
// may be lost: each run goes on as the same run, and in the end every device is
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
	p := spawn(b, "Segment:", dir, serve...)
	c, ctx := open(b, dir), patience(b)
	toMatched(b, c, site)
	begin := func(ctx context.Context) (api.Work, error) {
		return c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	}
	for {
		// Later and later, or it would never get beyond what it repeats after each kill.
		killAfter(b, p, c, begin, 1+random.IntN(20+20*len(starts)))
		began := time.Now()
		p = spawn(b, "Segment:", dir, serve...)
		starts = append(starts, time.Since(began))
		c = open(b, dir)
		run, ok, err := c.LatestRun(ctx)
		if err != nil || !ok || run.ID != 1 {
			b.Fatalf("the run is lost: %+v, %v", run, err)
		}
		if run.State == store.Done {
			break
		}
		if run.State != store.Interrupted {
			b.Fatalf("after kill -9 the run is %s", run.State)
		}
		begin = func(ctx context.Context) (api.Work, error) { return c.Resume(ctx, 1) }
	}
	follow(b, c, func(ctx context.Context) (api.Work, error) {
		return c.Verify(ctx, api.VerifyOptions{Chosen: chosen(nil)})
	}, nil)
	entries, err := c.Entries(ctx)
	if err != nil {
		b.Fatal(err)
	}
	for _, e := range entries {
		if e.State != store.Verified {
			b.Errorf("%s is %s: %s", e.Tag, e.State, e.Reason)
		}
	}
	p.kill()
	return starts
}
