// Package box is one simulated device: a real TCP/IP host with its own MAC on
// the simulated segment, which keeps factory, running and saved settings
// apart, truly disappears when it restarts, and comes back with what was saved.
package box

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/lan"
	"redstart/internal/lan/netstack"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

// answerTime is how long a device that restarts itself keeps its last answer
// on the wire before it goes.
const answerTime = 100 * time.Millisecond

// Settings are what a device can be given. An invalid Address means none; an
// empty Password means that none was ever set.
type Settings struct {
	Name     string
	Address  netip.Prefix
	Gateway  netip.Addr
	Password string
	Own      any // what only this model has, in a comparable type of its own
}

// Faults are ways in which one device misbehaves.
type Faults struct {
	NeverReturns    bool // does not come back from a restart
	OldAddress      bool // comes back at its factory address
	RefusesPassword bool // takes no new password
	KeepsFactory    bool // answers at its factory address too, whatever it was given
	TakesAny        bool // takes any password but the factory's
	Mute            bool // restarts before its answer is out
	AppliesAtOnce   bool // takes its address at once instead of restarting, and forgets it at the next power cut
	Pretends        bool // does not restart either: only its address goes away for a moment
	OldFirmware     bool // it came with an older one, where the model has several
	SkipsUnchanged  bool // does not restart when nothing changes
	OtherSerial     bool // tells another serial than its label says
	Locked          bool // has a saved login that nobody knows
	// GoesDark is at which write it loses its power, for good; 0: never.
	GoesDark int
	// Slow is how long it takes for every answer.
	Slow time.Duration
}

// lockedOut is the password of a device whose login nobody knows.
const lockedOut = "Nobody-Knows-77!"

// pretence is how long the address of a box goes away that only pretends to restart.
const pretence = 300 * time.Millisecond

// Spec is one device as it left the factory.
type Spec struct {
	MAC     address.MAC
	Serial  string
	Factory Settings
	Away    time.Duration // how long a restart takes
	Boot    time.Duration // how long after power-up it is first there
	Guest   address.MAC   // who has the address that it hands out already
	Every   time.Duration // between asking for an address, or announcing itself; at least a second
	Faults  Faults
	Pace    float64 // that times of the real device are multiplied by; 0: 1
	// Around tells a switch what hangs on its ports.
	Around func() []Hang
}

// Model is what the devices of one model have in common.
type Model struct {
	Maker, Name, Firmware string
	Port                  uint16
	TLS                   bool
	// Handler makes the web server of a device, anew at each start.
	Handler func(*Box) http.Handler
	// Frame receives PROFINET frames; nil when the model ignores them.
	Frame func(*Box, ethernet.Frame)
	// Console is what is at its serial line, again and again; nil for none.
	Console func(*Box, io.ReadWriter)
	// Services are the TCP services that it offers besides.
	Services []Service
	// Datagrams are the UDP services it offers.
	Datagrams []Datagram
	// Hand does what a person would who reads an instruction; nil: nothing but to switch it
	// off and on.
	Hand func(b *Box, instruction string) bool
	// Class is what it asks for an address as, over DHCP, while it has none; ""
	// for a model that does not ask.
	Class string
	// Pool is the one address that it hands out over DHCP while it is as from
	// the factory; the zero value hands none out.
	Pool netip.Prefix
	// Deaf says that nothing of what we send reaches it; nil: everything does.
	Deaf func(*Box) bool
	// Beat is called at each start and then now and then; nil for a quiet model.
	Beat func(*Box)
}

// Datagram is a UDP service.
type Datagram struct {
	Port   uint16
	Group  netip.Addr // that it joins; invalid for none
	Answer func(b *Box, from netip.AddrPort, payload []byte, reply Reply)
}

// Reply sends an answer. An invalid address means to whoever asked, a group or
// the broadcast address to everybody.
type Reply func(answer []byte, to netip.AddrPort)

// Box is one device.
type Box struct {
	Spec
	Model Model
	Label string // the serial on its label; Serial is what it tells

	port     lan.Port
	commands chan command
	cert     certificate

	mu      sync.Mutex
	running Settings
	saved   Settings
	live    *instance // nil while it is away
	starts  int
	started time.Time     // of the last start
	ahead   time.Duration // its clock, of ours
	// position of the switch on its board, and when it was moved there
	position string
	moved    time.Time
	kept     Settings // what was saved at the last start
	hushed   bool     // its adapter takes nothing in for a moment
	faults   Faults
	refused  address.MAC // which DHCP server refused it last
	events   []Event
	writes   int // among them
}

type command int

const (
	restart command = iota
	readdress
	powerUp
	powerCut
	speak
	dark
)

// New makes a device that is plugged into a port and not yet powered.
func New(spec Spec, model Model, port lan.Port) *Box {
	b := &Box{Spec: spec, Model: model, Label: spec.Serial, port: port, commands: make(chan command, 16),
		saved: spec.Factory, faults: spec.Faults}
	b.SetClock(wrong)
	if b.faults.OtherSerial {
		b.Serial += "9"
	}
	if b.faults.Locked {
		b.saved.Password = lockedOut
	}
	return b
}

