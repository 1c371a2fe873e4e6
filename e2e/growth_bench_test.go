package e2e

import (
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
)

// mostGrowth is how fast what a person does may grow with the entries: a little more than they.
const mostGrowth = 1.1

// mostAction is how long anything that a person does to 5,000 entries may take.
const mostAction = 5 * time.Second

// BenchmarkActions does what a person does at 500 and at 5,000 entries with as many boxes found,
// through the API, and compares: processor time, and how fast it grows.
func BenchmarkActions(b *testing.B) {
	for range b.N {
		const few, many = 500, 5000
		small, large := actionsAt(b, few), actionsAt(b, many)
		for _, s := range small.order {
			exponent := math.Log(large.took[s].Seconds()/small.took[s].Seconds()) / math.Log(float64(many)/few)
			b.Logf("%-28s %8.1f ms at %d, %8.1f ms at %d: grows with n^%.2f", s, ms(small.took[s]), few, ms(large.took[s]), many,
				exponent)
			b.ReportMetric(exponent, strings.ReplaceAll(s, " ", "-")+"-exponent")
			// What takes next to nothing tells no exponent.
			if exponent > mostGrowth && large.took[s] > 200*time.Millisecond {
				b.Errorf("%s grows with n^%.2f", s, exponent)
			}
			if large.took[s] > mostAction {
				b.Errorf("%s takes %s at %d", s, large.took[s], many)
			}
		}
	}
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// actions are what things took, in the order in which they were done.
type actions struct {
	b     *testing.B
	order []string
	took  map[string]time.Duration
}

// processor gives the time that the process has had of its processors.
func processor(b *testing.B) time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// measure does something as often as told, and keeps the least that once took of the processor.
func (a *actions) measure(what string, times int, do func(i int) error) {
	a.b.Helper()
	least := time.Duration(math.MaxInt64)
	for i := range times {
		runtime.GC() // what was left by something else is not its work
		began := processor(a.b)
		if err := do(i); err != nil {
			a.b.Fatal(what, err)
		}
		least = min(least, processor(a.b)-began)
	}
	a.order = append(a.order, what)
	a.took[what] = least
}

// actionsAt does everything once on a site with n entries and n boxes.
func actionsAt(b *testing.B, n int) *actions {
	b.Helper()
	r := start(b, skerry.Options{Devices: 1})
	defer r.stop()
	ctx := patience(b)
	a := &actions{b: b, took: map[string]time.Duration{}}
	found := r.crowd(b, n, func(do func() error) { a.measure("import", 1, func(int) error { return do() }) })
	a.measure("list of entries", 3, func(int) error { _, err := r.c.Entries(ctx); return err })
	a.measure("list of devices", 3, func(int) error { _, err := r.c.Devices(ctx); return err })
	a.measure("findings", 3, func(int) error { _, err := r.c.Findings(ctx); return err })
	a.measure("proposals", 3, func(int) error {
		p, err := r.c.Proposals(ctx)
		if err == nil && len(p.Proposals) != n {
			err = fmt.Errorf("%d proposals", len(p.Proposals))
		}
		return err
	})
	cell := func(key, to string) func(int) error {
		return func(i int) error {
			_, err := r.c.Edit(ctx, api.Edits{Patches: []plan.Patch{{Tag: fmt.Sprintf("CAM-%05d", i), Set: map[string]string{key: fmt.Sprint(to, i)}}}}, false)
			return err
		}
	}
	a.measure("one cell", 10, cell("place", "Quay "))
	a.measure("one match", 10, func(i int) error {
		return r.c.Match(ctx, fmt.Sprintf("CAM-%05d", i), api.MatchWith{MAC: found[i].MAC})
	})
	a.measure("undo of a cell", 3, func(int) error {
		list, err := r.c.Revisions(ctx)
		if err != nil {
			return err
		}
		for _, v := range list {
			if v.May == "undo" {
				_, err := r.c.Undo(ctx, fmt.Sprint(v.ID))
				return err
			}
		}
		return fmt.Errorf("nothing can be undone")
	})
	a.measure("accept all", 1, func(int) error {
		list, err := r.c.Accept(ctx, api.Acceptance{Reasons: match.Reasons})
		if err == nil && len(list) != n-10 {
			err = fmt.Errorf("%d accepted", len(list))
		}
		return err
	})
	a.measure("one cell, all matched", 10, cell("place", "Mole "))
	a.measure("rehearsal", 3, func(int) error {
		_, err := r.c.Rehearse(ctx, api.RunOptions{Chosen: chosen(nil)})
		return err
	})
	a.measure("all cells of a column", 1, func(int) error {
		var list []plan.Patch
		for i := range n {
			list = append(list, plan.Patch{Tag: fmt.Sprintf("CAM-%05d", i), Set: map[string]string{"area": "Pier"}})
		}
		_, err := r.c.Edit(ctx, api.Edits{Patches: list}, false)
		return err
	})
	a.measure("export", 3, func(int) error { _, err := r.c.Export(ctx, planfile.CSV, ""); return err })
	return a
}

// crowd gives the site n entries and n boxes that were found, every second of which a serial in
// the plan names; imports has the plan imported.
func (r *rig) crowd(b *testing.B, n int, imports func(func() error)) []*device.Found {
	b.Helper()
	ctx := patience(b)
	site := skerry.Data()
	site.Subnets[0].Prefix, site.Subnets[0].Ranges = netip.MustParsePrefix("10.40.0.0/16"), nil
	if err := r.c.SetSite(ctx, site); err != nil {
		b.Fatal(err)
	}
	var csv strings.Builder
	csv.WriteString("tag,profile,place,serial\n")
	serial := func(i int) string { return fmt.Sprintf("OV20-%06d", i) }
	for i := range n {
		named := ""
		if i%2 == 0 {
			named = serial(i)
		}
		fmt.Fprintf(&csv, "CAM-%05d,ovalis-c20,Pier,%s\n", i, named)
	}
	imports(func() error {
		_, err := r.c.Import(ctx, []byte(csv.String()), api.ImportOptions{})
		return err
	})
	records, err := r.s.At(ctx, "skerry-point")
	if err != nil {
		b.Fatal(err)
	}
	now := time.Now()
	var found []*device.Found
	for i := range n {
		mac := address.MAC{0x0a, 0x4f, 0x56}
		var number [4]byte
		binary.BigEndian.PutUint32(number[:], uint32(i))
		copy(mac[3:], number[1:])
		f := &device.Found{Profile: "ovalis-c20", Sure: 90, State: device.Factory}
		f.Add(device.Sighting{MAC: mac, Protocol: "arp", At: now, Facts: map[string]string{fact.Address: "192.168.77.20"}})
		f.Add(device.Sighting{MAC: mac, Protocol: "web", At: now, Facts: map[string]string{fact.Serial: serial(i), fact.Model: "C20"}})
		found = append(found, f)
	}
	if err := records.Records.SaveDevices(ctx, nil, found...); err != nil {
		b.Fatal(err)
	}
	if _, err := records.Records.AddSurvey(ctx, store.Survey{Began: stamp.Time{Time: now.Add(-time.Second)}, Ended: stamp.Now(),
		State: state.Done, Found: n}); err != nil {
		b.Fatal(err)
	}
	return found
}
