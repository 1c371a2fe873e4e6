// Package server is the service as it is reached: the API over HTTP, events, sign-in and
// the embedded console.
package server

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"mime"
	"net"
	"net/http"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"redstart/internal/api"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/planning"
	"redstart/internal/server/console"
	"redstart/internal/site"
)

// Server answers people and programs: the API, the events, the console.
type Server struct {
	*site.Service
	log *slog.Logger
	// document is what describes the API, made at the first question.
	document func() ([]byte, error)
}

// New makes a server of a service.
func New(s *site.Service) *Server {
	server := &Server{Service: s, log: s.Log}
	server.document = sync.OnceValues(server.openAPI)
	return server
}

// Serve answers on a listener until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	life, end := context.WithCancel(context.Background())
	defer end()
	server := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: idleTime,
		MaxHeaderBytes: mostHeaders,
		BaseContext: func(net.Listener) context.Context {
			return life
		},
		ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelWarn)}
	drained := make(chan struct{})
	unhook := context.AfterFunc(ctx, func() {
		defer close(drained)
		s.End() // event streams end with this
		grace, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if server.Shutdown(grace) != nil {
			_ = server.Close() // whoever is still connected has had time
		}
	})
	defer unhook()
	err := server.Serve(l)
	if errors.Is(err, http.ErrServerClosed) {
		<-drained // Serve returns when the shutdown begins
		return nil
	}
	return err
}

// What nobody has to sign in for: a connection may be idle for so long, and headers are at
// most so long.
const (
	idleTime    = 2 * time.Minute
	mostHeaders = 32 << 10
)

// Handler is the whole web surface: the API under /api and the console.
func (s *Server) Handler() http.Handler {
	// What a path holds means the same however it is escaped (RFC 3986, 6.2.2.2).
	e := echo.NewWithConfig(echo.Config{Router: echo.NewRouter(echo.RouterConfig{UnescapePathParamValues: true})})
	e.Logger = s.log
	e.HTTPErrorHandler = s.problem
	e.JSONSerializer = bodies{}
	limit := middleware.BodyLimitConfig{LimitBytes: planfile.MaxFile + 1<<20, Skipper: func(c *echo.Context) bool {
		return c.Request().Method == http.MethodPut && c.Path() == filesPath || c.Path() == archivesPath // streamed, with a limit of its own
	}}
	e.Use(middleware.Recover(), middleware.BodyLimitWithConfig(limit),
		middleware.SecureWithConfig(middleware.SecureConfig{
			ContentTypeNosniff: "nosniff", XFrameOptions: "DENY", ReferrerPolicy: "no-referrer",
			// The component library sets style attributes.
			ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; media-src 'self' blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
		}))
	e.Use(noStore, apart)
	routes := s.routes()
	for _, r := range routes {
		handler := s.guard(r.need, r.byPerson, r.declared(r.handler))
		if r.method == http.MethodGet && isJSON(r.out) {
			e.Add(r.method, r.path, handler, shrunk)
		} else {
			e.Add(r.method, r.path, handler)
		}
		if r.method == http.MethodGet && r.out != reflect.TypeFor[eventStream]() {
			e.Add(http.MethodHead, r.path, handler) // the server leaves the body out (RFC 9110, 9.3.2)
		}
	}
	e.Any("/api/*", func(c *echo.Context) error { return noSuchCall(c, routes) })
	e.GET("/*", echo.WrapHandler(console.Handler()), shrunk)
	e.HEAD("/*", echo.WrapHandler(console.Handler()))
	guard := http.NewCrossOriginProtection()
	guard.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := api.Problem{Type: api.TypeOf("cross-origin"), Title: http.StatusText(http.StatusForbidden),
			Status: http.StatusForbidden, Detail: "another site's page sent this request",
			Next: "use the console's own page"}
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(p.Status)
		_ = json.NewEncoder(w).Encode(p) // the reader went away
	}))
	return guard.Handler(e)
}

