// Package handover makes the documents that a site is handed over with, one file for each.
// All they say comes from what was planned and observed, and each says of what it lists
// how far that was verified. docs/adding.md tells how one is added.
package handover

import (
	"crypto/ed25519"
	"io"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/result"
)

// Document is one document of the hand-over.
type Document struct {
	Name string // by which it is asked for
	Says string // in plain words, for lists
	File string // usual name of its file
	Kind string // media type
	// Steps says that it holds what runs did step by step, which is by far the most that is kept.
	Steps bool
	// Write writes it. Its error is the writer's.
	Write func(io.Writer, Record) error
}

// All are the documents in the order in which they are listed.
var All = append([]*Document{whole}, parts...)

// Kinds lists the media types of all of them.
func Kinds() (kinds []string) {
	for _, d := range All {
		if !slices.Contains(kinds, d.Kind) {
			kinds = append(kinds, d.Kind)
		}
	}
	return kinds
}

// parts are the documents of which the whole package consists. A new one is one file and a
// line here.
var parts = []*Document{report, registerXLSX, registerCSV, registerJSON, hosts, zones, dnsmasq, kea, addresses, inventory,
	inventorySchema, targets, planned, signed}

// Record is what documents are made from.
type Record struct {
	Site    plan.Site
	Entries []Entry // in the order of the plan
	At      time.Time
	// Plan is the plan without secrets, each entry with the box that it is matched with.
	Plan plan.Plan
	// Columns are those of the register, by key; none: the usual ones.
	Columns []string
	// Findings are what was found, the oldest first, and Acts what people and runs did, the latest
	// last.
	Findings []Finding
	Acts     []Act
	// Runs and Steps are what the signed record tells besides the checks, oldest first, and
	// Signer is what it is signed with.
	Runs   []Run
	Steps  []Step
	Signer ed25519.PrivateKey
	// Next is told what comes next while the package is made, and ends that with its error; nil:
	// nobody wants to know.
	Next func(file string) error
}

// PartNames are the names of all documents that a package can have.
func PartNames() (list []string) {
	for _, d := range parts {
		list = append(list, d.Name)
	}
	return list
}

// Packed are the documents of which the package of the site consists. The signed record is
// always among them: it shows that the others are as they were.
func (r Record) Packed() (list []*Document) {
	for _, d := range parts {
		if len(r.Site.Package) == 0 || d == signed || slices.Contains(r.Site.Package, d.Name) {
			list = append(list, d)
		}
	}
	return list
}

func (r Record) next(file string) error {
	if r.Next == nil {
		return nil
	}
	return r.Next(file)
}

// NotWired is the state of an entry of which nothing is expected yet.
const NotWired = "not wired yet"

// Entry is an entry of the plan and how far it stands.
type Entry struct {
	plan.Entry
	Domain string // of its subnet
	// Stands says how far the entry is and since when: verified 2026-11-25 14:07.
	Stands string
	State  string // one of the store's, or not wired yet
	Device address.MAC
	// CheckedAt is when it was looked at last.
	CheckedAt    time.Time
	Maker, Model string
	Found        *device.Found // nil for one that was never found
	Hangs        match.Hangs   // where a switch told that it hangs; empty where none did
	Licence      string        // how far its licence is, in words; "" where it takes none
	Checks       []result.Check
	// Differs says in words in what its device differs from the plan as it is now.
	Differs []string
	// Login is what opens its device, user and password; filled in only for labels that were
	// asked for with it.
	Login string
}
