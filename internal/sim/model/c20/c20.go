// Package c20 simulates the Ovalis C20 camera: digest login, JSON, refuses
// everything until its password was changed, restarts when its address changes.
package c20

import (
	"crypto/rand"
	"crypto/subtle"
	"fmt"
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
	Viewer          = "viewer" // may only look
)

// Own are the settings that only cameras have.
type Own struct {
	Zone   string
	Server string // of the time; "" for none
	Stream string // port where others fetch its picture
	Viewer string // password of the login that may only look; "" for none
}

// Factory is the state in which every camera leaves the factory.
var Factory = box.Settings{Name: "c20", Address: netip.MustParsePrefix("192.168.77.20/24"), Password: FactoryPassword,
	Own: Own{Zone: "Etc/UTC", Stream: "554"}}

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
		box.JSON(w, http.StatusOK, map[string]string{"maker": b.Model.Maker, "model": b.Model.Name, "serial": b.Serial,
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
		box.JSON(w, http.StatusOK, map[string]bool{"change": b.Running().Password == FactoryPassword})
	}))
	mux.HandleFunc("PUT /camera/secret", c.inside(true, c.setSecret))
	mux.HandleFunc("GET /camera/identity", c.inside(false, func(w http.ResponseWriter, r *http.Request) {
		box.JSON(w, http.StatusOK, map[string]string{"name": b.Running().Name})
	}))
	mux.HandleFunc("PUT /camera/identity", c.inside(false, c.setIdentity))
	mux.HandleFunc("GET /camera/network", c.inside(false, c.network))
	mux.HandleFunc("PUT /camera/network", c.inside(false, c.setNetwork))
	mux.HandleFunc("GET /camera/time", c.inside(false, func(w http.ResponseWriter, r *http.Request) {
		own := b.Running().Own.(Own)
		box.JSON(w, http.StatusOK, map[string]string{"zone": own.Zone, "server": own.Server,
			"clock": b.Clock().Format(time.RFC3339)})
	}))
	mux.HandleFunc("PUT /camera/time", c.inside(false, c.setTime))
	mux.HandleFunc("GET /camera/stream", c.inside(false, func(w http.ResponseWriter, r *http.Request) {
		box.JSON(w, http.StatusOK, map[string]string{"port": b.Running().Own.(Own).Stream})
	}))
	mux.HandleFunc("PUT /camera/stream", c.inside(false, c.setStream))
	mux.HandleFunc("GET /camera/viewer", c.inside(false, func(w http.ResponseWriter, r *http.Request) {
		may := "look"
		if b.Running().Own.(Own).Viewer == "" {
			may = "nothing"
		}
		box.JSON(w, http.StatusOK, map[string]string{"user": Viewer, "may": may})
	}))
	mux.HandleFunc("PUT /camera/viewer", c.inside(false, c.setViewer))
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
			if given, err := digest.ParseCredentials(r.Header.Get("Authorization")); err == nil {
				ch.Stale = !c.knows(given.Nonce) // it restarted since
			}
			w.Header().Set("WWW-Authenticate", ch.String())
			box.Refuse(w, http.StatusUnauthorized, "sign in")
			return
		}
		if !fresh && c.Running().Password == FactoryPassword {
			box.Refuse(w, http.StatusForbidden, "change the factory password first")
			return
		}
		h(w, r)
	}
}

func (c *camera) allowed(r *http.Request) bool {
	given, err := digest.ParseCredentials(r.Header.Get("Authorization"))
	own := c.Running().Own.(Own)
	viewer := err == nil && given.Username == Viewer && own.Viewer != "" && r.Method == http.MethodGet
	if err != nil || given.Username != User && !viewer {
		return false
	}
	user, has := User, c.Running().Password
	if viewer {
		user, has = Viewer, own.Viewer
	}
	if !c.knows(given.Nonce) {
		return false
	}
	ch := &digest.Challenge{Realm: "C20", Nonce: given.Nonce, Algorithm: "SHA-256", QOP: []string{"auth"}}
	want, err := digest.Digest(ch, digest.Options{Method: r.Method, URI: r.URL.RequestURI(), Username: user,
		Password: has, Count: given.Nc, Cnonce: given.Cnonce})
	good := err == nil && subtle.ConstantTimeCompare([]byte(want.Response), []byte(given.Response)) == 1
	password := "another" // of which a digest tells nothing
	if good {
		password = has
	}
	c.Tried(user, password, good)
	return good
}

