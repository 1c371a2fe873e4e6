package e2e

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/d4"
	"redstart/internal/sim/model/w1"
	"redstart/internal/sim/skerry"
)

// Sensors are entries: their cards are read one after another, a key is a secret from then
// on; they are set through their gateway, and verified as joined through it.
func TestSensorsFromTheirCards(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "W1", Seed: 94}, impatient(t, "tidewell-w1"))
	b := r.site.Boxes[0]
	var sensors strings.Builder
	for n := 1; n <= 3; n++ {
		fmt.Fprintf(&sensors, "SEN-%d,tidewell-s3,,,Lane %d,RAD\n", n, n)
	}
	r.upTo(t, "tag,profile,mac,radio-region,place,behind\nRAD,tidewell-w1,"+b.MAC.String()+",Europe,,\n"+sensors.String())
	redstart := r.with(t)
	cards := filepath.Join(t.TempDir(), "cards.txt")
	redstart(0, []string{"Written"}, "sim", "--cards", cards)
	content, err := os.ReadFile(cards)
	if err != nil {
		t.Fatal(err)
	}
	stack := strings.Split(strings.TrimSpace(string(content)), "\n")
	redstart(0, []string{"SEN-1", "4 hints"}, "plan", "check")
	torn := strings.Replace(stack[0], "02540003", "02540004", 1)
	r.typed = strings.Join([]string{stack[0], torn, stack[0], "TW1-000001", stack[1]}, "\n") + "\n"
	redstart(1, []string{"SEN-1, Lane 1, is the sensor with this card; 2 to go", "does not fit its checksum",
		"this card is that of SEN-1 already", "no code of a sensor's card", "SEN-2, Lane 2", "2 cards were not taken"}, "match", "cards")
	if _, err := r.c.Scan(patience(t), api.Scan{Text: stack[0], Tag: "SEN-3"}); err == nil ||
		!strings.Contains(err.Error(), "this card is that of SEN-1 already") {
		t.Errorf("a card for two: %v", err)
	}
	redstart(0, []string{"SEN-3", "read its card or label"}, "commission", "--rehearse", "SEN-3")
	redstart(0, []string{"RAD"}, "commission", "--rehearse", "SEN-1")

	r.hands(t)
	r.commission()
	r.verify()
	entries := r.entries()
	for _, tag := range []string{"RAD", "SEN-1", "SEN-2"} {
		if e := entries[tag]; e.State != state.Verified {
			t.Errorf("%s: %s %s, not looked at %v", tag, e.State, e.Reason, e.Unseen)
		}
	}
	if e := entries["SEN-3"]; e.State != state.Planned {
		t.Errorf("%s: %s", e.Tag, e.State)
	}
	has(t, "SEN-1 answers", r.checkOf("SEN-1", "answers").Observed, "joined yes; last heard 20")
	if e := entries["SEN-1"]; e.HangsAs != w1.EUI(1) {
		t.Errorf("told of: %q", e.HangsAs)
	}
	r.hidden(map[string]string{w1.KeyOf(w1.EUI(1)): "the key of a sensor", w1.KeyOf(w1.EUI(2)): "another one"})

	// A sensor that left is seen, on itself and on its gateway; the other is as it was.
	b.Change(func(s *box.Settings) {
		own := s.Own.(w1.Own)
		own.Joined = w1.EUI(1)
		s.Own = own
	})
	r.verify("SEN-1", "SEN-2")
	entries = r.entries()
	if e := entries["SEN-2"]; e.State != state.Attention || !strings.Contains(e.Reason, "joined no") {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
	if entries["SEN-1"].State != state.Verified || entries["RAD"].State != state.Verified {
		t.Errorf("%s, %s: only what was asked for is looked at", entries["SEN-1"].State, entries["RAD"].State)
	}
	r.verify("RAD")
	if c := r.checkOf("RAD", "behind it: SEN-2"); c.Verdict != result.Failed {
		t.Errorf("%+v", c)
	}

	// Its third sensor's card comes later: the gateway differs from the plan then.
	r.typed = stack[2] + "\n"
	redstart(0, []string{"SEN-3, Lane 3, is the sensor with this card; 0 to go"}, "match", "cards", "--behind", "RAD")
	if e := r.entries()["RAD"]; len(e.Differs) != 1 || e.Differs[0] != "sensors: other rows are planned than were set" {
		t.Errorf("%v", e.Differs)
	}
	r.commission()
	r.verify()
	r.allVerified()
	// Another box in the gateway's place has shown nothing of them yet.
	redstart(0, nil, "match", "undo", "RAD", "--also-configured")
	if e := r.entries()["SEN-1"]; e.State != state.Planned {
		t.Errorf("behind a box that is not matched any more: %s", e.State)
	}
}

