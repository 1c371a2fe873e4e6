package api

import (
	"net/netip"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/store"
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
	// Beside are other DHCP servers that may go on while devices are given their addresses.
	Beside []netip.Addr `json:"beside,omitempty"`
	// Capture keeps the packets of the run.
	Capture bool `json:"capture,omitempty"`
}

// Hands says that a person did what devices of runs wait for, all or none.
type Hands struct {
	Tags []string `json:"tags"`
	// Accept says that the terms that they wait for are accepted, by who signed in.
	Accept bool `json:"accept,omitempty"`
	// Name is the person who accepts them, where nobody signed in by name.
	Name string `json:"name,omitempty"`
}

// TakeHands say who is at what devices wait for.
type TakeHands struct {
	Tags []string `json:"tags"`
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
	Tasks    []HandTask         `json:"tasks"`
	Accepted []store.Acceptance `json:"accepted"`
}

// VerifyOptions say what is verified.
type VerifyOptions struct {
	Chosen
	Restart string `json:"restart,omitempty"` // needed, always or never
	Capture bool   `json:"capture,omitempty"` // keep the packets
	Gentle  bool   `json:"gentle,omitempty"`  // two devices at a time
}
