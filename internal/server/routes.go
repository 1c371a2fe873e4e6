package server

import (
	"cmp"
	"math"
	"reflect"
	"strconv"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/right"
	"redstart/internal/planning"
)

// bytesKind is the media type of what is not to be read without more.
const bytesKind = "application/octet-stream"

// listKinds are the media types of lists.
var listKinds = []string{planfile.Kinds[planfile.CSV], planfile.Kinds[planfile.XLSX], planfile.Kinds[planfile.JSON]}

// routes are the whole API; the OpenAPI document is made from them.
func (s *Server) routes() []route {
	list := []route{
		call(s, "GET", "/api/health", "Whether the service is up", right.Nobody,
			func(*request, none) (api.Health, error) {
				return api.Health{Name: "redstart", Version: api.Version}, nil
			}),
		{method: "GET", path: "/api/openapi.json", summary: "This API as an OpenAPI document", need: right.Nobody,
			handler: s.getOpenAPI},
		{method: "GET", path: "/api/events", summary: "Everything that changes, as server-sent events",
			need: right.Look, out: reflect.TypeFor[eventStream](), handler: s.streamEvents,
			queries: []query{text("site", "only what concerns this site"), text("after", "the last event that the reader had")}},
		call(s, "GET", "/api/profiles", "The device profiles", right.Look,
			func(*request, none) ([]*profile.Profile, error) {
				return append([]*profile.Profile{}, s.Plans.Profiles().Sorted()...), nil
			}),
		call(s, "GET", "/api/profiles/broken", "Files of the profile folder that cannot be used", right.Look,
			func(*request, none) ([]api.Broken, error) {
				return s.Plans.BrokenProfiles(), nil
			}),
		call(s, "GET", "/api/fields", "The fields of an entry, with their help", right.Look,
			func(*request, none) ([]plan.Field, error) {
				return plan.Fields, nil
			}),
		call(s, "GET", "/api/facts", "What can be told of a device, and who may tell it", right.Look,
			func(*request, none) ([]fact.Kind, error) {
				return fact.All, nil
			}),
		call(s, "GET", "/api/reckon", "Subnet calculator", right.Look,
			func(r *request, _ none) (api.Reckoning, error) {
				return s.Plans.Reckon(r, r.query("of"), r.query("site"))
			}).takes(needed("of", "a prefix like 10.40.8.0/22, or an address"),
			text("site", "count what is left in this site")),
		call(s, "GET", "/api/interfaces", "The computer's network interfaces", right.Look,
			func(r *request, _ none) ([]api.InterfaceView, error) {
				seconds, err := strconv.ParseFloat(cmp.Or(r.query("listen"), "0"), 64)
				if err != nil || seconds < 0 || math.IsNaN(seconds) {
					return nil, problem.New(problem.Usage, "listen must be a number of seconds", "")
				}
				return s.Segments.Interfaces(r, time.Duration(min(seconds, 60)*float64(time.Second)))
			}).takes(number("listen", "seconds to hear what is on each")),
		call(s, "GET", "/api/segments", "The segments that the service is on, with the sites that use each",
			right.Look, func(r *request, _ none) ([]api.SegmentView, error) {
				return s.Segments.List(r)
			}),
		call(s, "DELETE", "/api/segments/:name", "Leave a segment", right.Own,
			func(r *request, _ none) (none, error) {
				return none{}, s.Segments.Unplug(r.param("name"))
			}),
		call(s, "GET", "/api/works", "The works under way and those that ended lately, the latest first", right.Look,
			func(*request, none) ([]api.Work, error) {
				return s.Works.List(), nil
			}),
		call(s, "POST", "/api/works/:id/stop", "Stop a work under way; 0 is the only one there is", right.Commission,
			func(r *request, _ none) (none, error) {
				id, err := planning.Number(r.param("id"), "work")
				if err != nil {
					return none{}, err
				}
				return none{}, s.Works.Stop(id)
			}),
	}
	for _, more := range [][]route{s.peopleRoutes(), s.vaultRoutes(), s.siteRoutes(), s.planRoutes(), s.findRoutes(),
		s.matchRoutes(), s.workRoutes(), s.handingRoutes()} {
		list = append(list, more...)
	}
	return list
}
