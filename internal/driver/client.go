package driver

import (
	"cmp"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"redstart/internal/core/address"
	"redstart/internal/core/evidence"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/value"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/line"
)

// Target is the device to talk to. An invalid Address leaves only what needs none.
type Target struct {
	MAC     address.MAC
	Address netip.Addr
	Bits    int
	Profile *profile.Profile
	Serial  string // on its label, for a factory login that is made from it; "": not known
	Avoid   func(netip.Addr) bool
	// Trust says whether a login of its own may be sent to what shows this; nil trusts
	// all. What is sent to a box as from the factory is no secret.
	Trust func(Server) error
	// Line opens the serial line of its console; nil: none is named for it.
	Line func(line.Mode) (io.ReadWriteCloser, error)
	// Trace is given every move as it went, with secrets hidden; nil: nobody looks on.
	Trace func(Exchange)
	// OtherServers are DHCP servers that may go on while the device is given its address.
	OtherServers []netip.Addr
	// File opens a file of the site by the key of the setting that names it.
	File func(key string) (File, error)
}

// Exchange is one move as it went.
type Exchange struct {
	Act  profile.Act
	Move int // from 1
	Sent string
	Got  string
}

// Client is our end of one conversation with a device, over all drivers that its
// profile uses. It is used by one
// goroutine at a time.
type Client struct {
	bench                 *bench.Bench
	target                Target
	conv                  *bench.Conversation
	sessions              map[string]Session // by driver
	mu                    sync.Mutex
	servers               map[string]Server // by kind, also of sessions that ended
	late                  time.Duration     // how much later than it is sent the time reaches the device
	clockFrom, clockUntil time.Time         // the device told its clock in between
	told                  []Exchange        // since the last move; only where somebody looks on
	login                 profile.Login
	inside                bool              // the login was accepted
	handed                map[string]string // what signing in took: tokens for the acts that follow
}

// New makes a client; nothing is sent before the first act.
func New(b *bench.Bench, c Target) *Client {
	return &Client{bench: b, target: c, sessions: map[string]Session{}, servers: map[string]Server{}}
}

// Close ends all sessions.
func (c *Client) Close() {
	c.hangUp()
	if c.conv != nil {
		c.conv.Close()
		c.conv = nil
	}
}

func (c *Client) hangUp() {
	for name, s := range c.sessions {
		s.Close()
		delete(c.sessions, name)
	}
	c.inside, c.handed = false, nil
}

// SignIn proves a login and uses it for what follows. It returns ErrLogin when
// the device refuses it.
func (c *Client) SignIn(ctx context.Context, login profile.Login) error {
	c.hangUp()
	c.login = login
	handed, err := c.Do(ctx, profile.SignIn, nil)
	c.handed = handed
	c.inside = err == nil
	return err
}

// ClockRead tells between which moments the device told its clock last: no other move counts,
// since a slow device takes seconds for each.
func (c *Client) ClockRead() (from, until time.Time) { return c.clockFrom, c.clockUntil }

// Later has the time that is sent be so much later, which makes up for what passes on its
// way. Zero sends the time as it is.
func (c *Client) Later(by time.Duration) { c.late = by }

// SignOut ends the sessions and forgets the login.
func (c *Client) SignOut() {
	c.hangUp()
	c.login = profile.Login{}
}

// Do carries out one act with the given variables and returns the facts that
// its moves took. A secret among the variables never shows in the error.
func (c *Client) Do(ctx context.Context, act profile.Act, variables map[string]string) (map[string]string, error) {
	return c.do(ctx, act, variables, "")
}

// Ask carries out an act that only asks, as far as it takes to be told one fact.
func (c *Client) Ask(ctx context.Context, act profile.Act, wanted string) (map[string]string, error) {
	return c.do(ctx, act, nil, wanted)
}

