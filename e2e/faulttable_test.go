package e2e

import (
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/state"
	"redstart/internal/lan/faults"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/skerry"
)

const faultTable = "../docs/faults.md"

// Every fault at every model ends verified, or explained; verified is only what truly is as
// planned after a power cut. With FAULTS=write in its environment it makes the table in docs
// (make faults); without, it is left out, since it takes minutes.
func TestTheTableOfFaults(t *testing.T) {
	if os.Getenv("FAULTS") != "write" {
		t.Skip("the table of faults is made by: make faults")
	}
	kinds := []struct {
		name   string
		faults box.Faults
		loss   float64 // of the frames of every device
	}{
		{"none", box.Faults{}, 0},
		{"a fifth of the frames is lost", box.Faults{}, 0.2},
		{"never returns", box.Faults{NeverReturns: true}, 0},
		{"returns at its old address", box.Faults{OldAddress: true}, 0},
		{"refuses the password", box.Faults{RefusesPassword: true}, 0},
		{"loses its answer", box.Faults{Mute: true}, 0},
		{"applies at once, forgets at a power cut", box.Faults{AppliesAtOnce: true}, 0},
		{"only pretends to restart", box.Faults{Pretends: true, AppliesAtOnce: true}, 0},
		{"answers after a second", box.Faults{Slow: time.Second}, 0},
		{"answers after eight seconds", box.Faults{Slow: 8 * time.Second}, 0},
		{"goes dark at its second write", box.Faults{GoesDark: 2}, 0},
		{"tells another serial", box.Faults{OtherSerial: true}, 0},
		{"has a login that nobody knows", box.Faults{Locked: true}, 0},
	}
	mostPatience = time.Hour                          // devices that answer after eight seconds take theirs
	cells := make([][]string, len(kinds))             // by fault, then model
	said, models := []string{}, map[string][]string{} // first sentences in their order, and whose they are
	for i, kind := range kinds {
		t.Run(kind.name, func(t *testing.T) {
			broken := map[int]box.Faults{}
			for n := range all.Stock {
				broken[n] = kind.faults
			}
			var profiles []string
			for _, s := range all.Stock {
				if kind.faults.Slow <= time.Second && kind.loss == 0 { // else as patient as it is bundled
					profiles = append(profiles, impatient(t, s.Profile))
				}
			}
			r := start(t, skerry.Options{Devices: len(all.Stock), Every: true, Seed: 500 + uint64(i), Broken: broken,
				Faults: faults.Faults{Loss: kind.loss}}, profiles...)
			r.upTo(t, r.labelled(t, func(row map[string]string, b *box.Box) {
				row["tag"], row["shows"], row["after"], row["trunk"], row["cameras"] = b.Model.Name, "", "", "", ""
				row["rings-at"] = strings.Replace(row["rings-at"], "BERTH1-MON-01", "M7", 1)
			}))
			end := handsOf(r.site, r.c)
			r.besideDeskSwitches()
			if slices.ContainsFunc(slices.Collect(maps.Values(r.entries())), func(e api.EntryView) bool {
				return e.State == state.Configured
			}) {
				r.verify()
			}
			if err := end(); err != nil {
				t.Errorf("the hands: %v", err)
			}
			entries := r.entries()
			for _, b := range r.site.Boxes {
				e := entries[b.Model.Name]
				cells[i] = append(cells[i], outcome(e))
				if e.State == state.Attention {
					first, _, _ := strings.Cut(e.Reason, ". ")
					key := kind.name + "\x00" + waited.ReplaceAllString(strings.TrimSuffix(first, "."), "")
					if models[key] == nil {
						said = append(said, key)
					}
					models[key] = append(models[key], b.Model.Name)
				}
				if e.State == state.Verified && (b.Saved().Address.Addr() != e.Address || b.Saved().Name != e.Name) {
					t.Errorf("%s, %s: verified, and after a power cut it has %s, %s", kind.name, b.Model.Name, b.Saved().Address,
						b.Saved().Name)
				}
				if e.State == state.Attention && strings.TrimSpace(e.Reason) == "" {
					t.Errorf("%s, %s: needs attention, and nothing says why", kind.name, b.Model.Name)
				}
			}
		})
	}
	var out strings.Builder
	out.WriteString("# What becomes of faults\n\nMade by `make faults`: each simulated model with each fault, commissioned and verified, hands answered at once.\n" +
		"**verified** was shown to be as planned, after a power cut too; *explained* ended with a reason for the technician; *not looked at*\n" +
		"names what nobody could observe; *left out* was in no run, with a finding that says why.\n\n| fault |")
	for _, s := range all.Stock {
		out.WriteString(" " + s.Model.Name + " |")
	}
	out.WriteString("\n|---|" + strings.Repeat("---|", len(all.Stock)) + "\n")
	for i, kind := range kinds {
		fmt.Fprintf(&out, "| %s | %s |\n", kind.name, strings.Join(cells[i], " | "))
	}
	out.WriteString("\n## The explanations\n\nTheir first sentence; where the device is now and what to do follow.\n\n")
	for _, key := range said {
		kind, text, _ := strings.Cut(key, "\x00")
		fmt.Fprintf(&out, "- %s, %s: %s\n", kind, strings.Join(models[key], " "), text)
	}
	if err := os.WriteFile(faultTable, []byte(out.String()), 0o644); err != nil {
		t.Fatal(err)
	}
}

// waited is how long something took, which differs from run to run.
var waited = regexp.MustCompile(`, after \d+ s`)

func outcome(e api.EntryView) string {
	switch {
	case e.State == state.Verified:
		return "**verified**"
	case e.State == state.Attention:
		return "explained"
	case e.State == state.Matched || e.State == state.Planned:
		return "left out"
	case len(e.Unseen) > 0:
		return "not looked at: " + strings.Join(e.Unseen, ", ")
	}
	return string(e.State)
}
