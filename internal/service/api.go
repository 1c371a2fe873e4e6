package service

import (
	"errors"
	"io"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/service/console"
	"redstart/internal/verify"
)

// Version is the version of the program.
const Version = "0.1.0"

// Handler is the whole web surface: the API under /api and the console.
func (s *Service) Handler() http.Handler {
	e := echo.New()
	e.Logger = s.log
	e.HTTPErrorHandler = s.problem
	e.Use(middleware.Recover(), middleware.BodyLimit(plan.MaxFile+1<<20), middleware.SecureWithConfig(middleware.SecureConfig{
		ContentTypeNosniff: "nosniff", XFrameOptions: "DENY", ReferrerPolicy: "no-referrer",
		// The component library sets style attributes.
		ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'",
	}))
	e.Use(noStore)
	for _, r := range s.routes() {
		h := r.handler
		if !r.open {
			h = s.guard(h)
		}
		e.Add(r.method, r.path, h)
	}
	e.GET("/*", echo.WrapHandler(console.Handler()))
	return http.NewCrossOriginProtection().Handler(e)
}

// noStore keeps answers of the API out of caches.
func noStore(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if path := c.Request().URL.Path; len(path) > 4 && path[:5] == "/api/" {
			c.Response().Header().Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// Problem is an RFC 9457 problem document with our members.
type Problem struct {
	Type    string         `json:"type"`
	Title   string         `json:"title"`
	Status  int            `json:"status"`
	Detail  string         `json:"detail"`
	Subject string         `json:"subject,omitempty"`
	Next    string         `json:"next,omitempty"`
	Cells   []problem.Cell `json:"cells,omitempty"`
}

// Statuses gives the HTTP status of each kind of error.
var Statuses = map[problem.Kind]int{
	problem.Usage: http.StatusUnprocessableEntity, problem.Missing: http.StatusNotFound, problem.Conflict: http.StatusConflict,
	problem.SignIn: http.StatusUnauthorized, problem.Device: http.StatusBadGateway, problem.Machine: http.StatusServiceUnavailable,
}

// problem turns every error into a problem document.
func (s *Service) problem(c *echo.Context, err error) {
	if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
		return
	}
	p := Problem{Type: "about:blank", Status: http.StatusInternalServerError, Detail: "something went wrong inside the service; its log says what"}
	var own *problem.Error
	var status echo.HTTPStatusCoder
	switch {
	case errors.As(err, &own):
		p.Status, p.Detail, p.Subject, p.Next, p.Cells = Statuses[own.Kind], own.Cause, own.Subject, own.Next, own.Cells
		if own.Err != nil && own.Kind != problem.SignIn {
			p.Detail += " (" + own.Err.Error() + ")"
		}
	case errors.As(err, &status):
		p.Status, p.Detail = status.StatusCode(), http.StatusText(status.StatusCode())
		if he := (*echo.HTTPError)(nil); errors.As(err, &he) && he.Message != "" {
			p.Detail = he.Message
		}
		if p.Status == http.StatusRequestEntityTooLarge {
			p.Detail, p.Next = "the file is larger than 4 MiB; a plan of 5,000 entries needs less than one", "give the plan's CSV file"
		}
	default:
		s.log.Error("request failed", "method", c.Request().Method, "path", c.Path(), "error", err)
	}
	p.Title = http.StatusText(p.Status)
	c.Response().Header().Set("Content-Type", "application/problem+json")
	if err := c.JSON(p.Status, p); err != nil {
		s.log.Debug("the answer could not be sent", "error", err)
	}
}

type route struct {
	method, path string
	summary      string
	open         bool // without signing in
	handler      echo.HandlerFunc
}

// routes are the whole API; the OpenAPI document is made from them.
func (s *Service) routes() []route {
	return []route{
		{"GET", "/api/health", "Whether the service is up", true, s.getHealth},
		{"GET", "/api/openapi.json", "This API as an OpenAPI document", true, s.getOpenAPI},
		{"POST", "/api/session", "Sign in with user and password or a one-time link", true, s.signIn},
		{"GET", "/api/session", "Who is signed in", false, func(c *echo.Context) error { return c.JSON(http.StatusOK, map[string]string{"user": user(c)}) }},
		{"DELETE", "/api/session", "Sign out", false, s.signOut},
		{"GET", "/api/events", "Everything that changes, as server-sent events", false, s.streamEvents},
		{"GET", "/api/site", "The site's data", false, s.getSite},
		{"PUT", "/api/site", "Set the site's data", false, s.putSite},
		{"GET", "/api/profiles", "The device profiles", false, s.getProfiles},
		{"GET", "/api/entries", "The plan with what is known of each box", false, s.getEntries},
		{"POST", "/api/entries", "Import a plan as CSV; ?preview=true only shows, ?replace=true replaces", false, s.postEntries},
		{"GET", "/api/entries/:tag", "Everything known of one entry", false, s.getEntry},
		{"PUT", "/api/entries/:tag/match", "Match an entry with a box by hand", false, s.putMatch},
		{"DELETE", "/api/entries/:tag/match", "Undo a match", false, s.deleteMatch},
		{"POST", "/api/entries/:tag/reveal", "Show the stored login; recorded", false, s.postReveal},
		{"GET", "/api/findings", "What is wrong with the plan", false, s.getFindings},
		{"GET", "/api/devices", "Everything found on the segment", false, s.getDevices},
		{"POST", "/api/devices/:mac/blink", "Make a device show itself", false, s.postBlink},
		{"GET", "/api/activity", "The work under way or the last one", false, s.getActivity},
		{"POST", "/api/activity/stop", "Stop the work under way", false, s.postStop},
		{"POST", "/api/surveys", "Start a survey", false, s.postSurvey},
		{"GET", "/api/matches", "Proposed matches", false, s.getMatches},
		{"POST", "/api/matches", "Accept proposed matches", false, s.postMatches},
		{"POST", "/api/rehearsals", "What a run would do", false, s.postRehearsal},
		{"GET", "/api/runs/latest", "The latest run", false, s.getLatestRun},
		{"POST", "/api/runs", "Start a run", false, s.postRun},
		{"POST", "/api/runs/:id/resume", "Go on with a run that was cut off", false, s.postResume},
		{"POST", "/api/runs/:id/give-up", "Give up a run that was cut off", false, s.postGiveUp},
		{"POST", "/api/verifications", "Start a verification", false, s.postVerification},
	}
}

// answer sends a result or passes the error on.
func answer[T any](c *echo.Context, status int) func(T, error) error {
	return func(v T, err error) error {
		if err != nil {
			return err
		}
		return c.JSON(status, v)
	}
}

// Selection chooses entries by tag; no tags mean all that the request is for.
type Selection struct {
	Tags    []string `json:"tags"`
	Restart string   `json:"restart,omitempty"` // verification: needed, always or never
}

func selection(c *echo.Context) (Selection, error) {
	var in Selection
	if c.Request().ContentLength != 0 {
		if err := c.Bind(&in); err != nil {
			return in, err
		}
	}
	return in, nil
}

func (s *Service) getHealth(c *echo.Context) error {
	return c.JSON(http.StatusOK, map[string]string{"name": "redstart", "version": Version})
}

func (s *Service) getSite(c *echo.Context) error {
	return answer[plan.Site](c, http.StatusOK)(s.store.Site(c.Request().Context()))
}

func (s *Service) putSite(c *echo.Context) error {
	var site plan.Site
	if err := c.Bind(&site); err != nil {
		return err
	}
	if err := s.SetSite(c.Request().Context(), site); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, site)
}