func (c *Client) do(ctx context.Context, act profile.Act, variables map[string]string,
	wanted string) (map[string]string, error) {
	vars := map[string]string{"user": c.login.User, "password": c.login.Password, profile.AtLine: ""}
	if c.target.Line != nil {
		vars[profile.AtLine] = "yes"
	}
	if act != profile.SignIn {
		maps.Copy(vars, c.handed)
	}
	maps.Copy(vars, c.target.Profile.Translate(variables))
	taken := map[string]string{}
	for i, m := range c.target.Profile.Acts[act] {
		if !c.target.Address.IsValid() && m.Words.NeedsAddress() && c.target.Profile.TellsMoreAt(act) {
			continue // what it tells without one is all for now
		}
		rows, err := c.target.Profile.EachRow(m, variables)
		if err != nil {
			return nil, c.explain(act, err, vars)
		}
		for _, row := range rows {
			maps.Copy(vars, row)
			if !m.Wanted(vars) {
				continue
			}
			if err := c.whole(m, vars); err != nil {
				return nil, c.explain(act, err, vars)
			}
			facts, err := c.move(ctx, act, m, vars)
			c.trace(act, i+1, vars, facts)
			if err == nil {
				err = c.same(vars[fact.Serial], facts[fact.Serial])
			}
			if err != nil {
				return nil, c.explain(act, err, vars)
			}
			maps.Copy(taken, facts)
			maps.Copy(vars, facts)
			if _, told := taken[wanted]; told {
				return c.target.Profile.Heard(taken), nil
			}
		}
	}
	return c.target.Profile.Heard(taken), nil
}

// longestText is the longest file that is sent as the text of a variable, in bytes.
const longestText = 1 << 20

// whole reads the files that a move sends as text.
func (c *Client) whole(m profile.Move, vars map[string]string) error {
	for _, key := range m.Whole() {
		if c.target.File == nil {
			return fmt.Errorf("%w: no file of the site can be sent here", ErrNotSent)
		}
		f, err := c.target.File(key)
		if err != nil {
			return err
		}
		text, err := io.ReadAll(io.LimitReader(f.Content, longestText+1))
		if err = errors.Join(err, f.Content.Close()); err != nil {
			return err
		}
		if len(text) > longestText || !utf8.Valid(text) {
			return fmt.Errorf("%w: the file %s is no text of at most %d KiB", ErrNotSent, f.Name, longestText>>10)
		}
		vars[profile.WholeFile(key)] = string(text)
	}
	return nil
}

// same refuses a box that tells another serial than is known: a serial line may hang on any.
func (c *Client) same(known, told string) error {
	if known == "" || told == "" || strings.EqualFold(known, told) {
		return nil
	}
	return fmt.Errorf("%w: here answers the one with the serial %s, not %s", ErrStranger, told, known)
}

// trace tells who looks on how a move went.
func (c *Client) trace(act profile.Act, move int, vars, facts map[string]string) {
	for _, x := range c.told {
		x.Act, x.Move = act, move
		x.Sent, x.Got = readable(c.hide(c.hide(x.Sent, vars), facts)), readable(c.hide(c.hide(x.Got, vars), facts))
		if disguised(x.Got, c.target.Profile.Secrets(vars)) {
			x.Got = "••• it answered with a secret in another form"
		}
		c.target.Trace(x)
	}
	c.told = nil
}

// askAgain is how long a move that is repeated until something is so waits between.
const askAgain = 500 * time.Millisecond

