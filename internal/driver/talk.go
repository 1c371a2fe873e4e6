package driver

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/evidence"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/line"
)

// Target is the device to talk to. An invalid Address leaves only what needs none.
type Target struct {
	MAC     address.MAC
	Address netip.Addr
	Bits    int
	Profile *profile.Profile
	Avoid   func(netip.Addr) bool
	// Trust says whether a login of its own may be sent to what shows this; nil trusts
	// all. What is sent to a box as from the factory is no secret.
	Trust func(Server) error
	// Line opens the serial line of its console; nil: none is named for it.
	Line func(line.Mode) (io.ReadWriteCloser, error)
	// File opens a file of the site by the key of the setting that names it.
	File func(key string) (File, error)
}

// Talk is one conversation, over all drivers that the profile uses. It is used by one
// goroutine at a time.
type Talk struct {
	bench    *bench.Bench
	target   Target
	conv     *bench.Conversation
	sessions map[string]Session // by driver
	mu       sync.Mutex
	servers  map[string]Server // by kind, also of sessions that ended
	login    profile.Login
	inside   bool              // the login was accepted
	handed   map[string]string // what signing in took: tokens for the acts that follow
}

// New begins a talk; nothing is sent before the first act.
func New(b *bench.Bench, t Target) *Talk {
	return &Talk{bench: b, target: t, sessions: map[string]Session{}, servers: map[string]Server{}}
}

// Close ends the talk.
func (t *Talk) Close() {
	t.hangUp()
	if t.conv != nil {
		t.conv.Close()
		t.conv = nil
	}
}

func (t *Talk) hangUp() {
	for name, s := range t.sessions {
		s.Close()
		delete(t.sessions, name)
	}
	t.inside, t.handed = false, nil
}

// SignIn proves a login and uses it for what follows. It returns ErrLogin when
// the device refuses it.
func (t *Talk) SignIn(ctx context.Context, login profile.Login) error {
	t.hangUp()
	t.login = login
	handed, err := t.Do(ctx, profile.SignIn, nil)
	t.handed = handed
	t.inside = err == nil
	return err
}

// SignOut ends the sessions and forgets the login.
func (t *Talk) SignOut() {
	t.hangUp()
	t.login = profile.Login{}
}

// Do carries out one act with the given variables and returns the facts that
// its moves took. A secret among the variables never shows in the error.
func (t *Talk) Do(ctx context.Context, act profile.Act, variables map[string]string) (map[string]string, error) {
	vars := map[string]string{"user": t.login.User, "password": t.login.Password}
	if act != profile.SignIn {
		maps.Copy(vars, t.handed)
	}
	maps.Copy(vars, t.target.Profile.Spoken(variables))
	taken := map[string]string{}
	for _, m := range t.target.Profile.Acts[act] {
		rows, err := t.target.Profile.EachRow(m, variables)
		if err != nil {
			return nil, t.explain(act, err, vars)
		}
		for _, row := range rows {
			maps.Copy(vars, row)
			if !m.Wanted(vars) {
				continue
			}
			facts, err := t.move(ctx, act, m, vars)
			if err != nil {
				return nil, t.explain(act, err, vars)
			}
			maps.Copy(taken, facts)
			maps.Copy(vars, facts)
		}
	}
	return t.target.Profile.Heard(taken), nil
}

// askAgain is how long a move that is repeated until something is so waits between.
const askAgain = 500 * time.Millisecond

// move carries out one move: again until what it takes is as the profile waits for,
// and once more if the session lapsed meanwhile.
func (t *Talk) move(ctx context.Context, act profile.Act, m profile.Move, vars map[string]string) (map[string]string, error) {
	for _, made := range m.Make {
		value, err := made.Worked(vars)
		if err != nil {
			return nil, err
		}
		vars[made.Name] = value
	}
	limit := time.NewTimer(m.Within)
	defer limit.Stop()
	for {
		facts, err := t.once(ctx, act, m, vars)
		if err != nil {
			return nil, err
		}
		waiting, enough := m.Enough(facts)
		if enough {
			return facts, nil
		}
		pause := time.NewTimer(askAgain)
		select {
		case <-pause.C:
		case <-limit.C:
			pause.Stop()
			return nil, fmt.Errorf("after %s, %s", m.Within, waiting)
		case <-ctx.Done():
			pause.Stop()
			return nil, ctx.Err()
		}
	}
}

// once carries out one move. A device that let the session lapse refuses it, and has
// done nothing: it is signed in to anew with the login that it took, and told again.
func (t *Talk) once(ctx context.Context, act profile.Act, m profile.Move, vars map[string]string) (map[string]string, error) {
	facts, err := t.tell(ctx, m, vars)
	lapsed := errors.Is(err, ErrLogin) && t.inside && act != profile.SignIn && act != profile.Password && act != profile.Renew
	if !lapsed {
		return facts, err
	}
	if err := t.SignIn(ctx, t.login); err != nil {
		return nil, fmt.Errorf("signing in anew: %w", err)
	}
	maps.Copy(vars, t.handed)
	return t.tell(ctx, m, vars)
}

func (t *Talk) tell(ctx context.Context, m profile.Move, vars map[string]string) (map[string]string, error) {
	by, ok := m.By.(Driver)
	if !ok {
		return nil, fmt.Errorf("nothing here talks %s", m.By.Name())
	}
	if _, can := by.(interface{ OverLine() }); m.NeedsAddress() && !(can && t.target.Line != nil) {
		if err := t.open(ctx); err != nil {
			return nil, err
		}
	}
	return t.session(by).Do(ctx, m.Words, vars)
}

