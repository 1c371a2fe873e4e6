package task

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
	"redstart/internal/store"
)

// confirm shows that the device is the one that is meant, before anything is written.
var confirm = &Task{
	Name: Confirm,
	Text: func(Of) string { return "confirm MAC, model and serial" },
	Do:   func(ctx context.Context, b *Box, _ Step) (string, error) { return b.identify(ctx) },
}

// identify reads the identity back before anything is written.
func (b *Box) identify(ctx context.Context) (string, error) {
	if b.p.Who() == profile.Read {
		if err := b.signIn(ctx); err != nil {
			return "", err
		}
	}
	facts, err := b.converse().Do(ctx, b.p.Who(), nil)
	if err != nil {
		return "", err
	}
	if err := b.isMeant(facts); err != nil {
		return "", err
	}
	serial := facts[fact.Serial]
	if b.d.Line != "" {
		if err := b.atLine(ctx, serial, facts[fact.MAC]); err != nil {
			return "", err
		}
	}
	if id := facts[fact.HostID]; id != "" {
		if err := b.Records.ToldHostID(ctx, b.d.MAC, id, stamp.Now()); err != nil {
			return "", err
		}
	}
	c := store.DeviceState{MAC: b.d.MAC, Serial: serial}
	return strings.TrimSpace(b.p.Model + " " + serial), b.Boxes.SetDeviceState(ctx, c)
}

// NoteHostID reads for what a licence of the device is made, where it takes one and tells
// that: its name and address, which it may follow from, are set by then. Its error is ours.
func (b *Box) NoteHostID(ctx context.Context) error {
	takes := slices.ContainsFunc(b.p.Settings, func(s profile.Setting) bool { return s.Licence })
	act := profile.Read
	if slices.ContainsFunc(b.p.Acts[profile.Identify], func(m profile.Move) bool {
		return slices.Contains(m.Takes(), fact.HostID)
	}) {
		act = profile.Identify
	}
	if !takes || act == profile.Read && b.signIn(ctx) != nil {
		return nil
	}
	facts, err := b.converse().Do(ctx, act, nil)
	if err != nil || facts[fact.HostID] == "" {
		return nil // it is told at the next verification
	}
	return b.Records.ToldHostID(ctx, b.d.MAC, facts[fact.HostID], stamp.Now())
}

// confirmInside reads who the device is from one that tells its serial only to who is signed
// in, before anything else is written to it.
func (b *Box) confirmInside(ctx context.Context) error {
	if !b.inside || b.serial != "" || !slices.Contains(b.p.ReadsBack(), fact.Serial) {
		return nil
	}
	facts, err := b.converse().Do(ctx, profile.Read, nil)
	if err != nil {
		return err
	}
	return b.isMeant(facts)
}

// isMeant compares what the device tells of itself with what is planned.
func (b *Box) isMeant(facts map[string]string) error {
	if m := facts[fact.Model]; m != "" && !strings.EqualFold(m, b.p.Model) {
		return problem.New(problem.Device, fmt.Sprintf("it says that it is a %s, not a %s", m, b.p.Model),
			"undo the match and find its right profile")
	}
	serial := facts[fact.Serial]
	if serial != "" && b.d.Serial != "" && !strings.EqualFold(serial, b.d.Serial) {
		return problem.New(problem.Device, fmt.Sprintf("it has the serial %s, but the plan says %s", serial,
			b.d.Serial), "undo the match and choose the right box")
	}
	b.serial = serial
	return nil
}

// atLine shows that the box at the other end of the serial line is the one that is
// matched: it tells its MAC there, or the serial that is known of the matched one.
func (b *Box) atLine(ctx context.Context, serial, mac string) error {
	if mac != "" {
		if told, err := address.ParseMAC(mac); err != nil || told != b.d.MAC {
			return problem.New(problem.Device, fmt.Sprintf("the box on %s has the MAC %s, not %s", b.d.Line, mac, b.d.MAC),
				"name the right line")
		}
		return nil
	}
	found, err := b.Records.Device(ctx, b.d.MAC)
	if err != nil {
		return err
	}
	known := cmp.Or(b.d.Serial, found.Value(fact.Serial))
	switch {
	case serial == "" || known == "":
		return problem.New(problem.Device, "nothing shows that it is this box that hangs on "+b.d.Line,
			"put its serial into the plan")
	case !strings.EqualFold(serial, known):
		return problem.New(problem.Device, fmt.Sprintf("the box on %s has the serial %s, not %s", b.d.Line, serial,
			known), "name the right line")
	}
	return nil
}
