package fs24

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"redstart/internal/core/value"
	"redstart/internal/sim/box"
)

// port is what the port of a switch is set to.
type port struct {
	Number   int    `json:"number"`
	Hangs    string `json:"hangs"`
	Untagged int    `json:"untagged"`
	Tagged   []int  `json:"tagged"`
	On       bool   `json:"on"`
}

var hangs = []string{"switch", "one-device", "many-devices", "nothing"}

// portsOf gives all ports: those that nobody set are on, in the first VLAN.
func portsOf(b *box.Box) []port {
	list := make([]port, ports)
	for i := range list {
		list[i] = port{Number: i + 1, Hangs: "many-devices", Untagged: 1, Tagged: []int{}, On: true}
	}
	var set []port
	_ = json.Unmarshal([]byte(ownOf(b).Ports), &set) // it is ours
	for _, p := range set {
		list[p.Number-1] = p
	}
	return list
}

func takePort(b *box.Box, raw json.RawMessage, n int) error {
	at := fmt.Sprintf("/fennmark-switch:ports/port=%d", n)
	in, err := into[[]port](raw, at)
	vlan := func(id int) bool { return id >= 1 && id <= 4094 }
	switch {
	case err != nil:
		return err
	case len(in) != 1 || in[0].Number != n:
		return refuse(http.StatusBadRequest, "invalid-value", at, "the number is the port's own")
	case !slices.Contains(hangs, in[0].Hangs):
		return refuse(http.StatusBadRequest, "invalid-value", at, "hangs is one of %s", strings.Join(hangs, ", "))
	case !vlan(in[0].Untagged), slices.ContainsFunc(in[0].Tagged, func(id int) bool { return !vlan(id) }):
		return refuse(http.StatusBadRequest, "invalid-value", at, "a VLAN is 1 to 4094")
	case slices.Contains(in[0].Tagged, in[0].Untagged):
		return refuse(http.StatusBadRequest, "invalid-value", at, "one VLAN is tagged and untagged")
	}
	list := portsOf(b)
	list[n-1] = in[0]
	text, _ := json.Marshal(list) // numbers and words always encode
	keep(b, fmt.Sprintf("port %d %s %d", n, in[0].Hangs, in[0].Untagged), func(own *Own) { own.Ports = string(text) })
	return nil
}

func management(b *box.Box) any {
	own := ownOf(b)
	list, _ := value.Numbers(own.ManagedAt) // it is ours
	return map[string]any{"vlan": max(own.VLAN, 1), "ports": append([]int{}, list...)}
}

// takeManagement takes on which VLAN and at which ports it is managed; nobody at another port
// reaches it from then on. No ports are all of them.
func takeManagement(b *box.Box, raw json.RawMessage) error {
	const at = "/fennmark-switch:management"
	in, err := into[struct {
		VLAN  int   `json:"vlan"`
		Ports []int `json:"ports"`
	}](raw, at)
	if err != nil {
		return err
	}
	if in.VLAN < 1 || in.VLAN > 4094 {
		return refuse(http.StatusBadRequest, "invalid-value", at, "a VLAN is 1 to 4094")
	}
	set := portsOf(b)
	for _, n := range in.Ports {
		if n < 1 || n > ports {
			return refuse(http.StatusBadRequest, "invalid-value", at, "there is no port %d", n)
		}
		if set[n-1].Hangs == "switch" {
			return refuse(http.StatusBadRequest, "invalid-value", at, "port %d leads to another switch: it is never managed there", n)
		}
	}
	keep(b, "management", func(own *Own) { own.VLAN, own.ManagedAt = in.VLAN, value.NumbersText(in.Ports) })
	return nil
}

func dataNetwork(b *box.Box) any {
	own := ownOf(b)
	return map[string]any{"vlan": max(own.DataVLAN, 1), "name": own.DataName}
}

func takeDataNetwork(b *box.Box, raw json.RawMessage) error {
	const at = "/fennmark-switch:data-network"
	in, err := into[struct {
		VLAN int    `json:"vlan"`
		Name string `json:"name"`
	}](raw, at)
	if err != nil {
		return err
	}
	if in.VLAN < 1 || in.VLAN > 4094 || len(in.Name) > 32 {
		return refuse(http.StatusBadRequest, "invalid-value", at, "a VLAN is 1 to 4094, its name at most 32 characters")
	}
	keep(b, "data network", func(own *Own) { own.DataVLAN, own.DataName = in.VLAN, in.Name })
	return nil
}

func services(b *box.Box) any {
	own := ownOf(b)
	return map[string]any{"ssh": own.SSH, "telnet": !own.TelnetOff, "log-server": own.Log, "trap-target": own.Traps,
		"community-set": own.Community != "", "write-community-set": own.SNMPWrite != ""}
}

func takeServices(b *box.Box, raw json.RawMessage) error {
	const at = "/fennmark-switch:services"
	in, err := into[struct {
		SSH       bool    `json:"ssh"`
		Telnet    bool    `json:"telnet"`
		Log       string  `json:"log-server"`
		Traps     string  `json:"trap-target"`
		Community *string `json:"community"`
		Write     *string `json:"write-community"`
	}](raw, at)
	if err != nil {
		return err
	}
	for _, a := range []string{in.Log, in.Traps} {
		if _, err := netip.ParseAddr(a); a != "" && err != nil {
			return refuse(http.StatusBadRequest, "invalid-value", at, "no such address")
		}
	}
	keep(b, "services", func(own *Own) {
		own.SSH, own.TelnetOff, own.Log, own.Traps = in.SSH, !in.Telnet, in.Log, in.Traps
		if in.Community != nil {
			own.Community = *in.Community
		}
		if in.Write != nil {
			own.SNMPWrite = *in.Write
		}
	})
	return nil
}

func takeRing(b *box.Box, raw json.RawMessage) error {
	in, err := into[struct {
		Ring string `json:"ring"`
	}](raw, "/fennmark-switch:redundancy")
	if err != nil {
		return err
	}
	if !slices.Contains([]string{"manager", "client", "none"}, in.Ring) { // IEC 62439-2
		return refuse(http.StatusBadRequest, "invalid-value", "/fennmark-switch:redundancy", "manager, client or none")
	}
	keep(b, "ring "+in.Ring, func(own *Own) { own.Ring = in.Ring })
	return nil
}
