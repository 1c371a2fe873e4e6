package task

import (
	"cmp"
	"context"
	"fmt"

	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/value"
)

// firmware sends the device its firmware, if it has an older one than is asked.
var firmware = &Task{
	Name: string(profile.Firmware),
	Text: func(o Of) string {
		asked, file := o.Given.Settings[profile.FirmwareAsked], o.Given.Settings[profile.FirmwareFile]
		if asked == "" || file == "" {
			return "no firmware is asked for: nothing is sent"
		}
		return itself(o, fmt.Sprintf("send the firmware %s, if it has an older one than %s", file, asked))
	},
	Do: func(ctx context.Context, b *Box, s Step) (string, error) { return b.firmware(ctx, s) },
}

func (b *Box) firmware(ctx context.Context, s Step) (string, error) {
	b.idle = true
	asked, file := b.d.Given.Settings[profile.FirmwareAsked], b.d.Given.Settings[profile.FirmwareFile]
	if asked == "" {
		return "none is asked for", nil
	}
	act := b.p.Tells(fact.Firmware)
	if b.p.NeedsLogin(act) {
		if err := b.signIn(ctx); err != nil {
			return "", err
		}
	}
	facts, err := b.converse().Do(ctx, act, nil)
	if err != nil {
		return "", err
	}
	has := facts[fact.Firmware]
	switch {
	case has == "":
		return "", problem.New(problem.Device, "it does not tell which firmware it has",
			"look at the box; it may be updated by hand")
	case value.CompareVersions(has, asked) >= 0:
		return "it has " + has, nil
	case file == "":
		return "", problem.New(problem.Device, fmt.Sprintf("it has the firmware %s, and %s is asked for", has, asked),
			"name the file that holds it: redstart plan set "+b.d.Tag+" firmware=…").About(b.d.Tag)
	}
	said, err := b.act(ctx, s)
	return cmp.Or(said, "sent") + "; it had " + has, err
}