func (c *camera) knows(nonce string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.nonces[nonce]
}

func (c *camera) setSecret(w http.ResponseWriter, r *http.Request) {
	var in struct{ Old, New string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	switch err := rules.Check(in.New); {
	case in.Old != c.Running().Password:
		box.Refuse(w, http.StatusUnauthorized, "the old password is wrong")
	case c.Has().RefusesPassword:
		box.Refuse(w, http.StatusUnprocessableEntity, "this password is not allowed")
	case err != nil:
		box.Refuse(w, http.StatusUnprocessableEntity, err.Error())
	default:
		c.Witness("write", "password "+in.New)
		c.Change(func(s *box.Settings) { s.Password = in.New })
		c.Save()
		w.WriteHeader(http.StatusNoContent)
	}
}

func (c *camera) setIdentity(w http.ResponseWriter, r *http.Request) {
	var in struct{ Name string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if in.Name == "" || len(in.Name) > 24 || in.Name != strings.ToLower(in.Name) {
		box.Refuse(w, http.StatusUnprocessableEntity, "the name must be 1 to 24 small characters")
		return
	}
	c.Witness("write", "name "+in.Name)
	c.Change(func(s *box.Settings) { s.Name = in.Name })
	c.Save()
	box.JSON(w, http.StatusOK, in)
}

func (c *camera) network(w http.ResponseWriter, r *http.Request) {
	s := c.Running()
	box.JSON(w, http.StatusOK, map[string]string{"address": s.Address.Addr().String(), "mask": box.Mask(s.Address),
		"gateway": box.AddrText(s.Gateway)})
}

func (c *camera) setNetwork(w http.ResponseWriter, r *http.Request) {
	var in struct{ Address, Prefix, Gateway string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	at, gateway, err := box.Network(in.Address, in.Prefix, in.Gateway)
	if err != nil {
		box.Refuse(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	c.Witness("write", fmt.Sprintf("address %s %s", at, gateway))
	c.Store(func(s *box.Settings) { s.Address, s.Gateway = at, gateway })
	if c.Has().Mute {
		c.Restart()
		<-r.Context().Done() // the connection ends with the restart
		return
	}
	box.JSON(w, http.StatusAccepted, map[string]string{"status": "restarting"})
	c.RestartSoon(r)
}

func (c *camera) setTime(w http.ResponseWriter, r *http.Request) {
	var in struct{ Zone, Server, Clock string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	at, err := time.Parse(time.RFC3339, in.Clock)
	_, err2 := time.LoadLocation(in.Zone)
	_, err3 := netip.ParseAddr(in.Server)
	if err != nil || err2 != nil || in.Server != "" && err3 != nil {
		box.Refuse(w, http.StatusUnprocessableEntity, "zone, server or clock is wrong")
		return
	}
	c.Witness("write", "time "+in.Zone+" "+in.Server)
	c.SetClock(at)
	c.set(func(o *Own) { o.Zone, o.Server = in.Zone, in.Server })
	w.WriteHeader(http.StatusNoContent)
}

func (c *camera) setStream(w http.ResponseWriter, r *http.Request) {
	var in struct{ Port string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if n, err := strconv.Atoi(in.Port); err != nil || n < 1 || n > 65535 {
		box.Refuse(w, http.StatusUnprocessableEntity, "the port is 1 to 65535")
		return
	}
	c.Witness("write", "stream "+in.Port)
	c.set(func(o *Own) { o.Stream = in.Port })
	w.WriteHeader(http.StatusNoContent)
}

func (c *camera) setViewer(w http.ResponseWriter, r *http.Request) {
	var in struct{ Password string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if err := rules.Check(in.Password); in.Password != "" && err != nil {
		box.Refuse(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	c.Witness("write", "viewer "+in.Password)
	c.set(func(o *Own) { o.Viewer = in.Password })
	w.WriteHeader(http.StatusNoContent)
}

func (c *camera) set(f func(*Own)) {
	c.Change(func(s *box.Settings) {
		own := s.Own.(Own)
		f(&own)
		s.Own = own
	})
	c.Save()
}
