package mdns_test

import (
	"net/netip"
	"reflect"
	"testing"

	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/mdns"
)

// An answer written out from RFC 1035, 4.1, with the names of RFC 6763, 4:
// PTR _http._tcp.local → "Hall clock._http._tcp.local", and A of clk.local.
const answer = `0000 8400 0000 0002 0000 0000
	05 5f68747470 04 5f746370 05 6c6f63616c 00 000c 0001 00000078 000d 0a 48616c6c20636c6f636b c00c
	03 636c6b c017 0001 8001 00000078 0004 0a280964`

func TestAnAnswerByteByByte(t *testing.T) {
	got, err := mdns.Parse(bytesof.Hex(t, answer))
	want := mdns.Answer{Host: "clk", Instances: []string{"Hall clock"}, Kinds: []string{"_http._tcp"},
		Text: map[string]string{}, Addresses: []netip.Addr{netip.MustParseAddr("10.40.9.100")}}
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%+v, %v", got, err)
	}
}

func TestAnnouncements(t *testing.T) {
	at := netip.MustParseAddr("192.168.99.3")
	b := mdns.Announce("Clepsydra K3", "_http._tcp", "k3-17", 80, at,
		map[string]string{"model": "K3", "serial": "CK3-17"})
	got, err := mdns.Parse(b)
	if err != nil || got.Host != "k3-17" || got.Text["model"] != "K3" || got.Text["serial"] != "CK3-17" ||
		len(got.Addresses) != 1 || got.Addresses[0] != at ||
		!reflect.DeepEqual(got.Instances, []string{"Clepsydra K3"}) {
		t.Errorf("%+v, %v", got, err)
	}
	if !mdns.IsQuestion(mdns.Question()) || mdns.IsQuestion(b) {
		t.Error("questions and answers are mixed up")
	}
	if _, err := mdns.Parse(mdns.Question()); err == nil {
		t.Error("a question was taken for an answer")
	}
}

func FuzzParse(f *testing.F) {
	f.Add(bytesof.Hex(f, answer))
	f.Add(mdns.Announce(`a\.b`, "_ssh._tcp", "h", 22, netip.MustParseAddr("10.0.0.1"), map[string]string{"k": "v"}))
	f.Add(mdns.Question())
	f.Fuzz(func(t *testing.T, b []byte) {
		a, err := mdns.Parse(b)
		if err == nil && mdns.IsQuestion(b) {
			t.Errorf("a question is %+v", a)
		}
	})
}
