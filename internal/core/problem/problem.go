// Package problem holds the error value of the whole program: what went wrong,
// which device or line it concerns, and what the technician can do next.
package problem

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Kind says whose move it is; it decides the HTTP status and the exit code.
type Kind string

const (
	Usage    Kind = "usage"    // the request itself is wrong: mend it and ask again
	Missing  Kind = "missing"  // the thing named does not exist
	Conflict Kind = "conflict" // the request does not fit the present state
	SignIn   Kind = "sign-in"  // nobody is signed in, or the sign-in is wrong
	Rights   Kind = "rights"   // who is signed in may not do this
	Device   Kind = "device"   // a device did not do what was asked
	TooMany  Kind = "too many" // asked too often: wait, then ask again
	Machine  Kind = "machine"  // this computer lacks something: rights, an interface, a port
)

// Cell is one complaint about one cell of a file that a person wrote.
// Row counts from 1 with the header as row 1; 0 is a value that was not in a file.
type Cell struct {
	Sheet  string `json:"sheet,omitempty"` // of a workbook
	Row    int    `json:"row"`
	Column string `json:"column,omitempty"`
	Value  string `json:"value,omitempty"`
	Reason string `json:"reason"`
}

// String prints the cell as the technician would look for it.
func (c Cell) String() string {
	var parts []string
	if c.Sheet != "" {
		parts = append(parts, "sheet "+c.Sheet)
	}
	if c.Row > 0 {
		parts = append(parts, fmt.Sprintf("row %d", c.Row))
		if c.Column != "" {
			parts = append(parts, "column "+c.Column)
		}
	} else if c.Column != "" {
		parts = append(parts, c.Column)
	}
	if c.Value != "" {
		parts = append(parts, strconv.Quote(c.Value))
	}
	return strings.Join(parts, ", ") + ": " + c.Reason
}

// Error is a failure in plain words. Cause is required; Subject names the
// device, entry or file; Next says what to do; Cells lists every complaint
// about a file.
type Error struct {
	Kind    Kind   `json:"kind"`
	Cause   string `json:"cause"`
	Subject string `json:"subject,omitempty"`
	Next    string `json:"next,omitempty"`
	Cells   []Cell `json:"cells,omitempty"`
	Err     error  `json:"-"`
	// Wait is how long to wait before asking again, where that helps.
	Wait time.Duration `json:"-"`

	kinds []error
}

// New makes an error of a kind; next may be empty.
func New(kind Kind, cause, next string) *Error {
	return &Error{Kind: kind, Cause: cause, Next: next}
}

// Disk makes an error of the disk or the rights on it one that says which it is
// and what to do.
func Disk(err error, cause, path string) *Error {
	e := New(Machine, cause, "").About(path).Because(err)
	switch {
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		e.Cause, e.Next = cause+": the disk is full", "free some space"
	case errors.Is(err, syscall.EROFS):
		e.Cause, e.Next = cause+": the disk can only be read", "mount it writable, or choose another folder with --data"
	case errors.Is(err, fs.ErrPermission):
		e.Cause, e.Next = cause+": you have no right to write there", "check its owner and rights"
	case errors.Is(err, syscall.ENOTDIR):
		e.Cause, e.Next = cause+": a part of its path is a file", "choose another"
	default:
		return e
	}
	e.Err = nil
	e.kinds = []error{err}
	return e
}

// About returns a copy that names the device, entry or file concerned.
func (e *Error) About(subject string) *Error {
	c := *e
	c.Subject = subject
	return &c
}

// Because returns a copy that wraps the underlying error.
func (e *Error) Because(err error) *Error {
	c := *e
	c.Err = err
	return &c
}

// Kinds returns a copy that errors.Is finds to be each of the given errors as
// well, without showing their texts.
func (e *Error) Kinds(kinds ...error) *Error {
	c := *e
	c.kinds = append(slices.Clone(e.kinds), kinds...)
	return &c
}

// Is implements what errors.Is asks.
func (e *Error) Is(target error) bool { return slices.Contains(e.kinds, target) }

// Error prints subject, cause, underlying error and next step in one sentence or two.
func (e *Error) Error() string {
	var b strings.Builder
	if e.Subject != "" {
		b.WriteString(e.Subject + ": ")
	}
	b.WriteString(e.Cause)
	if e.Err != nil {
		b.WriteString(" (" + e.Err.Error() + ")")
	}
	if e.Next != "" {
		b.WriteString(". " + strings.ToUpper(e.Next[:1]) + e.Next[1:] + ".")
	}
	return b.String()
}

// Unwrap gives the underlying error.
func (e *Error) Unwrap() error { return e.Err }

// Cells gives what an error says of single cells; nil when it is not of that kind.
func Cells(err error) []Cell {
	var e *Error
	if errors.As(err, &e) {
		return e.Cells
	}
	return nil
}

// KindOf finds the kind of the first Error in the chain; empty when there is none.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return ""
}