// noSuchCall says that a path is none of the API's, or which methods it takes.
func noSuchCall(c *echo.Context, routes []route) error {
	var allowed []string
	for _, r := range routes {
		if r.fits(c.Request().URL.Path) {
			allowed = append(allowed, r.method)
		}
	}
	if len(allowed) == 0 {
		return problem.New(problem.Missing, "there is no such call",
			"all of them are listed at /api/openapi.json").About(c.Request().URL.Path)
	}
	c.Response().Header().Set("Allow", strings.Join(allowed, ", "))
	return echo.NewHTTPError(http.StatusMethodNotAllowed, "this path takes "+strings.Join(allowed, ", ")+", not "+
		c.Request().Method)
}

// bodies writes and reads the bodies of calls.
type bodies struct{ echo.DefaultJSONSerializer }

// Serialize implements echo.JSONSerializer.
func (bodies) Serialize(c *echo.Context, body any, _ string) error {
	text, err := api.Marshal(body)
	if err != nil {
		return err
	}
	_, err = c.Response().Write(append(text, '\n'))
	return err
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

// apart keeps what the console opens, and what opens the console, out of its reach (WHATWG
// HTML, 7.1.3; Fetch, 3.7).
func apart(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		c.Response().Header().Set("Cross-Origin-Opener-Policy", "same-origin")
		c.Response().Header().Set("Cross-Origin-Resource-Policy", "same-origin")
		return next(c)
	}
}

// problem turns every error into a problem document.
func (s *Server) problem(c *echo.Context, err error) {
	if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
		return
	}
	p := api.Problem{Type: api.TypeOf(""), Status: http.StatusInternalServerError,
		Detail: "something went wrong inside the service; its log says what"}
	var own *problem.Error
	var status echo.HTTPStatusCoder
	switch {
	case errors.As(err, &own):
		p.Type = api.TypeOf(own.Kind)
		p.Status, p.Detail, p.Subject, p.Next, p.Cells = api.Statuses[own.Kind], own.Cause, own.Subject, own.Next, own.Cells
		if own.Err != nil && own.Kind != problem.SignIn {
			p.Detail += " (" + own.Err.Error() + ")"
		}
		if own.Wait > 0 {
			c.Response().Header().Set("Retry-After", strconv.Itoa(int(math.Ceil(own.Wait.Seconds()))))
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
	need         right.Right
	in, out      reflect.Type // bodies
	queries      []query
	kinds        []string // media types of an answer that is a file
	handler      echo.HandlerFunc
	byPerson     bool // refused to a program that acts with a token
}

// gives says of which media types the file is that the call answers with; one of any without.
func (r route) gives(kinds ...string) route {
	r.kinds = kinds
	next := r.handler
	r.handler = func(c *echo.Context) error {
		c.Set(kindsKey, kinds)
		return next(c)
	}
	return r
}

const kindsKey = "kinds"

// byPerson has a call refused to programs that act with a token.
func byPerson(r route) route {
	r.byPerson = true
	return r
}

// query is a parameter that a call takes in its query.
type query struct {
	name, help string
	one        []string // what it may be; nil: any text
	needed     bool
	number     bool
}

func number(name, help string) query { return query{name: name, help: help, number: true} }

func text(name, help string) query { return query{name: name, help: help} }
func yesNo(name, help string) query {
	return query{name: name, help: help, one: []string{"true", "false"}}
}
func needed(name, help string) query { return query{name: name, help: help, needed: true} }
func formats(help string) query {
	return query{name: "format", help: help, one: []string{planfile.CSV, planfile.XLSX, planfile.JSON}, needed: true}
}

var previews = yesNo("preview", "only show what would change")

// takes adds the parameters that the call takes.
func (r route) takes(list ...query) route {
	r.queries = append(r.queries, list...)
	return r
}

// declared refuses parameters that the call does not take, and values that they
// cannot have: what is misspelt is never taken for something else.
func (r route) declared(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		given := c.QueryParams()
		for name, values := range given {
			i := slices.IndexFunc(r.queries, func(q query) bool { return q.name == name })
			if i < 0 {
				var names []string
				for _, q := range r.queries {
					names = append(names, q.name)
				}
				return problem.New(problem.Usage, "the call takes no such parameter",
					"it takes: "+cmp.Or(strings.Join(names, ", "), "none")).About(name)
			}
			if len(values) > 1 {
				return problem.New(problem.Usage, "the parameter is given more than once", "give it once").About(name)
			}
			if one := r.queries[i].one; one != nil && !slices.Contains(one, values[0]) {
				return problem.New(problem.Usage, fmt.Sprintf("it cannot be %q", values[0]),
					"give one of: "+strings.Join(one, ", ")).About(name)
			}
		}
		for _, q := range r.queries {
			if q.needed && given.Get(q.name) == "" {
				return problem.New(problem.Usage, "the parameter is missing", q.help).About(q.name)
			}
		}
		return next(c)
	}
}

