package address_test

import (
	"net/netip"
	"slices"
	"testing"

	"redstart/internal/core/address"
)

func TestParseMACTakesEveryUsualSpelling(t *testing.T) {
	want := address.MAC{0x0a, 0x4f, 0x56, 0x00, 0x1b, 0x2c}
	for _, s := range []string{"0a:4f:56:00:1b:2c", "0A-4F-56-00-1B-2C", "0a4f.5600.1b2c", "0A4F56001B2C",
		" 0a 4f 56 00 1b 2c "} {
		got, err := address.ParseMAC(s)
		if err != nil || got != want {
			t.Errorf("ParseMAC(%q) = %v, %v", s, got, err)
		}
	}
	for _, s := range []string{"0a:4f:56:00:1b", "0a:4f:56:00:1b:2c:3d", "zz:4f:56:00:1b:2c", "01:00:5e:00:00:01",
		"ff:ff:ff:ff:ff:ff"} {
		if got, err := address.ParseMAC(s); err == nil {
			t.Errorf("ParseMAC(%q) = %v, want an error", s, got)
		}
	}
	if got, err := address.ParseMAC(""); err != nil || !got.IsZero() || got.String() != "" {
		t.Errorf("the empty string should be the zero MAC, got %v, %v", got, err)
	}
}

func FuzzParseMAC(f *testing.F) {
	f.Add("0a:4f:56:00:1b:2c")
	f.Add("0a4f.5600.1b2c")
	f.Add("")
	f.Fuzz(func(t *testing.T, s string) {
		m, err := address.ParseMAC(s)
		if err != nil {
			return
		}
		again, err := address.ParseMAC(m.String())
		if err != nil || again != m {
			t.Errorf("%q parses as %v but its print parses as %v, %v", s, m, again, err)
		}
	})
}

func TestMACIsStoredAsItPrints(t *testing.T) {
	m := address.MAC{2, 0x52, 0x53, 0, 0, 1}
	v, err := m.Value()
	if err != nil || v != "02:52:53:00:00:01" {
		t.Fatalf("stored as %v, %v", v, err)
	}
	var back address.MAC
	if err := back.Scan(v); err != nil || back != m {
		t.Errorf("read back as %v, %v", back, err)
	}
	if err := back.Scan(int64(7)); err == nil {
		t.Error("a number was read as a MAC")
	}
}

func TestRange(t *testing.T) {
	r, err := address.ParseRange("192.168.66.10-192.168.66.19")
	if err != nil {
		t.Fatal(err)
	}
	if r.Size() != 10 || !r.Contains(netip.MustParseAddr("192.168.66.19")) ||
		r.Contains(netip.MustParseAddr("192.168.66.20")) {
		t.Errorf("%v holds %d addresses", r, r.Size())
	}
	if r.String() != "192.168.66.10-192.168.66.19" {
		t.Errorf("printed as %s", r)
	}
	one, err := address.ParseRange("10.0.0.7")
	if err != nil || one.Size() != 1 || one.String() != "10.0.0.7" {
		t.Errorf("a single address is %v, %v", one, err)
	}
	if (address.Range{}).Contains(netip.MustParseAddr("0.0.0.0")) || (address.Range{}).Size() != 0 {
		t.Error("the zero range holds something")
	}
	for _, s := range []string{"10.0.0.9-10.0.0.1", "10.0.0.300", "", "a-b", "::1"} {
		if _, err := address.ParseRange(s); err == nil {
			t.Errorf("ParseRange(%q) was accepted", s)
		}
	}
}

func TestPrefixArithmetic(t *testing.T) {
	for _, c := range []struct{ prefix, network, last, hosts, mask string }{
		{"10.40.8.0/22", "10.40.8.0", "10.40.11.255", "10.40.8.1-10.40.11.254", "255.255.252.0"},
		{"192.168.77.20/24", "192.168.77.0", "192.168.77.255", "192.168.77.1-192.168.77.254", "255.255.255.0"},
		{"10.0.0.4/31", "10.0.0.4", "10.0.0.5", "10.0.0.4-10.0.0.5", "255.255.255.254"},
		{"10.0.0.4/32", "10.0.0.4", "10.0.0.4", "10.0.0.4", "255.255.255.255"},
		{"10.0.0.0/8", "10.0.0.0", "10.255.255.255", "10.0.0.1-10.255.255.254", "255.0.0.0"},
	} {
		p := netip.MustParsePrefix(c.prefix)
		if got := address.Network(p).String(); got != c.network {
			t.Errorf("%s: network %s, want %s", p, got, c.network)
		}
		if got := address.LastOf(p).String(); got != c.last {
			t.Errorf("%s: last %s, want %s", p, got, c.last)
		}
		if got := address.Hosts(p).String(); got != c.hosts {
			t.Errorf("%s: hosts %s, want %s", p, got, c.hosts)
		}
		if got := address.Mask(p); got != c.mask {
			t.Errorf("%s: mask %s, want %s", p, got, c.mask)
		}
	}
}

func TestNeighboursComeNearestBlockFirst(t *testing.T) {
	at := netip.MustParseAddr("192.168.77.20")
	list := slices.Collect(address.Neighbours(at, 24))
	if len(list) != 253 {
		t.Errorf("%d neighbours in a /24, want 253: all hosts but itself", len(list))
	}
	seen := map[netip.Addr]bool{}
	for _, a := range list {
		if a == at || seen[a] || a.As4()[3] == 0 || a.As4()[3] == 255 {
			t.Fatalf("%s should not be offered", a)
		}
		seen[a] = true
	}
	// The hosts of the /29 first, then those of the /28, and so on.
	for i, want := range []string{"17", "18", "19", "21", "22", "23", "24"} {
		if got := list[i].String(); got != "192.168.77."+want && i < 5 {
			t.Errorf("number %d is %s, want .%s", i, got, want)
		}
		if !netip.MustParsePrefix("192.168.77.16/28").Contains(list[i]) {
			t.Errorf("number %d is %s, outside the /28", i, list[i])
		}
	}
	if n := len(slices.Collect(address.Neighbours(netip.MustParseAddr("10.0.0.1"), 8))); n > 1024 {
		t.Errorf("%d neighbours: the list must be bounded", n)
	}
}
