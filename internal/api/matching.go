package api

import (
	"redstart/internal/core/address"
	"redstart/internal/core/label"
)

// Acceptance chooses proposals: by entry, by reason, by profile, or all that are
// certain. What is a guess by the order among identical boxes is accepted only
// where order is named as a reason, or for entries or profiles that are named.
type Acceptance struct {
	Tags     []string `json:"tags,omitempty"`
	Reasons  []string `json:"reasons,omitempty"`  // mac, serial, port, name, address, order
	Profiles []string `json:"profiles,omitempty"` // take also the part that order proposes for these
	All      bool     `json:"all,omitempty"`      // all that are certain
}

// Undo chooses matches to undo: of entries, or all that were made for reasons.
type Undo struct {
	Tags    []string `json:"tags,omitempty"`
	Reasons []string `json:"reasons,omitempty"`
	// Configured undoes also matches of entries whose devices were set: nobody knows
	// what these boxes are then but by their names and addresses.
	Configured bool `json:"configured,omitempty"`
}

// Locking says whether matches stay.
type Locking struct {
	Tags   []string `json:"tags" jsonschema:"required"`
	Locked bool     `json:"locked" jsonschema:"required"`
}

// Scan is a label that was scanned, for an entry if one was chosen before.
type Scan struct {
	Text string `json:"text" jsonschema:"required"`
	Tag  string `json:"tag"`
	// Cards deals cards of sensors (LoRa Alliance TR005) out, one after another, to the
	// entries that hang behind Behind and have none yet; behind any box if Behind is empty.
	Cards  bool   `json:"cards"`
	Behind string `json:"behind"`
}

// What a scan came to.
const (
	ScanEntry   = "entry"   // the label names an entry
	ScanMatched = "matched" // the box is the chosen entry from now on
	ScanNoted   = "noted"   // the box is not there; the plan names it from now on
	ScanDevice  = "device"  // the label names a box that was found
	ScanCard    = "card"    // the card of a sensor is that of the entry
	ScanUnknown = "unknown" // nobody knows it
)

// Scanned is what a label said and what came of it.
type Scanned struct {
	Label   label.Label `json:"label"`
	Outcome string      `json:"outcome"`
	Tag     string      `json:"tag"` // of the entry
	Device  *DeviceView `json:"device"`
	Text    string      `json:"text"` // in words
}

// Adoption takes found devices into the plan as new entries.
type Adoption struct {
	MACs []address.MAC `json:"macs,omitempty"`
	All  bool          `json:"all,omitempty"` // every device with a profile and no entry
	Tag  string        `json:"tag"`           // of a single one; "" makes one
	Area string        `json:"area"`
}

// Replacement puts a new box in the place of an entry's.
type Replacement struct {
	MAC address.MAC `json:"mac"` // none: the only fresh box of its model that no entry has
}

// Replaced tells which box took the place of which.
type Replaced struct {
	Tag string      `json:"tag"`
	Old address.MAC `json:"old"`
	New address.MAC `json:"new"`
}

// MatchWith names a box.
type MatchWith struct {
	MAC address.MAC `json:"mac" jsonschema:"required"`
	// Arrival says that the box was plugged in when it was awaited.
	Arrival bool `json:"arrival"`
}
