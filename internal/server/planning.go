package server

import (
	"encoding/json"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/planning"
)

func (s *Server) planRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "GET", at+"entries", "The plan with what is known of each box", right.Look,
			func(r *request, _ none) ([]api.EntryView, error) {
				return r.site.Plan.Entries(r)
			}),
		call(s, "POST", at+"entries/:tag/configuration",
			"Take the saved configuration of its device, and keep it as a file of the site", right.Commission,
			func(r *request, _ none) (api.File, error) {
				return r.site.Jobs.KeepConfiguration(r, r.param("tag"), r.query("name"), r.who.Name)
			}).takes(text("name", "of the file; after the tag without")),
		call(s, "GET", at+"entries/:tag", "Everything known of one entry", right.Look,
			func(r *request, _ none) (api.Detail, error) {
				return r.site.Plan.Detail(r, r.param("tag"))
			}),
		call(s, "PATCH", at+"entries", "Change, add and remove entries, all or none", right.Plan,
			func(r *request, in api.Edits) (api.Edited, error) {
				return r.site.Plan.Edit(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"quantities", "Entries from quantities", right.Plan,
			func(r *request, in []plan.Quantity) (api.Edited, error) {
				return r.site.Plan.Generate(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"addresses", "Give out addresses to a selection", right.Plan,
			func(r *request, in api.Allocation) (api.Edited, error) {
				return r.site.Plan.Allocate(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"mends", "Apply all safe mends", right.Plan,
			func(r *request, in api.Chosen) (api.Edited, error) {
				return r.site.Plan.Mend(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"roles-given", "Give ports of switches a role, all or none", right.Plan,
			func(r *request, in api.RoleGiven) (api.Edited, error) {
				return r.site.Plan.GiveRole(r, in, r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "GET", at+"findings", "What is wrong with the plan", right.Look,
			func(r *request, _ none) ([]plan.Finding, error) {
				return r.site.Plan.Findings(r)
			}),
		call(s, "POST", at+"imports", "Import a plan file (CSV, XLSX, JSON) as the body", right.Plan,
			func(r *request, in file) (planfile.Result, error) {
				o, err := importOptions(r)
				if err != nil {
					return planfile.Result{}, err
				}
				return r.site.Plan.Import(r, in, o, r.who.Name)
			}).takes(previews, text("sheet", "of a workbook"), text("rows",
			"the file holds the tables of this setting, one line for each row"),
			text("mapping", "JSON object of header to field"),
			yesNo("whole", "the file is the whole plan: entries that it leaves out are removed"),
			yesNo("configured", "also entries whose devices are configured"),
			yesNo("apply", "change and remove entries that are in the plan already")),
		call(s, "POST", at+"file-checks", "Check a plan file without importing it", right.Plan,
			func(r *request, in file) (planfile.Result, error) {
				return r.site.Plan.CheckFile(r, in)
			}),
		call(s, "GET", at+"export", "The plan as a file", right.Look,
			func(r *request, _ none) (planning.Download, error) {
				return r.site.Plan.Export(r, r.query("format"), r.query("rows"))
			}).takes(formats("csv, xlsx or json"),
			text("rows", "key of a setting of the type rows: its tables alone, as CSV")).gives(listKinds...),
		call(s, "GET", at+"template", "An empty workbook with drop-downs", right.Look,
			func(r *request, _ none) (planning.Download, error) {
				return r.site.Plan.Template(r)
			}).gives(planfile.Kinds[planfile.XLSX]),
		call(s, "GET", at+"revisions", "What was changed, latest first", right.Look,
			func(r *request, _ none) ([]api.RevisionView, error) {
				return r.site.Plan.Revisions(r)
			}),
		call(s, "PUT", at+"revisions/:revision/name", "Name a revision", right.Plan,
			func(r *request, in api.Named) (api.Revision, error) {
				return r.site.Plan.NameRevision(r, r.param("revision"), in.Name)
			}),
		call(s, "GET", at+"comparison", "Compare two moments", right.Look,
			func(r *request, _ none) (api.Moments, error) {
				return r.site.Plan.Compare(r, r.query("from"), r.query("to"))
			}).takes(needed("from", "number of a revision"), text("to", "number of a revision; now without")),
		call(s, "POST", at+"revisions/:revision/restore", "Make the plan as it was", right.Plan,
			func(r *request, _ none) (api.Edited, error) {
				return r.site.Plan.Restore(r, r.param("revision"), r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"revisions/:revision/undo", "Go one step back: undo the revision whose turn it is", right.Plan,
			func(r *request, _ none) (api.Edited, error) {
				return r.site.Plan.Undo(r, r.param("revision"), r.yes("preview"), r.who.Name)
			}).takes(previews),
		call(s, "POST", at+"revisions/:revision/redo",
			"Go one step forward: redo what the undoing whose turn it is took back", right.Plan,
			func(r *request, _ none) (api.Edited, error) {
				return r.site.Plan.Redo(r, r.param("revision"), r.yes("preview"), r.who.Name)
			}).takes(previews),
	}
}

func importOptions(r *request) (o api.ImportOptions, err error) {
	o = api.ImportOptions{Options: planfile.Options{Sheet: r.query("sheet"), Rows: r.query("rows"),
		Whole: r.yes("whole"), Configured: r.yes("configured")}, Preview: r.yes("preview"), Apply: r.yes("apply")}
	if m := r.query("mapping"); m != "" {
		if json.Unmarshal([]byte(m), &o.Mapping) != nil {
			err = problem.New(problem.Usage, "the mapping is not a JSON object of header to field", "")
		}
	}
	return o, err
}
