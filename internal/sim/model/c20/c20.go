// Package c20 simulates the Ovalis C20 camera: digest login, JSON, refuses
// everything until its password was changed, restarts when its address changes.
package c20

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/icholy/digest"

	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/wire/wsd"
)

// Login of a factory-fresh camera.
const (
	User            = "operator"
	FactoryPassword = "ovalis"
)

// Factory is the state in which every camera leaves the factory.
var Factory = box.Settings{Name: "c20", Address: netip.MustParsePrefix("192.168.77.20/24"), Password: FactoryPassword}

var rules = secret.Rules{Min: 10, Max: 20, Classes: 3, Refuse: []string{"ovalis", "operator"}}

// Model is the camera.
var Model = box.Model{Maker: "Ovalis Optics", Name: "C20", Firmware: "3.1.4", Port: 80, Handler: handler,
	Datagrams: []box.Datagram{
		{Port: wsd.Group.Port(), Group: wsd.Group.Addr(), Answer: discover}}}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x4f, 0x56}, Serial: "OV20-%06d", Away: 3 * time.Second,
	Factory: box.Always(Factory),
	Short:   "CAM", Kind: "camera", Profile: "ovalis-c20",
}

// discover answers WS-Discovery with ONVIF's scopes.
func discover(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if id, ok := wsd.IsProbe(payload); ok {
		reply(wsd.Match{
			Endpoint: "urn:uuid:" + b.Serial, Types: "dn:NetworkVideoTransmitter",
			Scopes: []string{wsd.ScopeOf("hardware", b.Model.Name), wsd.ScopeOf("name", b.Running().Name),
				wsd.ScopeOf("location", "")},
			Where: []string{"http://" + b.Running().Address.Addr().String() + "/onvif/device_service"},
		}.Answer(id), netip.AddrPort{})
	}
}

type camera struct {
	*box.Box
	mu     sync.Mutex
	nonces map[string]bool
}

func handler(b *box.Box) http.Handler {
	c := &camera{Box: b, nonces: map[string]bool{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /about.json", func(w http.ResponseWriter, r *http.Request) {
		answer(w, http.StatusOK, map[string]string{"maker": b.Model.Maker, "model": b.Model.Name, "serial": b.Serial,
			"firmware": b.Model.Firmware, "uptime": b.Uptime()})
	})
	mux.HandleFunc("POST /onvif/device_service", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
		// the reader went away
		_, _ = w.Write(wsd.Information{Maker: b.Model.Maker, Model: b.Model.Name, Firmware: b.Model.Firmware,
			Serial: b.Serial}.Answer())
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		box.Page(w, http.StatusOK, "Ovalis C20", "#7a4", "<p>Dome camera. Sign in with the camera programme.</p>")
	})
	mux.HandleFunc("GET /camera/session", c.inside(true, func(w http.ResponseWriter, r *http.Request) {
		answer(w, http.StatusOK, map[string]bool{"change": b.Running().Password == FactoryPassword})
	}))
	mux.HandleFunc("PUT /camera/secret", c.inside(true, c.setSecret))
	mux.HandleFunc("GET /camera/identity", c.inside(false, func(w http.ResponseWriter, r *http.Request) {
		answer(w, http.StatusOK, map[string]string{"name": b.Running().Name})
	}))
	mux.HandleFunc("PUT /camera/identity", c.inside(false, c.setIdentity))
	mux.HandleFunc("GET /camera/network", c.inside(false, c.network))
	mux.HandleFunc("PUT /camera/network", c.inside(false, c.setNetwork))
	return mux
}

// inside checks the digest login (RFC 7616) and, unless fresh is allowed, that
// the factory password is gone.
func (c *camera) inside(fresh bool, h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !c.allowed(r) {
			nonce := rand.Text()
			c.mu.Lock()
			c.nonces[nonce] = true
			c.mu.Unlock()
			ch := digest.Challenge{Realm: "C20", Nonce: nonce, Algorithm: "SHA-256", QOP: []string{"auth"}}
			w.Header().Set("WWW-Authenticate", ch.String())
			refuse(w, http.StatusUnauthorized, "sign in")
			return
		}
		if !fresh && c.Running().Password == FactoryPassword {
			refuse(w, http.StatusForbidden, "change the factory password first")
			return
		}
		h(w, r)
	}
}

