// Package w1 simulates the Tidewell W1 radio gateway, which says nothing but at power-up: a
// user is registered at first use; a session lapses after five minutes; each page is
// submitted, saved and applied, and the gateway restarts each time; sensors join when their
// battery is taken out and put back.
package w1

import (
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"redstart/internal/core/label"
	"redstart/internal/core/naming"
	"redstart/internal/core/profile"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only radio gateways have.
type Own struct {
	User                              string
	Zone, Server                      string
	DNS                               string
	Region, Mode, Joining, Passphrase string
	Sensors                           string // a table, as profile.RowsText writes it
	Joined                            string // the EUIs of the sensors that joined, divided by spaces
}

// Session is how long somebody stays signed in.
const Session = 5 * time.Minute

// Factory is the state in which every gateway leaves the factory. strange is the one of this
// site: it was used elsewhere before, and has kept an address that nobody here knows.
var (
	own     = Own{Zone: "Etc/UTC", Joining: "off", Mode: "forward"}
	Factory = box.Settings{Name: "w1", Address: netip.MustParsePrefix("192.168.90.20/24"), Own: own}
	strange = box.Settings{Name: "mast-7", Address: netip.MustParsePrefix("172.23.7.9/28"), Own: own}
)

var (
	names     = naming.Rules{Max: 20, Case: "lower"}
	passwords = secret.Rules{Min: 8, Max: 20, Classes: 2}
	plain     = regexp.MustCompile(`^[A-Za-z0-9]{8,32}$`)
	eui       = regexp.MustCompile(`^[0-9A-Fa-f]{16}$`)
	regions   = []string{"EU868", "GB868", "US915", "AS923"}
)

// Model is the radio gateway.
var Model = box.Model{
	Maker: "Tidewell Gateways", Name: "W1", Firmware: "0.9", Port: 443, TLS: true, Handler: handler, Hand: hand,
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x02, 0x54, 0x57}, Serial: "TW1-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory), Short: "RAD", Kind: "radio gateway", Profile: "tidewell-w1", Plan: plan,
	Stands: []box.Stand{{Tag: "YARD-RAD-01", Boot: 4 * time.Second, Factory: &strange}},
	Row: func(row map[string]string, _ *box.Box, _ int, _ bool) {
		row["radio-region"] = "Europe"
	},
}

// SensorProfile is that of the sensors.
const SensorProfile = "tidewell-s3"

// JoinEUI is that of all the sensors here.
const JoinEUI = "0254570000000001"

// Cards is how many sensors came with the gateway, each with its card.
const Cards = 8

// EUI is that of the n-th sensor.
func EUI(n int) string { return fmt.Sprintf("02545753%08X", 0x51C30000+n*7) }

// KeyOf is the key of a sensor, which is on its card alone.
func KeyOf(eui string) string {
	sum := sha256.Sum256([]byte("S3 " + strings.ToUpper(eui)))
	return strings.ToUpper(hex.EncodeToString(sum[:16]))
}

// Card is what the code on the card of the n-th sensor holds (LoRa Alliance TR005, 3): its
// key is in the maker's own extension.
func Card(n int) string {
	text := fmt.Sprintf("LW:D0:%s:%s:02540003:STS3-%06d:PK%s", JoinEUI, EUI(n), 410+n, KeyOf(EUI(n)))
	return text + fmt.Sprintf(":C%04X", label.Checksum(text))
}

type gateway struct {
	*box.Box
	mu       sync.Mutex
	sessions map[string]time.Time // when each began
}

func handler(b *box.Box) http.Handler {
	g := &gateway{Box: b, sessions: map[string]time.Time{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		title := "Tidewell W1"
		if b.Running().Password == "" {
			title += ": registration"
		}
		box.FrontPage(title, "#468", "Radio gateway.")(b).ServeHTTP(w, r)
	})
	mux.HandleFunc("GET /v1/about", func(w http.ResponseWriter, r *http.Request) {
		box.JSON(w, http.StatusOK, map[string]string{"model": b.Model.Name, "serial": b.Serial,
			"firmware": b.Model.Firmware, "uptime": b.Uptime(), "waiting": fmt.Sprint(len(waiting(b)))})
	})
	mux.HandleFunc("GET /v1/register", g.register)
	mux.HandleFunc("POST /v1/register", g.register)
	mux.HandleFunc("POST /v1/session", g.enter)
	mux.HandleFunc("PUT /v1/password", g.inside(g.password))
	mux.HandleFunc("GET /v1/settings", g.inside(g.settings))
	for path, take := range map[string]func(*box.Settings, map[string]string, []profile.Row) error{
		"/v1/system": takeSystem, "/v1/network": takeNetwork, "/v1/radio": takeRadio,
	} {
		mux.HandleFunc("PUT "+path, g.inside(func(w http.ResponseWriter, r *http.Request) { g.page(w, r, path, take) }))
	}
	return mux
}

