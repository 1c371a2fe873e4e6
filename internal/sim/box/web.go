package box

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"html/template"
	"io"
	"log"
	"math/big"
	"net/http"
	"sync"
	"time"
)

// quiet keeps the devices' web servers from writing to our log.
var quiet = log.New(io.Discard, "", 0)

// certificate is self-signed, made at the first start and kept.
type certificate struct {
	once sync.Once
	tls  *tls.Config
	err  error
}

func (c *certificate) config(name string) (*tls.Config, error) {
	c.once.Do(func() {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			c.err = err
			return
		}
		sheet := &x509.Certificate{
			SerialNumber: big.NewInt(time.Now().UnixNano()),
			Subject:      pkix.Name{CommonName: name},
			NotBefore:    time.Now().Add(-time.Hour),
			NotAfter:     time.Now().AddDate(20, 0, 0),
		}
		der, err := x509.CreateCertificate(rand.Reader, sheet, sheet, &key.PublicKey, key)
		if err != nil {
			c.err = err
			return
		}
		c.tls = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	})
	return c.tls, c.err
}

var frame = template.Must(template.New("page").Parse(`<!doctype html>
<html><head><meta charset="utf-8"><title>{{.Title}}</title>
<style>body{font:16px/1.5 sans-serif;max-width:34rem;margin:2rem auto;color:#223}h1{border-bottom:3px solid {{.Colour}}}
dt{float:left;clear:left;width:8rem;color:#667}.refusal{color:#a00}label{display:block;margin:.4rem 0}</style></head>
<body><h1>{{.Title}}</h1>{{.Body}}</body></html>`))

// Page writes a device's own web page. The body must be safe HTML.
func Page(w http.ResponseWriter, status int, title, colour string, body template.HTML) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	// the reader went away
	_ = frame.Execute(w, map[string]any{"Title": title, "Colour": template.CSS(colour), "Body": body})
}

// Gate counts sessions of a device's web server by cookie.
type Gate struct {
	Cookie string
	mu     sync.Mutex
	open   map[string]bool
}

// Admit starts a session.
func (g *Gate) Admit(w http.ResponseWriter) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.open == nil {
		g.open = map[string]bool{}
	}
	id := rand.Text()
	g.open[id] = true
	http.SetCookie(w, &http.Cookie{Name: g.Cookie, Value: id, Path: "/", HttpOnly: true})
}

// Inside wraps a handler that only a session may reach; others get a 401 page.
func (g *Gate) Inside(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		c, err := r.Cookie(g.Cookie)
		g.mu.Lock()
		ok := err == nil && g.open[c.Value]
		g.mu.Unlock()
		if !ok {
			http.Error(w, "sign in first", http.StatusUnauthorized)
			return
		}
		h(w, r)
	}
}

// FrontPage is a web server with nothing but a titled page.
func FrontPage(title, colour, text string) func(*Box) http.Handler {
	return func(b *Box) http.Handler {
		mux := http.NewServeMux()
		mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Server", b.Model.Maker+" web")
			scheme := map[bool]string{false: "http", true: "https"}[b.Model.TLS]
			// Like many, it writes its own whole address into its links.
			home := fmt.Sprintf(`%s <p><a href="%s://%s/">Home</a></p>`,
				template.HTMLEscapeString(text), scheme, template.HTMLEscapeString(r.Host))
			Page(w, http.StatusOK, title, colour, template.HTML(home))
		})
		return mux
	}
}
