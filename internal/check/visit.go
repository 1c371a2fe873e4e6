package check

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/evidence"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Subject is a device that is looked at, and what should be so.
type Subject struct {
	MAC        address.MAC // of the matched box
	PlannedMAC address.MAC // that the plan names; zero when it names none
	Serial     string      // "" when it was neither planned nor ever read
	Servers    map[string]string
	Address    netip.Addr // as planned
	Given      procedure.Values
	Profile    *profile.Profile
	Hanging    map[string]int // how many entries hang on each of its settings, by key
	State      store.DeviceState
	// Secret opens a secret setting by what stands for it; ok is false where there is none.
	Secret func(ctx context.Context, token string) (secret string, ok bool, err error)
	Parts  []Part // that hang behind it by the plan, and are there by now
}

// Boxes keep what was seen of a box.
type Boxes interface {
	SetDeviceState(context.Context, store.DeviceState) error
}

// Visit is one fresh look at one device: each question is asked once, when the first
// check needs its answer.
type Visit struct {
	Subject
	bench *bench.Bench
	boxes Boxes
	tries *vault.Tries
	avoid func(netip.Addr) bool

	client *driver.Client
	login  *vault.Login // that was accepted in this look; nil before

	held *[]address.MAC
	// stations that answered on a BACnet network behind it, by its number
	stations map[uint16]map[string]bool
	reading  *reading
	looks    map[string]result.Look

	changedAt   time.Time // when it was last written to; zero: not known
	byHandOnly  bool      // it was to be restarted, and only a person can do that
	restartedAt time.Time // when it was last seen to come back from a restart
	evidence    string    // what showed that restart
	restarted   result.Look
}

// reading is what the device told with the login that is stored.
type reading struct {
	login       result.Look // good: a stored credential was accepted; By names it
	stamp, user string      // how that was made, as procedure.Values.Login, and whose it is
	read        result.Look // good: the facts were read
	facts       map[string]string
	servers     map[string]string // SHA-256 of what its servers showed, by kind
	at          time.Time         // the facts were read then or later
	from, until time.Time         // it told its clock in between
}

// With begins a visit; nothing is sent before the first look.
func With(s Subject, b *bench.Bench, boxes Boxes, tries *vault.Tries, avoid func(netip.Addr) bool) *Visit {
	return &Visit{
		Subject: s, bench: b, boxes: boxes, tries: tries, avoid: avoid, looks: map[string]result.Look{},
		stations:  map[uint16]map[string]bool{},
		changedAt: s.State.ChangedAt.Time, restartedAt: s.State.RestartedAt.Time, evidence: s.State.Evidence,
	}
}

// Close ends the visit.
func (v *Visit) Close() {
	if v.client != nil {
		v.client.Close()
		v.client = nil
	}
}

// Reading gives what the device told, and when; nil when it was not asked.
func (v *Visit) Reading() (facts map[string]string, at time.Time) {
	if v.reading == nil {
		return nil, time.Time{}
	}
	return v.reading.facts, v.reading.at
}

func (v *Visit) target(at netip.Addr) driver.Target {
	return driver.Target{MAC: v.MAC, Address: at, Bits: v.Given.Address.Bits(), Profile: v.Profile, Avoid: v.avoid,
		Trust: v.trust, Serial: v.Serial}
}

// peer is the device at its planned address.
func (v *Visit) peer() bench.Peer {
	return bench.Peer{MAC: v.MAC, Address: v.Address, Bits: v.Given.Address.Bits(), Avoid: v.avoid}
}

// trust refuses to send a login to a server that is another than before.
func (v *Visit) trust(s driver.Server) error {
	if was := v.Servers[s.Kind]; was != "" && was != s.Sum {
		return fmt.Errorf("%s, not %s", s.Named(), driver.Server{Kind: s.Kind, Sum: was}.Named())
	}
	return nil
}

// fresh begins a conversation in which nothing was said yet.
func (v *Visit) fresh() *driver.Client {
	v.Close()
	v.client = driver.New(v.bench, v.target(v.Address))
	return v.client
}

// conversation gives the one that is open, or a fresh one.
func (v *Visit) conversation() *driver.Client {
	if v.client == nil {
		return v.fresh()
	}
	return v.client
}

// once keeps the result of a look that more than one check may ask for.
func (v *Visit) once(name string, look func() (result.Look, error)) (result.Look, error) {
	if l, taken := v.looks[name]; taken {
		return l, nil
	}
	l, err := look()
	if err == nil {
		v.looks[name] = l
	}
	return l, err
}

