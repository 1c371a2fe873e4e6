package task

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/driver"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/line"
	"redstart/internal/lan/watch"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// lastLook is how long a device whose work failed is looked for.
const lastLook = 2 * time.Second

// Records are what tasks keep of a site, and look up in it.
type Records interface {
	Entry(ctx context.Context, tag string) (store.Entry, error)
	Device(context.Context, address.MAC) (*device.Found, error)
	Sight(ctx context.Context, recognise func(*device.Found), seen ...device.Sighting) error
	ToldHostID(ctx context.Context, mac address.MAC, id string, at stamp.Time) error
	File(ctx context.Context, name string) (store.File, *os.File, error)
	FileNamed(ctx context.Context, name string) (store.File, error)
	Accepted(ctx context.Context, profile, terms string) (store.Acceptance, bool, error)
	Accept(context.Context, store.Acceptance) error
	SayDone(ctx context.Context, tag string, mac address.MAC, c result.Check) error
}

// Boxes are what is kept of boxes, whatever the site.
type Boxes interface {
	DeviceState(context.Context, address.MAC) (store.DeviceState, error)
	SetDeviceState(context.Context, store.DeviceState) error
	SetStarts(ctx context.Context, mac address.MAC, starts int64) error
	Servers(context.Context, address.MAC) (map[string]string, error)
	SetServer(ctx context.Context, mac address.MAC, kind, sum string) error
}

// Secrets are those of a site, by what stands for them.
type Secrets interface {
	Secret(ctx context.Context, token string) (secret string, ok bool, err error)
	Shared(ctx context.Context, kind string, turn int, make func() (string, error)) (string, error)
}

// Logins are those of boxes: stored before they are sent, tried as often as a family allows.
type Logins interface {
	vault.Logins
	Put(context.Context, ...vault.New) error
	Try(mac address.MAC, accounts profile.Accounts, by string) *vault.Tries
}

// Tools are what tasks work with.
type Tools struct {
	Bench   *bench.Bench
	Records Records
	Boxes   Boxes
	Secrets Secrets
	Logins  Logins
	Plan    plan.Plan
	Log     *slog.Logger
	Avoid   func(netip.Addr) bool // addresses that are not ours to borrow
	// Line opens a serial line by its name.
	Line func(name string, m line.Mode) (io.ReadWriteCloser, error)
	// Park gives the device's place in the run to others until a person did something.
	Park func(ctx context.Context, h profile.Hand) (*Parking, error)
}

// Box is the one device that tasks are done with, and what they know of it by now. It is
// used by one goroutine at a time.
type Box struct {
	Tools
	d       store.RunDevice
	p       *profile.Profile
	who     string // what told of its credentials: run 3
	step    string // that is being done
	serial  string // that it told when it was confirmed; "": none yet
	tries   *vault.Tries
	journal map[string]store.Line

	servers map[string]string // what its servers showed, by kind
	renewed map[string]bool   // what an act of this run had it make anew
	reset   bool              // the factory's way in opened it: whatever it shows is new

	here      bool           // it is on the segment
	at        netip.Addr     // where it is now; invalid: it has no address
	old       netip.Addr     // where it was before the act that makes it go
	restart   *watch.Restart // from before the act that makes it go
	client    *driver.Client
	login     *vault.Login // what opens it now, with ID 0 for the factory login; nil when nothing is needed or known
	inside    bool         // the client is signed in
	unproven  bool         // login was set, but not tried yet: the device had to go first
	triedLate bool         // what a run that was cut off had sent was tried once more
	// unanswered says that it did not answer the act that was to make it go: it may not
	// have heard it.
	unanswered bool
	idle       bool // nothing was sent, so the device does not go
	lent       bool // its address is one that it loses when it is switched off
	over       bool // the time after a step by hand was over: it is to be undone, and done again
}

// With begins the work on a device of a run; who tells of its credentials.
func With(t Tools, d store.RunDevice, who string) (*Box, error) {
	p := t.Plan.Profiles[d.Profile]
	if p == nil {
		return nil, problem.New(problem.Conflict, "its profile "+d.Profile+" is gone", "put the profile back")
	}
	return &Box{Tools: t, d: d, p: p, who: who, tries: t.Logins.Try(d.MAC, p.Accounts, who)}, nil
}

// Profile is that of the device.
func (b *Box) Profile() *profile.Profile { return b.p }

