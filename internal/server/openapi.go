package server

import (
	"encoding"
	"net/http"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/invopop/jsonschema"
	"github.com/labstack/echo/v5"

	"redstart/internal/api"
	"redstart/internal/core/right"
	"redstart/internal/core/stamp"
	"redstart/internal/planning"
)

var parameter = regexp.MustCompile(`:([a-z]+)`)

// getOpenAPI gives the document, which is made once: anybody may ask for it.
func (s *Server) getOpenAPI(c *echo.Context) error {
	doc, err := s.document()
	if err != nil {
		return err
	}
	return c.JSONBlob(http.StatusOK, doc)
}

// openAPI describes the API (OpenAPI 3.1). It is made from the routes, so it cannot leave one
// out.
func (s *Server) openAPI() ([]byte, error) {
	paths := map[string]map[string]any{}
	schemas := newSchemas()
	for _, r := range s.routes() { // what is only asked keeps its name
		if r.out != nil {
			schemas.told(r.out, r.kinds)
		}
	}
	for name := range schemas.all {
		schemas.both[name] = true
	}
	for _, r := range s.routes() {
		at := parameter.ReplaceAllString(r.path, "{$1}")
		if paths[at] == nil {
			paths[at] = map[string]any{}
		}
		operation := map[string]any{"operationId": r.id(), "summary": r.summary, "responses": r.responses(schemas)}
		var parameters []any
		for _, name := range parameter.FindAllStringSubmatch(r.path, -1) {
			schema := map[string]any{"type": "string"}
			if name[1] == "id" {
				schema["type"] = "integer"
			}
			parameters = append(parameters, map[string]any{"name": name[1], "in": "path", "required": true, "schema": schema})
		}
		for _, q := range r.queries {
			schema := map[string]any{"type": "string"}
			switch {
			case slices.Contains(q.one, "true"):
				schema = map[string]any{"type": "boolean"}
			case q.one != nil:
				schema["enum"] = q.one
			case q.number:
				schema["type"] = "number"
			}
			parameters = append(parameters, map[string]any{"name": q.name, "in": "query", "required": q.needed,
				"description": q.help, "schema": schema})
		}
		if parameters != nil {
			operation["parameters"] = parameters
		}
		if r.in != nil {
			operation["requestBody"] = map[string]any{"content": schemas.asked(r.in),
				"required": !isJSON(r.in) || len(required(r.in)) > 0}
		}
		if r.need == right.Nobody {
			operation["security"] = []any{}
		}
		paths[at][strings.ToLower(r.method)] = operation
	}
	return api.Marshal(map[string]any{
		"openapi":  "3.1.0",
		"info":     map[string]any{"title": "Redstart", "version": api.Version},
		"security": []any{map[string]any{"session": []any{}}, map[string]any{"token": []any{}}},
		"paths":    paths,
		"components": map[string]any{
			"securitySchemes": map[string]any{
				"session": map[string]any{"type": "apiKey", "in": "cookie", "name": "redstart"},
				"token":   map[string]any{"type": "http", "scheme": "bearer"},
			},
			"schemas": schemas.all,
		},
	})
}

// id names the call for programs: its method and the words of its path, as in getSiteEntries.
// What is one of many is told from all of them by what names it: getSiteEntriesTag.
func (r route) id() string {
	id := strings.ToLower(r.method)
	path := strings.ReplaceAll(strings.TrimPrefix(r.path, "/api"), "/sites/:site", "/site")
	for _, part := range strings.FieldsFunc(path, func(c rune) bool { return strings.ContainsRune("/-.:*", c) }) {
		id += strings.ToUpper(part[:1]) + part[1:]
	}
	return id
}

