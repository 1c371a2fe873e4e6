package api

import (
	"redstart/internal/core/stamp"
)

// VaultStatus tells whether secrets can be used.
type VaultStatus struct {
	Locked bool   `json:"locked"`
	Opener string `json:"opener"`         // file or passphrase
	Lost   string `json:"lost,omitempty"` // why nothing here opens it; it may be begun anew
	Sealed int    `json:"sealedByLost"`   // secrets that stay sealed by keys that were lost
}

// Passphrase opens the vault.
type Passphrase struct {
	Passphrase string `json:"passphrase" jsonschema:"required"`
}

// PolicyChange says what of a policy is to be otherwise. What is left out stays as
// it is.
type PolicyChange struct {
	For      string  `json:"for"` // "", "kind:camera" or "profile:ovalis-c20"
	Mode     *string `json:"mode,omitempty"`
	Length   *int    `json:"length,omitempty"`
	Users    *string `json:"users,omitempty"`
	User     *string `json:"user,omitempty"`
	Recovery *string `json:"recovery,omitempty"`
	Password string  `json:"password,omitempty"` // mode given: the password; "" keeps the one before
}

// Credential is what is known of a stored login, without its password.
type Credential struct {
	ID     int64      `json:"id"`
	User   string     `json:"user"`
	State  string     `json:"state"` // pending, accepted, refused or superseded
	At     stamp.Time `json:"at"`    // since when
	ToldBy string     `json:"toldBy"`
	Origin string     `json:"origin"`
	MadeAt stamp.Time `json:"madeAt"`
}

// Shown is a secret that a person asked to see.
type Shown struct {
	User     string `json:"user,omitempty"`
	Password string `json:"password"`
	State    string `json:"state,omitempty"` // of a credential
	ToldBy   string `json:"toldBy,omitempty"`
}

// Learned is how many known logins were taken in.
type Learned struct {
	Stored   int      `json:"stored"`
	Accepted int      `json:"accepted"` // their devices took them just now
	Untried  []string `json:"untried"`  // of these, with why: they could not be reached
}

// Trial says which acts of a profile are tried with a box.
type Trial struct {
	Profile  string   `json:"profile" jsonschema:"required"` // its id, or the name of the document
	Document string   `json:"document,omitempty"`            // a profile that the service does not have
	Acts     []string `json:"acts" jsonschema:"required"`
	// Values are variables besides those of the entry that the box is matched with.
	Values map[string]string `json:"values,omitempty"`
}

// Tried is what came of a trial.
type Tried struct {
	Exchanges []Exchange        `json:"exchanges"` // with secrets hidden
	Done      []string          `json:"done"`      // the acts that went through
	Facts     map[string]string `json:"facts"`
	Samples   []string          `json:"samples"` // passwords under the profile's rules; none of them is used
	Error     string            `json:"error,omitempty"`
}

// Exchange is one move of an act as it went.
type Exchange struct {
	Act  string `json:"act"`
	Move int    `json:"move"`
	Sent string `json:"sent"`
	Got  string `json:"got"`
}

// How far the login of another device, which one is given, is with that.
const (
	LoginNotGiven = "not given yet"
	LoginCurrent  = "the present one"
	LoginEarlier  = "an earlier one" // it was changed since
)

// KnownLogin says that the device of one entry is given the login of another's.
type KnownLogin struct {
	Of      string `json:"of"` // tag of the entry whose login it is
	By      string `json:"by"` // tag of the entry whose device knows it
	Setting string `json:"setting"`
	Row     string `json:"row,omitempty"` // of a table: which
	State   string `json:"state" jsonschema:"enum=not given yet,enum=the present one,enum=an earlier one"`
}
