// Package driver holds conversations with devices as their profiles describe
// them: it carries out acts, move by move, over the bench.
package driver

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/evidence"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/driver/dcp"
	"redstart/internal/driver/web"
	"redstart/internal/lan/bench"
)

// ErrLogin says that the device refused the login, or asked for one.
var ErrLogin = web.ErrLogin

// ErrNoAnswer says that a request went out and no whole answer came back: the
// device may or may not have done what was asked.
var ErrNoAnswer = web.ErrNoAnswer

// Target is the device to talk to. An invalid Address limits the talk to DCP.
type Target struct {
	MAC     address.MAC
	Address netip.Addr
	Bits    int
	Profile *profile.Profile
	Avoid   func(netip.Addr) bool
}

// Talk is one conversation. It is used by one goroutine at a time.
type Talk struct {
	bench  *bench.Bench
	target Target
	conv   *bench.Conversation
	web    *web.Client
	login  profile.Login
}

// New begins a talk; nothing is sent before the first act.
func New(b *bench.Bench, t Target) *Talk { return &Talk{bench: b, target: t} }

// Close ends the talk.
func (t *Talk) Close() {
	if t.web != nil {
		t.web.Close()
		t.web = nil
	}
	if t.conv != nil {
		t.conv.Close()
		t.conv = nil
	}
}

// SignIn proves a login and uses it for what follows. It returns ErrLogin when
// the device refuses it.
func (t *Talk) SignIn(ctx context.Context, login profile.Login) error {
	t.login = login
	if t.web != nil {
		t.web.Close()
		t.web = nil
	}
	_, err := t.Do(ctx, profile.SignIn, nil)
	return err
}

// Do carries out one act with the given variables and returns the facts that
// its moves took. A secret among the variables never shows in the error.
func (t *Talk) Do(ctx context.Context, act profile.Act, variables map[string]string) (map[string]string, error) {
	vars := map[string]string{"user": t.login.User, "password": t.login.Password}
	maps.Copy(vars, variables)
	taken := map[string]string{}
	for _, m := range t.target.Profile.Acts[act] {
		facts, err := t.move(ctx, m, vars)
		if err != nil {
			return nil, t.explain(act, err, vars)
		}
		maps.Copy(taken, facts)
		maps.Copy(vars, facts)
	}
	return taken, nil
}

func (t *Talk) move(ctx context.Context, m profile.Move, vars map[string]string) (map[string]string, error) {
	if m.DCP != "" {
		return dcp.Do(ctx, t.bench, t.target.MAC, m, vars)
	}
	if err := t.open(ctx); err != nil {
		return nil, err
	}
	if t.web == nil {
		t.web = web.New(t.target.Profile.Web, t.target.Address, t.login, func(ctx context.Context) (net.Conn, error) {
			return t.conv.Dial(ctx, t.target.Profile.WebPort())
		})
	}
	return t.web.Do(ctx, m, vars)
}

func (t *Talk) open(ctx context.Context) (err error) {
	if t.conv == nil {
		t.conv, err = t.bench.Open(ctx, bench.Peer{MAC: t.target.MAC, Address: t.target.Address, Bits: t.target.Bits, Avoid: t.target.Avoid})
	}
	return err
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
	if err := t.open(ctx); err != nil {
		return err
	}
	c, err := t.conv.Dial(ctx, port)
	if err != nil {
		return err
	}
	return c.Close()
}

const answerEvery = 100 * time.Millisecond

// Answering waits until the device's web server is up: hosts answer ARP long
// before their services run. It returns the last refusal when the context ends.
func (t *Talk) Answering(ctx context.Context) error {
	port := t.target.Profile.WebPort()
	if port == 0 {
		return nil
	}
	again := time.NewTicker(answerEvery)
	defer again.Stop()
	for {
		err := t.Knock(ctx, port)
		if err == nil {
			return nil
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return problem.New(problem.Device, fmt.Sprintf("it is back, but port %d stays closed", port), "look at the box, then commission it again").About(t.target.MAC.String()).Because(err)
		}
	}
}

// Certificate gives the SHA-256 of the TLS certificate that the device showed,
// in hexadecimal; "" when none was seen.
func (t *Talk) Certificate() string {
	if t.web == nil {
		return ""
	}
	return t.web.Certificate()
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

// explain turns a driver's error into one that names the device and hides secrets.
func (t *Talk) explain(act profile.Act, err error, vars map[string]string) error {
	text := err.Error()
	for _, key := range []string{"password", "old-password"} {
		if secret := vars[key]; len(secret) > 2 {
			text = strings.ReplaceAll(text, secret, "•••")
		}
	}
	e := problem.New(problem.Device, text, "").About(t.target.MAC.String() + ", " + string(act))
	// Only the kinds of the error are kept, not its text.
	var kinds []error
	for _, kind := range []error{ErrLogin, ErrNoAnswer, context.Canceled, context.DeadlineExceeded} {
		if errors.Is(err, kind) {
			kinds = append(kinds, kind)
		}
	}
	if errors.Is(err, dcp.ErrSilent) {
		kinds = append(kinds, ErrNoAnswer)
	}
	if kinds == nil {
		return e
	}
	return e.Kinds(kinds...)
}
