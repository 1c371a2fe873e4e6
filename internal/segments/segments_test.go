package segments

import (
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/lan/nic"
	"redstart/internal/survey"
)

func TestWarningsAboutInterfaces(t *testing.T) {
	up := nic.Interface{Name: "eth9", Up: true, Link: true}
	for want, v := range map[string]api.InterfaceView{
		"":                          {Interface: up},
		"switched off":              {Interface: nic.Interface{Name: "eth9"}},
		"no link":                   {Interface: nic.Interface{Name: "eth9", Up: true}},
		"it is wireless":            {Interface: nic.Interface{Name: "wl9", Up: true, Link: true, Wireless: true}},
		"likely the office network": {Interface: nic.Interface{Name: "eth9", Up: true, Link: true, DefaultRoute: true}},
		"a storm: 900 broadcasts":   {Interface: up, Hears: &survey.Hearing{Storm: true, Broadcasts: 900}},
	} {
		got := strings.Join(warnings(v), "; ")
		if !strings.Contains(got, want) || (want == "") != (got == "") {
			t.Errorf("%q is not in %q", want, got)
		}
	}
}
