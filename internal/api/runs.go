package api

import (
	"net/netip"
	"time"

	"redstart/internal/core/problem"
)

// Kinds of work.
const (
	Finding       = "find"
	Commissioning = "commission"
	Verifying     = "verify"
	HandingOut    = "hand out addresses"
)

// Work is long work, under way or ended. Works go side by side; what two of them may not
// do at once is decided per box.
type Work struct {
	ID   int64  `json:"id"`
	Site string `json:"site"`
	Kind string `json:"kind" jsonschema:"enum=find,enum=commission,enum=verify,enum=hand out addresses"`
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
}

// Hands says that a person did what devices of runs wait for, all or none.
type Hands struct {
	Tags []string `json:"tags"`
}

// VerifyOptions say what is verified.
type VerifyOptions struct {
	Chosen
	Restart string `json:"restart,omitempty"` // needed, always or never
}