func (s *Service) getProfiles(c *echo.Context) error {
	return c.JSON(http.StatusOK, append([]*profile.Profile{}, s.profiles.Sorted()...))
}

func (s *Service) getEntries(c *echo.Context) error {
	return answer[[]EntryView](c, http.StatusOK)(s.Entries(c.Request().Context()))
}

func (s *Service) postEntries(c *echo.Context) error {
	file, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	yes := func(key string) bool { return c.QueryParam(key) == "true" }
	entries, err := s.Import(c.Request().Context(), file, yes("replace"), yes("preview"), user(c))
	return answer[[]plan.Entry](c, http.StatusOK)(entries, err)
}

func (s *Service) getEntry(c *echo.Context) error {
	return answer[Detail](c, http.StatusOK)(s.Detail(c.Request().Context(), c.Param("tag")))
}

func (s *Service) putMatch(c *echo.Context) error {
	var in struct {
		MAC address.MAC `json:"mac"`
	}
	if err := c.Bind(&in); err != nil {
		return err
	}
	if in.MAC.IsZero() {
		return problem.New(problem.Usage, "no MAC is given", "give the MAC of a found device")
	}
	if err := s.Match(c.Request().Context(), c.Param("tag"), in.MAC, user(c)); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Service) deleteMatch(c *echo.Context) error {
	if err := s.Unmatch(c.Request().Context(), c.Param("tag"), user(c)); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Service) postReveal(c *echo.Context) error {
	login, err := s.Reveal(c.Request().Context(), c.Param("tag"), user(c))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]string{"user": login.User, "password": login.Password})
}

