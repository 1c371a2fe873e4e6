// Package account is who may use the service: people with rights and passwords, their
// sessions, and tokens for programs.
package account

import (
	"slices"
	"time"
)

// Right is what a person may do. Each right holds those before it.
type Right string

const (
	Nobody     Right = ""           // without signing in
	Look       Right = "look"       // may only look
	Plan       Right = "plan"       // may change plans
	Commission Right = "commission" // may work on devices too
	Own        Right = "own"        // may do everything, and makes users
)

var rights = []Right{Nobody, Look, Plan, Commission, Own}

// Holds reports whether the right holds another.
func (r Right) Holds(need Right) bool {
	return slices.Index(rights, r) >= slices.Index(rights, need)
}

// MayNot says what somebody without a right may not do.
var MayNot = map[Right]string{Plan: "change plans", Commission: "work on devices", Own: "do what is left to the owner"}

// Person is who makes a request.
type Person struct {
	Name   string `json:"user"`
	Rights Right  `json:"rights"`
	// Token names the token of a program that makes it; "" for the person.
	Token string `json:"token,omitempty"`
	// Until is when the session or token ends by itself; the zero time: never.
	Until time.Time `json:"-"`
}
