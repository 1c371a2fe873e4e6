// Package right is what a person may do.
package right

import "slices"

// Right is what a person may do. Each right holds those before it.
type Right string

// The rights.
const (
	Nobody     Right = ""           // without signing in
	Look       Right = "look"       // may only look
	Plan       Right = "plan"       // may change plans
	Commission Right = "commission" // may work on devices too
	Own        Right = "own"        // may do everything, and makes users
)

// All are the rights, each after those that it holds.
var All = []Right{Nobody, Look, Plan, Commission, Own}

// Holds reports whether the right holds another.
func (r Right) Holds(need Right) bool {
	return slices.Index(All, r) >= slices.Index(All, need)
}

// MayNot says what somebody without a right may not do.
var MayNot = map[Right]string{Plan: "change plans", Commission: "work on devices", Own: "do what is left to the owner"}
