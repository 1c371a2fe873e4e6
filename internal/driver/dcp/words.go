package dcp

import (
	"fmt"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
)

// Move is one exchange: a question, or something that is set.
type Move struct {
	DCP  string `yaml:"dcp"`  // identify, set-name, set-address, signal
	Keep bool   `yaml:"keep"` // the device is asked to save what is set
}

// moves are all of them, with what each sends and takes.
var moves = map[string]struct{ sends, takes []string }{
	"identify":    {nil, []string{"name", "model", "address", "mask", "gateway"}},
	"set-name":    {[]string{"name"}, nil},
	"set-address": {[]string{"address", "bits", "gateway"}, nil},
	"signal":      {},
}

// names lists them for hints.
var names = []string{"identify", "set-name", "set-address", "signal"}

// Driver is the DCP driver.
type Driver struct{ driver.Plain }

// Name implements profile.Driver.
func (Driver) Name() string { return "dcp" }

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"dcp"} }

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, _ profile.Section) (profile.Words, error) {
	var m Move
	if err := part.Into(&m); err != nil {
		return nil, err
	}
	if _, ok := moves[m.DCP]; !ok {
		return nil, fmt.Errorf("dcp must be one of %s, not %q", strings.Join(names, ", "), m.DCP)
	}
	return m, nil
}

// Sends implements profile.Words.
func (m Move) Sends() []string { return moves[m.DCP].sends }

// Takes implements profile.Words.
func (m Move) Takes() []string { return moves[m.DCP].takes }

// NeedsAddress implements profile.Words.
func (Move) NeedsAddress() bool { return false }
