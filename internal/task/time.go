package task

import (
	"cmp"
	"context"

	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
)

// setTime sets the clock from ours, the time zone, and where the device takes its time from.
var setTime = &Task{
	Name: string(profile.Time),
	Text: func(o Of) string { return itself(o, "set the time"+siteWideText(o)) },
	Do:   func(ctx context.Context, b *Box, s Step) (string, error) { return b.act(ctx, s) },
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
