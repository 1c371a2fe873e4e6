package api

import (
	"net/netip"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/licence"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Edits are changes of entries that a person makes in one act.
type Edits struct {
	What    string       `json:"what"` // in words, for the history; "" for the usual
	Patches []plan.Patch `json:"patches" jsonschema:"required"`
	// Configured lets them change or remove entries whose devices are configured.
	Configured bool `json:"configured"`
}

// Edited is what an act changed, or would change.
type Edited struct {
	Revision   int64            `json:"revision"` // 0 when nothing was changed
	Comparison plan.Comparison  `json:"comparison"`
	Changes    []plan.Change    `json:"changes"`            // of mends, with their reasons
	Kept       []string         `json:"kept"`               // entries left alone: their devices are configured
	Complaints []plan.Complaint `json:"complaints"`         // what cannot be understood; any refuses all
	Findings   []plan.Finding   `json:"findings,omitempty"` // of a preview: the plan as it would be
	New        []plan.Finding   `json:"new,omitempty"`      // of a preview: those that are not there now
}

// RoleGiven gives ports of switches a role in one act.
type RoleGiven struct {
	Role  string   `json:"role" jsonschema:"required"`
	Ports string   `json:"ports" jsonschema:"required"` // numbers and ranges: 1-8,24
	Tags  []string `json:"tags" jsonschema:"required"`  // of the switches
}

// Allocation says which entries get addresses, and how.
type Allocation struct {
	plan.Allocation
	All bool `json:"all,omitempty"`
}

// ImportOptions say how a file is imported.
type ImportOptions struct {
	planfile.Options
	Preview bool // change nothing
	Apply   bool // change and remove entries that are in the plan already
}

// Moments is how the plan of one moment became that of another.
type Moments struct {
	From       Revision        `json:"from"`
	To         *Revision       `json:"to"` // nil: now
	Site       []plan.Change   `json:"site"`
	Comparison plan.Comparison `json:"comparison"`
}

// RevisionView is a revision with what may be done about it.
type RevisionView struct {
	Revision
	May string `json:"may,omitempty"` // undo or redo: it is the next step back, or forward
}

// Summary is a site with how far it is.
type Summary struct {
	plan.Site
	Entries int            `json:"entries"`
	States  map[string]int `json:"states"`
}

// Reckoning is what a prefix comes to.
type Reckoning struct {
	Prefix    netip.Prefix `json:"prefix"`
	Mask      string       `json:"mask"`
	Network   netip.Addr   `json:"network"`
	Broadcast netip.Addr   `json:"broadcast"`
	First     netip.Addr   `json:"first"`
	Last      netip.Addr   `json:"last"`
	Hosts     int          `json:"hosts"`
	Subnet    string       `json:"subnet,omitempty"` // of the site, that holds it
	Left      int          `json:"left"`             // how many of its addresses are still free there
	Is        string       `json:"is,omitempty"`     // what the address itself is
	Text      string       `json:"text,omitempty"`
}

// Entry is a line of the plan with what became of it.
type Entry struct {
	plan.Entry
	State      string      `json:"state" jsonschema:"enum=planned,enum=matched,enum=configuring,enum=configured,enum=verified,enum=needs attention"`
	Reason     string      `json:"reason"` // why it needs attention
	Device     address.MAC `json:"device"` // the matched box
	MatchedBy  string      `json:"matchedBy"`
	MatchedWhy string      `json:"matchedWhy"`
	Locked     bool        `json:"locked,omitempty"` // its match stays until somebody unlocks it
	CheckedAt  stamp.Time  `json:"checkedAt"`
	// Unseen names the checks that nobody could take when its device was last
	// looked at.
	Unseen []string `json:"notLookedAt"`
	// Hand tells who marked its device as set by hand, and when.
	HandBy string     `json:"handBy,omitempty"`
	HandAt stamp.Time `json:"handAt"`
}

// Set reports whether its device was configured.
func (e Entry) Set() bool { return e.State == state.Configured || e.State == state.Verified }

// Note is a line of an entry's history.
type Note struct {
	At   stamp.Time `json:"at"`
	Who  string     `json:"who"`
	What string     `json:"what"`
	// Wrong says that it tells of something that failed.
	Wrong bool `json:"wrong,omitempty"`
}

// Revision is one act of a person on plan, subnets or policies.
type Revision struct {
	ID   int64      `json:"id"`
	At   stamp.Time `json:"at"`
	Who  string     `json:"who"`
	What string     `json:"what"`
	Name string     `json:"name"` // given by a person; "" for most
	// Undoes is the revision that this one takes back; 0 for none. One that takes back
	// an undoing is a redoing.
	Undoes int64 `json:"undoes,omitempty"`
}

// File is a file of the site, such as a licence.
type File struct {
	Name   string     `json:"name"`
	SHA256 string     `json:"sha256"`
	Size   int64      `json:"size"` // in bytes
	At     stamp.Time `json:"at"`
	Who    string     `json:"who"`
	// Of a configuration that was kept from a device: its profile, its firmware, and the
	// address that it had.
	Profile  string `json:"profile,omitempty"`
	Firmware string `json:"firmware,omitempty"`
	Held     string `json:"held,omitempty"`
}

// EntryView is a line of the plan with what is known of its box.
type EntryView struct {
	Entry
	Whereabouts
	Seen  stamp.Time `json:"seen"` // when its box was last heard
	BoxID string     `json:"boxSerial"`
	// HangsAs is the part that the box before it tells of, where it hangs behind another.
	HangsAs string `json:"hangsAs,omitempty"`
	// Unwired says that nothing is expected of it yet: it, or what it hangs behind, is not
	// wired, and it is only planned.
	Unwired bool `json:"unwired,omitempty"`
	// ByHand says that its profile does not tell how to set the model.
	ByHand bool `json:"byHand,omitempty"`
	// Untold says that it was verified in all but secrets, which its box never tells again.
	Untold bool `json:"untold,omitempty"`
	// Differs says in words in what a configured device differs from the plan as
	// it is now. Such an entry is never shown as verified.
	Differs []string `json:"differs,omitempty"`
}

// Detail is everything known of one entry.
type Detail struct {
	Entry    EntryView      `json:"entry"`
	Steps    []Step         `json:"steps"` // what commissioning it consists of
	Checks   []result.Check `json:"checks"`
	History  []Note         `json:"history"`
	Device   *DeviceView    `json:"device"` // nil when none is matched
	Settings []plan.Value   `json:"settings"`
	Login    *Credential    `json:"login"` // the stored credential that opens it, or is to; nil when there is none
}

// LabelOptions say which labels are printed, and on what.
type LabelOptions struct {
	Size   string `json:"size"`   // width x height in mm: 70x37
	Gap    string `json:"gap"`    // between labels, across and down: 2.5x0; "": none
	Page   string `json:"page"`   // A4, letter or roll; "": A4
	Start  string `json:"start"`  // the label of the first sheet to begin with; "": the first
	Fields string `json:"fields"` // columns of the register, divided by commas; "": the usual ones
	Tags   string `json:"tags"`   // of the entries, divided by commas; "": all
	Format string `json:"format"` // pdf, or svg for an archive with a drawing for each page
}

// LoginLabels are labels that have the login of each entry, for somebody. They are of named
// entries only.
type LoginLabels struct {
	LabelOptions
	To string `json:"to"`
}

// LoginsFor says of which entries logins are printed, and for whom.
type LoginsFor struct {
	Tags []string `json:"tags" jsonschema:"required"`
	To   string   `json:"to" jsonschema:"required"`
}

// SealTo is for whom credentials are sealed: public keys of age, or a passphrase.
type SealTo struct {
	Recipients []string `json:"recipients,omitempty"`
	Passphrase string   `json:"passphrase,omitempty"`
}

// Sealed says for whom something was sealed.
func (t SealTo) Sealed() string {
	if len(t.Recipients) > 0 {
		return "sealed to " + strings.Join(t.Recipients, ", ")
	}
	return "sealed with a passphrase"
}

// Licence is a device that takes a licence, and how far that is.
type Licence struct {
	Tag     string      `json:"tag"`
	Maker   string      `json:"maker"`
	Model   string      `json:"model"`
	Serial  string      `json:"serial"`
	MAC     address.MAC `json:"mac"`
	Key     string      `json:"key"`    // the setting that names its file
	Host    string      `json:"host"`   // what it is made for, as the device told; "" before
	ToldAt  stamp.Time  `json:"toldAt"` // last
	Asked   string      `json:"asked"`  // the host id for which one was asked for
	AskedAt stamp.Time  `json:"askedAt"`
	File    string      `json:"file"` // of the site, as planned
	State   string      `json:"state"`
	Why     string      `json:"why"`
}

// LicencesTaken says whose each file is that came.
type LicencesTaken struct {
	Taken int           `json:"taken"` // licences that have a device
	Files []licence.Fit `json:"files"`
}
