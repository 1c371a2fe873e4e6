package e2e

import (
	"context"
	"database/sql"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/cli"
	"redstart/internal/client"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/hands"
	"redstart/internal/sim/model/v2"
	"redstart/internal/sim/skerry"
)

// A device waits for a hand through a restart of the service, while thirty others finish;
// nothing is sent to it until a person did what it waits for.
func TestADeviceWaitsForAHand(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("../profiles/brindlecap-b4.yaml")
	if err != nil {
		t.Fatal(err)
	}
	byHand := strings.Replace(string(doc), "order:\n", `order:
  - by-hand:
      do: Break the seal and turn the key to SET
      look: The display says SET
  - by-hand:
      do: Switch it off and on
      within: 10m
      fresh: true
      shown-by: restart
`, 1)
	r := start(t, skerry.Options{Devices: 40, Seed: 37}, byHand)
	r.upToMatch()
	ctx := patience(t)
	tag, box := "", r.site.Boxes[0]
	var others []string
	for _, e := range r.entries() {
		switch {
		case e.Profile == "brindlecap-b4" && tag == "":
			tag = e.Tag
		case e.Profile != "brindlecap-b4" && len(others) < 30:
			others = append(others, e.Tag)
		}
	}
	for _, b := range r.site.Boxes {
		if r.entryOf(b).Tag == tag {
			box = b
		}
	}
	// until follows the run until its work is as wanted.
	until := func(what string, begin func(context.Context) (api.Work, error), enough func(api.Work) bool) {
		t.Helper()
		found := false
		err := r.c.Follow(ctx, func(e client.Event) bool {
			switch e.Kind {
			case "hello":
				w, err := begin(ctx)
				if err != nil {
					t.Fatal(err)
				}
				found = enough(w)
			case "work":
				var w api.Work
				decode(t, e.Data, &w)
				found = w.Kind == api.Commissioning && enough(w)
			}
			return !found
		})
		if err != nil || !found {
			t.Fatalf("%s: %v", what, err)
		}
	}
	latest := func(ctx context.Context) (api.Work, error) {
		list, err := r.c.Works(ctx)
		if err != nil || len(list) == 0 {
			return api.Work{}, err
		}
		return list[0], nil
	}
	waits := func(done int) func(api.Work) bool {
		return func(w api.Work) bool {
			return w.State == state.Running && w.Parked == 1 && w.Done+w.Failed == done &&
				strings.Contains(w.Text, "1 waits for a hand")
		}
	}
	until("the others finish", func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen(append(others, tag))})
	}, waits(len(others)))
	redstart := r.with(t)
	redstart(0, []string{tag, "Break the seal and turn the key to SET", "The display says SET"}, "commission", "hands")
	if deeds := box.Events(); len(deeds) > 0 {
		t.Errorf("it was talked to before: %+v", deeds)
	}
	r.stop()
	r.serve(r.site.Attach())
	until("it waits again", latest, waits(len(others)))

	redstart = r.with(t)
	redstart(1, []string{"it waits for nobody's hand"}, "commission", "done", others[0])
	redstart(0, []string{"Noted of " + tag}, "commission", "done", tag)
	waitFor(t, func() bool {
		run, err := r.c.Run(ctx, 1)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range run.Devices {
			if d.Tag == tag {
				return d.State == state.Parked && d.Hand.Do == "Switch it off and on"
			}
		}
		return false
	})
	// The service ends while the box is off.
	box.SwitchOff()
	r.stop()
	r.serve(r.site.Attach())
	until("it waits while it is off", latest, waits(len(others)))
	if deeds := box.Events(); len(deeds) > 0 {
		t.Errorf("it was talked to before: %+v", deeds)
	}
	box.PowerUp()
	until("it is set", latest, func(w api.Work) bool { return w.State == state.Done && w.Done == len(others)+1 })
	r.verify(tag)
	if e := r.entryOf(box); e.State != state.Verified {
		t.Errorf("%s is %s: %s; %v", tag, e.State, e.Reason, box.Events())
	}
	// One that a stored login opens needs no second hand where only a fresh one does.
	until("it waits", func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{tag})})
	}, waits(0))
	follow(t, r.c, func(ctx context.Context) (api.Work, error) {
		w, err := latest(ctx)
		if err == nil {
			err = r.c.Did(ctx, w.Run, api.Hands{Tags: []string{tag}})
		}
		return w, err
	}, nil)
	if run, _, err := r.c.LatestRun(ctx); err != nil || run.State != state.Done || run.Devices[0].State != state.Done {
		t.Errorf("%+v %v", run, err)
	}
}

