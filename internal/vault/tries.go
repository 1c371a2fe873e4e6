package vault

import (
	"context"
	"fmt"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/store"
)

// Boxes is what is kept of which logins boxes took.
type Boxes interface {
	DeviceState(context.Context, address.MAC) (store.DeviceState, error)
	SetCredential(ctx context.Context, mac address.MAC, id int64, to, by string) error
	AddWrong(context.Context, address.MAC) error
	ClearWrong(context.Context, address.MAC) error
	ForgiveWrong(ctx context.Context, mac address.MAC, times int) error
}

// Logins are those that are stored of a box, the newest first.
type Logins interface {
	Logins(context.Context, address.MAC) ([]Login, error)
}

// Tries hands out the logins that may be tried at one box: each once, none that
// it refused before, and fewer than its family takes before it blocks.
type Tries struct {
	logins   Logins
	boxes    Boxes
	mac      address.MAC
	accounts profile.Accounts
	by       string // what is told to have told the state of a credential
	tried    map[profile.Login]bool
	refused  int // since it began anew
	// unanswered counts tries that got no answer, and unansweredAt is when the last was made.
	unanswered   int
	unansweredAt time.Time
}

// Try begins to try logins at a box.
func (v *Vault) Try(mac address.MAC, accounts profile.Accounts, by string) *Tries {
	return Try(v, v.store, mac, accounts, by)
}

// Try begins to try the stored logins at a box.
func Try(logins Logins, of Boxes, mac address.MAC, accounts profile.Accounts, by string) *Tries {
	return &Tries{logins: logins, boxes: of, mac: mac, accounts: accounts, by: by, tried: map[profile.Login]bool{}}
}

// Candidates lists the stored logins that are worth trying, in their order: what
// a run that was cut off may have set, then what was accepted last.
func (t *Tries) Candidates(ctx context.Context) (list []Login, err error) {
	all, err := t.logins.Logins(ctx, t.mac)
	if err != nil {
		return nil, err
	}
	for _, to := range []string{state.Pending, state.Accepted} {
		for _, l := range all {
			if l.State == to && !t.tried[l.Login] {
				list = append(list, l)
			}
		}
	}
	return list, nil
}

// Was reports whether a login was tried already, and not taken.
func (t *Tries) Was(login profile.Login) bool { return t.tried[login] }

// Anew forgets which logins were tried, after something was done with the box by hand: it may
// take now what it refused before. How many it refused is not forgotten.
func (t *Tries) Anew() {
	clear(t.tried)
	t.refused = 0
}

// Forgive takes back what was refused since it began anew: the box took no login at all then.
func (t *Tries) Forgive(ctx context.Context) error {
	times := t.refused
	t.refused = 0
	return t.boxes.ForgiveWrong(ctx, t.mac, times)
}

// Again lets one login be tried once more that was refused: the box may have taken it since. How
// many it refused is not forgotten.
func (t *Tries) Again(login profile.Login) { delete(t.tried, login) }

// May says whether one more login may be tried now; it is an error, about the
// box, when that could block it.
func (t *Tries) May(ctx context.Context, login profile.Login) error {
	if t.tried[login] {
		return problem.New(problem.Device, "this login was tried already", "")
	}
	c, err := t.boxes.DeviceState(ctx, t.mac)
	if err != nil {
		return err
	}
	last := c.WrongAt.Time
	if t.unansweredAt.After(last) {
		last = t.unansweredAt
	}
	limit, until := t.accounts.Tries, last.Add(t.accounts.BlockTime())
	if limit > 0 && c.Wrong+t.unanswered+1 >= limit && time.Now().Before(until) {
		refused := fmt.Sprintf("it refused %d logins", c.Wrong)
		if t.unanswered > 0 {
			refused += fmt.Sprintf(" and left %d unanswered", t.unanswered)
		}
		return problem.New(problem.Device, fmt.Sprintf("%s, and may block at %d, so no other was tried", refused, limit),
			fmt.Sprintf("wait until %s, or give its password: redstart vault learn",
				until.Local().Format("15:04:05"))).About(t.mac.String())
	}
	t.tried[login] = true
	return nil
}

// Unanswered notes that a login was tried without an answer: it may be tried again, but not for
// ever, and the box may have counted it as a wrong one.
func (t *Tries) Unanswered(login profile.Login) {
	t.unansweredAt = time.Now()
	if t.unanswered++; t.unanswered < mostUnanswered {
		delete(t.tried, login)
	}
}

// mostUnanswered is how often one login may stay without an answer.
const mostUnanswered = 3

// Accepted notes that the box took a stored login; id 0 is one that is not stored.
func (t *Tries) Accepted(ctx context.Context, l Login) error {
	t.unanswered = 0
	if err := t.boxes.ClearWrong(ctx, t.mac); err != nil || l.ID == 0 {
		return err
	}
	return t.boxes.SetCredential(ctx, t.mac, l.ID, state.Accepted, t.by)
}

// Refused notes that the box refused a login; id 0 is one that is not stored.
func (t *Tries) Refused(ctx context.Context, l Login) error {
	t.refused++
	if err := t.boxes.AddWrong(ctx, t.mac); err != nil || l.ID == 0 {
		return err
	}
	return t.boxes.SetCredential(ctx, t.mac, l.ID, state.Refused, t.by)
}
