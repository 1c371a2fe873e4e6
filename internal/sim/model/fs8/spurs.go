package fs8

import (
	"fmt"
	"strings"

	"redstart/internal/sim/box"
)

// instrument hangs on a spur.
type instrument struct {
	tag, maker, kind string
	signal           int     // dB
	voltage          float64 // V
	address          string  // some have one
}

// hanging are the instruments on the spurs of every field switch, by the number of the spur;
// the other spurs are free.
var hanging = map[int]instrument{
	1: {"LT-RAMP", "Tidewell", "N3", 31, 9.8, ""},
	2: {"LT-QUAY", "Tidewell", "N3", 27, 9.6, "10.40.11.17"},
	5: {"PT-HYD", "Tidewell", "N5", 19, 9.1, ""},
}

// spurs lists what hangs on its eight spurs, as a table.
func spurs(*box.Box) string {
	var body strings.Builder
	body.WriteString("<table>")
	for n := 1; n <= 8; n++ {
		if i, there := hanging[n]; there {
			fmt.Fprintf(&body,
				"<tr><td>%d</td><td>%s</td><td>%s</td><td>%s</td><td>%d</td><td>%.1f</td><td>%s</td></tr>\n", n, i.tag,
				i.maker, i.kind, i.signal, i.voltage, i.address)
		}
	}
	body.WriteString("</table>")
	return body.String()
}
