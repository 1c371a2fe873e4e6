package handover

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"redstart/internal/core/address"
)

// macOf is the MAC that a device is known by; false for what has none here.
func macOf(e Entry) (address.MAC, bool) {
	mac := e.Device
	if mac.IsZero() {
		mac = e.MAC
	}
	return mac, !mac.IsZero() && !mac.IsGroup()
}

// dnsmasq is a list of reservations as that server reads them (dhcp-host).
var dnsmasq = &Document{
	Name: "reservations-dnsmasq", Says: "DHCP reservations for dnsmasq", File: "dnsmasq-hosts.conf", Kind: "text/plain; charset=utf-8",
	Write: func(out io.Writer, r Record) error {
		w := bufio.NewWriter(out)
		fmt.Fprintf(w, "# %s, %s; %s %s\n", plain(r.Site.Name), r.say("as planned"), r.say("made"), r.At.UTC().Format("2006-01-02 15:04 UTC"))
		for _, e := range r.addressed() {
			mac, known := macOf(e)
			if !known {
				fmt.Fprintf(w, "# %s: no MAC is known of it\n", plain(e.Tag))
				continue
			}
			name := ""
			if n := strings.ToLower(e.Name); hostName.MatchString(n) && !strings.Contains(n, ".") {
				name = "," + n
			}
			fmt.Fprintf(w, "# %s, %s\ndhcp-host=%s,%s%s\n", plain(e.Tag), plain(e.Stands), mac, e.Address, name)
		}
		return w.Flush()
	},
}

// kea is a configuration of the Kea DHCPv4 server with the subnets and their reservations.
var kea = &Document{
	Name: "reservations-kea", Says: "DHCP reservations for Kea, with their subnets", File: "kea-dhcp4.json", Kind: "application/json",
	Write: func(out io.Writer, r Record) error {
		type reservation struct {
			MAC     string `json:"hw-address"`
			Address string `json:"ip-address"`
			Name    string `json:"hostname,omitempty"`
		}
		type option struct {
			Name string `json:"name"`
			Data string `json:"data"`
		}
		type subnet struct {
			ID           int           `json:"id"`
			Prefix       string        `json:"subnet"`
			Options      []option      `json:"option-data"`
			Reservations []reservation `json:"reservations"`
		}
		subnets := []subnet{}
		for i, n := range r.Site.Subnets {
			if !n.Prefix.IsValid() {
				continue
			}
			s := subnet{i + 1, n.Prefix.Masked().String(), []option{}, []reservation{}}
			if n.Gateway.IsValid() {
				s.Options = append(s.Options, option{"routers", n.Gateway.String()})
			}
			if len(n.DNS) > 0 {
				s.Options = append(s.Options, option{"domain-name-servers", strings.Trim(strings.ReplaceAll(fmt.Sprint(n.DNS), " ", ", "), "[]")})
			}
			for _, e := range r.addressed() {
				mac, known := macOf(e)
				if !known || !inside(n.Prefix, e.Address) {
					continue
				}
				x := reservation{MAC: mac.String(), Address: e.Address.String()}
				if name := strings.ToLower(e.Name); hostName.MatchString(name) {
					x.Name = name
				}
				s.Reservations = append(s.Reservations, x)
			}
			subnets = append(subnets, s)
		}
		w := json.NewEncoder(out)
		w.SetIndent("", " ")
		return w.Encode(map[string]any{"Dhcp4": map[string]any{"subnet4": subnets, "valid-lifetime": 86400}})
	},
}