func (s *Service) getFindings(c *echo.Context) error {
	return answer[[]plan.Finding](c, http.StatusOK)(s.Findings(c.Request().Context()))
}

func (s *Service) getDevices(c *echo.Context) error {
	return answer[Segment](c, http.StatusOK)(s.Devices(c.Request().Context()))
}

func (s *Service) postBlink(c *echo.Context) error {
	mac, err := address.ParseMAC(c.Param("mac"))
	if err != nil {
		return problem.New(problem.Usage, err.Error(), "")
	}
	if err := s.Blink(c.Request().Context(), mac); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Service) getActivity(c *echo.Context) error { return c.JSON(http.StatusOK, s.Activity()) }

func (s *Service) postStop(c *echo.Context) error {
	if err := s.Stop(); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Service) postSurvey(c *echo.Context) error {
	var in struct {
		Pace int `json:"pace"` // frames per second; 0: normal
	}
	if c.Request().ContentLength != 0 {
		if err := c.Bind(&in); err != nil {
			return err
		}
	}
	if in.Pace < 0 || in.Pace > 10000 {
		return problem.New(problem.Usage, "the pace must be 1 to 10,000 frames per second", "")
	}
	return answer[Activity](c, http.StatusAccepted)(s.Find(c.Request().Context(), in.Pace))
}

func (s *Service) getMatches(c *echo.Context) error {
	return answer[Proposals](c, http.StatusOK)(s.Propose(c.Request().Context()))
}

func (s *Service) postMatches(c *echo.Context) error {
	in, err := selection(c)
	if err != nil {
		return err
	}
	accepted, err := s.Accept(c.Request().Context(), in.Tags, user(c))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, accepted)
}

func (s *Service) postRehearsal(c *echo.Context) error {
	in, err := selection(c)
	if err != nil {
		return err
	}
	r, _, err := s.Rehearse(c.Request().Context(), in.Tags)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, r)
}

func (s *Service) getLatestRun(c *echo.Context) error {
	run, ok, err := s.store.LastRun(c.Request().Context())
	if err != nil {
		return err
	}
	if !ok {
		return problem.New(problem.Missing, "there was no run yet", "start one: redstart commission")
	}
	return c.JSON(http.StatusOK, run)
}

func (s *Service) postRun(c *echo.Context) error {
	in, err := selection(c)
	if err != nil {
		return err
	}
	return answer[Activity](c, http.StatusAccepted)(s.Commission(c.Request().Context(), user(c), in.Tags))
}

func runID(c *echo.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return 0, problem.New(problem.Missing, "there is no such run", "")
	}
	return id, nil
}

func (s *Service) postResume(c *echo.Context) error {
	id, err := runID(c)
	if err != nil {
		return err
	}
	return answer[Activity](c, http.StatusAccepted)(s.Resume(c.Request().Context(), id))
}

func (s *Service) postGiveUp(c *echo.Context) error {
	id, err := runID(c)
	if err != nil {
		return err
	}
	if err := s.GiveUp(c.Request().Context(), id, user(c)); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Service) postVerification(c *echo.Context) error {
	in, err := selection(c)
	if err != nil {
		return err
	}
	switch in.Restart {
	case "":
		in.Restart = verify.Needed
	case verify.Needed, verify.Always, verify.Never:
	default:
		return problem.New(problem.Usage, "restart must be needed, always or never", "")
	}
	return answer[Activity](c, http.StatusAccepted)(s.Verify(c.Request().Context(), user(c), in.Tags, in.Restart))
}
