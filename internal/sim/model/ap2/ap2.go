// Package ap2 simulates the Fennmark AP2 access point: no address until one is given over
// DCP; its first password is set on first use; signing in gives a token that goes into a
// header and lapses without use; the radio stays off until a region is set.
package ap2

import (
	"crypto/rand"
	_ "embed"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/station"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only access points have.
type Own struct {
	Region string // of the radio, which is off until one is set
	VLAN   string // on which it is managed
}

// Factory is the state in which every access point leaves the factory.
var Factory = box.Settings{Own: Own{VLAN: "1"}}

const user = "keeper"

var (
	names     = naming.Rules{Max: 48, Case: "lower", Extra: "."}
	passwords = secret.Rules{Min: 8, Max: 24, Classes: 3, Refuse: []string{"admin"}}
	regions   = []string{"EU", "GB", "NA", "JP"}
)

// Lapses is after how long a token is taken no more that was not used.
const Lapses = 30 * time.Second

// Model is the access point.
var Model = box.Model{
	Maker: "Fennmark Networks", Name: "AP2", Firmware: "2.6.0", Port: 443, TLS: true, Handler: handler,
	Frame: station.With(names),
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x46, 0x41}, Serial: "FAP-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory), Short: "AP", Kind: "access point", Profile: "fennmark-ap2", Plan: plan,
	Stands: box.Each(0, "HALL-AP-01", "YARD-AP-01", "BERTH1-AP-01", "BERTH2-AP-01"),
	Row: func(row map[string]string, _ *box.Box, _ int, _ bool) {
		row["radio-region"], row["management-vlan"] = "Europe", "408"
	},
}

type point struct {
	*box.Box
	mu     sync.Mutex
	tokens map[string]time.Time // when each was used last
}

func handler(b *box.Box) http.Handler {
	p := &point{Box: b, tokens: map[string]time.Time{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		box.FrontPage("Fennmark AP2", "#a63", "Access point.")(b).ServeHTTP(w, r)
	})
	mux.HandleFunc("GET /api/about", func(w http.ResponseWriter, r *http.Request) {
		box.JSON(w, http.StatusOK, map[string]string{"model": b.Model.Name, "serial": b.Serial,
			"firmware": b.Model.Firmware, "uptime": b.Uptime()})
	})
	mux.HandleFunc("GET /api/first", p.first)
	mux.HandleFunc("POST /api/first", p.first)
	mux.HandleFunc("POST /api/enter", p.enter)
	mux.HandleFunc("POST /api/password", p.inside(p.password))
	mux.HandleFunc("GET /api/settings", p.inside(p.settings))
	mux.HandleFunc("PUT /api/settings", p.inside(p.set))
	mux.HandleFunc("POST /api/save", p.inside(func(w http.ResponseWriter, r *http.Request) {
		p.Witness("write", "save")
		p.Save()
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /api/restart", p.inside(func(w http.ResponseWriter, r *http.Request) {
		p.Witness("write", "restart")
		box.JSON(w, http.StatusAccepted, map[string]string{"status": "restarting"})
		p.RestartSoon(r)
	}))
	return mux
}

// inside lets in who shows a token that did not lapse.
func (p *point) inside(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		token := r.Header.Get("X-Station-Token")
		p.mu.Lock()
		used, known := p.tokens[token]
		fresh := known && time.Since(used) < Lapses
		if fresh {
			p.tokens[token] = time.Now()
		}
		p.mu.Unlock()
		if !fresh {
			box.Refuse(w, http.StatusUnauthorized, "sign in")
			return
		}
		h(w, r)
	}
}

func (p *point) first(w http.ResponseWriter, r *http.Request) {
	if p.Running().Password != "" {
		box.Refuse(w, http.StatusGone, "it was set up already")
		return
	}
	var in struct{ Password string }
	if r.Method == http.MethodGet {
		box.JSON(w, http.StatusOK, map[string]string{"state": "first use"})
		return
	}
	if box.ReadJSON(w, r, &in) {
		p.take(w, in.Password)
	}
}

func (p *point) take(w http.ResponseWriter, next string) {
	switch err := passwords.Check(next); {
	case err != nil:
		box.Refuse(w, http.StatusUnprocessableEntity, err.Error())
	case p.Has().RefusesPassword:
		box.Refuse(w, http.StatusUnprocessableEntity, "this password is not allowed")
	default:
		p.Witness("write", "password "+next)
		p.Change(func(s *box.Settings) { s.Password = next })
		w.WriteHeader(http.StatusNoContent)
	}
}

func (p *point) enter(w http.ResponseWriter, r *http.Request) {
	var in struct{ User, Password string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	good := in.User == user && in.Password == p.Running().Password && in.Password != ""
	if p.Tried(in.User, in.Password, good); !good {
		box.Refuse(w, http.StatusUnauthorized, "wrong user or password")
		return
	}
	token := rand.Text()
	p.mu.Lock()
	p.tokens[token] = time.Now()
	p.mu.Unlock()
	box.JSON(w, http.StatusOK, map[string]string{"token": token})
}

func (p *point) password(w http.ResponseWriter, r *http.Request) {
	var in struct{ Old, New string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if in.Old != p.Running().Password {
		box.Refuse(w, http.StatusUnprocessableEntity, "the old password is wrong")
		return
	}
	p.take(w, in.New)
}

func (p *point) settings(w http.ResponseWriter, r *http.Request) {
	s := p.Running()
	own := s.Own.(Own)
	box.JSON(w, http.StatusOK, map[string]any{
		"name": s.Name, "address": box.AddrText(s.Address.Addr()), "mask": box.Mask(s.Address),
		"gateway": box.AddrText(s.Gateway),
		"radio":   map[string]any{"region": own.Region, "on": own.Region != ""}, "vlan": own.VLAN,
	})
}

func (p *point) set(w http.ResponseWriter, r *http.Request) {
	var in struct{ Region, VLAN string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	n, err := strconv.Atoi(in.VLAN)
	switch {
	case !slices.Contains(regions, in.Region):
		box.Refuse(w, http.StatusUnprocessableEntity, "no such region")
	case err != nil || n < 1 || n > 4094:
		box.Refuse(w, http.StatusUnprocessableEntity, "the VLAN is 1 to 4094")
	default:
		p.Witness("write", "settings "+in.Region+" "+in.VLAN)
		p.Change(func(s *box.Settings) { s.Own = Own{in.Region, in.VLAN} })
		w.WriteHeader(http.StatusNoContent)
	}
}