// move carries out one move: again until what it takes is as the profile waits for,
// and once more if the session lapsed meanwhile.
func (c *Client) move(ctx context.Context, act profile.Act, m profile.Move, vars map[string]string) (map[string]string,
	error) {
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
		facts, err := c.once(ctx, act, m, vars)
		if err != nil {
			return nil, err
		}
		waiting, enough := m.Enough(facts)
		if enough {
			return facts, nil
		}
		if m.Within == 0 {
			return nil, errors.New(waiting)
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
func (c *Client) once(ctx context.Context, act profile.Act, m profile.Move, vars map[string]string) (map[string]string,
	error) {
	zone, err := time.LoadLocation(vars[fact.Zone])
	if err != nil {
		return nil, err
	}
	began := time.Now()
	maps.Copy(vars, profile.ClockNow(began.Add(c.late), zone))
	defer func() {
		if takes := m.Takes(); slices.Contains(takes, fact.Clock) || slices.Contains(takes, fact.ClockLocal) {
			c.clockFrom, c.clockUntil = began, time.Now()
		}
	}()
	facts, err := c.tell(ctx, m, vars)
	lapsed := errors.Is(err, ErrLogin) && c.inside && act != profile.SignIn && act != profile.Password &&
		act != profile.Renew
	if !lapsed {
		return facts, err
	}
	if err := c.SignIn(ctx, c.login); err != nil {
		return nil, fmt.Errorf("signing in anew: %w", err)
	}
	maps.Copy(vars, c.handed)
	return c.tell(ctx, m, vars)
}

func (c *Client) tell(ctx context.Context, m profile.Move, vars map[string]string) (map[string]string, error) {
	by, ok := m.By.(Driver)
	if !ok {
		return nil, fmt.Errorf("nothing here talks %s", m.By.Name())
	}
	if _, can := by.(profile.OverLine); m.NeedsAddress() && !(can && c.target.Line != nil) {
		if err := c.open(ctx); err != nil {
			return nil, err
		}
	}
	return c.session(by).Do(ctx, m.Words, vars)
}

// session gives the session over a driver, begun if there is none.
func (c *Client) session(d Driver) Session {
	if c.sessions[d.Name()] == nil {
		peer := Peer{
			MAC: c.target.MAC, Address: c.target.Address, Section: c.target.Profile.Section(d.Name()), Login: c.login,
			Avoid: c.target.Avoid, Bench: c.bench, Dial: c.dial, Datagrams: c.Datagrams, Line: c.target.Line, File: c.target.File,
			OtherServers: c.target.OtherServers,
			Trust:        func(sum string) error { return c.trust(Server{d.Shows(), sum}) },
		}
		if c.target.Trace != nil {
			peer.Trace = func(sent, got string) { c.told = append(c.told, Exchange{Sent: sent, Got: got}) }
		}
		c.sessions[d.Name()] = d.Open(peer)
	}
	return c.sessions[d.Name()]
}

// trust notes what the device's end of a session shows.
func (c *Client) trust(s Server) error {
	c.mu.Lock()
	c.servers[s.Kind] = s
	c.mu.Unlock()
	factory := c.target.Profile.FactoryLogin(c.target.Serial)
	if c.target.Trust == nil || c.login == (profile.Login{}) || factory != nil && c.login == *factory {
		return nil
	}
	if err := c.target.Trust(s); err != nil {
		return fmt.Errorf("%w: %w", ErrStranger, err)
	}
	return nil
}

func (c *Client) open(ctx context.Context) (err error) {
	if c.conv == nil {
		c.conv, err = c.bench.Open(ctx, bench.Peer{MAC: c.target.MAC, Address: c.target.Address, Bits: c.target.Bits,
			Avoid: c.target.Avoid})
	}
	return err
}

func (c *Client) dial(ctx context.Context, port uint16) (net.Conn, error) {
	if err := c.open(ctx); err != nil {
		return nil, err
	}
	return c.conv.Dial(ctx, port)
}

// Datagrams opens a UDP conversation with a port of the device.
func (c *Client) Datagrams(ctx context.Context, port uint16) (net.Conn, error) {
	if err := c.open(ctx); err != nil {
		return nil, err
	}
	return c.conv.DialUDP(port)
}

// Echo asks the device for an ICMP echo.
func (c *Client) Echo(ctx context.Context) error {
	if err := c.open(ctx); err != nil {
		return err
	}
	return c.conv.Echo(ctx)
}

// Knock opens a TCP port and closes it again.
func (c *Client) Knock(ctx context.Context, port uint16) error {
	knocked, err := c.dial(ctx, port)
	if err != nil {
		return err
	}
	return knocked.Close()
}

const answerEvery = 100 * time.Millisecond

// Answering waits until the device's end of every driver is up: hosts answer ARP long
// before their services run. It returns the last refusal when the context ends.
func (c *Client) Answering(ctx context.Context) error {
	again := time.NewTicker(answerEvery)
	defer again.Stop()
	for _, d := range c.target.Profile.Drivers() {
		by, ok := d.(Driver)
		if !ok || c.target.Profile.Section(d.Name()).Port() == 0 {
			continue
		}
		for {
			err := c.session(by).Ready(ctx)
			if err == nil {
				break
			}
			select {
			case <-again.C:
			case <-ctx.Done():
				return problem.New(problem.Device, fmt.Sprintf("it is back, but port %d stays closed",
					c.target.Profile.Section(d.Name()).Port()),
					"look at the box, then commission it again").About(c.target.MAC.String()).Because(err)
			}
		}
	}
	return nil
}

// Servers gives what the device's servers showed to be known again by, sorted by kind.
func (c *Client) Servers() []Server {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.SortedFunc(maps.Values(c.servers), func(a, b Server) int { return cmp.Compare(a.Kind, b.Kind) })
}

// Teller gives what asks a device what its profile takes as up-time or start
// counter, over a client of its own, signed in where that needs it with what login
// gives at that time; nil when the profile takes neither, or when a login is
// needed and login is nil. target is the device at an address.
func Teller(b *bench.Bench, p *profile.Profile, target func(at netip.Addr) Target,
	login func() *profile.Login) func(ctx context.Context, at netip.Addr) (map[string]string, error) {
	act, wanted := profile.Act(""), ""
	for _, fact := range []string{evidence.Uptime, evidence.Starts} {
		if p.Restart.ShownBy(fact) && act == "" {
			act, wanted = p.Tells(fact), fact
		}
	}
	signsIn := act == profile.Read && len(p.Acts[profile.SignIn]) > 0
	if act == "" || signsIn && login == nil {
		return nil
	}
	return func(ctx context.Context, at netip.Addr) (map[string]string, error) {
		client := New(b, target(at))
		defer client.Close()
		if signsIn {
			if l := login(); l != nil {
				if err := client.SignIn(ctx, *l); err != nil {
					return nil, err
				}
			}
		}
		return client.Ask(ctx, act, wanted)
	}
}

// shortest is the length from which a secret is looked for in an error: shorter ones
// are part of any text.
const shortest = 3

// hide takes the values of all variables that are not public out of a text.
func (c *Client) hide(text string, vars map[string]string) string {
	for key, value := range vars {
		if len(value) < shortest || c.target.Profile.Public(key) {
			continue
		}
		for _, form := range written(value) {
			text = strings.ReplaceAll(text, form, "•••")
		}
	}
	return text
}

// written lists the forms in which a value may stand in a request or an answer.
func written(value string) []string {
	var inXML strings.Builder
	_ = xml.EscapeText(&inXML, []byte(value)) // a builder takes everything
	forms := []string{value, url.QueryEscape(value), url.PathEscape(value), inXML.String()}
	if text, err := json.Marshal(value); err == nil {
		forms = append(forms, strings.Trim(string(text), `"`))
	}
	return forms
}

// readable takes out of what a device said whatever a terminal would obey.
func readable(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || unicode.IsPrint(r) {
			return r
		}
		return -1
	}, strings.ToValidUTF8(text, "?"))
}

// explain turns a driver's error into one that names the device and hides the values
// of all variables that are not public.
func (c *Client) explain(act profile.Act, err error, vars map[string]string) error {
	said := err.Error()
	secrets := c.target.Profile.Secrets(vars)
	if c.target.Profile.SendsSecret(act) {
		said = withReason(err, c.target.Profile, secrets)
	}
	text := value.Printable(c.hide(said, vars))
	if disguised(text, secrets) {
		text = "it refused, " + notKept
	}
	e := problem.New(problem.Device, text, "").About(c.target.MAC.String() + ", " + string(act))
	// Only the kinds of the error are kept, not its text.
	var kinds []error
	for _, kind := range []error{ErrLogin, ErrValue, ErrNotSent, ErrStranger, ErrNoAnswer, context.Canceled,
		context.DeadlineExceeded} {
		if errors.Is(err, kind) {
			kinds = append(kinds, kind)
		}
	}
	if kinds == nil {
		return e
	}
	return e.Kinds(kinds...)
}
