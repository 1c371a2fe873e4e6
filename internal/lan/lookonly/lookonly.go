// Package lookonly is a port around a port that lets nothing out but questions:
// no conversation can be opened over it, nothing can be set, and no address can
// be handed out.
package lookonly

import (
	"redstart/internal/core/problem"
	"redstart/internal/lan"
)

// ErrRefused is what Send gives for a frame that is no question.
var ErrRefused = problem.New(problem.Conflict, "this service only looks; it sends nothing that could change a device",
	"start it without --look-only to set devices")

type port struct {
	lan.Port
	question func(frame []byte) bool
}

// On wraps a port, which then belongs to the wrapper. question says which frames only ask.
func On(inner lan.Port, question func(frame []byte) bool) lan.Port { return port{inner, question} }

// Send implements lan.Port.
func (p port) Send(frame []byte) error {
	if !p.question(frame) {
		return ErrRefused
	}
	return p.Port.Send(frame)
}
