// Package api holds the bodies of the HTTP API: what calls take, and what they answer. The
// service answers with them, the client and the console read them.
package api

import (
	"net/http"
	"strings"

	"redstart/internal/core/problem"
)

// Version is the version of the program.
const Version = "0.4.0"

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
	problem.Usage: http.StatusUnprocessableEntity, problem.Missing: http.StatusNotFound,
	problem.Conflict: http.StatusConflict,
	problem.SignIn:   http.StatusUnauthorized, problem.Rights: http.StatusForbidden,
	problem.Device: http.StatusBadGateway, problem.Machine: http.StatusServiceUnavailable,
	problem.TooMany: http.StatusTooManyRequests,
}

// TypeOf names a kind of problem by a URI (RFC 9457, 3.1.1); what is no kind of ours is told by its
// status alone.
func TypeOf(kind problem.Kind) string {
	if kind == "" {
		return "about:blank"
	}
	return "urn:redstart:problem:" + strings.ReplaceAll(string(kind), " ", "-")
}

// Health says that the service is up.
type Health struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// Named is a name that a person gives.
type Named struct {
	Name string `json:"name" jsonschema:"required"`
}
