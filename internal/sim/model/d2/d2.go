// Package d2 simulates the Brindlecap D2 door controller: it waits for DHCP; its factory
// login is taken for six minutes after a switch on its board was moved, and stays alive
// until that is moved back; what is set is staged until a restart.
package d2

import (
	_ "embed"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/forms"
)

//go:embed plan.csv
var plan []byte

// The factory login.
const (
	FactoryUser     = "setup"
	FactoryPassword = "brindle4"
)

// Window is how long the factory login is taken once the switch was moved.
const Window = 6 * time.Minute

// Own are the settings that only door controllers have.
type Own struct {
	User    string // of its own, besides that of the factory; "" for none yet
	DHCP    string
	Network string // of the trunk that its bus hangs on
	Bus     string // its address there
	Relay1  string
	Relay2  string
	Readers string // a table, as profile.RowsText writes it
}

// Factory is the state in which every door controller leaves the factory.
var Factory = box.Settings{Own: Own{DHCP: "on", Relay1: "1", Relay2: "2"}}

var passwords = secret.Rules{Min: 8, Max: 16, Classes: 2, Refuse: []string{"brindle"}}

var site = forms.Site{
	Title: "Brindlecap D2", Colour: "#844", Text: "Two doors.",
	Login: func(b *box.Box, user, password string) bool {
		s := b.Running()
		if user == FactoryUser && password == FactoryPassword {
			position, since := b.Position()
			return position == "setup" && time.Since(since) < b.Scaled(Window)
		}
		own := s.Own.(Own)
		return own.User != "" && user == own.User && password == s.Password
	},
	Passwords: passwords,
	About: func(b *box.Box) [][2]string {
		position, _ := b.Position()
		if position == "" {
			position = "run"
		}
		warning := ""
		if b.Running().Own.(Own).User == "" {
			warning = "It has no user of its own."
		}
		return [][2]string{{"switch", position}, {"warning", warning}}
	},
	Pages: []forms.Page{
		forms.Name(naming.Rules{Max: 16, Case: "upper"}, forms.Staged),
		forms.NetworkDHCP(forms.Staged, func(o *Own) *string { return &o.DHCP }),
		forms.Own("/doors", forms.Staged,
			forms.Field[Own]{Name: "network", At: func(o *Own) *string { return &o.Network },
				Check: forms.OrNothing(forms.Between(1, 65534))},
			forms.Field[Own]{Name: "bus-address", At: func(o *Own) *string { return &o.Bus },
				Check: forms.OrNothing(forms.Between(0, 127))},
			forms.Field[Own]{Name: "relay-1", At: func(o *Own) *string {
				return &o.Relay1
			}, Check: forms.Between(1, 4)},
			forms.Field[Own]{Name: "relay-2", At: func(o *Own) *string {
				return &o.Relay2
			}, Check: forms.Between(1, 4)}),
	},
	More: func(b *box.Box, mux *http.ServeMux, gate *box.Gate) {
		serveReaders(b, mux, gate)
		mux.HandleFunc("POST /users", gate.Inside(func(w http.ResponseWriter, r *http.Request) { addUser(b, w, r) }))
	},
}

// addUser gives the controller a user of its own, at once and for good.
func addUser(b *box.Box, w http.ResponseWriter, r *http.Request) {
	user, password := r.PostFormValue("user"), r.PostFormValue("password")
	err := passwords.Check(password)
	if err == nil && (user == "" || user == FactoryUser) {
		err = fmt.Errorf("this user cannot be added")
	}
	if err == nil && b.Has().RefusesPassword {
		err = fmt.Errorf("this password is not allowed")
	}
	if err != nil {
		box.Page(w, http.StatusUnprocessableEntity, "Brindlecap D2", "#844",
			template.HTML(`<p class="refusal">`+template.HTMLEscapeString(err.Error())+`</p>`))
		return
	}
	b.Witness("write", "password "+password+" of "+user)
	add := func(s *box.Settings) {
		own := s.Own.(Own)
		own.User, s.Password = user, password
		s.Own = own
	}
	b.Change(add)
	b.Store(add)
	http.Redirect(w, r, "/inside", http.StatusSeeOther)
}

// away is how long the switch is left where it is not asked to be, so that it is seen there.
const away = 5 * time.Second

// hand moves the switch.
func hand(b *box.Box, instruction string) bool {
	for word, position := range map[string]string{"to SETUP": "setup", "to RUN": "run"} {
		if strings.Contains(instruction, word) {
			if strings.Contains(instruction, "once more") { // away from there, for long enough to be seen, and back
				b.Move("run")
				time.AfterFunc(away, func() { b.Move(position) })
				return true
			}
			b.Move(position)
			return true
		}
	}
	return false
}

// Model is the door controller.
var Model = box.Model{
	Maker: "Brindlecap Controls", Name: "D2", Firmware: "3.3", Class: "brindlecap-d2", Port: 80, Handler: site.Handler,
	Hand: hand,
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0e, 0x42, 0x44}, Serial: "BCD2-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory), Short: "ACC", Kind: "door controller", Profile: "brindlecap-d2", Plan: plan,
	Stands: box.Each(7,
		"BERTH1-ACC-01", "BERTH2-ACC-01", "HALL-ACC-01", "HALL-ACC-02", "YARD-ACC-01", "SHOP-ACC-01"),
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		row["trunk"], row["bus-address"] = "BERTH1-RTR-01/trunk-a-network", fmt.Sprint(10+number)
	},
}