// session gives the session over a driver, begun if there is none.
func (t *Talk) session(d Driver) Session {
	if t.sessions[d.Name()] == nil {
		t.sessions[d.Name()] = d.Open(Peer{
			MAC: t.target.MAC, Address: t.target.Address, Section: t.target.Profile.Section(d.Name()), Login: t.login, Avoid: t.target.Avoid, Bench: t.bench, Dial: t.dial, Line: t.target.Line, File: t.target.File,
			Trust: func(sum string) error { return t.trust(Server{d.Shows(), sum}) },
		})
	}
	return t.sessions[d.Name()]
}

// trust notes what the device's end of a session shows.
func (t *Talk) trust(s Server) error {
	t.mu.Lock()
	t.servers[s.Kind] = s
	t.mu.Unlock()
	factory := t.target.Profile.Factory.Login
	if t.target.Trust == nil || t.login == (profile.Login{}) || factory != nil && t.login == *factory {
		return nil
	}
	if err := t.target.Trust(s); err != nil {
		return fmt.Errorf("%w: %w", ErrStranger, err)
	}
	return nil
}

func (t *Talk) open(ctx context.Context) (err error) {
	if t.conv == nil {
		t.conv, err = t.bench.Open(ctx, bench.Peer{MAC: t.target.MAC, Address: t.target.Address, Bits: t.target.Bits, Avoid: t.target.Avoid})
	}
	return err
}

func (t *Talk) dial(ctx context.Context, port uint16) (net.Conn, error) {
	if err := t.open(ctx); err != nil {
		return nil, err
	}
	return t.conv.Dial(ctx, port)
}

// Echo asks the device for an ICMP echo.
func (t *Talk) Echo(ctx context.Context) error {
	if err := t.open(ctx); err != nil {
		return err
	}
	return t.conv.Echo(ctx)
}

// Knock opens a TCP port and closes it again.
func (t *Talk) Knock(ctx context.Context, port uint16) error {
	c, err := t.dial(ctx, port)
	if err != nil {
		return err
	}
	return c.Close()
}

const answerEvery = 100 * time.Millisecond

// Answering waits until the device's end of every driver is up: hosts answer ARP long
// before their services run. It returns the last refusal when the context ends.
func (t *Talk) Answering(ctx context.Context) error {
	again := time.NewTicker(answerEvery)
	defer again.Stop()
	for _, d := range t.target.Profile.Drivers() {
		by, ok := d.(Driver)
		if !ok || t.target.Profile.Section(d.Name()).Port() == 0 {
			continue
		}
		for {
			err := t.session(by).Ready(ctx)
			if err == nil {
				break
			}
			select {
			case <-again.C:
			case <-ctx.Done():
				return problem.New(problem.Device, fmt.Sprintf("it is back, but port %d stays closed", t.target.Profile.Section(d.Name()).Port()),
					"look at the box, then commission it again").About(t.target.MAC.String()).Because(err)
			}
		}
	}
	return nil
}

// Servers gives what the device's servers showed to be known again by, sorted by kind.
func (t *Talk) Servers() []Server {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.SortedFunc(maps.Values(t.servers), func(a, b Server) int { return cmp.Compare(a.Kind, b.Kind) })
}

// Teller gives what asks a device what its profile takes as up-time or start
// counter, in a talk of its own, signed in where that needs it with what login
// gives at that time; nil when the profile takes neither, or when a login is
// needed and login is nil. target is the device at an address.
func Teller(b *bench.Bench, p *profile.Profile, target func(at netip.Addr) Target, login func() *profile.Login) func(ctx context.Context, at netip.Addr) (map[string]string, error) {
	act := profile.Act("")
	for _, fact := range []string{evidence.Uptime, evidence.Starts} {
		if p.Restart.ShownBy(fact) && act == "" {
			act = p.Tells(fact)
		}
	}
	signsIn := act == profile.Read && len(p.Acts[profile.SignIn]) > 0
	if act == "" || signsIn && login == nil {
		return nil
	}
	return func(ctx context.Context, at netip.Addr) (map[string]string, error) {
		talk := New(b, target(at))
		defer talk.Close()
		if signsIn {
			if l := login(); l != nil {
				if err := talk.SignIn(ctx, *l); err != nil {
					return nil, err
				}
			}
		}
		return talk.Do(ctx, act, nil)
	}
}

// shortest is the length from which a secret is looked for in an error: shorter ones
// are part of any text.
const shortest = 3

// explain turns a driver's error into one that names the device and hides the values
// of all variables that are not public.
func (t *Talk) explain(act profile.Act, err error, vars map[string]string) error {
	text := err.Error()
	for key, value := range vars {
		if len(value) >= shortest && !t.target.Profile.Public(key) {
			text = strings.ReplaceAll(text, value, "•••")
		}
	}
	e := problem.New(problem.Device, text, "").About(t.target.MAC.String() + ", " + string(act))
	// Only the kinds of the error are kept, not its text.
	var kinds []error
	for _, kind := range []error{ErrLogin, ErrValue, ErrNotSent, ErrStranger, ErrNoAnswer, context.Canceled, context.DeadlineExceeded} {
		if errors.Is(err, kind) {
			kinds = append(kinds, kind)
		}
	}
	if kinds == nil {
		return e
	}
	return e.Kinds(kinds...)
}
