package segments

import (
	"strings"
	"testing"

	"redstart/internal/api"
)

func TestWarningsAboutInterfaces(t *testing.T) {
	up := api.Interface{Name: "eth9", Up: true, Link: true}
	for want, v := range map[string]api.InterfaceView{
		"":                          {Interface: up},
		"switched off":              {Interface: api.Interface{Name: "eth9"}},
		"no link":                   {Interface: api.Interface{Name: "eth9", Up: true}},
		"it is wireless":            {Interface: api.Interface{Name: "wl9", Up: true, Link: true, Wireless: true}},
		"likely the office network": {Interface: api.Interface{Name: "eth9", Up: true, Link: true, DefaultRoute: true}},
		"a storm: 900 broadcasts":   {Interface: up, Hears: &api.Hearing{Storm: true, Broadcasts: 900}},
	} {
		got := strings.Join(warnings(v), "; ")
		if !strings.Contains(got, want) || (want == "") != (got == "") {
			t.Errorf("%q is not in %q", want, got)
		}
	}
}