// waiting lists the sensors that did not join yet.
func waiting(b *box.Box) (list []string) {
	own := b.Running().Own.(Own)
	rows, _ := profile.ParseRows(own.Sensors) // it was taken as a table
	for _, row := range rows {
		if !slices.Contains(strings.Fields(own.Joined), row["eui"]) {
			list = append(list, row["eui"])
		}
	}
	return list
}

// hand takes the batteries of all sensors out and puts them back: those join whose key the
// gateway was given as it is on their card.
func hand(b *box.Box, instruction string) bool {
	if !strings.Contains(instruction, "battery") {
		return false
	}
	join := func(s *box.Settings) {
		own := s.Own.(Own)
		rows, _ := profile.ParseRows(own.Sensors) // it was taken as a table
		var list []string
		for _, row := range rows {
			if strings.EqualFold(row["key"], KeyOf(row["eui"])) {
				list = append(list, row["eui"])
			}
		}
		own.Joined = strings.Join(list, " ")
		s.Own = own
	}
	b.Change(join)
	b.Store(join)
	return true
}

// inside lets in whose session did not lapse.
func (g *gateway) inside(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		g.mu.Lock()
		began, known := g.sessions[r.Header.Get("X-Session")]
		g.mu.Unlock()
		if !known || time.Since(began) > g.Scaled(Session) {
			box.Refuse(w, http.StatusUnauthorized, "the session is over")
			return
		}
		h(w, r)
	}
}

func (g *gateway) register(w http.ResponseWriter, r *http.Request) {
	if g.Running().Password != "" {
		box.Refuse(w, http.StatusGone, "somebody is registered already")
		return
	}
	var in struct{ User, Password, Mail string }
	if r.Method == http.MethodGet {
		box.JSON(w, http.StatusOK, map[string]string{"state": "registration"})
		return
	}
	if !box.ReadJSON(w, r, &in) {
		return
	}
	switch err := passwords.Check(in.Password); {
	case err != nil:
		box.Refuse(w, http.StatusUnprocessableEntity, err.Error())
	case in.User == "" || !strings.Contains(in.Mail, "@"):
		box.Refuse(w, http.StatusUnprocessableEntity, "user and mail are needed")
	case g.Has().RefusesPassword:
		box.Refuse(w, http.StatusUnprocessableEntity, "this password is not allowed")
	default:
		g.keep(in.User, in.Password)
		w.WriteHeader(http.StatusNoContent)
	}
}

func (g *gateway) keep(user, password string) {
	g.Witness("write", "password "+password+" of "+user)
	set := func(s *box.Settings) {
		own := s.Own.(Own)
		own.User, s.Password = user, password
		s.Own = own
	}
	g.Change(set)
	g.Store(set)
}

