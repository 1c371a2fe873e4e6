package e2e

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/match"
	"redstart/internal/core/state"
	"redstart/internal/lan/faults"
	"redstart/internal/segments"
	"redstart/internal/sim/skerry"
	"redstart/internal/survey"
)

// memoryOf tells what a process takes of the machine now, and the most that it ever took, in bytes.
func memoryOf(t testing.TB, pid int) (now, most int64) {
	t.Helper()
	file, err := os.Open(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		for name, to := range map[string]*int64{"VmRSS:": &now, "VmHWM:": &most} {
			if rest, is := strings.CutPrefix(lines.Text(), name); is {
				if _, err := fmt.Sscanf(rest, "%d", to); err != nil {
					t.Fatal(err)
				}
				*to <<= 10
			}
		}
	}
	return now, most
}

const mib = 1 << 20

// BenchmarkMemory has a service in a process of its own set and verify many devices, and tells what
// it takes of the machine: at its peak, and once it has nothing to do.
func BenchmarkMemory(b *testing.B) {
	for range b.N {
		for _, n := range []int{100, 500} {
			site := skerry.Start(skerry.Options{Devices: n, Seed: 33})
			dir := b.TempDir()
			p := spawn(b, "Segment:", dir, os.Args[0], "serve", "--listen", "127.0.0.1:0", "--vxlan", offer(b, site))
			c := open(b, dir)
			ctx := patience(b)
			if _, err := c.AddSite(ctx, site.Data()); err != nil {
				b.Fatal(err)
			}
			if _, err := c.Import(ctx, site.Plan(), api.ImportOptions{}); err != nil {
				b.Fatal(err)
			}
			follow(b, c, func(ctx context.Context) (api.Work, error) { return c.Find(ctx, api.FindOptions{}) }, nil)
			if _, err := c.Accept(ctx, api.Acceptance{Reasons: match.Reasons}); err != nil {
				b.Fatal(err)
			}
			follow(b, c, func(ctx context.Context) (api.Work, error) {
				return c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
			}, nil)
			follow(b, c, func(ctx context.Context) (api.Work, error) {
				return c.Verify(ctx, api.VerifyOptions{Chosen: chosen(nil)})
			}, nil)
			set := 0
			entries, err := c.Entries(ctx)
			if err != nil {
				b.Fatal(err)
			}
			for _, e := range entries {
				if e.State == state.Verified {
					set++
				}
			}
			_, most := memoryOf(b, p.cmd.Process.Pid)
			rest, end := time.Now(), time.NewTimer(40*time.Second)
			now := most
			for tick := time.NewTicker(2 * time.Second); ; {
				select {
				case <-tick.C:
					now, _ = memoryOf(b, p.cmd.Process.Pid)
					continue
				case <-end.C:
					tick.Stop()
				}
				break
			}
			b.Logf("%d devices, %d verified: %d MiB at its peak, %d MiB after %.0f s of rest", n, set, most/mib, now/mib, time.Since(rest).Seconds())
			b.ReportMetric(float64(most/mib), fmt.Sprintf("peak-MiB-%d", n))
			b.ReportMetric(float64(now/mib), fmt.Sprintf("rest-MiB-%d", n))
			p.kill()
			site.Close()
		}
	}
}

// BenchmarkTenSegments surveys ten segments of one service side by side, with 2 % of the frames
// lost. Every box is found. The boxes are in the same process, and each hears each broadcast of its
// segment, as on a wire: of a thousand on one segment that is by far the most of the work.
func BenchmarkTenSegments(b *testing.B) {
	const count = 10
	for range b.N {
		for _, each := range []int{100, 1000} {
			site := func(i int) skerry.Options {
				return skerry.Options{Devices: each, Only: "C20", Seed: uint64(60 + i), Pace: quick, Faults: faults.Faults{Loss: 0.02}}
			}
			r := &rig{}
			var sites []*skerry.Site
			for i := 1; i < count; i++ {
				s := skerry.Start(site(i))
				sites = append(sites, s)
				r.more = append(r.more, segments.Plug{Name: fmt.Sprintf("segment %d", i), Port: s.Attach()})
			}
			startAs(b, r, site(0))
			ctx := patience(b)
			began, cpu := time.Now(), processor(b)
			var all sync.WaitGroup
			found := make([]int, count)
			for i := range count {
				key := skerry.Data().Key
				if i > 0 {
					data := skerry.Data()
					data.Key, data.Name, data.Subnets = fmt.Sprintf("site-%d", i), fmt.Sprintf("Site %d", i), nil
					if _, err := r.c.AddSite(ctx, data); err != nil {
						b.Fatal(err)
					}
					key = data.Key
				}
				at, err := r.s.At(ctx, key)
				if err == nil && i > 0 {
					err = at.Segment.Use(ctx, fmt.Sprintf("segment %d", i))
				}
				if err != nil {
					b.Fatal(err)
				}
				all.Go(func() {
					a, err := at.Jobs.Find(ctx, "x", api.FindOptions{Pace: survey.Normal})
					if err == nil {
						_, err = r.s.Works.Outcome(ctx, a.ID)
					}
					seg, err2 := at.Jobs.Devices(ctx)
					if err != nil || err2 != nil {
						b.Error(err, err2)
					}
					found[i] = len(seg.Devices)
				})
			}
			all.Wait()
			took, spent := time.Since(began), processor(b)-cpu
			sum, of := 0, count*each
			for _, n := range found {
				sum += n
			}
			b.Logf("%d of %d found on %d segments in %.1f s, with %.1f s of processor, boxes included", sum, of, count, took.Seconds(), spent.Seconds())
			b.ReportMetric(float64(sum), fmt.Sprintf("found-of-%d", of))
			if sum != of {
				b.Errorf("%d of %d were found", sum, of)
			}
			r.stop()
			for _, s := range sites {
				s.Close()
			}
			r.site.Close()
		}
	}
}
