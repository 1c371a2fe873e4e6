// Package forms simulates what many boxes have: a web server with pages of fields behind a
// login, whose first password is set at first use or known from the factory.
package forms

import (
	"cmp"
	"fmt"
	"html"
	"html/template"
	"net/http"
	"strings"

	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
)

// Effect is when what a page takes comes into force.
type Effect int

// Effects.
const (
	Kept     Effect = iota // at once, and it survives a power cut
	Unsaved                // at once, and a power cut brings back what was before
	Staged                 // with the next restart
	Restarts               // with a restart that the device makes by itself
	Moves                  // at once, at a new address, and a power cut brings back what was before
)

// Page is one page of the site.
type Page struct {
	Path   string
	Effect Effect
	// Show lists what the page shows, by the names of its fields.
	Show func(*box.Box) [][2]string
	// Take takes what was typed.
	Take func(s *box.Settings, typed func(field string) string) error
	// Fields are the names of those that it takes.
	Fields []string
}

// Site is the web server of a model.
type Site struct {
	Title, Colour string
	Text          string // of its first page
	User          string // of the one login; "" for a password alone
	Passwords     secret.Rules
	// First says that the first password is set at first use; if not, the factory's is taken.
	First string // what its page says then
	Fresh string // what its title ends in until then; "": first use
	// Untouched says whether nobody set it yet, for a model that has a factory login.
	Untouched func(b *box.Box) bool
	// Recovery says that a mail address for a lost password belongs to it.
	Recovery bool
	// MayFirst says whether the first password may be set now; nil: always.
	MayFirst func(b *box.Box) bool
	// Login says whether a login is taken now; nil: that of User is, with the password.
	Login func(b *box.Box, user, password string) bool
	// About adds to what it tells of itself.
	About func(b *box.Box) [][2]string
	// AboutInside tells who it is only to who is signed in.
	AboutInside bool
	Pages       []Page
	// More adds what else the model serves.
	More func(b *box.Box, mux *http.ServeMux, gate *box.Gate)
}

type server struct {
	*Site
	*box.Box
	gate box.Gate
}

// Handler makes the web server of a device.
func (s *Site) Handler(b *box.Box) http.Handler {
	v := &server{Site: s, Box: b, gate: box.Gate{Cookie: strings.ToUpper(b.Model.Name) + "-IN"}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", v.front)
	about := http.HandlerFunc(v.about)
	if s.AboutInside {
		about = v.gate.Inside(v.about)
	}
	mux.HandleFunc("GET /about", about)
	mux.HandleFunc("GET /first", v.first)
	mux.HandleFunc("POST /first", v.first)
	mux.HandleFunc("POST /enter", v.enter)
	mux.HandleFunc("GET /inside", v.gate.Inside(v.about))
	mux.HandleFunc("POST /password", v.gate.Inside(v.password))
	mux.HandleFunc("POST /save", v.gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		b.Witness("write", "save")
		b.Save()
		http.Redirect(w, r, "/inside", http.StatusSeeOther)
	}))
	mux.HandleFunc("POST /restart", v.gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		b.Witness("write", "restart")
		v.show(w, http.StatusAccepted, "<p>Restarting.</p>")
		b.RestartSoon(r)
	}))
	for _, p := range s.Pages {
		mux.HandleFunc("GET "+p.Path, v.gate.Inside(func(w http.ResponseWriter, r *http.Request) {
			v.list(w, p.Show(b))
		}))
		mux.HandleFunc("POST "+p.Path, v.gate.Inside(func(w http.ResponseWriter, r *http.Request) { v.take(w, r, p) }))
	}
	if s.More != nil {
		s.More(b, mux, &v.gate)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Server", b.Model.Maker+" web")
		mux.ServeHTTP(w, r)
	})
}

// fresh reports whether no password was ever set.
func (v *server) fresh() bool { return v.First != "" && v.Running().Password == "" }

func (v *server) show(w http.ResponseWriter, status int, body template.HTML) {
	title := v.Title
	if v.fresh() || v.Untouched != nil && v.Untouched(v.Box) {
		title += ": " + cmp.Or(v.Site.Fresh, "first use")
	}
	box.Page(w, status, title, v.Colour, body)
}

func (v *server) refuse(w http.ResponseWriter, status int, why string) {
	v.show(w, status, template.HTML(`<p class="refusal">`+html.EscapeString(why)+`</p>`))
}

func (v *server) list(w http.ResponseWriter, pairs [][2]string) {
	var body strings.Builder
	body.WriteString("<dl>")
	for _, p := range pairs {
		fmt.Fprintf(&body, `<dt>%s</dt><dd id="%s">%s</dd>`, html.EscapeString(p[0]), html.EscapeString(p[0]),
			html.EscapeString(p[1]))
	}
	body.WriteString("</dl>")
	v.show(w, http.StatusOK, template.HTML(body.String()))
}

