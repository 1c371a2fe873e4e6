package shell_test

import (
	"fmt"
	"net"
	"net/netip"
	"sync/atomic"
	"testing"

	"redstart/internal/driver/drivertest"
	"redstart/internal/sim/box"
	"redstart/internal/sim/console"
)

// The shell driver passes what every driver must, over SSH and over Telnet.
func TestWhatEveryDriverMust(t *testing.T) {
	t.Parallel()
	for over, section := range map[string]string{"ssh": `over: ssh, prompt: '> $'`,
		"telnet": `over: telnet, prompt: '> $', login: {user: 'login: $', password: 'assword: $', refused: incorrect}`} {
		var tries atomic.Int64
		login := func(user, password string) bool {
			good := user == drivertest.User && password == drivertest.Password
			if !good {
				tries.Add(1)
			}
			return good
		}
		line := func(_ string, term *console.Terminal) {
			for {
				said, err := term.Ask("heron> ")
				if err != nil {
					return
				}
				term.Say("name=%s said=%d\n", drivertest.Name, len(said))
			}
		}
		serve := func(_ *box.Box, c net.Conn) {
			console.SSH{Banner: "SSH-2.0-heron", Key: console.NewKey([32]byte{3}), Login: login, Shell: line}.Serve(c)
		}
		if over == "telnet" {
			serve = func(_ *box.Box, c net.Conn) {
				defer c.Close()
				term := console.New(c, true)
				user, err := term.Ask("login: ")
				if err != nil {
					return
				}
				password, err := term.Secret("Password: ")
				if err != nil {
					return
				}
				if !login(user, password) {
					term.Say("Login incorrect\n")
					return
				}
				line(user, term)
			}
		}
		t.Run(over, func(t *testing.T) {
			t.Parallel()
			drivertest.Run(t, drivertest.Case{
				Profile: fmt.Sprintf(document, section, `  password: [{shell: "pass {password}"}]
  name: [{shell: "name {name}"}]
  address: [{shell: "at {address}"}]
  read: [{shell: show, take: {name: 'name=(\S+)', address: '(said)'}}]`),
				Box: box.Model{Maker: "Heron", Name: "H"}, Factory: box.Settings{Name: drivertest.Name,
					Address: netip.MustParsePrefix("192.168.99.3/24")},
				Serve: serve, Tries: tries.Load,
			})
		})
	}
}
