package service

import (
	"net/http"
	"regexp"
	"strings"

	"github.com/labstack/echo/v5"
)

var parameter = regexp.MustCompile(`:([a-z]+)`)

// getOpenAPI describes the API (OpenAPI 3.1). It is made from the routes, so
// it cannot leave one out.
func (s *Service) getOpenAPI(c *echo.Context) error {
	paths := map[string]map[string]any{}
	for _, r := range s.routes() {
		path := parameter.ReplaceAllString(r.path, "{$1}")
		if paths[path] == nil {
			paths[path] = map[string]any{}
		}
		operation := map[string]any{
			"summary": r.summary,
			"responses": map[string]any{
				"2XX":     map[string]any{"description": "done"},
				"default": map[string]any{"description": "a problem (RFC 9457)", "content": map[string]any{"application/problem+json": map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/Problem"}}}},
			},
		}
		var parameters []any
		for _, name := range parameter.FindAllStringSubmatch(r.path, -1) {
			parameters = append(parameters, map[string]any{"name": name[1], "in": "path", "required": true, "schema": map[string]any{"type": "string"}})
		}
		if parameters != nil {
			operation["parameters"] = parameters
		}
		if r.need == Nobody {
			operation["security"] = []any{}
		}
		paths[path][strings.ToLower(r.method)] = operation
	}
	text := map[string]any{"type": "string"}
	return c.JSON(http.StatusOK, map[string]any{
		"openapi":  "3.1.0",
		"info":     map[string]any{"title": "Redstart", "version": Version},
		"security": []any{map[string]any{"session": []any{}}, map[string]any{"token": []any{}}},
		"paths":    paths,
		"components": map[string]any{
			"securitySchemes": map[string]any{
				"session": map[string]any{"type": "apiKey", "in": "cookie", "name": cookieName},
				"token":   map[string]any{"type": "http", "scheme": "bearer"},
			},
			"schemas": map[string]any{"Problem": map[string]any{"type": "object", "required": []any{"type", "title", "status", "detail"}, "properties": map[string]any{
				"type": text, "title": text, "status": map[string]any{"type": "integer"}, "detail": text,
				"subject": text, "next": text,
				"cells": map[string]any{"type": "array", "items": map[string]any{"type": "object", "properties": map[string]any{
					"row": map[string]any{"type": "integer"}, "column": text, "value": text, "reason": text}}},
			}}},
		},
	})
}
