// Package fs8 simulates the Fennmark FS8 field switch: no address until one is
// given over DCP, then an HTTPS page whose first password must be set; what is
// set is lost at a power cut until it is saved.
package fs8

import (
	_ "embed"
	"fmt"
	"html"
	"html/template"
	"io"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/core/value"
	"redstart/internal/sim/box"
	"redstart/internal/sim/station"
)

//go:embed plan.csv
var plan []byte

// User is the one login name.
const User = "keeper"

// Own are the settings that only field switches have.
type Own struct {
	Server   string // of the time, by its address
	Firmware string // that it was given; "" for the one it came with
	VLAN     string // on which it is managed (IEEE 802.1Q); "" untagged
}

// Least is the firmware without which it takes no settings, old what some came with.
const (
	Least = "2.6.0"
	old   = "2.4.1"
)

// Factory is the state in which every switch leaves the factory.
var Factory = box.Settings{}

var (
	passwords = secret.Rules{Min: 8, Max: 24, Classes: 3, Refuse: []string{"admin"}}
	names     = naming.Rules{Max: 48, Case: "lower", Extra: "."}
)

// Model is the switch.
var Model = box.Model{Maker: "Fennmark Networks", Name: "FS8", Firmware: "2.6.0", Port: 443, TLS: true,
	Handler: handler, Frame: station.With(names)}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x46, 0x4e}, Serial: "FN8-%06d", Away: 2 * time.Second,
	Factory: box.Always(Factory),
	Short:   "SW", Kind: "switch", Profile: "fennmark-fs8", Plan: plan,
	Row: func(row map[string]string, b *box.Box, number int, _ bool) {
		row["management-vlan"] = "408"
		if number%3 == 1 {
			row["mac"] = b.MAC.String()
		}
	},
}

// own gives what only field switches have; a fresh one has nothing of it.
func own(s box.Settings) Own {
	o, _ := s.Own.(Own) // none of its own so far
	return o
}

// change changes what only field switches have.
func change(b *box.Box, what func(*Own)) {
	b.Change(func(s *box.Settings) {
		o := own(*s)
		what(&o)
		s.Own = o
	})
}

// version is that of its firmware.
func version(b *box.Box) string {
	switch given := own(b.Running()).Firmware; {
	case given != "":
		return given
	case b.Has().OldFirmware:
		return old
	}
	return b.Model.Firmware
}

// File is what a firmware file of a version holds.
func File(version string) string { return "FS8 firmware " + version + "\n" }

// uploaded reads the version of a firmware file that was sent; why says what is wrong with it.
func uploaded(r *http.Request) (next, why string) {
	r.Body = http.MaxBytesReader(nil, r.Body, 1<<20)
	f, _, err := r.FormFile("firmware")
	if err != nil {
		return "", "No file was sent."
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, 4096))
	next, ours := strings.CutPrefix(strings.TrimSpace(string(text)), "FS8 firmware ")
	if err != nil || !ours {
		return "", "This is no firmware of an FS8."
	}
	return next, ""
}

