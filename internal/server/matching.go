package server

import (
	"redstart/internal/api"
	"redstart/internal/core/match"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
)

func (s *Server) matchRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "GET", at+"matches", "Proposed matches, and what is left over on both sides", right.Look,
			func(r *request, _ none) (match.Result, error) {
				return r.site.Jobs.Propose(r)
			}),
		call(s, "POST", at+"matches", "Accept proposed matches", right.Commission,
			func(r *request, in api.Acceptance) ([]match.Proposal, error) {
				return r.site.Jobs.Accept(r, in, r.who.Name)
			}),
		call(s, "POST", at+"matches/undo", "Undo matches: of entries, all or none, or all that were made for a reason",
			right.Commission, func(r *request, in api.Undo) ([]string, error) {
				return r.site.Jobs.UndoMatches(r, in, r.who.Name)
			}),
		call(s, "PUT", at+"entries/:tag/match", "Match an entry with a box by hand", right.Commission,
			func(r *request, in api.MatchWith) (none, error) {
				if in.MAC.IsZero() {
					return none{}, problem.New(problem.Usage, "no MAC is given", "give the MAC of a found device")
				}
				by, why := match.ByHand, "chosen by "+r.who.Name
				if in.Arrival {
					by, why = match.ByArrival, "it came onto the segment when it was awaited by "+r.who.Name
				}
				return none{}, r.site.Jobs.Match(r, r.param("tag"), in.MAC, by, why, r.who.Name)
			}),
		call(s, "PUT", at+"locks", "Keep matches from being changed, or let them be, all or none", right.Commission,
			func(r *request, in api.Locking) (none, error) {
				return none{}, r.site.Jobs.Lock(r, in, r.who.Name)
			}),
		call(s, "POST", at+"entries/:tag/replace", "Put a new box in the place of an entry's", right.Commission,
			func(r *request, in api.Replacement) (api.Replaced, error) {
				return r.site.Jobs.Replace(r, r.param("tag"), in, r.who.Name)
			}),
		call(s, "POST", at+"scans", "Take in the label that was scanned", right.Commission,
			func(r *request, in api.Scan) (api.Scanned, error) {
				return r.site.Jobs.Scanned(r, in, r.who.Name)
			}),
		call(s, "POST", at+"adoptions", "Take found devices into the plan", right.Commission,
			func(r *request, in api.Adoption) (api.Edited, error) {
				return r.site.Jobs.Adopt(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
	}
}