// On the phone the person sees what to do and where, and says that it is done.
func TestAHandIsAskedForInTheConsole(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("../profiles/clepsydra-k3.yaml")
	if err != nil {
		t.Fatal(err)
	}
	r := start(t, skerry.Options{Devices: 2, Only: "K3", Seed: 38}, strings.Replace(string(doc), "order:\n", `order:
  - by-hand: {do: Turn the key to SET, look: The hands go to twelve, within: 5m}
`, 1))
	r.upToMatch()
	token, err := r.s.Accounts.OnceToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	b := openTab(t, 400, 800)
	b.do(chromedp.Navigate(r.url+"/#once="+token), count("match", "2 of 2"), browser.Press("stage-commission"),
		shows("by hand: Turn the key to SET"), browser.Answer("run-begin"),
		shows("2 wait for a hand"), browser.Seen(browser.Mark("hand")))
	has(t, "what to do", b.text(), "Turn the key to SET", "The hands go to twelve", "what follows is done within 5 min")
	b.do(browser.Press("hand-done"), count("commission", "1 of 2"), browser.Press("hand-done"),
		browser.Ended("Commissioning"), count("commission", "2 of 2"))
}

// Two technicians share what is to be done by hand: each sees who is at it, on the page and on
// the command line; terms are accepted by name alone, once for the site and model, and no
// other word accepts them.
func TestTwoTechniciansShareTheHands(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 3, Only: "V2", Seed: 61, Pace: 0.05})
	r.upTo(t, r.labelled(t, func(row map[string]string, b *box.Box) {
		row["tag"] = "VOX-" + b.Label[len(b.Label)-6:]
		row["area"], row["place"] = "HALL", "Server room"
	}))
	var tags []string
	for _, b := range r.site.Boxes {
		tags = append(tags, r.entryOf(b).Tag)
	}
	redstart := r.with(t)
	redstart(1, []string{"it is set over a serial line, and none is named for it"}, "commission", tags[0])
	ctx := patience(t)
	token, err := r.s.Accounts.OnceToken(ctx)
	if err != nil {
		t.Fatal(err)
	}
	b := openTab(t, 1280, 800)
	b.do(chromedp.Navigate(r.url+"/#once="+token), count("match", "3 of 3"))
	if _, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen(tags), Lines: onLines(t, r.c, r.plugged, nil)}); err != nil {
		t.Fatal(err)
	}
	waitFor(t, func() bool {
		list, err := r.c.Hands(ctx)
		return err != nil || len(list.Tasks) == 3
	})
	b.do(browser.Press("nav-hands"), shows("3 devices wait for a hand"), browser.Press("hand-take"), shows("You are at it"))
	redstart(0, []string{"of the Tolvern V2, edition 4", "accepted by name", "owner"}, "commission", "hands")
	redstart(1, []string{"it waits until somebody accepts terms"}, "commission", "done", tags[1])
	redstart(2, []string{"nobody signed in by name"}, "commission", "accept", tags[1])
	redstart(1, []string{"it waits for nobody's hand"}, "commission", "take", "NOT-THERE")
	redstart(0, []string{"You are at " + tags[1]}, "commission", "take", tags[1])
	redstart(0, []string{"Nobody is at " + tags[1]}, "commission", "take", tags[1], "--drop")
	for _, box := range r.site.Boxes {
		if own := box.Running().Own.(v2.Own); own.AcceptedBy != "" {
			t.Fatalf("somebody accepted the terms: %s", own.AcceptedBy)
		}
	}
	b.do(browser.Press("hand-accept"), browser.Answer("terms-accept"), shows("Terms accepted for this site"))
	r.ended()
	for _, box := range r.site.Boxes {
		if own := box.Running().Own.(v2.Own); own.AcceptedBy != "owner" {
			t.Errorf("%s was told that %q accepted the terms", box.Label, own.AcceptedBy)
		}
		accepted := 0
		for _, d := range box.Events() {
			if d.What == "write" && strings.HasPrefix(d.Value, "terms ") {
				accepted++
			}
		}
		if accepted != 1 {
			t.Errorf("%s was told %d times", box.Label, accepted)
		}
	}
	list, err := r.c.Hands(ctx)
	if err != nil || len(list.Accepted) != 1 || list.Accepted[0].Who != "owner" {
		t.Errorf("%+v, %v", list, err)
	}
}

// asked waits until one person is asked for something.
func (r *rig) asked(what string) {
	r.t.Helper()
	waitFor(r.t, func() bool {
		list, err := r.c.Hands(patience(r.t))
		if err != nil {
			r.t.Fatal(err)
		}
		return len(list.Tasks) == 1 && list.Tasks[0].Open && strings.Contains(list.Tasks[0].Do, what)
	})
}

