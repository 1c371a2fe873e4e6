// Package v2 simulates the Tolvern V2 voice server: its address is asked for at a serial
// console; its licence terms must be accepted before anybody can sign in; after three wrong
// logins it lets nobody in for ten minutes; a licence is for its host id alone, and a second
// port in the first one's network makes it answer nowhere.
package v2

import (
	_ "embed"
	"fmt"
	"html"
	"html/template"
	"io"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/console"
	"redstart/internal/sim/forms"
	"redstart/internal/sim/licence"
)

//go:embed plan.csv
var plan []byte

// The factory login.
const (
	FactoryUser     = "admin"
	FactoryPassword = "tolvern2"
)

// Own are the settings that only voice servers have.
type Own struct {
	Language   string // as chosen at the console; "" until somebody was there
	AcceptedBy string // who accepted the licence terms; "": nobody did
	Second     string // address of the port for telephones, with its prefix length; "" for none
	Licensed   string // the host id of the licence that was accepted
	Recovery   string
}

// Factory is the state in which every voice server leaves the factory.
var Factory = box.Settings{Name: "v2", Address: netip.MustParsePrefix("192.168.81.2/24"), Password: FactoryPassword,
	Own: Own{}}

const (
	wrongLogins = 3
	blocked     = 10 * time.Minute
)

var passwords = secret.Rules{Min: 12, Max: 32, Classes: 4, Special: "!%+-_=", Refuse: []string{"tolvern", "voice"}}

var site = forms.Site{
	Title: "Tolvern V2", Colour: "#357", Text: "Voice server.", User: FactoryUser, Passwords: passwords,
	Untouched: func(b *box.Box) bool { return b.Running().Password == FactoryPassword },
	Login: func(b *box.Box, user, password string) bool {
		return ready(b) && !blocks(b) && user == FactoryUser && password == b.Running().Password
	},
	About: func(b *box.Box) [][2]string {
		own := ownOf(b)
		state := "ready"
		switch {
		case own.Language == "":
			state = "begin at the console"
		case own.AcceptedBy == "":
			state = "accept the terms"
		}
		return [][2]string{{"state", state}, {"host-id", HostID(b)}}
	},
	Pages: []forms.Page{
		forms.Name(naming.Rules{Max: 15, Case: "lower"}, forms.Kept),
		forms.Own("/telephones", forms.Staged, forms.Field[Own]{Name: "second", At: func(o *Own) *string { return &o.Second },
			Check: forms.OrNothing(func(typed string) error {
				_, err := netip.ParsePrefix(typed)
				return err
			})}),
		network,
		forms.Own("/recovery", forms.Kept, forms.Field[Own]{Name: "mail", At: func(o *Own) *string { return &o.Recovery }}),
	},
	More: more,
}

// network shows the address; it is set at the console alone.
var network = forms.Page{Path: "/network", Show: forms.Network(forms.Kept).Show,
	Take: func(*box.Settings, func(string) string) error { return fmt.Errorf("it is set at the console") }}

// HostID is what a licence is made for: its serial and its first port.
func HostID(b *box.Box) string { return licence.HostID(b.Label, b.MAC.String()) }

func ownOf(b *box.Box) Own {
	own, _ := b.Running().Own.(Own)
	return own
}

// ready reports whether somebody was at the console and accepted the terms.
func ready(b *box.Box) bool {
	own := ownOf(b)
	return own.Language != "" && own.AcceptedBy != ""
}

// blocks reports whether it lets nobody in, since so many logins in a row were wrong lately.
func blocks(b *box.Box) bool {
	wrong := 0
	for _, d := range slices.Backward(b.Events()) {
		if d.What == "login" || d.What == "refused" && time.Since(d.At) > b.Scaled(blocked) {
			break
		}
		if d.What == "refused" {
			wrong++
		}
	}
	return wrong >= wrongLogins
}

