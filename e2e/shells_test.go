package e2e

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/p12"
	"redstart/internal/sim/skerry"
)

// Clocks with a wizard, and power controllers with a menu whose session dies when they
// take their address: all at one factory address each, set over SSH and verified.
func TestModelsThatAreSetOverAShell(t *testing.T) {
	t.Parallel()
	for _, model := range []string{"K3", "P12", "T1"} {
		t.Run(model, func(t *testing.T) {
			t.Parallel()
			r := start(t, skerry.Options{Devices: 4, Only: model, Seed: 33, Pace: 0.3})
			r.upToVerify()
			r.allVerified()
			for _, b := range r.site.Boxes {
				refusals(t, b)
			}
		})
	}
}

// refusals looks at what a box remembers: no wrong login was tried twice, and nothing
// was set twice with different values.
func refusals(t *testing.T, b *box.Box) {
	t.Helper()
	refused, written := map[string]int{}, map[string]string{}
	for _, d := range b.Events() {
		switch d.What {
		case "refused":
			if refused[d.Value]++; refused[d.Value] > 1 && !strings.Contains(d.Value, "tick") &&
				!strings.Contains(d.Value, "pellgate") {
				t.Errorf("%s: a wrong login was tried %d times", b.MAC, refused[d.Value])
			}
		case "write":
			what, value, _ := strings.Cut(d.Value, " ")
			if was, ok := written[what]; ok && was != value {
				t.Errorf("%s: %s was set to %q and then to %q", b.MAC, what, was, value)
			}
			written[what] = value
		}
	}
	if len(written) == 0 {
		t.Errorf("%s: nothing was written", b.MAC)
	}
}

// A power controller has a new host key from the start on that follows its stronger key
// exchange: that one is recorded. Any other later one gets no login, and fails.
func TestAHostKeyThatChanges(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "P12", Seed: 34, Pace: 0.2})
	r.upToVerify()
	r.allVerified()
	b := r.site.Boxes[0]
	tag := r.entryOf(b).Tag
	if c := r.checkOf(tag, "host key"); c.Verdict != result.Passed {
		t.Fatalf("%+v", c)
	}
	// Somebody turns it back at the box itself: it shows its first key again.
	back := func(s *box.Settings) {
		own := s.Own.(p12.Own)
		own.Strong = false
		s.Own = own
	}
	b.Change(back)
	b.Store(back)
	before, starts := len(b.Events()), b.Starts()
	b.Restart()
	waitFor(t, func() bool { return b.Starts() > starts })
	r.verify(tag)
	e := r.entryOf(b)
	if c := r.checkOf(tag, "new login"); e.State != state.Attention || c.Verdict != result.Failed ||
		!strings.Contains(c.Observed, "another identity than before: host key") {
		t.Errorf("%s: %+v", e.State, c)
	}
	for _, d := range b.Events()[before:] {
		if !strings.HasSuffix(d.Value, " "+p12.FactoryPassword) {
			t.Errorf("a stranger was given a login: %+v", d)
		}
	}
	r.commission(tag)
	if e := r.entryOf(b); e.State != state.Attention || !strings.Contains(e.Reason,
		"undo its match and match it again") {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
	// A person who looked says that it is the right box.
	redstart := r.with(t)
	redstart(0, nil, "match", "undo", tag)
	redstart(0, []string{"1 matched"}, "match", "--accept")
	redstart(0, []string{"1 of 1 configured"}, "commission")
	redstart(0, []string{"1 verified"}, "verify")
}

// A profile that answers no where the wizard asks whether to keep what was set gets
// nowhere near verified.
func TestWhatAClockDoesNotKeep(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "K3", Seed: 35, Pace: 0.2})
	doc, err := os.ReadFile("../profiles/clepsydra-k3.yaml")
	if err != nil {
		t.Fatal(err)
	}
	r.write("profiles/careless.yaml", strings.ReplaceAll(strings.Replace(string(doc), "at-most: 60s", "at-most: 12s", 1),
		`{to: 'Keep\? $', say: y}`, `{to: 'Keep\? $', say: n}`))
	r.upToMatch()
	r.commission()
	e := r.entryOf(r.site.Boxes[0])
	if e.State != state.Attention || !strings.Contains(e.Reason, "nothing shows that it restarted") {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
}

