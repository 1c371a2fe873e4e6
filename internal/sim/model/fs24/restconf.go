package fs24

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/profile"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
)

// User is the one login name.
const User = "keeper"

const (
	root     = "/restconf"
	yangJSON = "application/yang-data+json"
)

var passwords = secret.Rules{Min: 8, Max: 24, Classes: 3, Refuse: []string{"admin"}}

// fault is an error of RESTCONF (RFC 8040, 7.1), by its tag.
type fault struct {
	status             int
	tag, path, message string
}

func (f *fault) Error() string { return f.tag + ": " + f.message }

func refuse(status int, tag, path, format string, args ...any) *fault {
	return &fault{status, tag, path, fmt.Sprintf(format, args...)}
}

// resource is one data resource: its name in a body, what it is, and what it takes.
type resource struct {
	name  string
	tell  func(*box.Box) any
	merge func(*box.Box, json.RawMessage) error // PATCH (RFC 8040, 4.6); nil: it is only read
}

// handler is the web server: a page, and RESTCONF (RFC 8040) with ietf-system (RFC 7317),
// ietf-interfaces (RFC 8343), ietf-ip (RFC 8344) and a module of the maker. What is set is
// kept at once (RFC 8040, 1.4).
func handler(b *box.Box) http.Handler {
	mux := http.NewServeMux()
	mux.Handle("GET /{$}", box.FrontPage("Fennmark FS24", "#a63", "Managed switch, twenty-four ports.")(b))
	mux.HandleFunc("GET /.well-known/host-meta", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/xrd+xml")
		_, _ = io.WriteString(w, `<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0"><Link rel="restconf" href="`+
			root+`"/></XRD>`) // whoever asked may have gone
	})
	mux.HandleFunc(root+"/", func(w http.ResponseWriter, r *http.Request) {
		user, given, shown := r.BasicAuth()
		if !shown || !mayEnter(b, user, given) {
			w.Header().Set("WWW-Authenticate", `Basic realm="FS24"`)
			fail(w, refuse(http.StatusUnauthorized, "access-denied", "", "who are you?"))
			return
		}
		if err := serve(b, w, r); err != nil {
			fail(w, err)
		}
	})
	return mux
}

// password is what opens it: the serial on its label, case-sensitive, until another is set.
func password(b *box.Box) string { return cmp.Or(b.Running().Password, b.Label) }

func mayEnter(b *box.Box, user, given string) bool {
	good := user == User && given == password(b)
	b.Tried(user, given, good)
	return good
}

func fail(w http.ResponseWriter, err error) {
	f, ok := err.(*fault)
	if !ok {
		f = refuse(http.StatusBadRequest, "invalid-value", "", "%s", err)
	}
	w.Header().Set("Content-Type", yangJSON)
	w.WriteHeader(f.status)
	entry := map[string]string{"error-type": "application", "error-tag": f.tag}
	if f.path != "" {
		entry["error-path"] = f.path
	}
	if f.message != "" {
		entry["error-message"] = f.message
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"ietf-restconf:errors": map[string]any{"error": []any{entry}}})
}

func serve(b *box.Box, w http.ResponseWriter, r *http.Request) error {
	if accepts := r.Header.Get("Accept"); accepts != "" && !strings.Contains(accepts, "json") &&
		!strings.Contains(accepts, "*/*") {
		w.WriteHeader(http.StatusNotAcceptable)
		return nil
	}
	for name := range r.URL.Query() {
		if name != "content" && name != "depth" && name != "fields" {
			return refuse(http.StatusBadRequest, "invalid-value", "", "there is no query parameter %s", name)
		}
	}
	path := strings.TrimPrefix(r.URL.EscapedPath(), root+"/")
	if path == "" {
		return tell(w, r, "ietf-restconf:restconf", map[string]any{"data": map[string]any{},
			"operations":           map[string]any{"ietf-system:system-restart": []any{nil}},
			"yang-library-version": "2019-01-04"})
	}
	if name, is := strings.CutPrefix(path, "operations/"); is {
		return operate(b, w, r, name)
	}
	name, is := strings.CutPrefix(path, "data/")
	if !is {
		return refuse(http.StatusNotFound, "invalid-value", "", "there is no %s", path)
	}
	at, err := find(b, name)
	if err != nil {
		return err
	}
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		return tell(w, r, at.name, at.tell(b))
	case http.MethodPatch, http.MethodPut:
		return change(b, w, r, at)
	}
	w.Header().Set("Allow", "GET, HEAD, PUT, PATCH")
	return refuse(http.StatusMethodNotAllowed, "operation-not-supported", "", "%s is not for this", r.Method)
}

