// Package task holds what a run can do with one device, one file for each thing: how it
// is told in a rehearsal, and how it is done. Which of them a device needs, and in which
// order, is its profile's to say. docs/adding.md tells how one is added.
package task

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
)

// Task is one kind of thing that a run does with one device.
type Task struct {
	// Name is the act of a profile that it carries out, or what every device needs.
	Name string
	// Text tells in plain words what it will do.
	Text func(Of) string
	// Do does it, and says for the journal what came of it. It is done again after the
	// service was cut off in the middle, so it says what should be, not what to change.
	Do func(context.Context, *Box, Step) (string, error)
	// Hands says that a person does it: the run waits, and nothing is sent.
	Hands bool
}

// Of is what a task is told by.
type Of struct {
	Profile *profile.Profile
	Stage   profile.Stage
	Given   procedure.Values
	Opens   procedure.Login // what opens the device before the run
}

// acts are the tasks that a profile's order may name. A new one is one file and a line
// here.
var acts = []*Task{password, name, setTime, settings, addressing, firmware, load, save, restart, hand}

// Names of the tasks that every device needs.
const (
	Reach   = "reach"   // find out where the device is
	Confirm = "confirm" // read its identity back before any write
	// ConfirmAt is the same once more where only a device with an address tells all.
	ConfirmAt = "confirm at its address"
)

// Step is a task in its place in the work on one device.
type Step struct {
	api.Step
	stage profile.Stage
	task  *Task
}

// Looks reports whether the step only looks where and who the device is.
func (s Step) Looks() bool { return s.Name == Reach || s.Name == Confirm || s.Name == ConfirmAt }

// Waits reports whether the step only waits for the device to come back: others may be talked
// to meanwhile.
func (s Step) Waits() bool { return s.task == comeBack }

// Steps lists what a run will do with a device of a profile that a login opens so far.
// Their names do not depend on the login.
func Steps(p *profile.Profile, v procedure.Values, opens procedure.Login) []Step {
	var steps []Step
	add := func(name string, t *Task, s profile.Stage) {
		told := api.Step{Name: name, Text: t.Text(Of{p, s, v, opens}), Hands: t.Hands,
			Restarts: t != comeBack && s.Then == profile.Restarts, Lends: s.Act == profile.Address && lends(p)}
		steps = append(steps, Step{told, s, t})
	}
	confirmed, times := false, map[profile.Act]int{}
	addConfirm := func() {
		add(Confirm, confirm, profile.Stage{})
		for _, d := range p.Drivers() {
			if s, may := p.Section(d.Name()).(profile.HasCaution); may && s.Caution() != "" {
				steps[len(steps)-1].Text += "; " + s.Caution()
			}
		}
		confirmed = true
	}
	add(Reach, reach, profile.Stage{})
	for _, s := range withHands(p, v) {
		if !s.Applies(v.Settings) {
			continue
		}
		stage := string(s.Act)
		if times[s.Act]++; times[s.Act] > 1 {
			stage = fmt.Sprintf("%s %d", s.Act, times[s.Act])
		}
		if !confirmed && !waitsUnknown(p, s) {
			addConfirm()
		}
		add(stage, of(s), s)
		if s.Then != profile.Stays {
			add("return after "+stage, comeBack, s)
		}
		if s.Act == profile.Address && times[s.Act] == 1 && confirmed && p.TellsMoreAt(profile.Identify) {
			add(ConfirmAt, confirm, profile.Stage{})
		}
	}
	return steps
}

// withHands gives the profile's order with what no act of it sends, and a person sets: before it is saved or
// restarted, so that this keeps it too.
func withHands(p *profile.Profile, v procedure.Values) []profile.Stage {
	var hands []profile.Stage
	for _, key := range slices.Sorted(maps.Keys(v.ByHand)) {
		hands = append(hands, profile.Stage{Act: profile.Act("by hand: " + key), ByHand: &profile.Hand{Sets: key,
			Do: fmt.Sprintf("Set %s to %s: no act of its profile sends that", p.Setting(key).Label, v.SetByHand(p, key))}})
	}
	at := slices.IndexFunc(p.Order, func(s profile.Stage) bool { return s.Act == profile.Save || s.Act == profile.Restart })
	if at < 0 {
		at = len(p.Order)
	}
	return slices.Insert(slices.Clone(p.Order), at, hands...)
}

// waitsUnknown reports whether a stage gives a device that waits for DHCP its address, before
// it can be asked who it is: that answers its MAC alone, and writes nothing.
func waitsUnknown(p *profile.Profile, s profile.Stage) bool {
	return p.Factory.DHCP && s.Act == profile.Address && !p.NeedsAddress(profile.Address) && p.NeedsAddress(p.Who())
}

// of gives the task that carries a stage out.
func of(s profile.Stage) *Task {
	if s.ByHand != nil {
		return hand
	}
	for _, t := range acts {
		if t.Name == string(s.Act) {
			return t
		}
	}
	return &Task{Name: string(s.Act), Text: func(Of) string {
		return string(s.Act)
	}, Do: func(context.Context, *Box, Step) (string, error) {
		return "", fmt.Errorf("a run does not know how to %s", s.Act)
	}}
}

// perStep is what a step without a restart is reckoned to take before anything
// was measured.
const perStep = 300 * time.Millisecond

// Views gives steps as people are shown them.
func Views(steps []Step) []api.Step {
	list := make([]api.Step, len(steps))
	for i, s := range steps {
		list[i] = s.Step
	}
	return list
}

// Takes reckons how long the steps take together, without waiting for hands.
func Takes(p *profile.Profile, steps []Step) time.Duration {
	var sum time.Duration
	for _, s := range steps {
		sum += perStep
		if s.task == comeBack && s.stage.Then == profile.Restarts {
			sum += time.Duration(p.Restart.Takes)
		}
	}
	return sum
}

// itself adds to the text of a task that the device restarts by itself after it.
func itself(o Of, text string) string {
	if o.Stage.Then == profile.Restarts {
		return text + "; it restarts by itself"
	}
	return text
}
