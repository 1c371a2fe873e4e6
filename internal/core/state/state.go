// Package state is the words for how far something is.
package state

// Of an entry of the plan.
const (
	Planned     = "planned"
	Matched     = "matched"
	Configuring = "configuring"
	Configured  = "configured"
	Verified    = "verified"
	Attention   = "needs attention"
)

// Of work, of a run, and of a device in one.
const (
	Running     = "running"
	Done        = "done"
	Failed      = "failed"
	Stopped     = "stopped"     // a person stopped it
	Interrupted = "interrupted" // something cut it off that is not its own
	Waiting     = "waiting"     // it was not begun
	Parked      = "parked"      // it waits for a person; of a run: what is left of it does
)

// Begun is a step in the journal that came to no end.
const Begun = "begin"

// Of a credential.
const (
	Pending    = "pending"    // stored, and not known to open the box
	Accepted   = "accepted"   // the box accepted it, last of all
	Refused    = "refused"    // the box refused it
	Superseded = "superseded" // it opened the box until another took its place
)