// ended waits until the latest run is done, and its work let go of its devices a moment later.
func (r *rig) ended() {
	r.t.Helper()
	ctx := patience(r.t)
	waitFor(r.t, func() bool {
		run, _, err := r.c.LatestRun(ctx)
		return err != nil || run.State == state.Done
	})
	waitFor(r.t, func() bool {
		list, err := r.c.Works(ctx)
		return err != nil || !slices.ContainsFunc(list, func(w api.Work) bool { return w.State == state.Running })
	})
}

// A service that dies between the last restart and what is left by hand still asks for it:
// the switch of a door controller does not stay where its factory login lives.
func TestWhatIsLeftByHandIsAskedForAfterACut(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "D2", Seed: 62, Pace: 0.05})
	r.upTo(t, r.labelled(t, func(row map[string]string, _ *box.Box) { row["trunk"] = "" }))
	door, ctx := r.site.Boxes[0], patience(t)
	tag := r.entryOf(door).Tag
	if _, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{tag})}); err != nil {
		t.Fatal(err)
	}
	r.asked("to SETUP")
	door.Move("setup")
	r.asked("back to RUN")
	r.stop()
	// As a kill leaves it that comes a moment before the hand is asked for.
	records, err := sql.Open("sqlite", filepath.Join(r.dir, "redstart.db"))
	if err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{`DELETE FROM journal WHERE step = 'by hand 2'`,
		`UPDATE run_devices SET state = 'running', hand_do = '', parked_at = 0`, `UPDATE runs SET state = 'running'`} {
		if _, err := records.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	if err := records.Close(); err != nil {
		t.Fatal(err)
	}
	r.serve(r.site.Attach())
	if _, err := r.c.Resume(ctx, 1); err != nil {
		t.Fatal(err)
	}
	r.asked("back to RUN")
	door.Move("run")
	r.ended()
	r.verify(tag)
	if e := r.entryOf(door); e.State != state.Verified {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
}

// People switch a box off to open its cover: the address that it was lent is gone then, and it is lent again
// while the hand is waited for.
func TestABoxIsSwitchedOffWhileItWaitsForAHand(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "D2", Seed: 66, Pace: 0.1})
	r.upTo(t, r.labelled(t, func(row map[string]string, _ *box.Box) { row["trunk"] = "" }))
	door, ctx := r.site.Boxes[0], patience(t)
	tag := r.entryOf(door).Tag
	if _, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{tag})}); err != nil {
		t.Fatal(err)
	}
	r.asked("to SETUP")
	starts := door.Starts()
	door.SwitchOff()
	door.Move("setup")
	door.PowerUp()
	waitFor(t, func() bool { return door.Starts() > starts })
	r.asked("back to RUN")
	door.Move("run")
	r.ended()
	if e := r.entryOf(door); e.State != state.Configured {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
}

// Whoever says that something was done is not believed above the box: it is asked for again, with what
// the box tells. Verification looks at the switch too.
func TestAHandThatWasNotDone(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "D2", Seed: 67, Pace: 0.1})
	r.upTo(t, r.labelled(t, func(row map[string]string, _ *box.Box) { row["trunk"] = "" }))
	door, ctx := r.site.Boxes[0], patience(t)
	tag := r.entryOf(door).Tag
	w, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{tag})})
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range []struct{ to, otherwise, position string }{
		{"to SETUP", `the device tells otherwise: switch is "run" and not "setup"`, "setup"},
		{"back to RUN", `the device tells otherwise: switch is "setup" and not "run"`, "run"},
	} {
		r.asked(step.to)
		if err := r.c.Did(ctx, w.Run, api.Hands{Tags: []string{tag}}); err != nil {
			t.Fatal(err)
		}
		r.asked(step.otherwise)
		if position, _ := door.Position(); position == step.position {
			t.Fatalf("the switch is at %q by itself", position)
		}
		door.Move(step.position)
	}
	r.ended()
	r.verify(tag)
	if e := r.entryOf(door); e.State != state.Verified {
		t.Fatalf("%s: %s", e.State, e.Reason)
	}
	door.Move("setup")
	r.verify(tag)
	d, err := r.c.Entry(ctx, tag)
	if err != nil || d.Entry.State != state.Attention || !slices.ContainsFunc(d.Checks, func(c result.Check) bool {
		return c.Name == "switch S1 is back at RUN" && c.Observed == "setup" && c.Verdict == result.Failed
	}) {
		t.Errorf("with its switch left at set-up: %v, %+v", err, d.Checks)
	}
}