func (g *gateway) enter(w http.ResponseWriter, r *http.Request) {
	var in struct{ User, Password string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	s := g.Running()
	good := s.Password != "" && in.User == s.Own.(Own).User && in.Password == s.Password
	if g.Tried(in.User, in.Password, good); !good {
		box.Refuse(w, http.StatusUnauthorized, "wrong user or password")
		return
	}
	session := rand.Text()
	g.mu.Lock()
	g.sessions[session] = time.Now()
	g.mu.Unlock()
	box.JSON(w, http.StatusOK, map[string]string{"session": session})
}

func (g *gateway) password(w http.ResponseWriter, r *http.Request) {
	var in struct{ Old, New string }
	if !box.ReadJSON(w, r, &in) {
		return
	}
	if err := passwords.Check(in.New); err != nil || in.Old != g.Running().Password {
		box.Refuse(w, http.StatusUnprocessableEntity, "the old password is wrong, or the new one is refused")
		return
	}
	g.keep(g.Running().Own.(Own).User, in.New)
	w.WriteHeader(http.StatusNoContent)
}

func (g *gateway) settings(w http.ResponseWriter, r *http.Request) {
	s := g.Running()
	own := s.Own.(Own)
	rows, _ := profile.ParseRows(own.Sensors) // it was taken as a table
	sensors := []map[string]string{}
	for _, row := range rows {
		joined := slices.Contains(strings.Fields(own.Joined), row["eui"])
		told := map[string]string{"eui": row["eui"], "join": row["join"], "label": row["label"], "joined": "no"}
		if joined {
			told["joined"], told["key"], told["model"], told["firmware"] = "yes", "yes", "S3", "1.4"
			told["heard"], told["battery"] = g.Clock().UTC().Format(time.RFC3339), "97"
		}
		sensors = append(sensors, told)
	}
	box.JSON(w, http.StatusOK, map[string]any{
		"name": s.Name, "zone": own.Zone, "server": own.Server, "clock": g.Clock().Format(time.RFC3339),
		"address": box.AddrText(s.Address.Addr()), "prefix": s.Address.Bits(), "gateway": box.AddrText(s.Gateway),
		"dns": own.DNS, "region": own.Region, "mode": own.Mode, "joining": own.Joining, "sensors": sensors,
	})
}

// page takes one page: it is saved and applied, and the gateway restarts.
func (g *gateway) page(w http.ResponseWriter, r *http.Request, path string,
	take func(*box.Settings, map[string]string, []profile.Row) error) {
	var in struct {
		Values  map[string]string
		Sensors []profile.Row
	}
	if !box.ReadJSON(w, r, &in) {
		return
	}
	next := g.Saved()
	if err := take(&next, in.Values, in.Sensors); err != nil {
		box.Refuse(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	if at, err := time.Parse(time.RFC3339, in.Values["clock"]); err == nil {
		g.SetClock(at)
		delete(in.Values, "clock")
	}
	g.Witness("write", fmt.Sprint(path, " ", in.Values, " ", in.Sensors))
	g.Store(func(s *box.Settings) { *s = next })
	box.JSON(w, http.StatusAccepted, map[string]string{"status": "saved; applying"})
	g.RestartSoon(r)
}

func takeSystem(s *box.Settings, v map[string]string, _ []profile.Row) error {
	if err := names.Check(v["name"]); err != nil {
		return err
	}
	if _, err := time.LoadLocation(v["zone"]); err != nil {
		return fmt.Errorf("there is no such zone")
	}
	own := s.Own.(Own)
	s.Name, own.Zone, own.Server = v["name"], v["zone"], v["server"]
	s.Own = own
	return nil
}

func takeNetwork(s *box.Settings, v map[string]string, _ []profile.Row) error {
	at, via, err := box.Network(v["address"], v["prefix"], v["gateway"])
	if err != nil {
		return err
	}
	own := s.Own.(Own)
	s.Address, s.Gateway, own.DNS = at, via, v["dns"]
	s.Own = own
	return nil
}

func takeRadio(s *box.Settings, v map[string]string, sensors []profile.Row) error {
	switch {
	case !slices.Contains(regions, v["region"]):
		return fmt.Errorf("there is no such region")
	case v["mode"] != "server" && v["mode"] != "forward", v["joining"] != "on" && v["joining"] != "off":
		return fmt.Errorf("mode or joining is wrong")
	case v["passphrase"] != "" && !plain.MatchString(v["passphrase"]):
		return fmt.Errorf("the passphrase is 8 to 32 letters and digits")
	}
	for _, row := range sensors {
		if !eui.MatchString(row["eui"]) || !eui.MatchString(row["join"]) {
			return fmt.Errorf("an EUI is 16 hexadecimal digits")
		}
	}
	own := s.Own.(Own)
	own.Region, own.Mode, own.Joining = v["region"], v["mode"], v["joining"]
	if v["passphrase"] != "" {
		own.Passphrase = v["passphrase"]
	}
	own.Sensors = ""
	if len(sensors) > 0 {
		own.Sensors = profile.RowsText(sensors)
	}
	s.Own = own
	return nil
}
