// Package sheet makes a page of QR codes (ISO/IEC 18004) of the cards that come with simulated
// sensors, to be read with a scanner or a phone's camera from a screen or from paper.
package sheet

import (
	"bytes"
	"fmt"
	"html/template"
	"strings"

	"rsc.io/qr"
)

// card is one code with what it says.
type card struct {
	Number int
	Text   string
	Parts  []string // of the text, to be read by eye
	Side   int      // of the picture, in modules
	Dark   string   // the dark modules, as an SVG path
}

var page = template.Must(template.New("sheet").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><title>{{.Title}}</title>
<style>
body { font: 14px sans-serif; margin: 24px; color: #111; background: #fff }
main { display: grid; grid-template-columns: repeat(auto-fill, minmax(270px, 1fr)); gap: 16px }
section { border: 1px solid #999; border-radius: 8px; padding: 12px; break-inside: avoid }
svg { width: 190px; height: 190px; display: block; margin: 0 auto 8px }
code { display: block; font-size: 11px; overflow-wrap: anywhere }
</style>
<h1>{{.Title}}</h1>
<p>Everything about these sensors is made up. The code holds the key: keep the sheet as you would a key.</p>
<main>{{range .Cards}}<section><h2>Card {{.Number}}</h2>
<svg viewBox="0 0 {{.Side}} {{.Side}}" role="img" aria-label="QR code of card {{.Number}}"><path fill="#000" d="{{.Dark}}"/></svg>
{{range .Parts}}<code>{{.}}</code>{{end}}</section>
{{end}}</main></html>
`))

// Of makes the page.
func Of(title string, texts []string) ([]byte, error) {
	var cards []card
	for i, text := range texts {
		code, err := qr.Encode(text, qr.M)
		if err != nil {
			return nil, err
		}
		const quiet = 4 // modules around it (ISO/IEC 18004, 5.3.8)
		var dark strings.Builder
		for y := range code.Size {
			for x := range code.Size {
				if code.Black(x, y) {
					fmt.Fprintf(&dark, "M%d %dh1v1h-1z", x+quiet, y+quiet)
				}
			}
		}
		cards = append(cards, card{i + 1, text, strings.Split(text, ":"), code.Size + 2*quiet, dark.String()})
	}
	var out bytes.Buffer
	err := page.Execute(&out, map[string]any{"Title": title, "Cards": cards})
	return out.Bytes(), err
}