// tag is the entity tag of what a resource holds now (RFC 8040, 3.5.2).
func tag(content any) string {
	body, _ := json.Marshal(content) // what we tell always encodes
	sum := sha256.Sum256(body)
	return `"` + hex.EncodeToString(sum[:8]) + `"`
}

func tell(w http.ResponseWriter, r *http.Request, name string, content any) error {
	w.Header().Set("Content-Type", yangJSON)
	w.Header().Set("Cache-Control", "no-cache")
	w.Header().Set("ETag", tag(content))
	if r.Method == http.MethodHead {
		return nil
	}
	return json.NewEncoder(w).Encode(map[string]any{name: content})
}

func change(b *box.Box, w http.ResponseWriter, r *http.Request, at resource) error {
	match := r.Header.Get("If-Match")
	switch {
	case at.merge == nil:
		return refuse(http.StatusMethodNotAllowed, "operation-not-supported", "", "this is only told")
	case !strings.HasPrefix(r.Header.Get("Content-Type"), yangJSON):
		w.WriteHeader(http.StatusUnsupportedMediaType)
		return nil
	case match != "" && match != "*" && match != tag(at.tell(b)):
		w.WriteHeader(http.StatusPreconditionFailed)
		return nil
	}
	body, err := read(r, at.name)
	if err != nil {
		return err
	}
	if err := at.merge(b, body); err != nil {
		return err
	}
	w.Header().Set("ETag", tag(at.tell(b)))
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// read takes the one member of a body that it must have.
func read(r *http.Request, name string) (json.RawMessage, error) {
	var body map[string]json.RawMessage
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&body); err != nil {
		return nil, refuse(http.StatusBadRequest, "malformed-message", "", "that is no JSON")
	}
	if len(body) != 1 || body[name] == nil {
		return nil, refuse(http.StatusBadRequest, "malformed-message", "", "the body must be %s", name)
	}
	return body[name], nil
}

// into reads what a resource takes; a member that it does not know is refused, and so is one
// of another type (RFC 7951, 6).
func into[T any](raw json.RawMessage, at string) (T, error) {
	var v T
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	switch err := d.Decode(&v); {
	case err == nil:
		return v, nil
	case strings.Contains(err.Error(), "unknown field"):
		return v, refuse(http.StatusBadRequest, "unknown-element", at, "%s", strings.TrimPrefix(err.Error(), "json: "))
	default:
		return v, refuse(http.StatusBadRequest, "invalid-value", at, "a value has the wrong type")
	}
}

// find looks a resource up by its path.
func find(b *box.Box, path string) (resource, error) {
	if at, ok := resources[path]; ok {
		return at, nil
	}
	if list, key, ok := strings.Cut(path, "="); ok {
		switch list {
		case "ietf-interfaces:interfaces/interface":
			if key == "management" {
				return resource{"ietf-interfaces:interface", func(b *box.Box) any { return []any{face(b)} }, nil}, nil
			}
		case "ietf-system:system/authentication/user":
			if key == User {
				return resource{"ietf-system:user", func(*box.Box) any { return []any{map[string]string{"name": User}} },
					takePassword}, nil
			}
		case "fennmark-switch:ports/port":
			if n, err := strconv.Atoi(key); err == nil && n >= 1 && n <= ports {
				return resource{"fennmark-switch:port", func(b *box.Box) any { return []any{portsOf(b)[n-1]} },
					func(b *box.Box, raw json.RawMessage) error { return takePort(b, raw, n) }}, nil
			}
		}
	}
	return resource{}, refuse(http.StatusNotFound, "invalid-value", "/"+path, "there is no such thing")
}

