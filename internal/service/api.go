package service

import (
	"context"
	"errors"
	"io"
	"net/http"
	"reflect"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/service/console"
)

// Version is the version of the program.
const Version = "0.3.0"

// Handler is the whole web surface: the API under /api and the console.
func (s *Service) Handler() http.Handler {
	e := echo.New()
	e.Logger = s.log
	e.HTTPErrorHandler = s.problem
	e.Use(middleware.Recover(), middleware.BodyLimit(planfile.MaxFile+1<<20), middleware.SecureWithConfig(middleware.SecureConfig{
		ContentTypeNosniff: "nosniff", XFrameOptions: "DENY", ReferrerPolicy: "no-referrer",
		// The component library sets style attributes.
		ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; media-src 'self' blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
	}))
	e.Use(noStore)
	for _, r := range s.routes() {
		e.Add(r.method, r.path, s.guard(r.need, r.handler))
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
	problem.SignIn: http.StatusUnauthorized, problem.Rights: http.StatusForbidden, problem.Device: http.StatusBadGateway, problem.Machine: http.StatusServiceUnavailable,
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
			p.Detail, p.Next = "the file is larger than 4 MiB; a plan of 5,000 entries needs less than one", "give the plan's own file"
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

// route is one call of the API.
type route struct {
	method, path string
	summary      string
	need         Right
	in, out      reflect.Type // bodies; nil: none or not JSON
	handler      echo.HandlerFunc
}

// request is a call with who makes it.
type request struct {
	context.Context
	who  Person
	site *Site // of calls under /api/sites/:site; nil otherwise
	echo *echo.Context
}

func (r *request) param(name string) string { return r.echo.Param(name) }
func (r *request) query(name string) string { return r.echo.QueryParam(name) }
func (r *request) yes(name string) bool     { return r.query(name) == "true" }

// Bodies that are no JSON.
type (
	none     struct{}
	file     []byte // a request's body as it is
	download struct {
		name, kind string
		content    []byte
	}
)

// call makes a route from a function: the body is read into In, and the answer
// is written from Out.
func call[In, Out any](s *Service, method, path, summary string, need Right, do func(r *request, in In) (Out, error)) route {
	ofSite := strings.HasPrefix(path, "/api/sites/:site")
	r := route{method: method, path: path, summary: summary, need: need, in: bodyType[In](), out: bodyType[Out]()}
	r.handler = func(c *echo.Context) error {
		q := &request{Context: c.Request().Context(), echo: c, who: person(c)}
		if ofSite {
			records, err := s.store.At(q, c.Param("site"))
			if err != nil {
				return err
			}
			q.site = &Site{s, records}
		}
		in, err := body[In](c)
		if err != nil {
			return err
		}
		out, err := do(q, in)
		if err != nil {
			return err
		}
		return reply(c, out)
	}
	return r
}

func bodyType[T any]() reflect.Type {
	t := reflect.TypeFor[T]()
	if t == reflect.TypeFor[none]() || t == reflect.TypeFor[file]() || t == reflect.TypeFor[download]() {
		return nil
	}
	return t
}

func body[In any](c *echo.Context) (in In, err error) {
	switch to := any(&in).(type) {
	case *none:
	case *file:
		*to, err = io.ReadAll(c.Request().Body)
	default:
		if c.Request().ContentLength != 0 {
			err = c.Bind(to)
		}
	}
	return in, err
}

func reply(c *echo.Context, out any) error {
	switch out := out.(type) {
	case none:
		return c.NoContent(http.StatusNoContent)
	case download:
		c.Response().Header().Set("Content-Disposition", `attachment; filename="`+out.name+`"`)
		return c.Blob(http.StatusOK, out.kind, out.content)
	case Activity:
		if c.Request().Method == http.MethodPost {
			return c.JSON(http.StatusAccepted, out)
		}
	}
	return c.JSON(http.StatusOK, out)
}

// Selection chooses entries by tag; no tags mean all that the request is for.
type Selection struct {
	Tags    []string `json:"tags"`
	Restart string   `json:"restart,omitempty"` // verification: needed, always or never
}
