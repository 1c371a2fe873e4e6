package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/core/value"
	"redstart/internal/sim/model/w1"
	"redstart/internal/sim/skerry"
)

// walk does the whole job through the API, as a technician would. It returns
// that something needs attention unless every entry ends up verified.
func (a *app) walk(ctx context.Context, terminal *skerry.Site, lines []skerry.Line, stay bool) error {
	c, err := a.client(ctx)
	if err != nil {
		return err
	}
	verified := a.walkToVerified(ctx, c, terminal, lines)
	if verified != nil && !errors.As(verified, new(attention)) {
		return verified
	}
	return errors.Join(verified, a.handItOver(ctx, c, stay))
}

func (a *app) walkToVerified(ctx context.Context, c *client.Client, terminal *skerry.Site, lines []skerry.Line) error {
	a.say("\nPLAN")
	r, err := c.Import(ctx, terminal.WholePlan(), api.ImportOptions{})
	if err != nil {
		return err
	}
	profiles, err := c.Profiles(ctx)
	if err != nil {
		return err
	}
	if err := a.printByProfile(profiles, countPlanned(r.Comparison.Added)); err != nil {
		return err
	}
	site, err := c.Site(ctx)
	if err != nil {
		return err
	}
	for _, n := range site.Subnets {
		a.say("Subnet %s: %s, gateway %s.", n.Name, n.Prefix, addr(n.Gateway))
	}
	a.say("%s planned.", value.Count(len(r.Comparison.Added), "entry"))
	a.say("%s.\n", findingsText(r.Findings))

	a.say("FIND")
	if _, err := a.follow(ctx, c, func() (api.Work, error) { return c.Find(ctx, api.FindOptions{}) }); err != nil {
		return err
	}
	if err := a.printDevices(ctx, c, ""); err != nil {
		return err
	}

	if err := a.elsewhere(ctx, c); err != nil {
		return err
	}

	a.say("\nMATCH")
	accepted, err := c.Accept(ctx, api.Acceptance{Reasons: match.Reasons})
	if err != nil {
		return err
	}
	if err := a.printProposals(match.Result{Proposals: accepted},
		fmt.Sprintf("%d matched.", len(accepted))); err != nil {
		return err
	}

	if err := a.readLabels(ctx, c, terminal); err != nil {
		return err
	}

	if err := a.readCards(ctx, c); err != nil {
		return err
	}

	a.say("\nCOMMISSION")
	named, err := a.onLines(ctx, c, lines)
	if err != nil {
		return err
	}
	rehearsal, err := c.Rehearse(ctx, api.RunOptions{Chosen: chosen(nil), Lines: named})
	if err != nil {
		return err
	}
	a.say("Rehearsed: %s, about %s side by side.", value.Count(len(rehearsal.Devices), "device"), seconds(rehearsal.Seconds))
	// The desk switches hand out an address each until somebody sets them up.
	beside := []netip.Addr{netip.MustParseAddr("192.168.88.1")}
	if err := a.commissionAll(ctx, c, api.RunOptions{Chosen: chosen(nil), OtherServers: beside,
		Lines: named}); err != nil {
		return err
	}

	a.say("\nVERIFY")
	if _, err := a.follow(ctx, c, func() (api.Work, error) {
		return c.Verify(ctx, api.VerifyOptions{Chosen: chosen(nil)})
	}); err != nil {
		return err
	}
	entries, err := c.Entries(ctx)
	if err != nil {
		return err
	}
	err = a.printEntries(ctx, c, nil)
	if errors.As(err, new(attention)) && allVerified(slices.DeleteFunc(entries, func(e api.EntryView) bool { return e.Untold })) {
		a.say("What is not looked at are secrets, which the boxes never tell again: somebody tries them by hand.")
		return nil
	}
	return err
}

// handItOver makes the package, and checks it as whoever gets it would.
func (a *app) handItOver(ctx context.Context, c *client.Client, stay bool) error {
	a.say("\nHAND OVER")
	path := filepath.Join(a.data, "skerry-point-handover.zip")
	if err := a.make(ctx, c, path, api.ToMake{Document: "package"}, "the harbour master, who is made up"); err != nil {
		return err
	}
	if err := a.checkRecordFile(path, ""); err != nil || stay {
		return err
	}
	a.say("The file goes with the demo; with --stay it goes on, and you can look at everything.")
	return nil
}

