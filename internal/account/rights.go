// Package account is who may use the service: people with rights and passwords, their
// sessions, and tokens for programs.
package account

import (
	"time"

	"redstart/internal/core/right"
)

// Person is who makes a request.
type Person struct {
	Name   string      `json:"user"`
	Rights right.Right `json:"rights"`
	// Token names the token of a program that makes it; "" for the person.
	Token string `json:"token,omitempty"`
	// Until is when the session or token ends by itself; the zero time: never.
	Until time.Time `json:"-"`
}
