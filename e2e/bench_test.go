package e2e

import (
	"context"
	"fmt"
	"testing"
	"time"

	"redstart/internal/service"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
)

// factoryToVerified does the whole job for n cameras that share one factory
// address, through the API, and gives how long it took from the first probe to
// the last check.
func factoryToVerified(b *testing.B, n int) (whole, commission time.Duration) {
	b.Helper()
	r := start(b, skerry.Options{Devices: n, Only: "C20", Seed: 20, Pace: 1})
	r.plan(string(r.site.Plan()))
	began := time.Now()
	r.find()
	if _, err := r.c.Accept(patience(b), nil); err != nil {
		b.Fatal(err)
	}
	set := time.Now()
	follow(b, r.c, func(ctx context.Context) (service.Activity, error) { return r.c.Commission(ctx, nil) }, nil)
	commission = time.Since(set)
	r.verify()
	whole = time.Since(began)
	for tag, e := range r.entries() {
		if e.State != store.Verified {
			b.Fatalf("%s is %s: %s", tag, e.State, e.Reason)
		}
	}
	return whole, commission
}

// BenchmarkSharedAddress compares many cameras that share one factory address
// with one camera, within one run, restarts included.
func BenchmarkSharedAddress(b *testing.B) {
	for range b.N {
		one, oneSet := factoryToVerified(b, 1)
		b.Logf("%4d camera:  %6.2f s, of which the run %6.2f s", 1, one.Seconds(), oneSet.Seconds())
		for _, n := range []int{10, 100, 500} {
			many, set := factoryToVerified(b, n)
			b.Logf("%4d cameras: %6.2f s, of which the run %6.2f s; %.2f and %.2f times one", n, many.Seconds(), set.Seconds(), many.Seconds()/one.Seconds(), set.Seconds()/oneSet.Seconds())
			b.ReportMetric(many.Seconds()/one.Seconds(), fmt.Sprintf("x%d/one", n))
			b.ReportMetric(set.Seconds()/oneSet.Seconds(), fmt.Sprintf("run-x%d/one", n))
		}
	}
}
