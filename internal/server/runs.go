package server

import (
	"cmp"

	"redstart/internal/api"
	"redstart/internal/core/planfile"
	"redstart/internal/core/right"
	"redstart/internal/planning"
)

func (s *Server) workRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "POST", at+"rehearsals", "What a run would do", right.Look,
			func(r *request, in api.RunOptions) (api.Rehearsal, error) {
				rehearsal, _, err := r.site.Jobs.Rehearse(r, in)
				return rehearsal, err
			}),
		call(s, "GET", at+"runs/latest", "The latest run", right.Look, func(r *request, _ none) (api.Run, error) {
			return r.site.Jobs.LatestRun(r)
		}),
		call(s, "GET", at+"runs", "The runs that have not ended, oldest first", right.Look,
			func(r *request, _ none) ([]api.Run, error) {
				return r.site.Jobs.OpenRuns(r)
			}),
		call(s, "GET", at+"runs/:id", "A run", right.Look, func(r *request, _ none) (api.Run, error) {
			id, err := planning.Number(r.param("id"), "run")
			if err != nil {
				return api.Run{}, err
			}
			return r.site.Jobs.Run(r, id)
		}),
		call(s, "POST", at+"runs/:id/hands", "Say that a person did what devices wait for, all or none",
			right.Commission, func(r *request, in api.Hands) (none, error) {
				id, err := planning.Number(r.param("id"), "run")
				if err != nil {
					return none{}, err
				}
				return none{}, r.site.Jobs.Did(r, id, in, r.who.Name)
			}),
		call(s, "POST", at+"runs/:id/hands/take", "Say that you are at what devices wait for, or no longer, all or none",
			right.Commission, func(r *request, in api.TakeHands) (none, error) {
				id, err := planning.Number(r.param("id"), "run")
				if err != nil {
					return none{}, err
				}
				return none{}, r.site.Jobs.TakeHands(r, id, in, r.who.Name)
			}),
		call(s, "POST", at+"entries/:tag/said", "Say by name of a check that nothing can look at that it is so, or take that back",
			right.Commission, func(r *request, in api.Word) (none, error) {
				return none{}, r.site.Jobs.Say(r, r.param("tag"), in, r.who.Name)
			}),
		call(s, "GET", at+"licences", "The devices that take a licence, and how far each is", right.Look,
			func(r *request, _ none) ([]api.Licence, error) {
				return r.site.Plan.Licences(r)
			}),
		call(s, "POST", at+"licences/collection", "What the supplier needs for the licences that are not there yet; they count as asked for",
			right.Plan, func(r *request, _ none) (planning.Download, error) {
				return r.site.Plan.CollectLicences(r, r.query("format"))
			}).takes(formats("csv or xlsx")).gives(planfile.Kinds[planfile.CSV], planfile.Kinds[planfile.XLSX]),
		call(s, "POST", at+"licences", "Take licences in, a file or a ZIP archive: each is matched by the host id in it",
			right.Plan, func(r *request, in file) (api.LicencesTaken, error) {
				return r.site.Plan.TakeLicences(r, cmp.Or(r.query("name"), "licences"), in, r.query("preview") == "true", r.who.Name)
			}).takes(previews, text("name", "of the file")),
		call(s, "GET", at+"hands", "What persons have to do at which device, in walking order", right.Look,
			func(r *request, _ none) (api.HandList, error) {
				return r.site.Jobs.Hands(r)
			}),
		call(s, "POST", at+"runs", "Start a run", right.Commission,
			func(r *request, in api.RunOptions) (api.Work, error) {
				return r.site.Jobs.Commission(r, r.who.Name, in)
			}),
		call(s, "POST", at+"set-by-hand", "Mark entries as set by hand, all or none", right.Commission,
			func(r *request, in api.Chosen) ([]string, error) {
				return r.site.Jobs.SetByHand(r, in, r.who.Name)
			}),
		call(s, "POST", at+"runs/:id/resume", "Go on with a run that was cut off", right.Commission,
			func(r *request, _ none) (api.Work, error) {
				id, err := planning.Number(r.param("id"), "run")
				if err != nil {
					return api.Work{}, err
				}
				return r.site.Jobs.Resume(r, id, r.who.Name)
			}),
		call(s, "POST", at+"runs/:id/give-up", "Give up a run that was cut off", right.Commission,
			func(r *request, _ none) (none, error) {
				id, err := planning.Number(r.param("id"), "run")
				if err != nil {
					return none{}, err
				}
				return none{}, r.site.Jobs.GiveUp(r, id, r.who.Name)
			}),
		call(s, "POST", at+"verifications", "Start a verification", right.Commission,
			func(r *request, in api.VerifyOptions) (api.Work, error) {
				return r.site.Jobs.Verify(r, r.who.Name, in)
			}),
	}
}