// GoOn takes in what the journal tells of the steps so far, by name.
func (b *Box) GoOn(ctx context.Context, journal map[string]store.Line) (err error) {
	b.journal = journal
	if b.servers, err = b.Boxes.Servers(ctx, b.d.MAC); err != nil {
		return err
	}
	b.renewed = map[string]bool{}
	for _, s := range b.p.Order {
		if journal[string(s.Act)].Phase != "" {
			b.renews(s)
		}
	}
	return nil
}

// Do does one step, and says for the journal what came of it.
func (b *Box) Do(ctx context.Context, s Step) (string, error) {
	b.step = s.Name
	b.renews(s.stage)
	return s.task.Do(ctx, b, s)
}

// Ours reports whether an error is of the records or of the segment: then no
// device has failed, and the run is cut off until they are back.
func Ours(err error) bool {
	return errors.Is(err, store.ErrUnwritable) || errors.Is(err, lan.ErrClosed) ||
		errors.Is(err, store.ErrClosed) || errors.Is(err, vault.ErrLocked)
}

// LookAgain looks where the device is now, so that what is said of it is true.
func (b *Box) LookAgain(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, lastLook)
	defer cancel()
	w := watch.New(b.Bench, b.d.MAC, b.Avoid)
	defer w.Close()
	candidates := append([]netip.Addr{b.want()}, b.p.Factory.Address.List()...)
	if b.old.IsValid() {
		candidates = append(candidates, b.old)
	}
	at, err := w.Find(ctx, candidates, true)
	b.here, b.at = err == nil, at
	if err == nil && at.IsValid() {
		_ = b.Sighted(ctx, false) // what is known of it is the better for it, but the failure is told anyway
	}
}

// Sighted tells what the run saw of the device; set says that it set it.
func (b *Box) Sighted(ctx context.Context, set bool) error {
	s := device.Sighting{MAC: b.d.MAC, Protocol: device.ByRun, At: time.Now().UTC(),
		Facts: map[string]string{fact.Address: b.at.String()}}
	if set {
		s.Facts[fact.State], s.Facts[fact.Name] = device.Set, b.d.Given.Name
	}
	return b.Records.Sight(ctx, func(f *device.Found) { f.Recognise(b.Plan.Profiles) }, s)
}

// Explain says what happened, what state the box is in, and what to do.
func (b *Box) Explain(err error) string {
	where, step := "Nothing was sent to it", Reach
	switch {
	case b == nil: // not even begun
	case b.at.IsValid():
		where = "It was last seen at " + b.at.String()
	case b.here:
		where = "It has no address"
	default:
		where = "It is not on the segment"
	}
	if b != nil {
		step = b.step
	}
	text := err.Error()
	if p := (*problem.Error)(nil); errors.As(err, &p) {
		text = p.Cause
		if p.Next != "" {
			return fmt.Sprintf("%s: %s. %s. %s.", step, text, where, sentence(p.Next))
		}
	}
	text = strings.TrimRight(text, ".") // what a device says ends in one
	return fmt.Sprintf("%s: %s. %s. Mend the cause and commission it again; the run goes on from what is set.", step,
		text, where)
}

func sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// renews notes that an act has the device make anew what it is known again by.
func (b *Box) renews(s profile.Stage) {
	for _, kind := range s.Renews {
		b.renewed[kind] = true
	}
}

func (b *Box) want() netip.Addr { return b.d.Given.Address.Addr() }

// converse makes sure that a client of the device at its present address is there.
func (b *Box) converse() *driver.Client {
	if b.client == nil {
		b.client = driver.New(b.Bench, b.target(b.at))
	}
	return b.client
}

func (b *Box) target(at netip.Addr) driver.Target {
	bits := b.p.Factory.Address.Bits
	if b.d.Given.Address.IsValid() && b.d.Given.Address.Masked().Contains(at) {
		bits = b.d.Given.Address.Bits() // its own, or a sibling's that it has for a while
	}
	t := driver.Target{MAC: b.d.MAC, Address: at, Bits: bits, Profile: b.p, Avoid: b.Avoid, Trust: b.trust,
		Serial: b.d.Serial}
	if b.d.Line != "" {
		t.Line = func(m line.Mode) (io.ReadWriteCloser, error) { return b.Line(b.d.Line, m) }
	}
	t.File = b.file
	for _, text := range strings.Fields(b.d.OtherServers) {
		if server, err := netip.ParseAddr(text); err == nil {
			t.OtherServers = append(t.OtherServers, server)
		}
	}
	return t
}

