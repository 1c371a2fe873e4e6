package d2

import (
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/sim/box"
	"redstart/internal/sim/forms"
)

// dialled are the bus addresses that are set with the switches of the two readers on each
// controller's bus: only there something answers.
var dialled = []string{"1", "2"}

// serveReaders serves the page of the readers on its bus: their list is emptied, and one is
// added at a time; like all else it is staged until a restart.
func serveReaders(b *box.Box, mux *http.ServeMux, gate *box.Gate) {
	mux.HandleFunc("GET /readers", gate.Inside(func(w http.ResponseWriter, _ *http.Request) {
		rows, _ := profile.ParseRows(b.Running().Own.(Own).Readers) // it was taken as a table
		var body strings.Builder
		for _, row := range rows {
			state, model, serial, firmware := "silent", "", "", ""
			if i := slices.Index(dialled, row["address"]); i >= 0 {
				state, model, serial, firmware = "answers", "Q1", fmt.Sprintf("BCQ1-%s%d", b.Serial[len(b.Serial)-5:], i+1), "2.0"
			}
			fmt.Fprintf(&body, "<tr><td>%s</td><td>%s</td><td>%s</td><td>%s</td><td>%s</td><td>%s</td><td>%s</td></tr>",
				row["address"], row["door"], row["side"], state, model, serial, firmware)
		}
		box.Page(w, http.StatusOK, "Brindlecap D2", "#844", template.HTML("<table>"+body.String()+"</table>"))
	}))
	change := func(w http.ResponseWriter, r *http.Request, by func([]profile.Row) []profile.Row) {
		b.Store(func(s *box.Settings) {
			own := s.Own.(Own)
			rows, _ := profile.ParseRows(own.Readers) // it was taken as a table
			own.Readers = profile.RowsText(by(rows))
			s.Own = own
		})
		http.Redirect(w, r, "/readers", http.StatusSeeOther)
	}
	mux.HandleFunc("POST /readers/none", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		change(w, r, func([]profile.Row) []profile.Row { return nil })
	}))
	mux.HandleFunc("POST /readers", gate.Inside(func(w http.ResponseWriter, r *http.Request) {
		row := profile.Row{"address": r.PostFormValue("address"), "door": r.PostFormValue("door"),
			"side": r.PostFormValue("side")}
		for _, check := range []error{forms.Between(0, 126)(row["address"]), forms.Between(1, 2)(row["door"]),
			forms.OneOf("in", "out")(row["side"])} {
			if check != nil {
				box.Page(w, http.StatusUnprocessableEntity, "Brindlecap D2", "#844",
					template.HTML(`<p class="refusal">`+template.HTMLEscapeString(check.Error())+`</p>`))
				return
			}
		}
		b.Witness("write", fmt.Sprint("/readers ", row))
		change(w, r, func(rows []profile.Row) []profile.Row { return append(rows, row) })
	}))
}
