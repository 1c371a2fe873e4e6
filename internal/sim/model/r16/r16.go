// Package r16 simulates the Ovalis R16 recorder, which announces itself over SSDP: it wants
// its password proven over a nonce; a token lapses after a minute; its host id, for which a
// licence is made, follows from name and MAC; a second port in the first one's network makes
// it silent; it says of each camera whether it gets a picture.
package r16

import (
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/profile"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/licence"
	"redstart/internal/sim/picture"
	"redstart/internal/wire/ssdp"
)

//go:embed plan.csv
var plan []byte

// The factory login.
const (
	User            = "operator"
	FactoryPassword = "ovalis"
)

// Own are the settings that only recorders have.
type Own struct {
	Second   string // port: an address with its prefix length; "" for none
	Days     string // how long recordings are kept
	Cameras  string // a table, as profile.RowsText writes it
	Licensed string // the host id of the licence that was accepted
	Services string // whether all start by themselves: yes, or "" for only some of them
}

// Services is how many services it has; of a fresh one only some start by themselves.
const (
	Services  = 5
	fewServes = 3
)

// Factory is the state in which every recorder leaves the factory. sixOnly is one whose
// IPv4 somebody switched off: only its IPv6 link-local address is left.
var (
	Factory = box.Settings{Name: "r16", Address: netip.MustParsePrefix("192.168.77.16/24"),
		Password: FactoryPassword, Own: Own{Days: "30"}}
	sixOnly = box.Settings{Name: "r16", Address: netip.MustParsePrefix("fe80::4f52:16/64"),
		Password: FactoryPassword, Own: Own{Days: "30"}}
)

var (
	names     = naming.Rules{Max: 24, Case: "lower"}
	passwords = secret.Rules{Min: 10, Max: 20, Classes: 3, Refuse: []string{"ovalis", "operator"}}
)

// Model is the recorder.
var Model = box.Model{
	Maker: "Ovalis Optics", Name: "R16", Firmware: "5.0.1", Port: 443, TLS: true, Handler: handler,
	Datagrams: []box.Datagram{{Port: ssdp.Group.Port(), Group: ssdp.Group.Addr(), Answer: announce}},
}

func announce(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if !ssdp.IsSearch(payload) {
		return
	}
	reply(ssdp.Message{
		Server: "unix/5.1 UPnP/2.0 Ovalis-R16/5.0.1", Unique: "uuid:" + b.Serial + "::upnp:rootdevice",
		Location: "http://" + b.Running().Address.Addr().String() + "/about.xml",
	}.Answer(), netip.AddrPort{})
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x4f, 0x52}, Serial: "OVR16-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory), Short: "REC", Kind: "recorder", Profile: "ovalis-r16", Plan: plan,
	Stands: []box.Stand{{Tag: "HALL-REC-01", Port: 18},
		{Tag: "HALL-REC-02", Port: 19, Named: "mac", Factory: &sixOnly}},
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		row["second-port"], row["cameras"] = fmt.Sprintf("10.42.0.%d/24", 100+number), `[{"camera":"BERTH1-CAM-01"}]`
	},
}

// Token is for how long somebody stays signed in.
const Token = time.Minute

// HostID is what a licence is made for.
func HostID(name, mac string) string {
	return licence.HostID(name, mac)
}

type recorder struct {
	*box.Box
	mu     sync.Mutex
	nonces map[string]bool
	tokens map[string]time.Time
}

func handler(b *box.Box) http.Handler {
	c := &recorder{Box: b, nonces: map[string]bool{}, tokens: map[string]time.Time{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		box.FrontPage("Ovalis R16", "#7a4", "Sixteen channels.")(b).ServeHTTP(w, r)
	})
	mux.HandleFunc("GET /r/about", func(w http.ResponseWriter, r *http.Request) {
		box.JSON(w, http.StatusOK, map[string]string{"model": b.Model.Name, "serial": b.Serial,
			"firmware": b.Model.Firmware, "uptime": b.Uptime()})
	})
	mux.HandleFunc("GET /r/nonce", c.nonce)
	mux.HandleFunc("POST /r/token", c.enter)
	mux.HandleFunc("PUT /r/password", c.inside(true, c.password))
	mux.HandleFunc("GET /r/network", c.inside(false, c.network))
	mux.HandleFunc("PUT /r/network", c.inside(false, c.setNetwork))
	mux.HandleFunc("PUT /r/name", c.inside(false, c.setName))
	mux.HandleFunc("GET /r/recording", c.inside(false, c.recording))
	mux.HandleFunc("PUT /r/recording", c.inside(false, c.setRecording))
	mux.HandleFunc("GET /r/licence", c.inside(false, c.licence))
	mux.HandleFunc("PUT /r/licence", c.inside(false, c.setLicence))
	mux.HandleFunc("GET /r/services", c.inside(false, c.services))
	mux.HandleFunc("PUT /r/services", c.inside(false, c.setServices))
	mux.HandleFunc("POST /r/restart", c.inside(false, func(w http.ResponseWriter, r *http.Request) {
		c.Witness("write", "restart")
		box.JSON(w, http.StatusAccepted, map[string]string{"status": "restarting"})
		c.RestartSoon(r)
	}))
	return mux
}