// Run powers the device until the context ends.
func (b *Box) Run(ctx context.Context) {
	var reading sync.WaitGroup
	reading.Add(1)
	go func() {
		defer reading.Done()
		b.read()
	}()
	defer reading.Wait()
	defer b.port.Close()
	defer b.down()

	wake := time.NewTimer(b.Boot)
	defer wake.Stop()
	beat := time.NewTicker(max(b.Every, time.Second))
	defer beat.Stop()
	for {
		select {
		case <-wake.C:
			if !b.isLive() { // a person may have been sooner
				b.up()
			}
		case <-beat.C:
			if b.isLive() {
				b.beat()
			}
		case c := <-b.commands:
			switch {
			case c == readdress && b.isLive():
				b.down()
				b.start()
			case c == powerUp && !b.isLive():
				b.up()
			case c == dark:
				b.down()
			case c == speak:
				b.hush(false)
			case c == restart && b.isLive() && b.shams():
				if b.Has().Pretends {
					b.hush(true)
					time.AfterFunc(pretence, func() { b.command(speak) })
				}
			case c == restart && b.Has().SkipsUnchanged && b.Running() == b.Saved():
			case (c == restart || c == powerCut) && b.isLive():
				b.down()
				if b.Has().NeverReturns {
					continue
				}
				wake.Reset(b.Away)
			}
		case <-ctx.Done():
			return
		}
	}
}

// shams puts what a restart would put into force without one, where the box does
// that, and reports whether it did.
func (b *Box) shams() bool {
	b.mu.Lock()
	sham := b.faults.AppliesAtOnce || b.faults.Pretends
	moved := b.running.Address != b.saved.Address
	if sham {
		b.running = b.saved
		b.saved.Address, b.saved.Gateway = b.kept.Address, b.kept.Gateway
	}
	b.mu.Unlock()
	if sham && moved {
		b.down()
		b.start()
	}
	return sham
}

func (b *Box) hush(on bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.hushed = on
}

// command queues a command; one more of a box that has many waiting is dropped.
func (b *Box) command(c command) {
	select {
	case b.commands <- c:
	default:
	}
}

// Takes reports whether the device's adapter takes a frame in, or throws it away
// at once, as hardware does: what is for another device, what is a question after
// another's address, and everything while it is without power.
func (b *Box) Takes(raw []byte) bool {
	f, err := ethernet.Parse(raw)
	if err != nil || f.Destination != b.MAC && !f.Destination.IsGroup() {
		return false
	}
	b.mu.Lock()
	live, at := b.live, b.running.Address
	b.mu.Unlock()
	if live == nil || b.Model.Deaf != nil && b.Model.Deaf(b) {
		return false
	}
	if f.Type != ethernet.TypeARP {
		return true
	}
	p, err := arp.Parse(f.Payload)
	return err == nil && (p.TargetIP == at.Addr() || b.Has().KeepsFactory && p.TargetIP == b.Factory.Address.Addr())
}

// read takes frames off the segment. What a real adapter or stack would throw
// away at once is thrown away here, to keep large sites cheap.
func (b *Box) read() {
	for {
		raw, err := b.port.Receive()
		if err == lan.ErrClosed {
			return
		}
		f, err := ethernet.Parse(raw)
		if err != nil || (f.Destination != b.MAC && !f.Destination.IsGroup()) {
			continue
		}
		b.mu.Lock()
		live, at, hushed := b.live, b.running.Address, b.hushed
		b.mu.Unlock()
		if live == nil || hushed {
			continue
		}
		switch f.Type {
		case ethernet.TypePROFINET:
			if b.Model.Frame != nil {
				b.Model.Frame(b, f)
			}
		case ethernet.TypeARP:
			if p, err := arp.Parse(f.Payload); err == nil && p.TargetIP == at.Addr() {
				live.host.Deliver(raw)
			} else if err == nil && b.Has().KeepsFactory && p.TargetIP == b.Factory.Address.Addr() {
				b.Send(p.Answer(b.MAC))
			}
		case ethernet.TypeIPv4:
			if b.wants(f) {
				live.host.Deliver(raw)
			}
		case ethernet.TypeIPv6:
			if at.Addr().Is6() {
				live.host.Deliver(raw)
			}
		}
	}
}

// Send puts a frame on the segment.
func (b *Box) Send(frame []byte) { _ = b.port.Send(frame) } // a lost frame is part of the simulation

// up begins with the saved settings.
func (b *Box) up() {
	b.mu.Lock()
	b.running, b.kept, b.hushed, b.started = b.saved, b.saved, false, time.Now()
	b.starts++
	if b.faults.OldAddress {
		b.running.Address, b.running.Gateway = b.Factory.Address, b.Factory.Gateway
	}
	b.mu.Unlock()
	b.start()
}

