// Package b4 simulates the Brindlecap B4 controller: form login with a hidden
// token, staged settings that a restart puts into effect, slow restarts.
package b4

import (
	"crypto/rand"
	"fmt"
	"html"
	"html/template"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/licence"
)

// Login of a factory-fresh controller.
const (
	User            = "engineer"
	FactoryPassword = "brindle4"
)

// Model is the controller.
var Model = box.Model{Maker: "Brindlecap Controls", Name: "B4", Firmware: "7.20", Port: 80, Handler: handler}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0e, 0x42, 0x34}, Serial: "BC4-%06d", Away: 6 * time.Second,
	Factory: func(serial string) box.Settings { return Factory(serial[len(serial)-1] - '0') },
	Short:   "CTL", Kind: "controller", Profile: "brindlecap-b4",
	Row: func(row map[string]string, b *box.Box, number int, usual bool) {
		row["serial"] = b.Label
		if usual {
			row["address"] = fmt.Sprintf("10.40.9.%d", 9+number)
		}
	},
}

// Factory is the state of a controller whose serial ends in a digit.
func Factory(digit byte) box.Settings {
	return box.Settings{Name: "B4", Address: netip.PrefixFrom(netip.AddrFrom4([4]byte{192, 168, 66, 10 + digit%10}),
		24), Password: FactoryPassword}
}

var (
	passwords = secret.Rules{Min: 8, Max: 16, Classes: 2, Refuse: []string{"brindle"}}
	names     = naming.Rules{Max: 16, Case: "upper"}
)

type controller struct {
	*box.Box
	gate box.Gate

	mu      sync.Mutex
	tickets map[string]bool
	staged  box.Settings // name and address only
	second  string       // port: an address with its prefix length; "" for none
}

// Own are the settings that only controllers have.
type Own struct {
	Second   string // port
	Licensed string // the host id of the licence that was accepted
}

// HostID is what a licence is made for: it follows from the serial alone.
func HostID(serial string) string { return licence.HostID("B4", serial) }

// licence takes a licence for this very host, at once and for good.
func (c *controller) licence(w http.ResponseWriter, r *http.Request) {
	if why := licence.Fits(r, "licence", c.Model.Maker, HostID(c.Serial)); why != "" {
		c.refuse(w, why)
		return
	}
	c.Witness("write", "licence")
	keep := func(s *box.Settings) {
		own, _ := s.Own.(Own) // none of its own so far
		own.Licensed = HostID(c.Serial)
		s.Own = own
	}
	c.Change(keep)
	c.Store(keep)
	http.Redirect(w, r, "/setup", http.StatusSeeOther)
}

func handler(b *box.Box) http.Handler {
	c := &controller{Box: b, gate: box.Gate{Cookie: "B4SESSION"}, tickets: map[string]bool{}, staged: b.Running()}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		c.page(w, http.StatusOK,
			template.HTML(fmt.Sprintf(`<dl><dt>Model</dt><dd id="model">B4</dd><dt>Serial</dt><dd id="serial">%s</dd><dt>Firmware</dt><dd id="firmware">%s</dd><dt>Starts</dt><dd id="starts">%d</dd><dt>Host id</dt><dd id="host">%s</dd></dl><p><a href="/door">Sign in</a></p>`, b.Serial, b.Model.Firmware, b.Starts(), HostID(b.Serial))))
	})
	mux.HandleFunc("GET /door", func(w http.ResponseWriter, r *http.Request) {
		c.page(w, http.StatusOK,
			`<form method="post" action="/door"><label>User <input name="user"></label><label>Password <input type="password" name="password"></label>`+c.ticket()+`<button>Sign in</button></form>`)
	})
	mux.HandleFunc("POST /door", c.ticketed(func(w http.ResponseWriter, r *http.Request) {
		user, password := r.PostFormValue("user"), r.PostFormValue("password")
		good := user == User && password == b.Running().Password
		if b.Tried(user, password, good); !good {
			c.page(w, http.StatusUnauthorized, `<p class="refusal">Wrong user or password.</p>`)
			return
		}
		c.gate.Admit(w)
		http.Redirect(w, r, "/setup", http.StatusSeeOther)
	}))
	mux.HandleFunc("GET /setup", c.gate.Inside(c.setup))
	mux.HandleFunc("POST /setup/access", c.gate.Inside(c.ticketed(c.access)))
	mux.HandleFunc("POST /setup/identity", c.gate.Inside(c.ticketed(c.identity)))
	mux.HandleFunc("POST /setup/network", c.gate.Inside(c.ticketed(c.network)))
	mux.HandleFunc("POST /setup/licence", c.gate.Inside(c.licence))
	mux.HandleFunc("POST /setup/restart", c.gate.Inside(c.ticketed(c.restart)))
	return mux
}