func (c *recorder) nonce(w http.ResponseWriter, _ *http.Request) {
	n := rand.Text()
	c.mu.Lock()
	c.nonces[n] = true
	c.mu.Unlock()
	box.JSON(w, http.StatusOK, map[string]string{"nonce": n})
}

// proof is what shows that somebody knows a password.
func proof(user, nonce, password string) string {
	inner := sha256.Sum256([]byte(password))
	outer := sha256.Sum256([]byte(user + ":" + nonce + ":" + hex.EncodeToString(inner[:])))
	return hex.EncodeToString(outer[:])
}

func (c *recorder) enter(w http.ResponseWriter, r *http.Request) {
	var in struct{ User, Nonce, Proof string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	c.mu.Lock()
	known := c.nonces[in.Nonce]
	delete(c.nonces, in.Nonce)
	c.mu.Unlock()
	now := c.Running().Password
	good := known && in.User == User && in.Proof == proof(User, in.Nonce, now)
	password := "another" // of which a proof tells nothing
	if good {
		password = now
	}
	if c.Tried(in.User, password, good); !good {
		box.Refuse(w, http.StatusUnauthorized, "wrong user or password")
		return
	}
	token := rand.Text()
	c.mu.Lock()
	c.tokens[token] = time.Now()
	c.mu.Unlock()
	box.JSON(w, http.StatusOK, map[string]string{"token": token})
}

// inside lets in whose token did not lapse and, unless fresh is allowed, only once the
// factory password is gone.
func (c *recorder) inside(fresh bool, h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Recorder ")
		c.mu.Lock()
		began, known := c.tokens[token]
		c.mu.Unlock()
		switch {
		case !known || time.Since(began) > c.Scaled(Token):
			box.Refuse(w, http.StatusUnauthorized, "sign in")
		case !fresh && c.Running().Password == FactoryPassword:
			box.Refuse(w, http.StatusForbidden, "change the factory password first")
		default:
			h(w, r)
		}
	}
}