var resources = map[string]resource{
	"ietf-system:system":                {"ietf-system:system", system, takeSystem},
	"ietf-system:system-state":          {"ietf-system:system-state", state, nil},
	"ietf-interfaces:interfaces":        {"ietf-interfaces:interfaces", func(b *box.Box) any { return map[string]any{"interface": []any{face(b)}} }, nil},
	"fennmark-switch:unit":              {"fennmark-switch:unit", unit, nil},
	"fennmark-switch:configuration":     {"fennmark-switch:configuration", configuration, nil},
	"fennmark-switch:ports":             {"fennmark-switch:ports", func(b *box.Box) any { return map[string]any{"port": portsOf(b)} }, nil},
	"fennmark-switch:management":        {"fennmark-switch:management", management, takeManagement},
	"fennmark-switch:services":          {"fennmark-switch:services", services, takeServices},
	"fennmark-switch:redundancy":        {"fennmark-switch:redundancy", func(b *box.Box) any { return map[string]any{"ring": ownOf(b).Ring} }, takeRing},
	"fennmark-switch:data-network":      {"fennmark-switch:data-network", dataNetwork, takeDataNetwork},
	"ietf-system:system/dns-resolver":   {"ietf-system:dns-resolver", func(b *box.Box) any { return system(b).(map[string]any)["dns-resolver"] }, nil},
	"ietf-interfaces:interfaces-state":  {"ietf-interfaces:interfaces-state", func(*box.Box) any { return map[string]any{} }, nil},
	"ietf-system:system/authentication": {"ietf-system:authentication", func(*box.Box) any { return map[string]any{"user": []any{map[string]string{"name": User}}} }, nil},
}