// Clocks are begun when their time server is set; where it cannot be set they are held
// back, and nothing else is.
func TestClocksAreSetAfterTheirTimeServer(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "P12", Whole: true, Seed: 36, Pace: 0.3})
	tags := []string{"HALL-TIME-01", "HALL-CLK-02", "HALL-CLK-03", "HALL-PWR-01"}
	plan := "tag,profile,address,mac,after,time-zone,time-server,rack\n"
	for i, tag := range tags {
		after, profile, server, zone := "", "clepsydra-k3", "HALL-TIME-01", "Europe/Oslo"
		switch tag {
		case "HALL-TIME-01":
			profile, server = "clepsydra-t1", ""
		case "HALL-PWR-01":
			profile, server, zone = "pellgate-p12", "", ""
		default:
			after = "HALL-TIME-01"
		}
		plan += fmt.Sprintf("%s,%s,10.40.9.%d,%s,%s,%s,%s,\n", tag, profile, 90+i, r.other(tag).MAC, after, zone,
			server)
	}
	r.plan(plan)
	r.find()
	redstart := r.with(t)
	redstart(0, []string{"4 matched"}, "match", "--accept")
	redstart(0, []string{"HALL-CLK-02 is begun when HALL-TIME-01 is set.", "4 devices"}, "commission", "--rehearse")
	redstart(1, []string{"HALL-CLK-02", "it comes after HALL-TIME-01, which is not set yet"}, "commission",
		"HALL-CLK-02")

	r.other("HALL-TIME-01").SetFaults(box.Faults{RefusesPassword: true})
	redstart(1,
		[]string{"waits for HALL-TIME-01", "it comes after HALL-TIME-01, which was not set. Nothing was sent to it"},
		"commission")
	if e := r.entries()["HALL-PWR-01"]; e.State != state.Configured {
		t.Errorf("one that waits for nobody is %s: %s", e.State, e.Reason)
	}
	for _, d := range r.other("HALL-CLK-02").Events() {
		t.Errorf("a clock that was held back: %+v", d)
	}
	r.other("HALL-TIME-01").SetFaults(box.Faults{})
	redstart(0, []string{"waits for HALL-TIME-01", "3 of 3 configured"}, "commission")
	run, _, err := r.c.LatestRun(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	ended := run.Devices[slices.IndexFunc(run.Devices, func(d api.RunDevice) bool {
		return d.Tag == "HALL-TIME-01"
	})].EndedAt
	for _, d := range run.Devices {
		if d.Tag != "HALL-TIME-01" && d.StartedAt.Before(ended.Time) {
			t.Errorf("%s began at %s, its time server was set at %s", d.Tag, d.StartedAt, ended)
		}
	}
	redstart(0, []string{"4 verified"}, "verify")
}

// A time server is set over its serial line, a pseudo-terminal here; another box at that
// line is noticed by its serial before anything is written.
func TestATimeServerOverItsSerialLine(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "T1", Seed: 37, Pace: 0.3})
	boxes := r.site.Boxes
	names := r.onLines(boxes)
	r.upToMatch()
	first, second := r.entryOf(boxes[0]).Tag, r.entryOf(boxes[1]).Tag
	redstart := r.with(t)
	redstart(2, []string{"write it like TAG="}, "commission", first, "--line", "here")
	redstart(2, []string{"not told of the serial line /dev/null"}, "commission", first, "--line", first+"=/dev/null")
	redstart(2, []string{"it is not in the run"}, "commission", first, "--line", second+"="+names[1])
	redstart(1, []string{"has the serial " + boxes[1].Serial + ", not " + boxes[0].Serial}, "commission", first,
		"--line", first+"="+names[1])
	for _, d := range boxes[1].Events() {
		if d.What == "write" {
			t.Errorf("the wrong box: %+v", d)
		}
	}
	redstart(0, []string{"1 of 1 configured"}, "commission", first, "--line", first+"="+names[0])
	redstart(0, []string{"1 verified"}, "verify", first)
}