func (b *Box) start() {
	s := b.Running()
	i, err := newInstance(b, s)
	if err != nil {
		return // a device whose settings cannot work stays dark, as a real one does
	}
	b.mu.Lock()
	b.live = i
	b.mu.Unlock()
	b.beat()
	if s.Address.IsValid() && s.Address.Addr().Is4() {
		// RFC 5227, 2.3: two announcements; a device that just started makes them at once.
		b.Send(arp.Announcement(b.MAC, s.Address.Addr()))
		b.Send(arp.Announcement(b.MAC, s.Address.Addr()))
	}
}

func (b *Box) down() {
	b.mu.Lock()
	live := b.live
	b.live = nil
	b.mu.Unlock()
	if live != nil {
		live.close()
	}
}

func (b *Box) isLive() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.live != nil
}

// Running gives the settings in force.
func (b *Box) Running() Settings {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.running
}

// Saved gives the settings that survive a power cut.
func (b *Box) Saved() Settings {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.saved
}

// AtStart gives the settings that were in force when the device started last.
func (b *Box) AtStart() Settings {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.kept
}

// SetFaults changes how the device misbehaves from now on.
func (b *Box) SetFaults(f Faults) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.faults = f
}

// Has gives how the device misbehaves.
func (b *Box) Has() Faults {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.faults
}

// Starts counts how often the device was powered up or restarted.
func (b *Box) Starts() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.starts
}

// Uptime tells how long it runs, in seconds with decimals, as its pages print it.
func (b *Box) Uptime() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return fmt.Sprintf("%.2f", time.Since(b.started).Seconds())
}

// Change alters the running settings only.
func (b *Box) Change(f func(*Settings)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	f(&b.running)
}

// Store alters the saved settings only.
func (b *Box) Store(f func(*Settings)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	f(&b.saved)
}

// Save makes the running settings the saved ones.
func (b *Box) Save() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.saved = b.running
}

// Restart makes the device do what it does when it is asked to restart: disappear
// and come back with what is saved, unless its faults are otherwise.
func (b *Box) Restart() { b.commands <- restart }

// PowerCut takes the power away for as long as a restart takes, whatever its faults.
func (b *Box) PowerCut() { b.commands <- powerCut }

// SwitchOff takes the power away until PowerUp gives it back.
func (b *Box) SwitchOff() { b.commands <- dark }

// PowerUp starts a device that is away.
func (b *Box) PowerUp() { b.commands <- powerUp }

// Readdress puts the running address into force without a restart.
func (b *Box) Readdress() { b.commands <- readdress }

// instance is the device between a start and the next.
type instance struct {
	host   *netstack.Host
	server *http.Server
	ended  sync.WaitGroup

	listeners []net.Listener
	datagrams []net.PacketConn

	mu   sync.Mutex
	held map[net.Conn]struct{} // connections of its services; nil when it is gone
}

func newInstance(b *Box, s Settings) (*instance, error) {
	host, err := netstack.New(b.MAC, s.Address, s.Gateway, b.Send)
	if err != nil {
		return nil, err
	}
	i := &instance{host: host, held: map[net.Conn]struct{}{}}
	if !s.Address.IsValid() || s.Address.Addr().Is6() {
		return i, nil
	}
	if err := i.offer(b); err != nil {
		host.Close()
		return nil, err
	}
	if b.Model.Handler == nil {
		return i, nil
	}
	listener, err := host.ListenTCP(b.Model.Port)
	if err != nil {
		host.Close()
		return nil, err
	}
	i.server = &http.Server{Handler: b.slowly(b.Model.Handler(b)), ReadHeaderTimeout: 10 * time.Second, ErrorLog: quiet}
	if b.Model.TLS {
		i.server.TLSConfig, err = b.cert.config(b.Serial)
		if err != nil {
			host.Close()
			return nil, err
		}
	}
	i.ended.Add(1)
	go func() {
		defer i.ended.Done()
		if b.Model.TLS {
			_ = i.server.ServeTLS(listener, "", "") // ends with ErrServerClosed
			return
		}
		_ = i.server.Serve(listener)
	}()
	return i, nil
}

func (i *instance) close() {
	if i.server != nil {
		_ = i.server.Close()
	}
	i.cut()
	for _, c := range i.datagrams {
		_ = c.Close()
	}
	i.host.Close()
	i.ended.Wait()
}

// RestartSoon restarts once the answer to the request is out.
func (b *Box) RestartSoon(r *http.Request) { b.soon(r, restart) }

// ReaddressSoon puts the running address into force once the answer to the request is out.
func (b *Box) ReaddressSoon(r *http.Request) { b.soon(r, readdress) }

// soon runs a command when the request was answered, or a little later, since
// the answer must still cross the segment.
func (b *Box) soon(r *http.Request, c command) {
	context.AfterFunc(r.Context(), func() {
		time.AfterFunc(answerTime, func() { b.command(c) })
	})
}

// Mask prints the mask of a prefix; "0.0.0.0" when there is none.
func Mask(p netip.Prefix) string {
	if !p.IsValid() {
		return "0.0.0.0"
	}
	return address.Mask(p)
}

// AddrText prints an address; "0.0.0.0" when there is none.
func AddrText(a netip.Addr) string {
	if !a.IsValid() {
		return "0.0.0.0"
	}
	return a.String()
}
