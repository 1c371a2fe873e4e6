package task

import (
	"cmp"
	"context"
	"time"

	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
	"redstart/internal/core/value"
)

// setTime sets the clock from ours, the time zone, and where the device takes its time from.
var setTime = &Task{
	Name: string(profile.Time),
	Text: func(o Of) string { return itself(o, "set the time"+siteWideText(o)) },
	Do:   func(ctx context.Context, b *Box, s Step) (string, error) { return b.setTime(ctx, s) },
}

const (
	// promptly is how long setting a clock may take without a look whether it came in time.
	promptly = time.Second
	// clockTries is how often a clock is set that comes out wrong.
	clockTries = 4
	// clockOff is by how much it may come out wrong; verification allows a little more.
	clockOff = time.Second
	// mostLate bounds what is made up for.
	mostLate = time.Minute
)

// setTime sets the clock. A busy device, or a bad cable, lets the time grow old on its way:
// then it is read back, and set again by so much later.
func (b *Box) setTime(ctx context.Context, s Step) (string, error) {
	var late time.Duration
	defer func() {
		if b.client != nil {
			b.client.Later(0)
		}
	}()
	for try := 1; ; try++ {
		b.converse().Later(late)
		began := time.Now()
		detail, err := b.act(ctx, s)
		took := time.Since(began)
		if err != nil || took < promptly && late == 0 || s.stage.Then != profile.Stays || try == clockTries ||
			!b.p.SetsClock() {
			return detail, err
		}
		off, err := b.clockIsOff(ctx)
		if err != nil || off.Abs() <= clockOff {
			return detail, b.passing(ctx, err)
		}
		late = min(max(late-off, -mostLate), mostLate)
	}
}

// clockIsOff reads by how much the device's clock is ahead of ours; 0 where it does not tell.
func (b *Box) clockIsOff(ctx context.Context) (time.Duration, error) {
	zone, err := time.LoadLocation(b.d.Given.SiteWide[fact.Zone])
	if err != nil {
		return 0, err
	}
	facts, err := b.converse().Do(ctx, profile.Read, nil)
	if err != nil {
		return 0, err
	}
	at, ok := value.Clock(facts[fact.Clock], time.UTC)
	if !ok {
		at, ok = value.Clock(facts[fact.ClockLocal], zone)
	}
	// A slow device does what it is asked at the end of the time that it takes: so it was
	// with the setting, and so it is with the reading. Verification is the judge of that.
	_, until := b.converse().ClockRead()
	whole := until.Add(-time.Second) // it may tell whole seconds only
	switch {
	case !ok:
		return 0, nil
	case at.Before(whole):
		return at.Sub(whole), nil
	case at.After(until):
		return at.Sub(until), nil
	}
	return 0, nil
}

// siteWideText tells what a stage sends of the site's values.
func siteWideText(o Of) (text string) {
	words := map[string]string{fact.DNS: "name server", fact.DNS2: "and", fact.NTP: "time server", fact.NTP2: "and",
		fact.Domain: "domain", fact.Zone: "zone", fact.ZonePOSIX: "zone", fact.Log: "messages to", fact.Traps: "notifications to"}
	for _, key := range o.Profile.SendsIn(o.Stage.Act) {
		text += ", " + words[key] + " " + cmp.Or(o.Given.SiteWide[key], "none")
	}
	return text
}