func (v *server) front(w http.ResponseWriter, r *http.Request) {
	text := v.Text
	if v.fresh() {
		text = v.First
	}
	scheme := map[bool]string{false: "http", true: "https"}[v.Model.TLS]
	// Like many, it writes its own whole address into its links.
	v.show(w, http.StatusOK, template.HTML(fmt.Sprintf(`%s <p><a href="%s://%s/">Home</a></p>`,
		html.EscapeString(text), scheme, html.EscapeString(r.Host))))
}

func (v *server) about(w http.ResponseWriter, r *http.Request) {
	list := [][2]string{{"model", v.Model.Name}, {"serial", v.Serial}, {"firmware", v.Model.Firmware},
		{"uptime", v.Uptime()}}
	if v.Site.About != nil {
		list = append(list, v.Site.About(v.Box)...)
	}
	v.list(w, list)
}

// first is the page of the first use; once a password is set it is gone.
func (v *server) first(w http.ResponseWriter, r *http.Request) {
	switch {
	case !v.fresh():
		v.refuse(w, http.StatusGone, "It was set up already.")
	case v.MayFirst != nil && !v.MayFirst(v.Box):
		v.refuse(w, http.StatusForbidden, "Press the button first.")
	case r.Method == http.MethodGet:
		v.front(w, r)
	default:
		next := r.PostFormValue("password")
		mail := r.PostFormValue("mail")
		switch err := v.Passwords.Check(next); {
		case err != nil:
			v.refuse(w, http.StatusUnprocessableEntity, err.Error())
		case v.Has().RefusesPassword:
			v.refuse(w, http.StatusUnprocessableEntity, "This password is not allowed.")
		case next != r.PostFormValue("again"):
			v.refuse(w, http.StatusUnprocessableEntity, "The two differ.")
		case v.Recovery && !strings.Contains(mail, "@"):
			v.refuse(w, http.StatusUnprocessableEntity, "A mail address is needed.")
		default:
			v.setPassword(next)
			http.Redirect(w, r, "/", http.StatusSeeOther)
		}
	}
}

func (v *server) setPassword(next string) {
	v.Witness("write", "password "+next)
	v.Change(func(s *box.Settings) { s.Password = next })
	v.Store(func(s *box.Settings) { s.Password = next })
}

func (v *server) enter(w http.ResponseWriter, r *http.Request) {
	user, password := r.PostFormValue("user"), r.PostFormValue("password")
	good := user == v.User && password == v.Running().Password && password != ""
	if v.Login != nil {
		good = v.Login(v.Box, user, password)
	}
	good = good || v.Has().TakesAny && v.Running().Password != "" && password != v.Spec.Factory.Password
	v.Tried(user, password, good)
	if !good {
		v.refuse(w, http.StatusUnauthorized, "Wrong user or password.")
		return
	}
	v.gate.Admit(w)
	http.Redirect(w, r, "/inside", http.StatusSeeOther)
}

func (v *server) password(w http.ResponseWriter, r *http.Request) {
	next := r.PostFormValue("new")
	switch err := v.Passwords.Check(next); {
	case r.PostFormValue("old") != v.Running().Password:
		v.refuse(w, http.StatusUnprocessableEntity, "The old password is wrong.")
	case v.Has().RefusesPassword:
		v.refuse(w, http.StatusUnprocessableEntity, "This password is not allowed.")
	case err != nil:
		v.refuse(w, http.StatusUnprocessableEntity, err.Error())
	default:
		v.setPassword(next)
		http.Redirect(w, r, "/inside", http.StatusSeeOther)
	}
}

func (v *server) take(w http.ResponseWriter, r *http.Request, p Page) {
	now := v.Running()
	if p.Effect == Staged || p.Effect == Restarts {
		now = v.Saved()
	}
	if err := p.Take(&now, r.PostFormValue); err != nil {
		v.refuse(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	var said []string
	for _, f := range p.Fields {
		said = append(said, f+"="+r.PostFormValue(f))
	}
	v.Witness("write", p.Path+" "+strings.Join(said, " "))
	apply := func(s *box.Settings) { _ = p.Take(s, r.PostFormValue) } // it was taken before
	switch p.Effect {
	case Kept:
		v.Change(apply)
		v.Store(apply)
	case Unsaved:
		v.Change(apply)
	case Moves:
		v.Change(apply)
		v.ReaddressSoon(r)
	case Staged, Restarts:
		v.Store(apply)
	}
	if p.Effect != Restarts {
		http.Redirect(w, r, p.Path, http.StatusSeeOther)
		return
	}
	if v.Has().Mute {
		v.Restart()
		<-r.Context().Done() // the connection ends with the restart
		return
	}
	v.show(w, http.StatusAccepted, "<p>Restarting.</p>")
	v.RestartSoon(r)
}
