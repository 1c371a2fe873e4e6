package server

import (
	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/right"
	"redstart/internal/planning"
)

const filesPath = "/api/sites/:site/files/:name"

func (s *Server) siteRoutes() []route {
	return []route{
		call(s, "GET", "/api/sites", "The sites with how far they are", right.Look,
			func(r *request, _ none) ([]api.Summary, error) {
				return s.Sites(r, r.yes("brief"))
			}).takes(yesNo("brief", "without how far they are")),
		call(s, "POST", "/api/sites", "Make a site", right.Plan, func(r *request, in plan.Site) (plan.Site, error) {
			return s.AddSite(r, in, r.who.Name)
		}),
		call(s, "GET", "/api/sites/:site", "The site's data", right.Look,
			func(r *request, _ none) (plan.Site, error) {
				return r.site.Records.Data(r)
			}),
		call(s, "PUT", "/api/sites/:site", "Set the site's data; policies have their own calls", right.Plan,
			func(r *request, in plan.Site) (plan.Site, error) {
				return r.site.Plan.SetData(r, in, r.who.Name)
			}),
		call(s, "DELETE", "/api/sites/:site", "Forget the site with everything of it", right.Own,
			func(r *request, _ none) (none, error) {
				return none{}, r.site.Remove(r, r.query("sure"))
			}).takes(text("sure", "the site's key")),
		call(s, "GET", "/api/sites/:site/files", "The site's files, such as licences", right.Look,
			func(r *request, _ none) ([]api.File, error) {
				return r.site.Plan.Files(r)
			}),
		call(s, "PUT", filesPath, "Store a file of the site, up to 512 MiB, whole or not at all", right.Plan,
			func(r *request, in upload) (api.File, error) {
				return r.site.Plan.PutFile(r, r.param("name"), in, r.who.Name)
			}),
		call(s, "GET", filesPath, "A file of the site", right.Look, func(r *request, _ none) (planning.Stored, error) {
			f, content, err := r.site.Records.File(r, r.param("name"))
			return planning.Stored{Name: f.Name, Content: content}, err
		}),
		call(s, "DELETE", "/api/sites/:site/files/:name", "Forget a file of the site", right.Plan,
			func(r *request, _ none) (none, error) {
				return none{}, r.site.Plan.RemoveFile(r, r.param("name"))
			}),
		call(s, "GET", "/api/sites/:site/map", "What each address of a subnet is", right.Look,
			func(r *request, _ none) (plan.Map, error) {
				return r.site.Plan.Map(r, r.query("subnet"))
			}).takes(text("subnet", "its name; the first one without")),
	}
}