// responses lists what a call may answer.
func (r route) responses(schemas *schemas) map[string]any {
	status, done := http.StatusOK, map[string]any{"description": "done"}
	switch {
	case r.out == nil:
		status = http.StatusNoContent
	case r.out == reflect.TypeFor[api.Work]() && r.method == http.MethodPost:
		status = http.StatusAccepted
	}
	if r.out != nil {
		done["content"] = schemas.told(r.out, r.kinds)
	}
	all := map[string]any{strconv.Itoa(status): done}
	problems := map[string]any{"application/problem+json": map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/Problem"}}}
	may := []int{http.StatusNotFound, http.StatusUnprocessableEntity, http.StatusTooManyRequests,
		http.StatusInternalServerError, http.StatusServiceUnavailable}
	if r.need != right.Nobody {
		may = append(may, http.StatusUnauthorized, http.StatusForbidden)
	}
	if r.method != http.MethodGet {
		may = append(may, http.StatusConflict, http.StatusRequestEntityTooLarge, http.StatusBadGateway)
	}
	for _, status := range may {
		all[strconv.Itoa(status)] = map[string]any{"description": "a problem (RFC 9457): " +
			strings.ToLower(http.StatusText(status)), "content": problems}
	}
	return all
}

// told describes the body of an answer: JSON, or a file of some media types.
func (s *schemas) told(t reflect.Type, kinds []string) map[string]any {
	switch t {
	case reflect.TypeFor[planning.Stored]():
		return map[string]any{bytesKind: map[string]any{}}
	case reflect.TypeFor[planning.Download]():
		content := map[string]any{}
		for _, kind := range kinds {
			content[kind] = map[string]any{}
		}
		return content
	case reflect.TypeFor[eventStream]():
		return map[string]any{"text/event-stream": map[string]any{}}
	}
	return s.body(&s.reflector, t)
}

// asked describes the body of a question: JSON of which only what says so is required, or bytes as
// they are.
func (s *schemas) asked(t reflect.Type) map[string]any {
	if !isJSON(t) {
		return map[string]any{bytesKind: map[string]any{}}
	}
	return s.body(&s.asking, t)
}

// eventStream stands for the body of server-sent events.
type eventStream struct{}

// schemas collects the JSON Schemas (2020-12) of bodies under their names.
type schemas struct {
	reflector jsonschema.Reflector // of what is told
	asking    jsonschema.Reflector // of what is asked
	all       map[string]*jsonschema.Schema
	types     map[string]reflect.Type // by name
	both      map[string]bool         // names of what is told
}

func newSchemas() *schemas {
	s := &schemas{all: map[string]*jsonschema.Schema{}, types: map[string]reflect.Type{}, both: map[string]bool{}}
	s.reflector = jsonschema.Reflector{AllowAdditionalProperties: true, Anonymous: true, Mapper: plainText,
		Namer: s.name}
	s.asking = s.reflector
	s.asking.RequiredFromJSONSchemaTags = true
	s.asking.Namer = func(t reflect.Type) string {
		name := s.name(t)
		if s.both[name] {
			name += "Asked" // it is told too, and then nothing is left out
		}
		return name
	}
	s.body(&s.reflector, reflect.TypeFor[api.Problem]())
	return s
}

// name gives the name of a type: its own, or with its package before it where another
// type has that already.
func (s *schemas) name(t reflect.Type) string {
	name := t.Name()
	if name == "" {
		return "" // a list, or a map
	}
	if is, taken := s.types[name]; taken && is != t {
		pkg := path.Base(t.PkgPath())
		name = strings.ToUpper(pkg[:1]) + pkg[1:] + name
	}
	s.types[name] = t
	return name
}

// plainText says which types are written as text.
func plainText(t reflect.Type) *jsonschema.Schema {
	if t == reflect.TypeFor[stamp.Time]() {
		return orNull(&jsonschema.Schema{Type: "string", Format: "date-time"})
	}
	if t.Implements(reflect.TypeFor[encoding.TextMarshaler]()) && t != reflect.TypeFor[time.Time]() {
		return &jsonschema.Schema{Type: "string"}
	}
	return nil
}

// orNull is what may also be missing.
func orNull(s *jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{s, {Type: "null"}}}
}

// nullable says of which members of a type none is written as null: of pointers. Lists
// and tables without anything are written as such (api.Marshal).
func nullable(t reflect.Type, s *jsonschema.Schema) {
	for _, f := range reflect.VisibleFields(t) {
		name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous || f.Type.Kind() != reflect.Pointer || strings.Contains(rest, "omit") {
			continue
		}
		if p, ok := s.Properties.Get(name); ok {
			s.Properties.Set(name, orNull(p))
		}
	}
}

// body describes a JSON body of a type; what it is made of goes to all.
func (s *schemas) body(how *jsonschema.Reflector, t reflect.Type) map[string]any {
	schema := how.ReflectFromType(t)
	for name, part := range schema.Definitions {
		if s.all[name] != nil {
			continue
		}
		moveRefs(part)
		if t := s.types[name]; t != nil && t.Kind() == reflect.Struct && part.Properties != nil {
			nullable(t, part)
		}
		s.all[name] = part
	}
	schema.Definitions, schema.Version = nil, ""
	moveRefs(schema)
	return map[string]any{"application/json": map[string]any{"schema": schema}}
}

// moveRefs points references to where OpenAPI keeps schemas.
func moveRefs(s *jsonschema.Schema) {
	if s == nil {
		return
	}
	s.Ref = strings.Replace(s.Ref, "#/$defs/", "#/components/schemas/", 1)
	moveRefs(s.Items)
	moveRefs(s.AdditionalProperties)
	for _, one := range s.AnyOf {
		moveRefs(one)
	}
	if s.Properties == nil {
		return
	}
	for p := s.Properties.Oldest(); p != nil; p = p.Next() {
		moveRefs(p.Value)
	}
}
