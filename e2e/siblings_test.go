package e2e

import (
	"fmt"
	"strings"
	"testing"

	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/fs24"
	"redstart/internal/sim/model/fs8"
	"redstart/internal/sim/skerry"
)

// The configuration of one switch is kept and loaded into its sibling, which is then at the
// other's address and name, while that is there as well, until both are set.
func TestASiblingsConfiguration(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "FS24", Seed: 81}, impatient(t, "fennmark-fs24"))
	second := r.site.Boxes[1]
	r.upTo(t, r.labelled(t, func(row map[string]string, b *box.Box) {
		row["tag"] = "CORE-1"
		if b == second {
			row["tag"], row["ring-role"] = "CORE-2", "client"
		}
	}))
	redstart := r.with(t)
	redstart(1, []string{"no login of it"}, "plan", "file", "keep", "CORE-2")
	r.commission("CORE-1")
	redstart(0, []string{"Kept as CORE-1.configuration", "fennmark-fs24 with firmware 4.1.0"}, "plan", "file", "keep", "CORE-1")
	redstart(2, []string{"a file's name has letters"}, "plan", "file", "keep", "CORE-1", "../x")
	redstart(0, []string{"CORE-1.configuration", "fennmark-fs24 4.1.0"}, "plan", "file", "list")
	if err := r.set("CORE-2", "configuration", "CORE-1.configuration"); err != nil {
		t.Fatal(err)
	}
	redstart(0, []string{"load the configuration CORE-1.configuration of a sibling", "address 2"}, "commission", "--rehearse",
		"CORE-2")
	r.commission("CORE-2")
	r.verify()
	r.allVerified()
	at := r.entries()["CORE-1"].Address.String()
	var wrote []string
	for _, d := range second.Events() {
		if d.What == "write" {
			wrote = append(wrote, d.Value)
		}
	}
	writes := strings.Join(wrote, "\n")
	has(t, "what was written", writes, "configuration of core-1")
	if own := second.Running().Own.(fs24.Own); own.Ring != "client" || !own.Loaded || second.Running().Name != "core-2" {
		t.Errorf("%+v", second.Running())
	}
	if now := second.Running().Address.Addr().String(); now == at {
		t.Errorf("it is still at %s, its sibling's address", now)
	}
	// One of another model is refused before it is sent.
	r.write("other.configuration", "FS24?")
	if _, err := r.c.PutFile(patience(t), "other.configuration", strings.NewReader("{}")); err != nil {
		t.Fatal(err)
	}
	if err := r.set("CORE-2", "configuration", "other.configuration"); err != nil {
		t.Fatal(err)
	}
	r.commission("CORE-2")
	has(t, "reason", r.entries()["CORE-2"].Reason, "load", "this is no configuration of an FS24")
}

// A field switch takes no settings while its firmware is older than asked: then, and only
// then, it is sent, and the version it has is compared afterwards.
func TestFirmwareOlderThanAsked(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 3, Only: "FS8", Seed: 82,
		Broken: map[int]box.Faults{0: {OldFirmware: true}, 2: {OldFirmware: true}}}, impatient(t, "fennmark-fs8"))
	var plan strings.Builder
	plan.WriteString("tag,profile,mac,firmware-asked,firmware\n")
	for i, b := range r.site.Boxes {
		fmt.Fprintf(&plan, "SW-%d,fennmark-fs8,%s,2.6.0,fs8.bin\n", i, b.MAC)
	}
	ctx := patience(t)
	if _, err := r.c.PutFile(ctx, "fs8.bin", strings.NewReader(fs8.File("2.6.0"))); err != nil {
		t.Fatal(err)
	}
	if _, err := r.c.PutFile(ctx, "wrong.bin", strings.NewReader("something else")); err != nil {
		t.Fatal(err)
	}
	r.upTo(t, plan.String())
	if err := r.set("SW-2", "firmware", "wrong.bin"); err != nil {
		t.Fatal(err)
	}
	r.commission()
	r.verify("SW-0", "SW-1")
	for i, want := range []int{1, 0, 0} {
		sent := 0
		for _, d := range r.site.Boxes[i].Events() {
			if d.What == "write" && strings.HasPrefix(d.Value, "firmware ") {
				sent++
			}
		}
		if sent != want {
			t.Errorf("SW-%d was sent its firmware %d times, want %d", i, sent, want)
		}
	}
	entries := r.entries()
	for _, tag := range []string{"SW-0", "SW-1"} {
		if e := entries[tag]; e.State != state.Verified {
			t.Errorf("%s: %s: %s %v", tag, e.State, e.Reason, e.Unseen)
		}
		if c := r.checkOf(tag, "firmware"); c.Verdict != result.Passed || c.Observed != "2.6.0" {
			t.Errorf("%+v", c)
		}
	}
	has(t, "reason", entries["SW-2"].Reason, "firmware: it refused: This is no firmware of an FS8")
	// A newer one is asked for and no file named: the run says so, and verification too.
	if err := r.set("SW-1", "firmware-asked", "2.10", "firmware", ""); err != nil {
		t.Fatal(err)
	}
	r.commission("SW-1")
	has(t, "reason", r.entries()["SW-1"].Reason, "it has the firmware 2.6.0, and 2.10 is asked for")
}
