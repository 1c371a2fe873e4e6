package api

import (
	"time"

	"redstart/internal/core/right"
	"redstart/internal/core/stamp"
)

// SignIn is what somebody signs in with: a name with a password, or the token of a link
// that signs in once.
type SignIn struct {
	User     string `json:"user"`
	Password string `json:"password"`
	Link     string `json:"link"`
}

// Person is who makes a request.
type Person struct {
	Name   string      `json:"user"`
	Rights right.Right `json:"rights"`
	// Token names the token of a program that makes it; "" for the person.
	Token string `json:"token,omitempty"`
	// Until is when the session or token ends by itself; the zero time: never.
	Until time.Time `json:"-"`
}

// User is somebody who may sign in.
type User struct {
	Name   string      `json:"name"`
	Rights right.Right `json:"rights"`
}

// Account is a user as an owner makes or changes it.
type Account struct {
	Name     string      `json:"name"`
	Password string      `json:"password"` // "" leaves it as it is
	Rights   right.Right `json:"rights"`
	// Keep names the tokens that outlive a changed password; all others are revoked.
	Keep []string `json:"keep,omitempty"`
}

// NewPassword changes one's own password.
type NewPassword struct {
	Old string `json:"old" jsonschema:"required"`
	New string `json:"new" jsonschema:"required"`
	// Keep names the tokens that go on; all others are revoked.
	Keep []string `json:"keep,omitempty"`
}

// Token is a named token that acts for a user until it expires or is revoked.
type Token struct {
	ID     int64      `json:"id"`
	User   string     `json:"user"`
	Name   string     `json:"name"`
	MadeAt stamp.Time `json:"madeAt"`
	UsedAt stamp.Time `json:"usedAt"`
	// Rights is what it may at most; ExpiresAt is when it ends, never for the zero time.
	Rights    right.Right `json:"rights"`
	ExpiresAt stamp.Time  `json:"expiresAt"`
}

// How long tokens are good, in days.
const (
	UsualDays = 90
	MostDays  = 366
)

// ForToken is what a token is wanted for.
type ForToken struct {
	Name   string      `json:"name" jsonschema:"required"` // the program or computer that will use it
	Rights right.Right `json:"rights"`                     // at most one's own; "": look
	Days   int         `json:"days"`                       // for how long; 0: UsualDays
}

// NewToken is an API token as it is shown once.
type NewToken struct {
	Name      string      `json:"name"`
	Token     string      `json:"token"`
	Rights    right.Right `json:"rights"`
	ExpiresAt stamp.Time  `json:"expiresAt"`
}
