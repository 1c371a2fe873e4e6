package jobs

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/label"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// card gives the card of a sensor to the entry that was chosen, or to the next one that has
// none: what it joins by is in the plan from then on, its key in the vault. A card that was
// read before changes nothing.
func (s *Site) card(ctx context.Context, entries []store.Entry, card label.LoRaWAN, in api.Scan,
	who string) (tag, text string, err error) {
	left := slices.DeleteFunc(slices.Clone(entries), func(e store.Entry) bool {
		return e.Behind == "" || e.Part != "" || in.Behind != "" && e.Behind != in.Behind || s.joins(e) == nil
	})
	slices.SortStableFunc(left, func(a, b store.Entry) int { // in walking order
		return cmp.Or(cmp.Compare(a.Behind, b.Behind), cmp.Compare(a.Area, b.Area), cmp.Compare(a.Floor, b.Floor),
			cmp.Compare(a.Tag, b.Tag))
	})
	known := slices.IndexFunc(entries, func(e store.Entry) bool { return strings.EqualFold(e.Part, card.DevEUI) })
	var to store.Entry
	switch at := slices.IndexFunc(entries, func(e store.Entry) bool { return e.Tag == in.Tag }); {
	case known >= 0 && (in.Tag == "" || in.Tag == entries[known].Tag):
		return entries[known].Tag, fmt.Sprintf("this card is that of %s already; %d to go", entries[known].Tag, len(left)),
			nil
	case known >= 0:
		return "", "", problem.New(problem.Conflict, "this card is that of "+entries[known].Tag+" already",
			"take it away there first: redstart plan set "+entries[known].Tag+" part=").About(in.Tag)
	case in.Tag != "" && at < 0:
		return "", "", problem.New(problem.Missing, "there is no such entry in the plan",
			"list the entries with: redstart plan list").About(in.Tag)
	case in.Tag != "":
		to = entries[at]
	case len(left) == 0:
		return "", "", problem.New(problem.Conflict, "every planned sensor has its card already",
			"plan another one, or name the entry whose card it takes the place of")
	default:
		to = left[0]
	}
	p := s.joins(to)
	if p == nil {
		return "", "", problem.New(problem.Conflict, "its profile takes no card: it has no join EUI",
			"choose the entry of a sensor").About(to.Tag)
	}
	set := map[string]string{"part": card.DevEUI, profile.JoinEUI: card.JoinEUI}
	if card.Serial != "" {
		set["serial"] = card.Serial
	}
	if card.Key != "" && p.Setting(profile.JoinKey) != nil {
		set[profile.JoinKey] = card.Key
	}
	edited, err := s.plan.Edit(ctx, api.Edits{What: "card of " + to.Tag + " read",
		Patches: []plan.Patch{{Tag: to.Tag, Set: set}}}, false, who)
	if err == nil && len(edited.Complaints) > 0 {
		err = problem.New(problem.Usage, edited.Complaints[0].Reason, "").About(to.Tag)
	}
	if err != nil {
		return "", "", err
	}
	text = fmt.Sprintf("%s, %s, is the sensor with this card", to.Tag, cmp.Or(to.Place, "nowhere in particular"))
	if card.Key == "" {
		text += "; the card does not hold its key"
	}
	if to.Part == "" {
		text += fmt.Sprintf("; %d to go", len(left)-1)
	}
	return to.Tag, text, nil
}

// joins gives the profile of an entry whose part joins by what is on its card; nil for any
// other.
func (s *Site) joins(e store.Entry) *profile.Profile {
	p := s.all.Plans.Profiles()[e.Profile]
	if p == nil || e.Behind == "" || p.Setting(profile.JoinEUI) == nil {
		return nil
	}
	return p
}
