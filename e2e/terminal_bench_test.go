package e2e

import (
	"context"
	"net/netip"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/state"
	"redstart/internal/sim/model/fs5"
	"redstart/internal/sim/model/w1"
	"redstart/internal/sim/skerry"
	"redstart/profiles"
)

// BenchmarkWholeTerminal compares commissioning the whole terminal, all families and what
// hangs behind them, hands answered at once, with commissioning alone what ended last with
// all that comes before it: its slowest chain.
func BenchmarkWholeTerminal(b *testing.B) {
	for range b.N {
		whole, run := terminalSet(b, nil, nil)
		last := slices.MaxFunc(run.Devices, func(x, y api.RunDevice) int { return x.EndedAt.Compare(y.EndedAt.Time) })
		chain := before(b, last.Tag)
		alone, _ := terminalSet(b, chain, nil)
		b.Logf("the whole terminal, %d devices: %.1f s; its slowest chain, %s with %d before it: %.1f s",
			len(run.Devices), whole.Seconds(), last.Tag, len(chain)-1, alone.Seconds())
		b.ReportMetric(whole.Seconds()/alone.Seconds(), "x-slowest-chain")
		b.ReportMetric(whole.Seconds(), "s-whole")
	}
}

// BenchmarkTheNextService compares verifying the whole terminal from a service that knows it by
// a sealed file alone with verifying it from the one that set it, and that both find the same.
func BenchmarkTheNextService(b *testing.B) {
	verified := func(r *rig) (list []string, took time.Duration) {
		began := time.Now()
		r.verify()
		took = time.Since(began)
		for tag, e := range r.entries() {
			if e.State == state.Verified {
				list = append(list, tag)
			}
		}
		slices.Sort(list)
		return list, took
	}
	for range b.N {
		terminalSet(b, nil, func(r *rig) {
			first, own := verified(r)
			identity, public := keyFile(b)
			sealed := filepath.Join(b.TempDir(), "site.age")
			for _, args := range [][]string{{"--data", r.dir, "site", "export", sealed, "--recipient", public}} {
				if out, errs, code := runIn(nil, "", args...); code != 0 {
					b.Fatal(out, errs)
				}
			}
			r.stop()
			next := r.colleague(b)
			if out, errs, code := runIn(nil, "", "--data", next.dir, "site", "import", sealed, "--identity", identity, "--as", "next"); code != 0 {
				b.Fatal(out, errs)
			}
			next.c = next.c.At("next")
			second, theirs := verified(next)
			for tag, e := range next.entries() {
				if e.State != state.Verified && slices.Contains(first, tag) {
					b.Errorf("%s is %s: %s %v", tag, e.State, e.Reason, e.Differs)
				}
			}
			b.Logf("%d verified in %.1f s by the service that set them, %d in %.1f s by the next", len(first), own.Seconds(), len(second), theirs.Seconds())
			b.ReportMetric(theirs.Seconds()/own.Seconds(), "x-own")
		})
	}
}

// before lists an entry of the terminal's plan and all that is set before it.
func before(b *testing.B, tag string) []string {
	b.Helper()
	set, _, err := profiles.Load("")
	if err != nil {
		b.Fatal(err)
	}
	site := skerry.Start(skerry.Options{Seed: 1, Whole: true})
	defer site.Close()
	r := start(b, skerry.Options{Devices: 1, Seed: 2})
	r.plan(string(site.WholePlan()))
	p := plan.Plan{Site: skerry.Data(), Profiles: set}
	for _, e := range r.entries() {
		p.Entries = append(p.Entries, e.Entry.Entry)
	}
	chain := []string{tag}
	for i := 0; i < len(chain); i++ {
		at := slices.IndexFunc(p.Entries, func(e plan.Entry) bool { return e.Tag == chain[i] })
		for _, earlier := range p.Before(p.Entries[at]) {
			if !slices.Contains(chain, earlier) {
				chain = append(chain, earlier)
			}
		}
	}
	return chain
}

// terminalSet takes the whole terminal to matched, sets some entries of it (all for none), and
// gives how long that took, with the run. then is called before it is taken down.
func terminalSet(b *testing.B, tags []string, then func(*rig)) (time.Duration, api.Run) {
	b.Helper()
	r := start(b, skerry.Options{Seed: 1, Whole: true, Pace: 1})
	ctx := patience(b)
	r.plan(string(r.site.WholePlan()))
	r.find()
	r.likeSomebodyThere(b)
	for n := 1; n <= w1.Cards; n++ {
		if _, err := r.c.Scan(ctx, api.Scan{Text: w1.Card(n), Cards: true}); err != nil {
			b.Fatal(err)
		}
	}
	end := handsOf(r.site, r.c)
	began := time.Now()
	follow(b, r.c, func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen(tags), OtherServers: []netip.Addr{fs5.Factory.Address.Addr()},
			Lines: onLines(b, r.c, r.plugged, tags)})
	}, nil)
	took := time.Since(began)
	if err := end(); err != nil {
		b.Fatal(err)
	}
	run, _, err := r.c.LatestRun(ctx)
	if err != nil {
		b.Fatal(err)
	}
	for _, d := range run.Devices {
		if d.State != state.Done {
			b.Fatalf("%s is %s: %s", d.Tag, d.State, d.Error)
		}
	}
	if then != nil {
		then(r)
	}
	r.stop() // the next is measured alone
	r.site.Close()
	return took, run
}

// likeSomebodyThere plans other addresses where strangers hold the planned ones, resets the
// box that has none, matches what is certain and the rest as its label says, and notes what
// has not arrived.
func (r *rig) likeSomebodyThere(t testing.TB) {
	t.Helper()
	ctx := patience(t)
	findings, err := r.c.Findings(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var patches []plan.Patch
	for _, f := range findings {
		if f.Code == "address-living" {
			patches = append(patches, plan.Patch{Tag: f.Tag, Set: map[string]string{"address": plan.Next}})
		}
	}
	if err := r.patch(patches...); err != nil {
		t.Fatal(err)
	}
	if _, err := r.c.Accept(ctx, api.Acceptance{Reasons: match.Reasons}); err != nil {
		t.Fatal(err)
	}
	for _, o := range r.site.Others {
		if o.Tag != "" && o.Running().Address.Addr().Is6() {
			o.Reset()
		}
	}
	patches = nil
	for _, e := range r.entries() {
		if !e.Device.IsZero() || e.NotWired || e.Behind != "" {
			continue
		}
		if i := slices.IndexFunc(r.site.Others, func(o skerry.Other) bool { return o.Tag == e.Tag }); i >= 0 {
			if err := r.c.Match(ctx, e.Tag, api.MatchWith{MAC: r.site.Others[i].MAC}); err != nil {
				t.Fatal(err)
			}
			continue
		}
		patches = append(patches, plan.Patch{Tag: e.Tag, Set: map[string]string{"not-wired": "yes"}})
	}
	if err := r.patch(patches...); err != nil {
		t.Fatal(err)
	}
}
