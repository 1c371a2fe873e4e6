package api

import (
	"net/netip"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Kinds of work.
const (
	Finding       = "find"
	Commissioning = "commission"
	Verifying     = "verify"
	HandingOut    = "hand out addresses"
	Making        = "make a document"
)

// Work is long work, under way or ended. Works go side by side; what two of them may not
// do at once is decided per box.
type Work struct {
	ID   int64  `json:"id"`
	Site string `json:"site"`
	Kind string `json:"kind" jsonschema:"enum=find,enum=commission,enum=verify,enum=hand out addresses,enum=make a document"`
	// running, done, stopped, interrupted, failed
	State   string    `json:"state" jsonschema:"enum=running,enum=done,enum=stopped,enum=interrupted,enum=failed"`
	Who     string    `json:"who"`
	Done    int       `json:"done"`
	Total   int       `json:"total"`
	Failed  int       `json:"failed"`
	Unsure  int       `json:"unsure"`  // verified only in part: some could not be looked at
	Parked  int       `json:"parked"`  // wait for a person
	Seconds float64   `json:"seconds"` // about how long it still takes; 0: unknown
	Text    string    `json:"text"`    // one line on what is happening or how it ended
	Run     int64     `json:"run,omitempty"`
	File    string    `json:"file,omitempty"` // name of the document that is made
	Began   time.Time `json:"began"`
}

// Chosen says which entries are meant: tags, or all of them that the request is
// for. Nothing is ever taken for all.
type Chosen struct {
	Tags []string `json:"tags,omitempty"`
	All  bool     `json:"all,omitempty"`
}

// Check refuses a choice that does not say what is meant.
func (c Chosen) Check() error {
	switch {
	case c.All && len(c.Tags) > 0:
		return problem.New(problem.Usage, "both tags and all are given", "give one of them")
	case !c.All && len(c.Tags) == 0:
		return problem.New(problem.Usage, "it is not said which entries are meant", "give their tags, or all")
	}
	return nil
}

// RunOptions say what is commissioned.
type RunOptions struct {
	Chosen
	// Lines are serial lines at which consoles of devices hang, by tag.
	Lines map[string]string `json:"lines,omitempty"`
	Fresh bool              `json:"fresh,omitempty"` // give new passwords, whatever they have
	// OtherServers are other DHCP servers that may go on while devices are given their addresses.
	OtherServers []netip.Addr `json:"otherServers,omitempty"`
	// Capture keeps the packets of the run.
	Capture bool `json:"capture,omitempty"`
}

// Hands says that a person did what devices of runs wait for, all or none.
type Hands struct {
	Tags []string `json:"tags" jsonschema:"required"`
	// Accept says that the terms that they wait for are accepted, by who signed in.
	Accept bool `json:"accept,omitempty"`
	// Without says that it cannot be done now: the run goes on, and verification tells what is missing.
	Without bool `json:"without,omitempty"`
	// Name is the person who accepts them, where nobody signed in by name.
	Name string `json:"name,omitempty"`
}

// Word says of a check that nothing can look at that it is so.
type Word struct {
	Check string `json:"check" jsonschema:"required"`
	// Note is how that was found out, such as "tried at the door".
	Note string `json:"note,omitempty"`
	// Name is the person who says it, where nobody signed in by name.
	Name string `json:"name,omitempty"`
	Not  bool   `json:"not,omitempty"` // what was said is taken back
}

// TakeHands say who is at what devices wait for.
type TakeHands struct {
	Tags []string `json:"tags" jsonschema:"required"`
	Drop bool     `json:"drop,omitempty"` // nobody is at it any more
}

// HandTask is something that a person has to do at a device, or has just done.
type HandTask struct {
	Tag        string      `json:"tag"`
	Run        int64       `json:"run"`
	Area       string      `json:"area"`
	Floor      string      `json:"floor"`
	Place      string      `json:"place"`
	Model      string      `json:"model"`
	Profile    string      `json:"profile"`
	MAC        address.MAC `json:"mac"`
	Serial     string      `json:"serial"`
	Do         string      `json:"do"`
	Look       string      `json:"look"`  // what shows that it is done
	Terms      string      `json:"terms"` // what is to be accepted; "" for nothing
	Who        string      `json:"who"`   // who is at it; "" for nobody
	Since      stamp.Time  `json:"since"`
	Within     int         `json:"within"`     // seconds that what follows may take once it is done; 0: no limit
	Open       bool        `json:"open"`       // it waits for a person
	WindowEnds stamp.Time  `json:"windowEnds"` // it was done, and what follows must be over by then
	Step       string      `json:"step"`       // what the run does in that window
}

// HandList are all of a site, in walking order, and what was accepted.
type HandList struct {
	Tasks    []HandTask      `json:"tasks"`
	Accepted []AcceptedTerms `json:"accepted"`
}

// VerifyOptions say what is verified.
type VerifyOptions struct {
	Chosen
	Restart string `json:"restart,omitempty"` // needed, always or never
	Capture bool   `json:"capture,omitempty"` // keep the packets
	Gentle  bool   `json:"gentle,omitempty"`  // two devices at a time
}

// AcceptedTerms says that a person accepted the terms of a model, for the whole site.
type AcceptedTerms struct {
	Profile string     `json:"profile"`
	Terms   string     `json:"terms"`
	Who     string     `json:"who"`
	At      stamp.Time `json:"at"`
}

// Run is one bulk commissioning job.
type Run struct {
	ID        int64       `json:"id"`
	State     string      `json:"state"`
	Who       string      `json:"who"`
	StartedAt stamp.Time  `json:"startedAt"`
	EndedAt   stamp.Time  `json:"endedAt"`
	Cause     string      `json:"cause,omitempty"` // why it was interrupted
	Devices   []RunDevice `json:"devices"`
}

// RunDevice is one device of a run with its frozen values.
type RunDevice struct {
	Run       int64            `json:"run"`
	Tag       string           `json:"tag"`
	MAC       address.MAC      `json:"mac"`
	Profile   string           `json:"profile"`
	Serial    string           `json:"serial"` // as planned; "" when not
	Given     procedure.Values `json:"given"`
	State     string           `json:"state"`
	Step      string           `json:"step"`
	Done      int              `json:"done"`
	Steps     int              `json:"steps"`
	Error     string           `json:"error"`
	StartedAt stamp.Time       `json:"startedAt"`
	EndedAt   stamp.Time       `json:"endedAt"`
	// FreshSince is set where a new password is wanted: one that was made before is replaced.
	FreshSince stamp.Time `json:"freshSince"`
	// Line is the serial line over which it is talked to; "" for none.
	Line string `json:"line,omitempty"`
	// Beside are the addresses of DHCP servers that may go on while it is given its own,
	// divided by spaces.
	OtherServers string `json:"otherServers,omitempty"`
	Hand         `json:"hand,omitzero"`
}

// Hand is what a device waits for a person to do.
type Hand struct {
	Do    string     `json:"do,omitempty"`
	Look  string     `json:"look,omitempty"`    // what shows that it is done
	Terms string     `json:"terms,omitempty"`   // what a person must accept; "" for nothing
	Who   string     `json:"handWho,omitempty"` // who is at it; "" for nobody
	Since stamp.Time `json:"parkedAt"`          // zero: it does not wait now
	// Within is how many seconds what follows may take once it is done; 0: no limit.
	Within int        `json:"within,omitempty"`
	Ends   stamp.Time `json:"windowEnds"` // when that time is over; zero before
}

// Ended reports whether nothing of the run is left to be done with the device.
func (d RunDevice) Ended() bool {
	return d.State == state.Done || d.State == state.Failed || d.State == state.Stopped
}

// Step is something that a run does with one device, in its place.
type Step struct {
	Name  string `json:"name"` // unique in the work on a device
	Text  string `json:"text"` // in plain words, for the rehearsal
	Hands bool   `json:"hands,omitempty"`
	// Restarts says that the device goes away with it, and Lends that it is given an address over DHCP.
	Restarts bool `json:"restarts,omitempty"`
	Lends    bool `json:"lends,omitempty"`
}

// Rehearsed is what a run would do with one device.
type Rehearsed struct {
	Tag     string           `json:"tag"`
	MAC     string           `json:"mac"`
	Profile string           `json:"profile"`
	Given   procedure.Values `json:"given"`
	Steps   []Step           `json:"steps"`
	Seconds float64          `json:"seconds"` // about how long
	// NotSent are planned settings that the profile does not say how to set.
	NotSent []string `json:"notSent,omitempty"`
	// Line is the serial line over which it is talked to; "" for none.
	Line string `json:"line,omitempty"`
	// After are the entries of the same run that are done before it is begun.
	After []string `json:"after,omitempty"`
	// Parts are the entries behind it that are set with it.
	Parts []string `json:"parts,omitempty"`
}

// Rehearsal is what a run would do, and what keeps entries out of it.
type Rehearsal struct {
	Devices []Rehearsed `json:"devices"`
	Left    []LeftOut   `json:"left"`
	// NeedLine are those of them that only need a serial line to be named, and Lines those
	// that the service may use.
	NeedLine []string `json:"needLine"`
	Lines    []string `json:"lines"`
	Seconds  float64  `json:"seconds"` // about how long, side by side
}

// LeftOut is an entry that the run cannot take.
type LeftOut struct {
	Tag string `json:"tag"`
	Why string `json:"why"`
}
