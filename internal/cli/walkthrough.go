package cli

import (
	"context"
	"fmt"

	"redstart/internal/api"
	"redstart/internal/core/match"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// walk does the whole job through the API, as a technician would. It returns
// that something needs attention unless every entry ends up verified.
func (a *app) walk(ctx context.Context, csv []byte) error {
	c, err := a.client(ctx)
	if err != nil {
		return err
	}
	a.say("PLAN")
	r, err := c.Import(ctx, csv, api.ImportOptions{})
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
	a.say("%s planned.", plural(len(r.Comparison.Added), "entry"))
	a.say("%s.\n", findingsText(r.Findings))

	a.say("FIND")
	if _, err := a.follow(ctx, c, func() (api.Work, error) { return c.Find(ctx, api.FindOptions{}) }); err != nil {
		return err
	}
	if err := a.printDevices(ctx, c, ""); err != nil {
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

	a.say("\nCOMMISSION")
	rehearsal, err := c.Rehearse(ctx, api.RunOptions{Chosen: chosen(nil)})
	if err != nil {
		return err
	}
	a.say("Rehearsed: %s, about %s side by side.", plural(len(rehearsal.Devices), "device"), seconds(rehearsal.Seconds))
	if err := a.commissionAll(ctx, c, api.RunOptions{Chosen: chosen(nil)}); err != nil {
		return err
	}

	a.say("\nVERIFY")
	if _, err := a.follow(ctx, c, func() (api.Work, error) {
		return c.Verify(ctx, api.VerifyOptions{Chosen: chosen(nil)})
	}); err != nil {
		return err
	}
	return a.printEntries(ctx, c, nil)
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
		if e.State != store.Verified && !(e.ByHand && e.State == store.Matched) &&
			!(e.NotWired && e.State == store.Planned) {
			return false
		}
	}
	return len(entries) > 0
}
