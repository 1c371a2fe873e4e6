package store_test

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/sim/skerry"
	"redstart/internal/store"
)

// sizeOf is what a data folder takes of the disk, in bytes.
func sizeOf(t testing.TB, dir string) (sum int64) {
	t.Helper()
	err := filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		sum += info.Size()
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return sum
}

// BenchmarkYear keeps what a service keeps that looks at many devices each night for a year, and
// compares what its answers take then with what they took after the first night.
func BenchmarkYear(b *testing.B) {
	const devices, nights, ahead = 1000, 365, 25 // checks of each device
	for range b.N {
		dir := b.TempDir()
		records, err := store.Open(ctx, dir)
		if err != nil {
			b.Fatal(err)
		}
		s, err := records.AddSite(ctx, skerry.Data(), "owner")
		if err == nil {
			err = add(s, entries(0))
		}
		var edits []store.Edit
		var matches []store.Match
		var seen []device.Seen
		var found []*device.Found
		macs := make([]address.MAC, devices)
		for i, e := range entries(devices) {
			macs[i] = address.MAC{2, 0, 0, byte(i >> 16), byte(i >> 8), byte(i)}
			e.Tag = fmt.Sprintf("CAM-%04d", i)
			edits = append(edits, store.Edit{After: &e})
			matches = append(matches, store.Match{Tag: e.Tag, MAC: macs[i], By: "mac"})
			seen = append(seen, device.Seen{MAC: macs[i]})
			f := &device.Found{}
			f.Add(device.Sighting{MAC: macs[i], Protocol: "arp", At: time.Now().UTC(), Facts: map[string]string{"address": "10.0.0.1"}})
			found = append(found, f)
		}
		if err == nil {
			_, err = s.Revise(ctx, "owner", "planned", store.Changes{Edits: edits, Matches: matches})
		}
		if err == nil {
			err = s.SaveDevices(ctx, nil, found...)
		}
		if err != nil {
			b.Fatal(err)
		}
		checks := make([]result.Check, ahead)
		for i := range checks {
			checks[i] = result.Check{Name: fmt.Sprintf("check %d", i), Expected: "as planned", Observed: "as planned", Verdict: result.Passed,
				By: "credential 1 of operator, made 2026-11-30 12:00 by run 1", At: time.Now()}
		}
		night := func() {
			now := stamp.Now()
			if _, err := s.AddSurvey(ctx, store.Survey{Began: now, Ended: now, Who: "the service", State: state.Done, Found: devices, Seen: seen,
				Changes: []device.Change{}}); err != nil {
				b.Fatal(err)
			}
			var all sync.WaitGroup
			slots := make(chan struct{}, 64)
			for i := range devices {
				slots <- struct{}{}
				all.Go(func() {
					defer func() { <-slots }()
					if err := s.SetChecks(ctx, edits[i].After.Tag, macs[i], checks, state.Verified, "", "the service"); err != nil {
						b.Error(err)
					}
				})
			}
			all.Wait()
			if err := s.SaveDevices(ctx, nil, found...); err != nil {
				b.Fatal(err)
			}
			if err := s.NoteFindings(ctx, nil, "the service", "a look"); err != nil {
				b.Fatal(err)
			}
		}
		answers := func() map[string]time.Duration {
			took := map[string]time.Duration{}
			measure := func(what string, do func() error) {
				least := time.Hour
				for range 5 {
					began := time.Now()
					if err := do(); err != nil {
						b.Fatal(err)
					}
					least = min(least, time.Since(began))
				}
				took[what] = least
			}
			measure("history of an entry", func() error { _, err := s.History(ctx, "CAM-0500"); return err })
			measure("checks of all", func() error { _, err := s.AllChecks(ctx); return err })
			measure("surveys", func() error { _, err := s.Surveys(ctx, 200); return err })
			measure("the last survey", func() error { _, _, err := s.LastSurvey(ctx); return err })
			measure("what was done", func() error { _, err := s.Acts(ctx); return err })
			return took
		}
		night()
		first, size := answers(), sizeOf(b, dir)
		for range nights - 1 {
			night()
		}
		last, grown := answers(), sizeOf(b, dir)
		b.Logf("%d nightly looks at %d devices: %d MiB after the first, %d MiB after the last", nights, devices, size>>20, grown>>20)
		b.ReportMetric(float64(grown>>20), "MiB")
		for what, took := range last {
			b.Logf("%-20s %8.2f ms after the first night, %8.2f ms after the last", what, float64(first[what].Microseconds())/1000, float64(took.Microseconds())/1000)
		}
		if grown > 500<<20 {
			b.Errorf("the records take %d MiB", grown>>20)
		}
		if err := records.Close(); err != nil {
			b.Fatal(err)
		}
	}
}
