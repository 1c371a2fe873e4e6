package driver

import "redstart/internal/core/profile"

// Plain is part of a driver of which a profile says nothing under talk, and whose end
// shows nothing to be known again by.
type Plain struct{}

// Shows implements profile.Driver.
func (Plain) Shows() string { return "" }

// Section implements profile.Driver: there is nothing to say.
func (Plain) Section(part profile.Part) (profile.Section, error) {
	return noPort{}, part.Into(&noPort{})
}

type noPort struct{}

func (noPort) Port() uint16 { return 0 }
