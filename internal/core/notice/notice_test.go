package notice_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/notice"
	"redstart/internal/core/plan"
	"redstart/profiles"
)

func box(last byte, profile, state string, facts ...string) *device.Found {
	s := device.Sighting{MAC: address.MAC{2, 0, 0, 0, 0, last}, Protocol: "x", At: time.Unix(1, 0),
		Facts: map[string]string{}}
	for i := 0; i < len(facts); i += 2 {
		s.Facts[facts[i]] = facts[i+1]
	}
	f := &device.Found{}
	f.Add(s)
	f.Profile, f.State = profile, state
	return f
}

func TestEveryKindOfNotice(t *testing.T) {
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	twice := box(12, "ovalis-c20", device.Set, "address", "10.40.8.42", "model", "C20")
	twice.Add(device.Sighting{MAC: twice.MAC, Protocol: "y", At: time.Unix(1, 0),
		Facts: map[string]string{"model": "B4"}})
	tied := box(13, "", "", "address", "10.40.8.43")
	tied.Maybe = []string{"ovalis-c20", "ovalis-r16"}
	s := notice.Segment{
		Found: []*device.Found{
			box(1, "ovalis-c20", device.Factory, "address", "192.168.77.20"),
			box(2, "ovalis-c20", device.Factory, "address", "192.168.77.20"),
			box(3, "clepsydra-k3", device.Set, "address", "10.40.8.30"), // planned for CAM-1
			// CAM-2's own box, most likely
			box(4, "ovalis-c20", device.Set, "address", "10.40.8.31"),
			box(5, "", "", "address", "10.40.8.50", "gives", "dhcp"),                           // a server
			box(6, "fennmark-fs5", device.Factory, "address", "192.168.88.1", "gives", "dhcp"), // and a fresh switch
			box(7, "ovalis-c20", device.Set, "address", "10.40.8.60", "name", "gate"),          // twice the same name
			box(8, "ovalis-c20", device.Set, "address", "10.40.8.61", "name", "GATE"),          //
			box(9, "pellgate-p12", device.Set, "address", "192.168.120.250"),                   // service address
			box(10, "clepsydra-k3", device.Set, "address", "172.20.0.9"),                       // wrong subnet
			// matched with another entry
			box(11, "ovalis-c20", device.Set, "address", "10.40.8.32"),
			twice, tied,
		},
		Entries: []plan.Entry{{Tag: "CAM-1", Profile: "ovalis-c20", Address: netip.MustParseAddr("10.40.8.30")},
			{Tag: "CAM-2", Profile: "ovalis-c20", Address: netip.MustParseAddr("10.40.8.31")},
			{Tag: "CAM-3", Profile: "ovalis-c20", Address: netip.MustParseAddr("10.40.8.32")}},
		Matched:  map[address.MAC]string{{2, 0, 0, 0, 0, 11}: "CAM-9"},
		Subnets:  []plan.Subnet{{Name: "main", Prefix: netip.MustParsePrefix("10.40.8.0/22")}},
		Profiles: set,
	}
	got := map[string][]string{}
	for _, n := range notice.All(s) {
		got[n.Kind] = append(got[n.Kind], n.Text)
		if n.Quiet != slices.Contains([]string{notice.SharedAddress, notice.WrongSubnet, notice.UnknownDevice},
			n.Kind) {
			t.Errorf("%s is quiet: %v", n.Kind, n.Quiet)
		}
		if n.Next == "" || len(n.MACs) == 0 {
			t.Errorf("%+v", n)
		}
	}
	for kind, want := range map[string][]string{
		notice.PlanConflict: {"the box 02:00:00:00:00:03 has the address 10.40.8.30, which the plan gives to CAM-1",
			"CAM-9 has the address 10.40.8.32"},
		notice.DHCPServers:    {"2 devices hand out addresses over DHCP"},
		notice.FreshServer:    {"in its factory state hands out"},
		notice.SharedAddress:  {"2 devices share the address 192.168.77.20"},
		notice.SameName:       {"2 devices have the name gate"},
		notice.ServiceAddress: {"192.168.120.250, the service address of pellgate-p12"},
		notice.WrongSubnet:    {"172.20.0.9 is in no planned subnet"},
		notice.Contradiction:  {"tells its model differently: C20 over x, B4 over y"},
		notice.SeveralFit:     {"may be a ovalis-c20 or a ovalis-r16, equally"},
		notice.UnknownDevice:  {"one device fits no profile"},
	} {
		if len(got[kind]) != len(want) {
			t.Errorf("%s: %q, want %q", kind, got[kind], want)
			continue
		}
		for i, w := range want {
			if !strings.Contains(got[kind][i], w) {
				t.Errorf("%s: %q, want %q", kind, got[kind][i], w)
			}
		}
		delete(got, kind)
	}
	if len(got) > 0 {
		t.Errorf("besides: %v", got)
	}
	// Two boxes at an address that is nobody's factory address are no quiet matter.
	if list := notice.All(notice.Segment{Found: []*device.Found{box(1, "ovalis-c20", device.Set, "address",
		"10.40.8.5"), box(2, "ovalis-c20", device.Set, "address", "10.40.8.5")}, Profiles: set}); len(list) != 1 ||
		list[0].Kind != notice.SharedAddress || list[0].Quiet {
		t.Errorf("%+v", list)
	}
	// Several factory addresses that are shared are one notice.
	s.Found = append(s.Found[:2:2], box(3, "clepsydra-k3", device.Factory, "address", "192.168.99.3"),
		box(4, "clepsydra-k3", device.Factory, "address", "192.168.99.3"),
		box(5, "clepsydra-k3", device.Factory, "address", "192.168.99.3"))
	if list := notice.All(s); len(list) != 1 ||
		list[0].Text != "5 devices share 2 factory addresses: 192.168.77.20 (2), 192.168.99.3 (3)" ||
		len(list[0].MACs) != 5 {
		t.Errorf("%+v", list)
	}
	if list := notice.All(notice.Segment{}); list == nil || len(list) != 0 {
		t.Errorf("of nothing: %+v", list)
	}
}