func (c *controller) page(w http.ResponseWriter, status int, body template.HTML) {
	box.Page(w, status, "Brindlecap B4", "#36a", body)
}

func (c *controller) refuse(w http.ResponseWriter, why string) {
	c.page(w, http.StatusUnprocessableEntity, template.HTML(`<p class="refusal">`+html.EscapeString(why)+`</p>`))
}

// ticket makes the hidden token that the next form must carry.
func (c *controller) ticket() template.HTML {
	t := rand.Text()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.tickets[t] = true
	return template.HTML(`<input type="hidden" name="ticket" value="` + t + `">`)
}

func (c *controller) ticketed(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4096)
		t := r.PostFormValue("ticket")
		c.mu.Lock()
		ok := c.tickets[t]
		delete(c.tickets, t)
		c.mu.Unlock()
		if !ok {
			http.Error(w, "the form is out of date; load it again", http.StatusForbidden)
			return
		}
		h(w, r)
	}
}

func (c *controller) setup(w http.ResponseWriter, r *http.Request) {
	s := c.Running()
	own, _ := s.Own.(Own) // none of its own so far
	accepted := map[bool]string{true: "yes", false: "no"}[own.Licensed == HostID(c.Serial)]
	c.page(w, http.StatusOK, template.HTML(fmt.Sprintf(`<p>In force; changes wait for a restart.</p><dl>
<dt>Name</dt><dd id="name">%s</dd><dt>Address</dt><dd id="address">%s</dd><dt>Mask</dt><dd id="mask">%s</dd><dt>Gateway</dt><dd id="gateway">%s</dd><dt>Second port</dt><dd id="second">%s</dd><dt>Licence</dt><dd id="licence">%s</dd></dl>
<form method="post" action="/setup/restart">`, html.EscapeString(s.Name), s.Address.Addr(), box.Mask(s.Address),
		box.AddrText(s.Gateway), html.EscapeString(own.Second), accepted))+c.ticket()+`<button>Restart</button></form>`)
}

func (c *controller) access(w http.ResponseWriter, r *http.Request) {
	next := r.PostFormValue("new")
	err := passwords.Check(next)
	switch {
	case r.PostFormValue("old") != c.Running().Password:
		c.refuse(w, "The old password is wrong.")
	case c.Has().RefusesPassword:
		c.refuse(w, "This password is not allowed.")
	case err != nil:
		c.refuse(w, err.Error())
	default:
		c.Witness("write", "password "+next)
		c.Change(func(s *box.Settings) { s.Password = next })
		c.Store(func(s *box.Settings) { s.Password = next })
		http.Redirect(w, r, "/setup", http.StatusSeeOther)
	}
}

func (c *controller) identity(w http.ResponseWriter, r *http.Request) {
	name := r.PostFormValue("name")
	if err := names.Check(name); err != nil {
		c.refuse(w, err.Error())
		return
	}
	c.Witness("write", "name "+name)
	c.mu.Lock()
	c.staged.Name = name
	c.mu.Unlock()
	http.Redirect(w, r, "/setup", http.StatusSeeOther)
}

func (c *controller) network(w http.ResponseWriter, r *http.Request) {
	a, err := netip.ParseAddr(r.PostFormValue("address"))
	gateway, err2 := netip.ParseAddr(r.PostFormValue("gateway"))
	mask := net.ParseIP(r.PostFormValue("mask")).To4()
	bits, size := net.IPMask(mask).Size()
	if err != nil || err2 != nil || !a.Is4() || size != 32 || bits < 8 {
		c.refuse(w, "Address, mask or gateway is wrong.")
		return
	}
	second := r.PostFormValue("second")
	other, err := netip.ParsePrefix(second)
	if second != "" && err != nil {
		c.refuse(w, "The second port is wrong.")
		return
	}
	at := netip.PrefixFrom(a, bits)
	c.Witness("write", fmt.Sprintf("address %s %s, second %s", at, gateway, second))
	if second != "" && other.Overlaps(at) {
		at = netip.Prefix{} // it answers nowhere until it is reset
	}
	c.mu.Lock()
	c.staged.Address, c.staged.Gateway, c.second = at, gateway, second
	c.mu.Unlock()
	http.Redirect(w, r, "/setup", http.StatusSeeOther)
}

func (c *controller) restart(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	staged, second := c.staged, c.second
	c.mu.Unlock()
	c.Store(func(s *box.Settings) {
		s.Name, s.Address, s.Gateway = staged.Name, staged.Address, staged.Gateway
		if own, has := s.Own.(Own); has || second != "" {
			own.Second = second
			s.Own = own
		}
	})
	c.Witness("write", "restart")
	c.page(w, http.StatusAccepted, `<p>Restarting.</p>`)
	c.RestartSoon(r)
}