// A switch that was moved too early is to be moved back and once more, and what the box refused
// meanwhile is no wrong login: nobody has to wait before the next run.
func TestAWindowThatIsOver(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "D2", Seed: 65, Pace: 0.002}) // its six minutes are less than a second
	r.upTo(t, r.labelled(t, func(row map[string]string, _ *box.Box) { row["trunk"] = "" }))
	door, ctx := r.site.Boxes[0], patience(t)
	tag := r.entryOf(door).Tag
	door.Move("setup")   // the box shows it, so nobody is asked for it at first
	var since stamp.Time // when the hand that was answered last was asked for
	for range 2 {
		w, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{tag})})
		if err != nil {
			t.Fatal(err)
		}
		for range 2 {
			waitFor(t, func() bool {
				list, err := r.c.Hands(ctx)
				if err != nil {
					t.Fatal(err)
				}
				again := len(list.Tasks) == 1 && list.Tasks[0].Open && !list.Tasks[0].Since.Equal(since.Time) &&
					strings.HasPrefix(list.Tasks[0].Do, "Its time was over. Undo it, and once more: Open the cover") &&
					r.c.Did(ctx, w.Run, api.Hands{Tags: []string{tag}}) == nil // the list may be of a moment ago
				if again {
					since = list.Tasks[0].Since
				}
				return again
			})
		}
		r.ended()
		if e := r.entryOf(door); e.State != state.Attention || !strings.Contains(e.Reason, "the time after this was over") {
			t.Errorf("%s: %s", e.State, e.Reason)
		}
	}
}

// Hands in another process do what somebody says to be at on the list, and nothing else; wrong
// ones say that it was done, and the run finds out.
func TestHandsInAnotherProcess(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "D2", Seed: 63, Pace: 0.05})
	r.upTo(t, r.labelled(t, func(row map[string]string, _ *box.Box) { row["trunk"] = "" }))
	ctx, door := patience(t), r.site.Boxes[0]
	tag, socket := r.entryOf(door).Tag, filepath.Join(t.TempDir(), "hands")
	lend, stop := context.WithCancel(ctx)
	var ended sync.WaitGroup
	t.Cleanup(func() { stop(); ended.Wait() })
	ended.Go(func() {
		if err := hands.Offer(lend, socket, hands.With(r.site.All())); err != nil {
			t.Errorf("offering: %v", err)
		}
	})
	person := func(args ...string) (end func()) {
		ctx, stop := context.WithCancel(lend)
		var done sync.WaitGroup
		done.Go(func() {
			code := cli.Main(ctx, append([]string{"--data", r.dir, "sim", "hands", socket}, args...),
				cli.World{In: strings.NewReader(""), Out: io.Discard, Err: io.Discard, Env: os.Getenv})
			if code != 0 && ctx.Err() == nil {
				t.Errorf("the person ended with %d", code)
			}
		})
		return func() { stop(); done.Wait() }
	}
	redstart := r.with(t)
	redstart(2, []string{"mine, wrong or never"}, "sim", "hands", socket, "--takes", "soon")
	end := person("--takes", "mine")
	w, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{tag})})
	if err != nil {
		t.Fatal(err)
	}
	for _, what := range []string{"to SETUP", "back to RUN"} {
		waitFor(t, func() bool {
			list, err := r.c.Hands(ctx)
			if err != nil {
				t.Fatal(err)
			}
			return len(list.Tasks) == 1 && list.Tasks[0].Open && strings.Contains(list.Tasks[0].Do, what)
		})
		if position, _ := door.Position(); strings.Contains(what, strings.ToUpper(position)) && position != "" {
			t.Errorf("%s was done before anybody took it", what)
		}
		if err := r.c.TakeHands(ctx, w.Run, api.TakeHands{Tags: []string{tag}}); err != nil {
			t.Fatal(err)
		}
	}
	r.ended()
	end()
	if e := r.entryOf(door); e.State != state.Configured {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
	// Another one, with somebody who lies.
	other := r.entryOf(r.site.Boxes[1]).Tag
	defer person("--takes", "wrong")()
	if w, err = r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{other})}); err != nil {
		t.Fatal(err)
	}
	r.asked("the device tells otherwise")
}

// In the console a serial line is named in the rehearsal.
func TestALineIsNamedInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "V2", Seed: 64, Pace: 0.05})
	r.upTo(t, r.labelled(t, nil))
	token, err := r.s.Accounts.OnceToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	b := openTab(t, 1280, 800)
	b.do(chromedp.Navigate(r.url+"/#once="+token), count("match", "1 of 1"), browser.Press("stage-commission"),
		shows("is set at its console, on the serial line"),
		browser.Click(chromedp.CSS(`[data-test="line"] .n-base-selection`)),
		browser.Click(chromedp.CSS(`.n-base-select-option`)),
		shows("set the address"), browser.Answer("run-begin"), shows("1 waits for a hand"))
	if own := r.site.Boxes[0].Running().Own.(v2.Own); own.Language != "en" {
		t.Errorf("nobody was at its console: %+v", own)
	}
}
