// Package standin simulates the devices of the terminal that can be found and
// told apart, and are not set by Redstart yet; one file for each maker. They
// show themselves as their kind does: some by a page, some by a shell's
// greeting, some by a protocol of the trade, some hardly at all.
package standin

import (
	"fmt"
	"html/template"
	"net/http"

	"redstart/internal/sim/box"
)

// page is a web server with nothing but a titled page.
func page(title, colour, text string) func(*box.Box) http.Handler {
	return func(b *box.Box) http.Handler {
		mux := http.NewServeMux()
		mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Server", b.Model.Maker+" web")
			scheme := map[bool]string{false: "http", true: "https"}[b.Model.TLS]
			// Like many, it writes its own whole address into its links.
			box.Page(w, http.StatusOK, title, colour, template.HTML(fmt.Sprintf(`%s <p><a href="%s://%s/">Home</a></p>`, template.HTMLEscapeString(text), scheme, template.HTMLEscapeString(r.Host))))
		})
		return mux
	}
}