func handler(b *box.Box) http.Handler {
	gate := &box.Gate{Cookie: "fs8"}
	mux := http.NewServeMux()
	page := func(w http.ResponseWriter, status int, body template.HTML) {
		box.Page(w, status, "Fennmark FS8", "#a63", body)
	}
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		page(w, http.StatusOK, `<p>Field switch, eight ports. <a href="/settings">Settings</a></p>`)
	})
	mux.HandleFunc("GET /first-use", func(w http.ResponseWriter, r *http.Request) {
		if b.Running().Password != "" {
			page(w, http.StatusGone, `<p>A password is set already.</p>`)
			return
		}
		page(w, http.StatusOK,
			`<form method="post"><label>New password <input type="password" name="password"></label><label>Again <input type="password" name="again"></label><button>Set</button></form>`)
	})
	mux.HandleFunc("POST /first-use", func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4096)
		next := r.PostFormValue("password")
		err := passwords.Check(next)
		switch {
		case b.Running().Password != "":
			page(w, http.StatusGone, `<p class="refusal">A password is set already.</p>`)
		case b.Has().RefusesPassword:
			page(w, http.StatusUnprocessableEntity, `<p class="refusal">This password is not allowed.</p>`)
		case next != r.PostFormValue("again"):
			page(w, http.StatusUnprocessableEntity, `<p class="refusal">The two passwords differ.</p>`)
		case err != nil:
			page(w, http.StatusUnprocessableEntity, template.HTML(`<p class="refusal">`+html.EscapeString(err.Error())+
				`</p>`))
		default:
			b.Witness("write", "password "+next)
			b.Change(func(s *box.Settings) { s.Password = next })
			http.Redirect(w, r, "/", http.StatusSeeOther)
		}
	})
	mux.HandleFunc("POST /sign-in", func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4096)
		user, password := r.PostFormValue("user"), r.PostFormValue("password")
		good := password != "" && user == User && password == b.Running().Password
		if b.Tried(user, password, good); !good {
			page(w, http.StatusUnauthorized, `<p class="refusal">Wrong user or password.</p>`)
			return
		}
		gate.Admit(w)
		http.Redirect(w, r, "/settings", http.StatusSeeOther)
	})
	mux.HandleFunc("GET /settings", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		s := b.Running()
		kept := "no"
		if s == b.Saved() {
			kept = "yes"
		}
		page(w, http.StatusOK,
			template.HTML(fmt.Sprintf(`<dl><dt>Name</dt><dd id="name">%s</dd><dt>Address</dt><dd id="address">%s</dd><dt>Mask</dt><dd id="mask">%s</dd>
<dt>Gateway</dt><dd id="gateway">%s</dd><dt>Serial</dt><dd id="serial">%s</dd><dt>Firmware</dt><dd id="firmware">%s</dd><dt>Time server</dt><dd id="ntp">%s</dd><dt>Clock</dt><dd id="clock">%s</dd><dt>Management VLAN</dt><dd id="vlan">%s</dd><dt>Saved</dt><dd id="saved">%s</dd><dt>Running for</dt><dd><span id="uptime">%s</span> s</dd></dl>`,
				html.EscapeString(s.Name), s.Address.Addr(), box.Mask(s.Address), box.AddrText(s.Gateway), b.Serial,
				version(b), html.EscapeString(own(s).Server), b.Clock().UTC().Format(time.RFC3339), own(s).VLAN, kept, b.Uptime())))
	}))
	mux.HandleFunc("GET /spurs", gate.Inside(func(w http.ResponseWriter, _ *http.Request) {
		page(w, http.StatusOK, template.HTML(spurs(b)))
	}))
	mux.HandleFunc("POST /settings/password", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4096)
		next := r.PostFormValue("new")
		err := passwords.Check(next)
		switch {
		case r.PostFormValue("old") != b.Running().Password:
			page(w, http.StatusUnprocessableEntity, `<p class="refusal">The old password is wrong.</p>`)
		case b.Has().RefusesPassword:
			page(w, http.StatusUnprocessableEntity, `<p class="refusal">This password is not allowed.</p>`)
		case err != nil:
			page(w, http.StatusUnprocessableEntity, template.HTML(`<p class="refusal">`+html.EscapeString(err.Error())+
				`</p>`))
		default:
			b.Witness("write", "password "+next)
			b.Change(func(s *box.Settings) { s.Password = next })
			http.Redirect(w, r, "/settings", http.StatusSeeOther)
		}
	}))
	mux.HandleFunc("POST /settings/time", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4096)
		server := r.PostFormValue("server")
		at, err := time.Parse(time.RFC3339, r.PostFormValue("clock"))
		if a, err2 := netip.ParseAddr(server); err != nil || server != "" && (err2 != nil || !a.Is4()) {
			page(w, http.StatusUnprocessableEntity, `<p class="refusal">The time server is given by its address.</p>`)
			return
		}
		if value.CompareVersions(version(b), Least) < 0 {
			page(w, http.StatusConflict, `<p class="refusal">Update the firmware to `+Least+` first.</p>`)
			return
		}
		b.Witness("write", "time "+server)
		b.SetClock(at)
		change(b, func(o *Own) { o.Server = server })
		http.Redirect(w, r, "/settings", http.StatusSeeOther)
	}))
	mux.HandleFunc("POST /settings/vlan", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4096)
		vlan := r.PostFormValue("vlan")
		if n, err := strconv.ParseUint(vlan, 10, 16); vlan != "" && (err != nil || n < 1 || n > 4094) {
			page(w, http.StatusUnprocessableEntity, `<p class="refusal">A VLAN is a number from 1 to 4094.</p>`)
			return
		}
		if value.CompareVersions(version(b), Least) < 0 {
			page(w, http.StatusConflict, `<p class="refusal">Update the firmware to `+Least+` first.</p>`)
			return
		}
		b.Witness("write", "vlan "+vlan)
		change(b, func(o *Own) { o.VLAN = vlan })
		http.Redirect(w, r, "/settings", http.StatusSeeOther)
	}))
	mux.HandleFunc("POST /settings/firmware", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		next, why := uploaded(r)
		if why != "" {
			page(w, http.StatusUnprocessableEntity, template.HTML(`<p class="refusal">`+html.EscapeString(why)+`</p>`))
			return
		}
		// It keeps what runs, and starts anew with it.
		b.Witness("write", "firmware "+next)
		change(b, func(o *Own) { o.Firmware = next })
		b.Save()
		page(w, http.StatusAccepted, `<p>Restarting.</p>`)
		b.RestartSoon(r)
	}))
	mux.HandleFunc("POST /settings/save", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		b.Witness("write", "save")
		b.Save()
		http.Redirect(w, r, "/settings", http.StatusSeeOther)
	}))
	mux.HandleFunc("POST /settings/restart", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		b.Witness("write", "restart")
		page(w, http.StatusAccepted, `<p>Restarting.</p>`)
		b.RestartSoon(r)
	}))
	return mux
}