// file opens a file of the site that the device is to be given, by the key of the setting
// that names it; only with the content that it had when the run began.
func (b *Box) file(key string) (driver.File, error) {
	f, content, err := b.Records.File(context.Background(), b.d.Given.Settings[key])
	if err != nil {
		return driver.File{}, err
	}
	if sum := b.d.Given.Files[key]; sum != f.SHA256 {
		err := problem.New(problem.Conflict, "the file "+f.Name+" was changed since the run began",
			"commission it again")
		return driver.File{}, errors.Join(err, content.Close())
	}
	return driver.File{Name: f.Name, Size: f.Size, Content: content}, nil
}

// HangUp ends whatever conversation there is with the device.
func (b *Box) HangUp() {
	if b.client != nil {
		b.client.Close()
		b.client, b.inside = nil, false
	}
	if b.restart != nil {
		b.restart.Close()
		b.restart = nil
	}
}

// variables are what the profile's moves may use. Secrets leave the vault here, on their
// way to the device.
func (b *Box) variables(ctx context.Context) (map[string]string, error) {
	vars := b.d.Given.Variables()
	for key, token := range b.d.Given.Secrets {
		var secret string
		if tag, _, other := plan.LoginOf(token); other {
			login, err := b.loginOf(ctx, tag)
			if err != nil {
				return nil, err
			}
			secret = login.Password
			b.d.Given.Secrets[key] = plan.EntryLogin + tag + " " + strconv.FormatInt(login.ID, 10) // what it was given
		} else if token != "" {
			var ok bool
			var err error
			if secret, ok, err = b.Secrets.Secret(ctx, token); err != nil {
				return nil, err
			} else if !ok {
				return nil, problem.New(problem.Conflict, "the planned "+key+" is not in the vault",
					"give it again: redstart plan set "+b.d.Tag+" "+key+"=…")
			}
		}
		vars["setting."+key] = secret
	}
	vars[fact.Serial] = cmp.Or(b.serial, b.d.Serial)
	if b.p.Setting(profile.PortsSetting) != nil {
		found, err := b.Records.Device(ctx, b.d.MAC)
		if err != nil {
			return nil, err
		}
		vars[profile.OurPort] = found.Value(fact.Port) // as it told over LLDP
	}
	for key, value := range b.d.Given.Settings {
		if s := b.p.Setting(key); s != nil && s.Type == profile.Rows && s.HasSecret() {
			text, err := b.openCells(ctx, s, value)
			if err != nil {
				return nil, err
			}
			vars["setting."+key] = text
		}
	}
	return vars, nil
}

// loginOf gives the login that another entry's device accepted last.
func (b *Box) loginOf(ctx context.Context, tag string) (vault.Login, error) {
	e, err := b.Records.Entry(ctx, tag)
	if err != nil {
		return vault.Login{}, err
	}
	logins, err := b.Logins.Logins(ctx, e.Device)
	if err != nil {
		return vault.Login{}, err
	}
	for _, l := range logins {
		if l.State == state.Accepted && !e.Device.IsZero() {
			return l, nil
		}
	}
	return vault.Login{}, problem.New(problem.Conflict, "it needs the login of "+tag+
		", and none is known that opens it",
		"commission "+tag+" first, or let its login be learnt")
}

// openCells takes the secrets of a table out of the vault.
func (b *Box) openCells(ctx context.Context, s *profile.Setting, value string) (string, error) {
	rows, err := profile.ParseRows(value)
	if err != nil {
		return "", problem.New(problem.Conflict, s.Key+" "+err.Error(), "mend it in the plan")
	}
	given, _ := profile.ParseRows(value) // it was read just now
	for i, row := range rows {
		for _, c := range s.Columns {
			token := row[c.Key]
			if !c.Sealed() || token == "" {
				continue
			}
			if tag, _, other := plan.LoginOf(token); other {
				login, err := b.loginOf(ctx, tag)
				if err != nil {
					return "", err
				}
				row[c.Key] = login.Password
				given[i][c.Key] = plan.EntryLogin + tag + " " + strconv.FormatInt(login.ID, 10) // what it was given
				b.d.Given.Settings[s.Key] = profile.RowsText(given)
				continue
			}
			secret, ok, err := b.Secrets.Secret(ctx, token)
			if err != nil {
				return "", err
			}
			if !ok {
				return "", problem.New(problem.Conflict, "a secret of the planned "+s.Key+" is not in the vault",
					"give it again in the plan")
			}
			row[c.Key] = secret
		}
	}
	return profile.RowsText(rows), nil
}