// A managed switch whose console hangs on a serial line gets its address there, and nothing over
// DCP; another switch at that line is noticed by its MAC before anything is written.
func TestASwitchGetsItsAddressAtItsConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "FS24", Seed: 39, Pace: 0.3})
	boxes := r.site.Boxes
	names := r.onLines(boxes)
	r.upToMatch()
	redstart := r.with(t)
	for tag := range r.entries() { // by their labels, which tell the first password
		if err := r.unmatch(tag); err != nil {
			t.Fatal(err)
		}
	}
	for _, e := range r.entries() {
		for _, b := range boxes {
			if b.Label == e.Serial {
				if err := r.c.Match(patience(t), e.Tag, api.MatchWith{MAC: b.MAC}); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	tag := r.entryOf(boxes[0]).Tag
	redstart(1, []string{"has the MAC " + boxes[1].MAC.String() + ", not " + boxes[0].MAC.String()}, "commission", tag,
		"--line", tag+"="+names[1])
	for _, d := range boxes[1].Events() {
		if d.What == "write" {
			t.Errorf("the wrong box: %+v", d)
		}
	}
	redstart(0, []string{"1 of 1 configured"}, "commission", tag, "--line", tag+"="+names[0])
	if !slices.ContainsFunc(boxes[0].Events(), func(d box.Event) bool {
		return d.What == "write" && strings.HasPrefix(d.Value, "console "+r.entryOf(boxes[0]).Address.String())
	}) {
		t.Errorf("nothing was set at its console: %+v", boxes[0].Events())
	}
	redstart(0, []string{"1 verified"}, "verify", tag)
	tag = r.entryOf(boxes[1]).Tag
	redstart(0, []string{"1 of 1 configured"}, "commission", tag) // without a line, over DCP
}

// onLines hangs a serial line on the console of each box, and starts the service anew with them.
func (r *rig) onLines(boxes []*box.Box) (names []string) {
	r.t.Helper()
	for _, b := range boxes {
		name, unplug, err := b.PlugLine()
		if err != nil {
			r.t.Fatal(err)
		}
		r.t.Cleanup(unplug)
		names = append(names, name)
	}
	r.lines = names
	r.stop()
	r.serve(r.site.Attach())
	return names
}

// A planned secret goes to the device and nowhere else: the run keeps what stands for it,
// and since no device tells it again, verification says that nobody looked.
func TestASecretIsSent(t *testing.T) {
	t.Parallel()
	const secret = "Puffin-42-Puffin"
	doc, err := os.ReadFile("../profiles/pellgate-p12.yaml")
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(doc), "    type: text\n    max: 16\n", "    type: secret\n", 1)
	text = strings.Replace(text, "        setting.rack: '(?m)^Rack: *(.*)$'\n", "", 1)
	r := start(t, skerry.Options{Devices: 1, Only: "P12", Seed: 38, Pace: 0.2}, text)
	b := r.site.Boxes[0]
	r.plan("tag,profile,address,mac,rack\nPWR,pellgate-p12,10.40.9.90," + b.MAC.String() + "," + secret + "\n")
	r.find()
	redstart := r.with(t)
	redstart(0, []string{"1 matched"}, "match", "--accept")
	redstart(0, []string{"rack, a secret"}, "commission", "--rehearse")
	redstart(0, []string{"1 of 1 configured"}, "commission")
	if own := b.Running().Own.(p12.Own); own.Rack != secret {
		t.Errorf("it has the rack %q", own.Rack)
	}
	redstart(1, []string{"PWR, not looked at: rack", "never tells again"}, "verify", "PWR")
	r.hidden(map[string]string{secret: "the planned secret"})
	redstart(0, nil, "plan", "set", "PWR", "rack=Other-43-Other")
	redstart(0, []string{"rack: another secret is planned than was set"}, "plan", "show", "PWR")
}
