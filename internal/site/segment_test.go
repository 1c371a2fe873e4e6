package site

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/lan"
	"redstart/internal/lan/nic"
	"redstart/internal/store"
	"redstart/internal/survey"
	"redstart/internal/vault"
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

// Whoever notices first that the segment went, it is said in the same words.
func TestWhatCutsWorkOff(t *testing.T) {
	for _, c := range []struct{ err, want error }{
		{fmt.Errorf("sending: %w", lan.ErrClosed), errGone},
		{errors.Join(errors.New("reach"), errDark), errDark},
		{store.ErrUnwritable, store.ErrUnwritable},
		{vault.ErrLocked, vault.ErrLocked},
		{errors.New("the box refused"), nil},
		{nil, nil},
	} {
		if got := cutOffBy(c.err); !errors.Is(got, c.want) {
			t.Errorf("%v: cut off by %v, want %v", c.err, got, c.want)
		}
	}
}