func operate(b *box.Box, w http.ResponseWriter, r *http.Request, name string) error {
	if r.Method != http.MethodPost {
		return refuse(http.StatusMethodNotAllowed, "operation-not-supported", "", "operations are posted")
	}
	switch name {
	case "ietf-system:system-restart": // RFC 7317, 3.5.3
		b.Witness("write", "restart")
		w.WriteHeader(http.StatusNoContent)
		b.RestartSoon(r)
		return nil
	case "fennmark-switch:load-configuration":
		return load(b, w, r)
	case "ietf-system:set-current-datetime":
		body, err := read(r, "ietf-system:input")
		if err != nil {
			return err
		}
		in, err := into[struct {
			Now time.Time `json:"current-datetime"`
		}](body, "/"+name)
		if err != nil {
			return err
		}
		if ownOf(b).NTPOn {
			return refuse(http.StatusConflict, "operation-failed", "", "its clock follows a time server (ntp-active)")
		}
		b.Witness("write", "clock")
		b.SetClock(in.Now)
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	return refuse(http.StatusNotFound, "operation-not-supported", "", "there is no operation %s", name)
}

// keep alters what only this model has; it is kept at once.
func keep(b *box.Box, what string, f func(*Own)) {
	b.Witness("write", what)
	b.Change(func(s *box.Settings) {
		own, _ := s.Own.(Own)
		f(&own)
		s.Own = own
	})
	b.Save()
}

func ownOf(b *box.Box) Own {
	own, _ := b.Running().Own.(Own)
	return own
}

func face(b *box.Box) any {
	s := b.Running()
	return map[string]any{"name": "management", "type": "iana-if-type:l3ipvlan", "enabled": true,
		"ietf-ip:ipv4": map[string]any{"enabled": true, "address": []any{map[string]any{"ip": s.Address.Addr().String(),
			"prefix-length": s.Address.Bits()}}}, "fennmark-switch:gateway": box.AddrText(s.Gateway)}
}

func unit(b *box.Box) any {
	return map[string]any{"model": b.Model.Name, "serial": b.Serial, "uptime": b.Uptime(),
		"loaded": map[bool]string{true: "yes", false: "no"}[ownOf(b).Loaded]}
}

func state(b *box.Box) any {
	return map[string]any{
		"platform": map[string]any{"os-name": "fennmark", "os-release": b.Model.Firmware, "machine": b.Model.Name},
		"clock":    map[string]any{"current-datetime": b.Clock().Format(time.RFC3339)},
	}
}

func system(b *box.Box) any {
	s, own := b.Running(), ownOf(b)
	servers := func(list string) []any {
		out := []any{}
		for i, a := range strings.Fields(list) {
			out = append(out, map[string]any{"name": strconv.Itoa(i + 1), "udp": map[string]any{"address": a}})
		}
		return out
	}
	resolvers := []any{}
	for i, a := range strings.Fields(own.DNS) {
		resolvers = append(resolvers, map[string]any{"name": strconv.Itoa(i + 1), "udp-and-tcp": map[string]any{"address": a}})
	}
	return map[string]any{
		"hostname": s.Name, "clock": map[string]any{"timezone-name": cmp.Or(own.Zone, "Etc/UTC")},
		"ntp":          map[string]any{"enabled": own.NTPOn, "server": servers(own.NTP)},
		"dns-resolver": map[string]any{"search": strings.Fields(own.Domain), "server": resolvers},
	}
}

// takeSystem merges into ietf-system:system: lists are those of RFC 7317, by their names.
func takeSystem(b *box.Box, raw json.RawMessage) error {
	type server struct {
		Name string `json:"name"`
		UDP  *struct {
			Address string `json:"address"`
		} `json:"udp"`
		Both *struct {
			Address string `json:"address"`
		} `json:"udp-and-tcp"`
	}
	in, err := into[struct {
		Hostname *string `json:"hostname"`
		Clock    *struct {
			Zone string `json:"timezone-name"`
		} `json:"clock"`
		NTP *struct {
			Enabled *bool    `json:"enabled"`
			Server  []server `json:"server"`
		} `json:"ntp"`
		DNS *struct {
			Search []string `json:"search"`
			Server []server `json:"server"`
		} `json:"dns-resolver"`
	}](raw, "/ietf-system:system")
	if err != nil {
		return err
	}
	if in.Hostname != nil {
		if err := names.Check(*in.Hostname); err != nil {
			return refuse(http.StatusBadRequest, "invalid-value", "/ietf-system:system/hostname", "%s", err)
		}
	}
	if in.Clock != nil && !profile.IsZone(in.Clock.Zone) {
		return refuse(http.StatusBadRequest, "invalid-value", "/ietf-system:system/clock", "no such time zone")
	}
	addresses := func(list []server) (string, error) {
		var out []string
		for _, s := range list {
			at := s.UDP
			if at == nil {
				at = s.Both
			}
			if at == nil || at.Address == "" {
				continue
			}
			if _, err := netip.ParseAddr(at.Address); err != nil || s.Name == "" {
				return "", refuse(http.StatusBadRequest, "invalid-value", "/ietf-system:system", "no such address")
			}
			out = append(out, at.Address)
		}
		return strings.Join(out, " "), nil
	}
	var ntp, dns string
	if in.NTP != nil {
		if ntp, err = addresses(in.NTP.Server); err != nil {
			return err
		}
	}
	if in.DNS != nil {
		if dns, err = addresses(in.DNS.Server); err != nil {
			return err
		}
	}
	if in.Hostname != nil {
		b.Witness("write", "name "+*in.Hostname)
		b.Change(func(s *box.Settings) { s.Name = *in.Hostname })
	}
	keep(b, "system", func(own *Own) {
		if in.Clock != nil {
			own.Zone = in.Clock.Zone
		}
		if in.NTP != nil {
			if in.NTP.Enabled != nil {
				own.NTPOn = *in.NTP.Enabled
			}
			if in.NTP.Server != nil {
				own.NTP = ntp
			}
		}
		if in.DNS != nil {
			own.DNS, own.Domain = dns, strings.Join(in.DNS.Search, " ")
		}
	})
	return nil
}

func takePassword(b *box.Box, raw json.RawMessage) error {
	const at = "/ietf-system:system/authentication/user"
	in, err := into[[]struct {
		Name     string `json:"name"`
		Password string `json:"password"` // $0$ and the text (RFC 7317, crypt-hash)
	}](raw, at)
	switch {
	case err != nil:
		return err
	case len(in) != 1 || in[0].Name != User:
		return refuse(http.StatusBadRequest, "invalid-value", at, "one user at a time")
	case !strings.HasPrefix(in[0].Password, "$0$"):
		return refuse(http.StatusBadRequest, "invalid-value", at, "the password begins with $0$")
	}
	next := in[0].Password[3:]
	if err := passwords.Check(next); err != nil {
		return refuse(http.StatusBadRequest, "invalid-value", at, "%s", err)
	}
	if b.Has().RefusesPassword {
		return refuse(http.StatusBadRequest, "invalid-value", at, "this password is not allowed")
	}
	b.Witness("write", "password "+next)
	b.Change(func(s *box.Settings) { s.Password = next })
	b.Save()
	return nil
}