// fits reports whether a path is the route's.
func (r route) fits(path string) bool {
	want, got := strings.Split(r.path, "/"), strings.Split(path, "/")
	if len(want) != len(got) {
		return false
	}
	for i := range want {
		if strings.HasPrefix(want[i], ":") && got[i] != "" {
			continue
		}
		if want[i] != got[i] {
			return false
		}
	}
	return true
}

// request is a call with who makes it.
type request struct {
	context.Context
	who  api.Person
	site *site.Site // of calls under /api/sites/:site; nil otherwise
	echo *echo.Context
}

func (r *request) param(name string) string { return r.echo.Param(name) }
func (r *request) query(name string) string { return r.echo.QueryParam(name) }
func (r *request) yes(name string) bool     { return r.query(name) == "true" }

// Bodies that are no JSON.
type (
	none   struct{}
	file   []byte                  // a request's body as it is
	upload struct{ io.ReadCloser } // the same, to be read by and by
)

// call makes a route from a function: the body is read into In, and the answer
// is written from Out.
func call[In, Out any](s *Server, method, path, summary string, need right.Right,
	do func(r *request, in In) (Out, error)) route {
	ofSite := strings.HasPrefix(path, "/api/sites/:site")
	r := route{method: method, path: path, summary: summary, need: need, in: bodyType[In](), out: bodyType[Out]()}
	r.handler = func(c *echo.Context) error {
		q := &request{Context: c.Request().Context(), echo: c, who: person(c)}
		if ofSite {
			records, err := s.Records.At(q, c.Param("site"))
			if err != nil {
				return err
			}
			q.site = s.With(records)
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

// isJSON reports whether a body is JSON, and not a file as it is or a stream.
func isJSON(t reflect.Type) bool {
	switch t {
	case nil, reflect.TypeFor[file](), reflect.TypeFor[upload](), reflect.TypeFor[planning.Download](), reflect.TypeFor[planning.Stored](), reflect.TypeFor[eventStream]():
		return false
	}
	return true
}

func bodyType[T any]() reflect.Type {
	if t := reflect.TypeFor[T](); t != reflect.TypeFor[none]() {
		return t
	}
	return nil
}

func body[In any](c *echo.Context) (in In, err error) {
	switch to := any(&in).(type) {
	case *none:
	case *file:
		*to, err = io.ReadAll(c.Request().Body)
	case *upload:
		to.ReadCloser = c.Request().Body
	default:
		if c.Request().ContentLength != 0 {
			return in, strict(c.Request(), to)
		}
		err = missing(reflect.TypeFor[In](), nil)
	}
	return in, err
}

// missing refuses a body without a member that it must have.
func missing(t reflect.Type, given map[string]json.RawMessage) error {
	for _, name := range required(t) {
		if _, is := given[name]; !is {
			return problem.New(problem.Usage, "the body has no "+name, "see /api/openapi.json").About("body")
		}
	}
	return nil
}

// required lists the members that a body must have: those that say so.
func required(t reflect.Type) (names []string) {
	if t.Kind() != reflect.Struct {
		return nil
	}
	for _, f := range reflect.VisibleFields(t) {
		if strings.Contains(f.Tag.Get("jsonschema"), "required") {
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			names = append(names, name)
		}
	}
	return names
}

// strict reads a JSON body, and refuses what it does not know: a misspelt field is
// never left out of account.
func strict(r *http.Request, into any) error {
	wrong := func(cause string) error {
		return problem.New(problem.Usage, cause, "see /api/openapi.json").About("body")
	}
	if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || kind != "application/json" {
		return wrong("the body must be application/json")
	}
	var whole bytes.Buffer // is needed only to see what was left out
	var content io.Reader = r.Body
	if len(required(reflect.TypeOf(into).Elem())) > 0 {
		content = io.TeeReader(r.Body, &whole)
	}
	d := json.NewDecoder(content)
	d.DisallowUnknownFields()
	err := d.Decode(into)
	var kind *json.UnmarshalTypeError
	var status echo.HTTPStatusCoder
	switch {
	case errors.As(err, &status):
		return err // it is too large
	case errors.As(err, &kind):
		return wrong(fmt.Sprintf("%s cannot be %s", cmp.Or(kind.Field, "it"), article(kind.Value)))
	case err != nil && strings.HasPrefix(err.Error(), "json: unknown field "):
		return wrong("there is no field " + strings.TrimPrefix(err.Error(), "json: unknown field "))
	case errors.Is(err, io.EOF):
		return wrong("the body is empty")
	case errors.Is(err, io.ErrUnexpectedEOF), errors.As(err, new(*json.SyntaxError)):
		return wrong("the body is no whole JSON document")
	case err != nil:
		return wrong(plainValue(err))
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return wrong("something follows the JSON document")
	}
	t, given := reflect.TypeOf(into).Elem(), map[string]json.RawMessage{}
	if len(required(t)) > 0 && json.Unmarshal(whole.Bytes(), &given) != nil {
		return wrong("it is no object")
	}
	return missing(t, given)
}

var goParse = regexp.MustCompile(`^netip\.Parse(\w+)\("(.*?)"\)`)

// plainValue says in plain words what is wrong with a value.
func plainValue(err error) string {
	if m := goParse.FindStringSubmatch(err.Error()); m != nil {
		if m[1] == "Prefix" {
			return fmt.Sprintf("%q is not a prefix like 10.40.8.0/22", m[2])
		}
		return fmt.Sprintf("%q is not an IPv4 address", m[2])
	}
	return err.Error()
}

// article puts an article before what JSON calls its kinds of values.
func article(kind string) string {
	if kind == "array" || kind == "object" {
		return "an " + kind
	}
	return "a " + kind
}

func reply(c *echo.Context, out any) error {
	switch out := out.(type) {
	case none:
		return c.NoContent(http.StatusNoContent)
	case planning.Download:
		if kinds, _ := c.Get(kindsKey).([]string); !slices.Contains(kinds, out.Kind) {
			return fmt.Errorf("the call gives %s, and says that it gives %v", out.Kind, kinds)
		}
		c.Response().Header().Set("Content-Disposition", `attachment; filename="`+out.Name+`"`)
		return c.Blob(http.StatusOK, out.Kind, out.Content)
	case planning.Stored:
		defer out.Content.Close()
		c.Response().Header().Set("Content-Disposition", `attachment; filename="`+out.Name+`"`)
		return c.Stream(http.StatusOK, "application/octet-stream", out.Content)
	case api.Work:
		if c.Request().Method == http.MethodPost {
			return c.JSON(http.StatusAccepted, out)
		}
	}
	if c.Request().Method != http.MethodGet {
		return c.JSON(http.StatusOK, out)
	}
	return tagged(c, out)
}

// tagged answers with an entity tag (RFC 9110, 8.8.3), and without a body whoever has that
// already. Nothing is written for who has left.
func tagged(c *echo.Context, out any) error {
	if err := c.Request().Context().Err(); err != nil {
		return err
	}
	text, err := api.Marshal(out)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(text)
	tag := `"` + hex.EncodeToString(sum[:12]) + `"`
	c.Response().Header().Set("ETag", tag)
	for _, has := range strings.Split(c.Request().Header.Get("If-None-Match"), ",") {
		if strings.TrimPrefix(strings.TrimSpace(has), "W/") == tag {
			return c.NoContent(http.StatusNotModified)
		}
	}
	return c.Blob(http.StatusOK, "application/json", append(text, '\n'))
}

// least is how long an answer is at least that is compressed, in bytes.
const least = 1400

// shrunk compresses answers, but for those that hold secrets: how long they are would tell of
// them (BREACH).
var shrunk = middleware.GzipWithConfig(middleware.GzipConfig{Level: 4, MinLength: least, Skipper: func(c *echo.Context) bool {
	return c.Request().Method != http.MethodGet || console.Compressed(c.Request()) || strings.Contains(c.Path(), "/vault") || strings.Contains(c.Path(), "/tokens") ||
		strings.Contains(c.Path(), "login")
}})