// With a wrong key a sensor never joins, whatever the person with its battery says.
func TestASensorWithAWrongKey(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "W1", Seed: 95}, impatient(t, "tidewell-w1"))
	b := r.site.Boxes[0]
	r.upTo(t, "tag,profile,mac,radio-region,behind,part,join-eui,key\nRAD,tidewell-w1,"+b.MAC.String()+
		",Europe,,,,\nSEN-1,tidewell-s3,,,RAD,"+w1.EUI(1)+","+w1.JoinEUI+",00112233445566778899AABBCCDDEEFF\n")
	ctx := patience(t)
	w, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{"RAD"})})
	if err != nil {
		t.Fatal(err)
	}
	r.asked("battery")
	if err := r.c.Did(ctx, w.Run, api.Hands{Tags: []string{"RAD"}}); err != nil {
		t.Fatal(err)
	}
	r.asked(`the device tells otherwise: waiting is "1" and not "0"`)
	redstart := r.with(t)
	redstart(0, []string{"Going on without it: RAD"}, "commission", "done", "RAD", "--without")
	r.ended()
	r.verify("RAD", "SEN-1")
	if e := r.entries()["SEN-1"]; e.State == state.Verified || e.State == state.Configured {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
}

// Readers on a controller's bus are set as its rows; one whose switches are set otherwise
// than planned is silent, and that is seen on it and on its controller. Instruments on a
// field switch's spurs are only looked at.
func TestReadersAndInstruments(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 20, Every: true, Seed: 96})
	var door, field *box.Box
	for _, b := range r.site.Boxes {
		switch b.Model.Name {
		case "D2":
			door = b
		case "FS8":
			field = b
		}
	}
	r.upTo(t, "tag,profile,mac,behind,part,side\n"+
		"ACC,brindlecap-d2,"+door.MAC.String()+",,,\nRDR-1,brindlecap-q1,,ACC,1,in\nRDR-2,brindlecap-q1,,ACC,5,out\n"+
		"SW,fennmark-fs8,"+field.MAC.String()+",,,\nLT-1,tidewell-n3,,SW,2,\nLT-2,tidewell-n3,,SW,5,\nLT-3,tidewell-n3,,SW,8,\n")
	r.hands(t)
	r.besideDeskSwitches()
	entries := r.entries()
	for tag, to := range map[string]string{"RDR-1": state.Configured, "RDR-2": state.Configured, "LT-1": state.Planned} {
		if entries[tag].State != to {
			t.Errorf("%s before it was verified: %s", tag, entries[tag].State)
		}
	}
	r.verify()
	entries = r.entries()
	for tag, want := range map[string]string{
		"RDR-1": state.Verified, "LT-1": state.Verified, "SW": state.Attention,
		"ACC":   state.Attention + ": verify, behind it: RDR-2: expected answers, observed answers: state silent",
		"RDR-2": state.Attention + ": verify, answers: expected yes, observed state silent",
		"LT-2":  state.Attention + ": verify, model: expected N3, observed N5",
		"LT-3":  state.Attention + ": verify, answers: expected yes, observed it does not tell of 8",
	} {
		if got := entries[tag].State + ": " + entries[tag].Reason; !strings.HasPrefix(got, want) {
			t.Errorf("%s is %s, want %s", tag, got, want)
		}
	}
	if own := r.checkOf("RDR-1", "as planned"); own.Verdict != result.Passed {
		t.Errorf("%+v", own)
	}
	redstart := r.with(t)
	redstart(0, []string{"LT-QUAY", "27", "9.6"}, "find", "show", field.MAC.String())
	// The reader is planned where it is, and the controller set once more.
	if err := r.set("RDR-2", "part", "2"); err != nil {
		t.Fatal(err)
	}
	if e := r.entries()["RDR-2"]; len(e.Differs) == 0 {
		t.Errorf("what was set is not what is planned now: %+v", e)
	}
	r.besideDeskSwitches()
	r.verify("ACC", "RDR-1", "RDR-2")
	for _, tag := range []string{"ACC", "RDR-1", "RDR-2"} {
		if e := r.entries()[tag]; e.State != state.Verified {
			t.Errorf("%s: %s: %s", tag, e.State, e.Reason)
		}
	}
}

