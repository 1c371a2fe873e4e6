package survey_test

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/inquiry"
	"redstart/internal/sim/skerry"
	"redstart/internal/survey"
)

// Everything on the terminal is found, whatever its address, and is told apart.
func TestTheWholeTerminalIsFound(t *testing.T) {
	site, b := up(t, skerry.Options{Seed: 5, Pace: 0.1, Whole: true})
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for _, o := range site.Others {
		for o.Model.Name == "laptop" && !o.Running().Address.IsValid() {
			<-tick.C // until the desk switch gave it one
		}
	}
	set := load(t)
	found := map[address.MAC]*device.Found{}
	o := survey.Options{Subnets: []netip.Prefix{netip.MustParsePrefix("10.40.8.0/22")},
		Ask: inquiry.Inquirer{Bench: b, Profiles: set}.Ask}
	for _, last := range []byte{5, 29, 90, 100, 150} {
		o.Sweep = append(o.Sweep, netip.AddrFrom4([4]byte{10, 40, 9, last}), netip.AddrFrom4([4]byte{10, 40, 8, last}))
	}
	var cycle sync.Once
	p, err := survey.Run(context.Background(), b, set, o, func(f *device.Found, _ survey.Progress) {
		cycle.Do(func() { // it talks at power-up only, and nobody knows its subnet
			for _, o := range site.Others {
				if o.Tag == "YARD-RAD-01" {
					o.Restart()
				}
			}
		})
		found[f.MAC] = f
	})
	if err != nil {
		t.Fatal(err)
	}
	if all := site.All(); p.Found != len(all) || len(all) < 60 || p.Believed < len(all) {
		t.Errorf("%d of %d devices, %d believed", p.Found, len(all), p.Believed)
	}
	// What each model tells, by protocol and fact; * stands for any value.
	wanted := map[string]string{
		"C20": "arp address 192.168.77.20; wsd model C20; onvif model C20; onvif serial *", "FS8": "dcp model FS8",
		"D1":  "http title Tolvern D1: first use; http open 80/tcp",
		"V2":  "https certificate *; https title Tolvern V2: first use",
		"K3":  "mdns model K3; mdns serial *; mdns service _ssh._tcp; ssh banner SSH-2.0-clepsydra_K3",
		"P12": "ssh banner SSH-2.0-pellgate_P12",
		"D2":  "dhcp asks dhcp; dhcp class brindlecap-d2", "FS5": "dhcp gives dhcp; http title Fennmark FS5: first use",
		"R2":   "bacnet instance *; bacnet network 2001; bacnet network 2002; bacnet name r2",
		"W1":   "arp address 172.23.7.9",
		"FS24": "lldp name hall-core-01; lldp port port24; snmp object-id .1.3.6.1.4.1.99999.24; snmp name hall-core-01", "AP2": "dcp model AP2",
		"laptop": "mdns name marta-laptop; arp address 192.168.88.2",
	}
	for _, o := range site.Others {
		f := found[o.MAC]
		if f == nil {
			t.Errorf("%s %s was not found", o.Model.Name, o.Tag)
			continue
		}
		for _, want := range strings.Split(wanted[o.Model.Name], "; ") {
			if want == "" {
				continue
			}
			w := strings.SplitN(want, " ", 3)
			if !slices.ContainsFunc(f.Facts, func(x device.Fact) bool {
				return x.Part == "" && x.Protocol == w[0] && x.Key == w[1] &&
					(w[2] == "*" && x.Value != "" || x.Value == w[2])
			}) && !(o.Tag == "HALL-REC-02") {
				t.Errorf("%s does not tell %s: %+v", o.Model.Name, want, f.Facts)
			}
		}
		if stranger := o.Model.Maker == "?"; stranger != (f.Profile == "") {
			t.Errorf("%s is taken for a %q", o.Model.Name, f.Profile)
		} else if stranger {
			for _, x := range f.Facts {
				if slices.Contains([]string{"http", "https", "ssh", "onvif", "web", "tcp"}, x.Protocol) {
					t.Errorf("a stranger was asked over %s", x.Protocol)
				}
			}
		}
		if want := map[string]string{"D1": "factory", "D2": "factory", "FS5": "factory", "T1": "factory",
			"K3": "factory", "FS24": "set", "W1": "factory"}[o.Model.Name]; want != "" && f.State != want {
			t.Errorf("%s is taken for %q (%s)", o.Model.Name, f.State, f.StateWhy)
		}
		switch o.Tag {
		case "HALL-REC-02":
			if len(f.Addresses()) != 0 || !strings.HasPrefix(f.Value(fact.Address6), "fe80::") ||
				f.Profile != "ovalis-r16" {
				t.Errorf("IPv6 only: %+v", f.Facts)
			}
		case "HALL-RTR-01":
			if got := f.Parts(); len(got) != 5 || f.ValuesOf("2002/12", fact.Model)[0] != "DR1" ||
				f.ValuesOf("2001/13", fact.Serial)[0] != "BDR-000417" {
				t.Errorf("on the trunks: %v %+v", got, f.Facts)
			}
		case "HALL-CORE-01":
			if !slices.ContainsFunc(f.Facts, func(x device.Fact) bool {
				return x.Part == "port port17" && x.Protocol == "lldp"
			}) {
				t.Error("no LLDP neighbour at port 17")
			}
			if got := f.ValuesOf("port port17", fact.Behind); len(got) != 1 ||
				found[mac(t, got[0])].Profile != "tolvern-v2" {
				t.Errorf("behind port 17: %v", got)
			}
		}
	}
}

func mac(t *testing.T, s string) address.MAC {
	t.Helper()
	m, err := address.ParseMAC(s)
	if err != nil {
		t.Fatal(err)
	}
	return m
}