// holders asks who holds the planned address.
func (v *Visit) holders(ctx context.Context) ([]address.MAC, error) {
	if v.held != nil {
		return *v.held, nil
	}
	held, err := v.bench.Holders(ctx, v.peer())
	if err != nil {
		return nil, err
	}
	if !slices.Contains(held, v.MAC) { // it may have been busy
		here, err := v.bench.Holds(ctx, v.peer())
		if err != nil {
			return nil, err
		}
		if here {
			held = append(held, v.MAC)
		}
	}
	v.held = &held
	return held, ctx.Err()
}

// here reports whether the device is at its planned address.
func (v *Visit) here(ctx context.Context) (bool, error) {
	held, err := v.holders(ctx)
	return slices.Contains(held, v.MAC), err
}

// plain keeps only what a technician needs of an error.
func plain(err error) error {
	if err == nil {
		return nil
	}
	if p := (*problem.Error)(nil); errors.As(err, &p) {
		return errors.New(p.Cause)
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return errors.New("no answer")
	}
	return err
}

// signIn uses the stored credential that the device accepts, and says which. Its
// error is ours.
func (v *Visit) signIn(ctx context.Context, client *driver.Client) (result.Look, error) {
	if len(v.Profile.Acts[profile.SignIn]) == 0 {
		return result.Unseen("its profile does not say how to sign in"), nil
	}
	if v.login != nil {
		return result.Answered(plain(client.SignIn(ctx, v.login.Login)), "accepted"), nil
	}
	logins, err := v.tries.Candidates(ctx)
	if err != nil {
		return result.Look{}, err
	}
	if len(logins) == 0 {
		return result.Unseen("no credential of this device is stored that it did not refuse"), nil
	}
	seen := result.Look{}
	for _, login := range logins {
		if err := v.tries.May(ctx, login.Login); err != nil {
			if !seen.Taken {
				seen = result.Unseen(plain(err).Error())
			}
			return seen, nil
		}
		switch err := client.SignIn(ctx, login.Login); {
		case err == nil:
			v.login = &login
			return result.Look{Taken: true, Good: true, Said: "accepted", By: login.Named()},
				v.tries.Accepted(ctx, login)
		case errors.Is(err, driver.ErrLogin):
			seen = result.Look{Taken: true, Said: "refused", By: login.Named()}
			if err := v.tries.Refused(ctx, login); err != nil {
				return seen, err
			}
		default:
			return result.Answered(plain(err), ""), ctx.Err()
		}
	}
	return seen, nil
}

// read reads what the device tells of itself, signed in with what is stored.
func (v *Visit) read(ctx context.Context) (*reading, error) {
	if v.reading != nil {
		return v.reading, nil
	}
	client := v.conversation()
	// or later: an answer may be long on the way
	r := &reading{facts: map[string]string{}, servers: map[string]string{}, at: stamp.Now().Time}
	identity, err := client.Do(ctx, profile.Identify, nil)
	if err == nil {
		r.facts["serial"], r.facts["firmware"] = identity["serial"], identity["firmware"]
	}
	if r.login, err = v.signIn(ctx, client); err != nil {
		return nil, err
	}
	if v.login != nil {
		r.stamp, r.user = v.login.Stamp, v.login.User
	}
	switch {
	case len(v.Profile.Acts[profile.Read]) == 0:
		r.read = result.Untold("its profile does not say how to read it back")
	case r.login.Taken && !r.login.Good, !r.login.Taken && len(v.Profile.Acts[profile.SignIn]) > 0:
		r.read = result.Unseen("not signed in")
	default:
		read, err := client.Do(ctx, profile.Read, nil)
		r.from, r.until = client.ClockRead()
		r.read = result.Answered(plain(err), "read")
		r.read.By = "read with " + v.named()
		if err == nil {
			maps.Copy(r.facts, read)
		}
	}
	for _, seen := range client.Servers() {
		r.servers[seen.Kind] = seen.Sum
	}
	// A restart that nobody watched shows in what the device tells now.
	told := maps.Clone(identity)
	if told == nil {
		told = map[string]string{}
	}
	maps.Copy(told, r.facts)
	if how := evidence.Read(told, r.at, time.Now()).SinceWrite(v.State.Written, v.State.Starts); how != "" &&
		!v.changedAt.IsZero() && v.restartedAt.IsZero() {
		v.restartedAt, v.evidence = r.at, how // it was before
		if err := v.noteRestart(ctx); err != nil {
			return nil, err
		}
	}
	v.reading = r
	return r, ctx.Err()
}

func (v *Visit) named() string {
	if v.login == nil {
		return "no login"
	}
	return v.login.Named()
}

func (v *Visit) noteRestart(ctx context.Context) error {
	return v.boxes.SetDeviceState(ctx, store.DeviceState{MAC: v.MAC, RestartedAt: stamp.Time{Time: v.restartedAt},
		Evidence: v.evidence})
}