// A door station with a keypad that came in the carton of one without is matched with the
// wrong entry by whoever reads the carton: the run stops before it writes anything.
func TestABoxInTheWrongCarton(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "D4", Seed: 97}, impatient(t, "tolvern-d1"))
	b := r.site.Boxes[0]
	r.upTo(t, "tag,profile,mac,room,rings-at,not-wired\nDOOR,tolvern-d1,"+b.MAC.String()+
		",7,MON,\nMON,tolvern-m7,,8,,yes\n")
	if err := r.c.Match(patience(t), "DOOR", api.MatchWith{MAC: b.MAC}); err == nil {
		t.Error("it is plain that it is another model")
	}
	// Until it answered for the first time only the carton told what it is.
	if err := r.c.Choose(patience(t), b.MAC, "tolvern-d1"); err != nil {
		t.Fatal(err)
	}
	if err := r.c.Match(patience(t), "DOOR", api.MatchWith{MAC: b.MAC}); err != nil {
		t.Fatal(err)
	}
	r.commission("DOOR")
	has(t, "reason", r.entries()["DOOR"].Reason, "confirm", "it says that it is a D4, not a D1")
	for _, d := range b.Events() {
		t.Errorf("%s %s", d.What, d.Value)
	}
	if b.Running() != d4.Factory {
		t.Errorf("it was changed: %+v", b.Running())
	}
}

// Everything planned is compared: another serial or MAC, another place behind the switch, another box of it.
// What was seen before says nothing of it.
func TestWhatIsPlannedSinceIsNotVerified(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "FS8", Seed: 97})
	r.upTo(t, "tag,profile,mac,behind,part\nSW,fennmark-fs8,"+r.site.Boxes[0].MAC.String()+",,\nLT-1,tidewell-n3,,SW,1\n")
	if err := r.set("SW", "mac", ""); err != nil {
		t.Fatal(err)
	}
	r.commission("SW")
	r.verify("SW", "LT-1")
	box, part := r.entryOf(r.site.Boxes[0]), "LT-1"
	is := func(tag, state, differs string) {
		t.Helper()
		if e := r.entries()[tag]; e.State != state || !strings.Contains(strings.Join(e.Differs, "; "), differs) {
			t.Errorf("%s is %s, not %s: %v", tag, e.State, state, e.Differs)
		}
	}
	is(box.Tag, state.Verified, "")
	is(part, state.Verified, "")
	for _, c := range []struct{ tag, key, value, state, differs string }{
		{box.Tag, "serial", "FN8-000000", state.Configured, "serial: the box has " + box.BoxID + ", planned FN8-000000"},
		{box.Tag, "serial", "", state.Verified, ""},
		{box.Tag, "mac", "06:46:4e:00:00:01", state.Configured, "planned 06:46:4e:00:00:01"},
		{box.Tag, "mac", "", state.Verified, ""},
		{part, "part", "3", state.Planned, ""},
	} {
		if err := r.set(c.tag, c.key, c.value); err != nil {
			t.Fatal(err)
		}
		is(c.tag, c.state, c.differs)
	}
	file := filepath.Join(t.TempDir(), "register.csv")
	r.with(t)(0, nil, "handover", "register-csv", file)
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	at := slices.Index(rows[0], "part")
	for _, row := range rows[1:] {
		if row[0] == part && (row[at] != "3" || strings.Contains(row[len(row)-1], "part")) {
			t.Errorf("%v\n%v", rows[0], row)
		}
	}
}