func (c *recorder) password(w http.ResponseWriter, r *http.Request) {
	var in struct{ New string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if err := passwords.Check(in.New); err != nil || c.Has().RefusesPassword {
		box.Refuse(w, http.StatusUnprocessableEntity, "this password is not allowed")
		return
	}
	c.Witness("write", "password "+in.New)
	c.Change(func(s *box.Settings) { s.Password = in.New })
	c.Store(func(s *box.Settings) { s.Password = in.New })
	w.WriteHeader(http.StatusNoContent)
}

// network tells what it has, and what its services think that it has: those learn it at
// their start.
func (c *recorder) network(w http.ResponseWriter, _ *http.Request) {
	s, start := c.Running(), c.AtStart()
	own := s.Own.(Own)
	box.JSON(w, http.StatusOK, map[string]any{
		"name": s.Name, "address": box.AddrText(s.Address.Addr()), "mask": box.Mask(s.Address),
		"gateway": box.AddrText(s.Gateway), "second": own.Second,
		"services": map[string]string{"name": start.Name, "address": box.AddrText(start.Address.Addr())},
	})
}

// services tells how many start by themselves, and how many run: those that did so at its start.
func (c *recorder) services(w http.ResponseWriter, _ *http.Request) {
	count := func(s box.Settings) string {
		n := fewServes
		if s.Own.(Own).Services == "yes" {
			n = Services
		}
		return fmt.Sprintf("%d of %d", n, Services)
	}
	box.JSON(w, http.StatusOK, map[string]string{"automatic": count(c.Running()), "running": count(c.AtStart())})
}

func (c *recorder) setServices(w http.ResponseWriter, r *http.Request) {
	var in struct{ Start string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if in.Start != "automatic" {
		box.Refuse(w, http.StatusUnprocessableEntity, "start is automatic")
		return
	}
	c.Witness("write", "services automatic")
	c.keep(func(o *Own) { o.Services = "yes" })
	w.WriteHeader(http.StatusNoContent)
}

func (c *recorder) setNetwork(w http.ResponseWriter, r *http.Request) {
	var in struct{ Address, Mask, Gateway, Second string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	at, via, err := box.Network(in.Address, in.Mask, in.Gateway)
	second, err2 := netip.ParsePrefix(in.Second)
	if err != nil || in.Second != "" && err2 != nil {
		box.Refuse(w, http.StatusUnprocessableEntity, "an address is wrong")
		return
	}
	c.Witness("write", fmt.Sprintf("address %s %s, second %s", at, via, in.Second))
	c.Store(func(s *box.Settings) {
		own := s.Own.(Own)
		own.Second = in.Second
		s.Address, s.Gateway, s.Own = at, via, own
		if in.Second != "" && second.Overlaps(at) {
			s.Address = netip.Prefix{} // it sends its answers out of the wrong port until it is reset
		}
	})
	box.JSON(w, http.StatusAccepted, map[string]string{"status": "restarting"})
	c.RestartSoon(r)
}

func (c *recorder) setName(w http.ResponseWriter, r *http.Request) {
	var in struct{ Name, Description string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if err := names.Check(in.Name); err != nil {
		box.Refuse(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	c.Witness("write", "name "+in.Name)
	c.Store(func(s *box.Settings) {
		own := s.Own.(Own)
		own.Licensed = "" // the host id changes with it
		s.Name, s.Own = in.Name, own
	})
	box.JSON(w, http.StatusAccepted, map[string]string{"status": "restarting"})
	c.RestartSoon(r)
}

func (c *recorder) recording(w http.ResponseWriter, _ *http.Request) {
	own := c.Running().Own.(Own)
	rows, _ := profile.ParseRows(own.Cameras) // it was taken as a table
	list := []map[string]string{}
	for _, row := range rows {
		stream := "rtsp://" + row["address"] + ":" + row["port"] + "/main"
		list = append(list, map[string]string{"name": row["name"], "address": row["address"], "port": row["port"],
			"user": row["user"], "login": picture.Got(c.Box, stream, row["user"], row["login"])})
	}
	box.JSON(w, http.StatusOK, map[string]any{"days": own.Days, "cameras": list})
}

func (c *recorder) setRecording(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Days    string
		Cameras []profile.Row
	}
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if n, err := strconv.Atoi(in.Days); err != nil || n < 1 || n > 90 || len(in.Cameras) > 16 {
		box.Refuse(w, http.StatusUnprocessableEntity, "1 to 90 days, and at most sixteen cameras")
		return
	}
	c.Witness("write", fmt.Sprint("recording ", in.Days, " ", in.Cameras))
	c.keep(func(o *Own) { o.Days, o.Cameras = in.Days, profile.RowsText(in.Cameras) })
	w.WriteHeader(http.StatusNoContent)
}

func (c *recorder) hostID() string { return HostID(c.Running().Name, c.MAC.String()) }

func (c *recorder) licence(w http.ResponseWriter, _ *http.Request) {
	accepted := map[bool]string{true: "yes", false: "no"}[c.Running().Own.(Own).Licensed == c.hostID()]
	box.JSON(w, http.StatusOK, map[string]string{"host": c.hostID(), "accepted": accepted})
}

// setLicence takes a licence for this very host.
func (c *recorder) setLicence(w http.ResponseWriter, r *http.Request) {
	if why := licence.Fits(r, "licence", c.Model.Maker, c.hostID()); why != "" {
		box.Refuse(w, http.StatusUnprocessableEntity, why)
		return
	}
	c.Witness("write", "licence")
	host := c.hostID()
	c.keep(func(o *Own) { o.Licensed = host })
	w.WriteHeader(http.StatusNoContent)
}

func (c *recorder) keep(f func(*Own)) {
	set := func(s *box.Settings) {
		own := s.Own.(Own)
		f(&own)
		s.Own = own
	}
	c.Change(set)
	c.Store(set)
}