// onLines names the serial lines of those boxes that cannot be set without one, as somebody
// would who plugged them in.
func (a *app) onLines(ctx context.Context, c *client.Client, lines []skerry.Line) (map[string]string, error) {
	named := map[string]string{}
	entries, err := c.Entries(ctx)
	for _, l := range lines {
		for _, e := range entries {
			if l.Only && e.Device == l.MAC {
				a.say("%s: its console hangs on %s.", e.Tag, l.Name)
				named[e.Tag] = l.Name
			}
		}
	}
	return named, err
}

// elsewhere plans other addresses where a stranger holds the planned ones.
func (a *app) elsewhere(ctx context.Context, c *client.Client) error {
	findings, err := c.Findings(ctx)
	if err != nil {
		return err
	}
	var patches []plan.Patch
	for _, f := range findings {
		if f.Code == "address-living" {
			a.say("%s: %s; another is planned.", f.Tag, f.Reason)
			patches = append(patches, plan.Patch{Tag: f.Tag, Set: map[string]string{"address": plan.Next}})
		}
	}
	if len(patches) == 0 {
		return nil
	}
	_, err = c.Edit(ctx, api.Edits{What: "addresses that strangers hold are given up", Patches: patches}, false)
	return err
}

// readCards reads the cards of the sensors, as somebody would who unpacks them.
func (a *app) readCards(ctx context.Context, c *client.Client) error {
	entries, err := c.Entries(ctx)
	if err != nil || !slices.ContainsFunc(entries, func(e api.EntryView) bool { return e.Profile == w1.SensorProfile }) {
		return err
	}
	for n := 1; n <= w1.Cards; n++ {
		if _, err := c.Scan(ctx, api.Scan{Text: w1.Card(n), Cards: true}); err != nil {
			return err
		}
	}
	a.say("The cards of %s are read; their keys are in the vault.", value.Count(w1.Cards, "sensor"))
	return nil
}

// readLabels matches the boxes that look alike as somebody would who reads their labels,
// and notes what has not arrived.
func (a *app) readLabels(ctx context.Context, c *client.Client, terminal *skerry.Site) error {
	entries, err := c.Entries(ctx)
	if err != nil {
		return err
	}
	stands := map[string]skerry.Other{}
	for _, o := range terminal.Others {
		stands[o.Tag] = o
	}
	for _, o := range terminal.Others {
		if at := o.Running().Address.Addr(); o.Tag != "" && at.Is6() {
			a.say("%s has IPv4 switched off: somebody resets it.", o.Tag)
			o.Reset()
		}
	}
	var read int
	var missing []plan.Patch
	var tags []string
	for _, e := range entries {
		if e.State != state.Planned || e.NotWired || e.Behind != "" {
			continue
		}
		o, there := stands[e.Tag]
		switch {
		case !there:
			missing = append(missing, plan.Patch{Tag: e.Tag, Set: map[string]string{"not-wired": "yes"}})
			tags = append(tags, e.Tag)
		case o.Running().Address.Addr().Is4() || o.Model.Class != "" || o.Model.Frame != nil:
			if err := c.Match(ctx, e.Tag, api.MatchWith{MAC: o.MAC}); err != nil {
				return err
			}
			read++
		}
	}
	if read > 0 {
		a.say("%s that look alike matched by their labels.", value.Count(read, "device"))
	}
	if len(missing) == 0 {
		return nil
	}
	a.say("%s not arrived: %s.", map[bool]string{true: "One has", false: "Some have"}[len(missing) == 1],
		strings.Join(tags, ", "))
	_, err = c.Edit(ctx, api.Edits{What: "what has not arrived", Patches: missing}, false)
	return err
}

// printByProfile prints how many entries each profile has.
func (a *app) printByProfile(profiles []*profile.Profile, count map[string]int) error {
	var rows [][]any
	for _, p := range profiles {
		if count[p.ID] > 0 {
			rows = append(rows, []any{p.Kind, p.Maker + " " + p.Model, count[p.ID]})
		}
	}
	return a.list(count, []string{"Kind", "Model", "Entries"}, rows, "")
}

// allVerified reports whether nothing is left to do with what is wired and can
// be set by a run.
func allVerified(entries []api.EntryView) bool {
	for _, e := range entries {
		if e.State != state.Verified && !(e.ByHand && e.State == state.Matched) && !e.Unwired {
			return false
		}
	}
	return len(entries) > 0
}