func more(b *box.Box, mux *http.ServeMux, gate *box.Gate) {
	page := func(w http.ResponseWriter, status int, body string) {
		box.Page(w, status, "Tolvern V2", "#357", template.HTML(body))
	}
	mux.HandleFunc("GET /terms", func(w http.ResponseWriter, _ *http.Request) {
		page(w, http.StatusOK, `<p>You may use this voice server at one site, and not in an aircraft.</p><dl><dt>accepted by</dt><dd id="accepted-by">`+
			html.EscapeString(ownOf(b).AcceptedBy)+`</dd></dl>`)
	})
	mux.HandleFunc("POST /terms", func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4096)
		by := strings.TrimSpace(r.PostFormValue("by"))
		if r.PostFormValue("accept") != "yes" || by == "" || ownOf(b).Language == "" {
			page(w, http.StatusUnprocessableEntity, `<p class="refusal">Begin at the console; then say who accepts them.</p>`)
			return
		}
		b.Witness("write", "terms "+by)
		accept := func(s *box.Settings) {
			own, _ := s.Own.(Own)
			own.AcceptedBy = by
			s.Own = own
		}
		b.Change(accept)
		b.Store(accept)
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	mux.HandleFunc("GET /licence", gate.Inside(func(w http.ResponseWriter, _ *http.Request) {
		accepted := map[bool]string{true: "yes", false: "no"}[ownOf(b).Licensed == HostID(b)]
		page(w, http.StatusOK, `<dl><dt>host</dt><dd id="host-id">`+HostID(b)+`</dd><dt>accepted</dt><dd id="accepted">`+
			accepted+`</dd></dl>`)
	}))
	mux.HandleFunc("POST /licence", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		if why := licence.Fits(r, "licence", b.Model.Maker, HostID(b)); why != "" {
			page(w, http.StatusUnprocessableEntity, `<p class="refusal">`+html.EscapeString(why)+`</p>`)
			return
		}
		b.Witness("write", "licence")
		take := func(s *box.Settings) {
			own, _ := s.Own.(Own)
			own.Licensed = HostID(b)
			s.Own = own
		}
		b.Change(take)
		b.Store(take)
		http.Redirect(w, r, "/licence", http.StatusSeeOther)
	}))
}

// atConsole asks for the address, from the beginning each time.
func atConsole(b *box.Box, line io.ReadWriter) {
	t := console.New(line, true)
	if _, err := t.Key(); err != nil {
		return
	}
	s := b.Running()
	t.Say("\nTolvern V2 %s, serial %s\n", b.Model.Firmware, b.Serial)
	for {
		way, err := t.Ask("Fixed address or DHCP (f/d) [f]: ")
		if err != nil {
			return
		}
		if way == "" || way == "f" {
			break
		}
		t.Say("! DHCP is not planned here\n")
	}
	at, err := t.Ask("Address [%s]: ", s.Address.Addr())
	if err != nil {
		return
	}
	mask, err := t.Ask("Mask [%s]: ", box.Mask(s.Address))
	if err != nil {
		return
	}
	gateway, err := t.Ask("Gateway [%s]: ", box.AddrText(s.Gateway))
	if err != nil {
		return
	}
	language, err := t.Ask("Language (en/no) [en]: ")
	if err != nil {
		return
	}
	if language == "" {
		language = "en"
	}
	if at == "" {
		at = s.Address.Addr().String()
	}
	if mask == "" {
		mask = box.Mask(s.Address)
	}
	prefix, via, err := box.Network(at, mask, gateway)
	switch {
	case err != nil:
		t.Say("! %s\n", err)
		return
	case language != "en" && language != "no":
		t.Say("! it speaks en and no\n")
		return
	}
	if sure, err := t.Ask("Write it? "); err != nil || sure != "y" {
		t.Say("Nothing was written.\n")
		return
	}
	b.Witness("write", fmt.Sprintf("console %s %s", prefix, via))
	moved := s.Address != prefix
	write := func(s *box.Settings) {
		own, _ := s.Own.(Own)
		own.Language = language
		s.Address, s.Gateway, s.Own = prefix, via, own
	}
	b.Change(write)
	b.Store(write)
	t.Say("Written.\n")
	if moved {
		b.Readdress()
	}
}

// overlaps reports whether its second port is in the first one's network: then it answers
// nowhere.
func overlaps(b *box.Box) bool {
	s := b.AtStart()
	own, _ := s.Own.(Own)
	second, err := netip.ParsePrefix(own.Second)
	return err == nil && second.Overlaps(b.Running().Address) && address.Hosts(second).Contains(second.Addr())
}

// Model is the voice server.
var Model = box.Model{
	Maker: "Tolvern Doorworks", Name: "V2", Firmware: "4.0", Port: 443, TLS: true, Handler: site.Handler,
	Console: atConsole, Deaf: overlaps,
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x54, 0x56}, Serial: "TV2-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "VOX", Kind: "voice server", Profile: "tolvern-v2", Plan: plan,
	Stands: []box.Stand{{Tag: "HALL-VOX-01", Port: 17, Named: "mac", Speaks: true}},
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		if row["second-port"] == "" {
			row["second-port"] = fmt.Sprintf("10.41.0.%d/24", 10+number)
		}
	},
}