func (c *camera) allowed(r *http.Request) bool {
	given, err := digest.ParseCredentials(r.Header.Get("Authorization"))
	if err != nil || given.Username != User {
		return false
	}
	c.mu.Lock()
	known := c.nonces[given.Nonce]
	c.mu.Unlock()
	if !known {
		return false
	}
	ch := &digest.Challenge{Realm: "C20", Nonce: given.Nonce, Algorithm: "SHA-256", QOP: []string{"auth"}}
	want, err := digest.Digest(ch, digest.Options{Method: r.Method, URI: r.URL.RequestURI(), Username: User,
		Password: c.Running().Password, Count: given.Nc, Cnonce: given.Cnonce})
	good := err == nil && subtle.ConstantTimeCompare([]byte(want.Response), []byte(given.Response)) == 1
	password := "another" // of which a digest tells nothing
	if good {
		password = c.Running().Password
	}
	c.Tried(User, password, good)
	return good
}

func (c *camera) setSecret(w http.ResponseWriter, r *http.Request) {
	var in struct{ Old, New string }
	if !read(w, r, &in) {
		return
	}
	switch err := rules.Check(in.New); {
	case in.Old != c.Running().Password:
		refuse(w, http.StatusUnauthorized, "the old password is wrong")
	case c.Has().RefusesPassword:
		refuse(w, http.StatusUnprocessableEntity, "this password is not allowed")
	case err != nil:
		refuse(w, http.StatusUnprocessableEntity, err.Error())
	default:
		c.Witness("write", "password "+in.New)
		c.Change(func(s *box.Settings) { s.Password = in.New })
		c.Save()
		w.WriteHeader(http.StatusNoContent)
	}
}

func (c *camera) setIdentity(w http.ResponseWriter, r *http.Request) {
	var in struct{ Name string }
	if !read(w, r, &in) {
		return
	}
	if in.Name == "" || len(in.Name) > 24 || in.Name != strings.ToLower(in.Name) {
		refuse(w, http.StatusUnprocessableEntity, "the name must be 1 to 24 small characters")
		return
	}
	c.Witness("write", "name "+in.Name)
	c.Change(func(s *box.Settings) { s.Name = in.Name })
	c.Save()
	answer(w, http.StatusOK, in)
}

func (c *camera) network(w http.ResponseWriter, r *http.Request) {
	s := c.Running()
	answer(w, http.StatusOK, map[string]string{"address": s.Address.Addr().String(), "mask": box.Mask(s.Address),
		"gateway": box.AddrText(s.Gateway)})
}

func (c *camera) setNetwork(w http.ResponseWriter, r *http.Request) {
	var in struct{ Address, Prefix, Gateway string }
	if !read(w, r, &in) {
		return
	}
	a, err := netip.ParseAddr(in.Address)
	gateway, err2 := netip.ParseAddr(in.Gateway)
	bits, err3 := strconv.Atoi(in.Prefix)
	if err != nil || err2 != nil || err3 != nil || !a.Is4() || bits < 8 || bits > 30 {
		refuse(w, http.StatusUnprocessableEntity, "address, prefix or gateway is wrong")
		return
	}
	c.Witness("write", fmt.Sprintf("address %s/%d %s", a, bits, gateway))
	c.Store(func(s *box.Settings) { s.Address, s.Gateway = netip.PrefixFrom(a, bits), gateway })
	if c.Has().Mute {
		c.Restart()
		<-r.Context().Done() // the connection ends with the restart
		return
	}
	answer(w, http.StatusAccepted, map[string]string{"status": "restarting"})
	c.RestartSoon(r)
}

func read(w http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(io.LimitReader(r.Body, 4096)).Decode(into); err != nil {
		refuse(w, http.StatusBadRequest, "not JSON")
		return false
	}
	return true
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // the reader went away
}

func refuse(w http.ResponseWriter, status int, reason string) {
	answer(w, status, map[string]string{"reason": reason})
}
